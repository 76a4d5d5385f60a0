package repository_test

import (
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/outside/repository"
)

// git runs git as a person does.
func git(t *testing.T, folder string, in []byte, arguments ...string) string {
	command := exec.Command("git", append([]string{"-c", "user.name=heron", "-c",
		"user.email=heron@floodwatch.example"}, arguments...)...)
	command.Dir, command.Stdin = folder, bytes.NewReader(in)
	command.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "HOME="+t.TempDir())
	out, err := command.CombinedOutput()
	require.NoError(t, err, "git %s: %s", strings.Join(arguments, " "), out)
	return strings.TrimSpace(string(out))
}

func write(t *testing.T, name, text string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
	require.NoError(t, os.WriteFile(name, []byte(text), 0o755))
}

// TestFilesAtACommit checks that files are read as they were, from a directory of a repository, and that what is on the
// machine of whoever runs it does not matter.
func TestFilesAtACommit(t *testing.T) {
	top := t.TempDir()
	git(t, top, nil, "init", "-q")
	write(t, filepath.Join(top, "bay/map.knot"), "one\n")
	write(t, filepath.Join(top, "bay/odd name/ä.txt"), "")
	write(t, filepath.Join(top, "other.txt"), "no\n")
	write(t, filepath.Join(top, ".gitignore"), "*.log\n")
	require.NoError(t, os.Symlink("map.knot", filepath.Join(top, "bay", "link")))
	git(t, top, nil, "add", ".")
	git(t, top, nil, "commit", "-q", "-m", "one")
	write(t, filepath.Join(top, "bay/map.knot"), "two\n")
	t.Setenv("GIT_DIR", filepath.Join(top, "elsewhere"))
	t.Setenv("GIT_CEILING_DIRECTORIES", "/")
	r, err := repository.Open(filepath.Join(top, "bay"))
	require.NoError(t, err)
	defer r.Close()
	commit, err := r.Commit("HEAD")
	require.NoError(t, err)
	tree, err := r.Tree(commit)
	require.NoError(t, err)
	require.NoError(t, fstest.TestFS(tree, "map.knot", "odd name/ä.txt"))
	text, err := fs.ReadFile(tree, "map.knot")
	require.NoError(t, err)
	require.Equal(t, "one\n", string(text))
	for name, says := range map[string]string{"link": "links of a revision are not followed",
		"other.txt": "file does not exist", "odd name": "not a plain file", "../other.txt": "file does not exist"} {
		_, err = fs.ReadFile(tree, name)
		require.ErrorContains(t, err, says)
	}
	for _, revision := range []string{"nowhere", "--all", "HEAD:bay", "", "^HEAD"} {
		_, err := r.Commit(revision)
		require.Error(t, err, revision)
	}
	tracked, err := r.Tracked([]string{"map.knot", filepath.Join(top, "other.txt"), "nothing.txt", "*"})
	require.NoError(t, err)
	require.Equal(t, []string{"map.knot", filepath.Join(top, "other.txt")}, tracked)
	open, err := r.NotIgnored([]string{"map.knot", "left.log", ":(top)x", "*.log"})
	require.NoError(t, err)
	require.Equal(t, []string{"map.knot", ":(top)x"}, open)
	_, err = repository.Open(t.TempDir())
	require.ErrorIs(t, err, repository.ErrNone)
}

// TestInMemory checks that files in memory are a file system.
func TestInMemory(t *testing.T) {
	files := repository.InMemory(map[string][]byte{"a": []byte("1"), "b/c/d.knot": nil, "../e": nil, "b/f": []byte("2")})
	require.NoError(t, fstest.TestFS(files, "a", "b/c/d.knot", "b/f"))
}

// TestWhereItIsFound holds where a repository is looked for: not in plain files that a commit can bring along.
func TestWhereItIsFound(t *testing.T) {
	if real, err := filepath.EvalSymlinks(t.TempDir()); err == nil {
		t.Setenv("TMPDIR", real)
	}
	outer := t.TempDir()
	git(t, outer, nil, "init", "-q")
	project := filepath.Join(outer, "deploy")
	require.NoError(t, os.Mkdir(project, 0o755))

	// A bare repository as plain files, in the project and above it: that of the outer directory is asked.
	git(t, project, nil, "init", "-q", "--bare", ".")
	r, err := repository.Open(project)
	require.NoError(t, err)
	_, err = r.Commit("HEAD")
	require.ErrorContains(t, err, "there is no revision")
	deeper := filepath.Join(project, "bay")
	require.NoError(t, os.Mkdir(deeper, 0o755))
	_, err = repository.Open(deeper)
	require.NoError(t, err)
	_, err = repository.OpenNamed(project) // in a working tree, no bare one is taken
	require.NoError(t, err)

	// A repository in the project that its .git names.
	inside := t.TempDir()
	git(t, inside, nil, "init", "-q", "--separate-git-dir", filepath.Join(inside, "kept"))
	_, err = repository.Open(inside)
	require.ErrorContains(t, err, "the git repository kept is inside the project")

	// A working tree and a submodule are followed by git.
	source := t.TempDir()
	git(t, source, nil, "init", "-q")
	write(t, filepath.Join(source, "x"), "1")
	git(t, source, nil, "add", ".")
	git(t, source, nil, "commit", "-q", "-m", "one")
	tree := filepath.Join(t.TempDir(), "tree")
	git(t, source, nil, "worktree", "add", "-q", tree)
	super := t.TempDir()
	git(t, super, nil, "init", "-q")
	git(t, super, nil, "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", source, "sub")
	git(t, super, nil, "commit", "-q", "-m", "two")
	for _, folder := range []string{tree, filepath.Join(super, "sub"), super} {
		r, err := repository.Open(folder)
		require.NoError(t, err, folder)
		commit, err := r.Commit("HEAD")
		require.NoError(t, err)
		files, err := r.Tree(commit)
		require.NoError(t, err)
		if folder != super {
			text, err := fs.ReadFile(files, "x")
			require.NoError(t, err)
			require.Equal(t, "1", string(text))
		}
		r.Close()
	}

	// A bare repository is read when a person names it.
	bare := filepath.Join(t.TempDir(), "bare.git")
	git(t, source, nil, "clone", "-q", "--bare", ".", bare)
	_, err = repository.Open(bare)
	require.ErrorIs(t, err, repository.ErrNone)
	r, err = repository.OpenNamed(bare)
	require.NoError(t, err)
	_, err = r.Commit("HEAD")
	require.NoError(t, err)

	// An entry called .git ends the search, even if it is not a repository.
	require.NoError(t, os.Mkdir(filepath.Join(deeper, ".git"), 0o755))
	_, err = repository.Open(deeper)
	require.Error(t, err)
}

// plant writes an object of git that no command of git would write.
func plant(t *testing.T, folder, kind string, body []byte) string {
	return git(t, folder, body, "hash-object", "-t", kind, "-w", "--stdin", "--literally")
}

// treeOf is a tree of git, whatever its entries are.
func treeOf(entries ...string) []byte {
	var b bytes.Buffer
	for i := 0; i < len(entries); i += 3 {
		id, _ := hex.DecodeString(entries[i+2])
		b.WriteString(entries[i] + " " + entries[i+1] + "\x00")
		b.Write(id)
	}
	return b.Bytes()
}

// TestNamesAreExact checks that a name of a revision is a path as it is or refused, and that what a small commit may
// stand for is counted before it is kept.
func TestNamesAreExact(t *testing.T) {
	top := t.TempDir()
	git(t, top, nil, "init", "-q")
	blob := plant(t, top, "blob", []byte("x"))
	at := func(tree string) (*repository.Tree, error) {
		commit := git(t, top, nil, "commit-tree", tree, "-m", "x")
		r, err := repository.Open(top)
		require.NoError(t, err)
		defer r.Close()
		return r.Tree(commit)
	}
	const file, folder = "100644", "40000"
	sub := plant(t, top, "tree", treeOf(file, "f.knot", blob))
	for _, c := range []struct {
		tree []byte
		says string
	}{
		{treeOf(file, "..", blob), "not a path"},
		{treeOf(file, ".", blob), "not a path"},
		{treeOf(file, "a\xff.yaml", blob), "not a path"},
		{treeOf(file, "a/../b.yaml", blob), "not a path"},
		{treeOf(file, "/etc", blob), "not a path"},
		{treeOf(file, "a", blob, file, "a", blob), "two files"},
		{treeOf(file, "a", blob, folder, "a", sub), "a file and a directory"},
		{treeOf(folder, "a", sub, file, "a", blob), "a file and a directory"},
		{treeOf(file, strings.Repeat("a", 70_000), blob), "more than 4096 bytes"},
		{treeOf(file, strings.Repeat("a", 200_000), blob), "more than 4096 bytes"},
	} {
		_, err := at(plant(t, top, "tree", c.tree))
		require.ErrorContains(t, err, c.says)
	}
	bomb := sub
	for range 7 {
		var entries []string
		for i := range 10 {
			entries = append(entries, folder, strconv.Itoa(i), bomb)
		}
		bomb = plant(t, top, "tree", treeOf(entries...))
	}
	_, err := at(bomb)
	require.ErrorContains(t, err, "more than 100000")
}

// TestRandomTreesAreExact checks that every tree that git can hold is read with exactly its names, or refused.
func TestRandomTreesAreExact(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	top := t.TempDir()
	git(t, top, nil, "init", "-q")
	blob := plant(t, top, "blob", []byte("x"))
	random := rand.New(rand.NewPCG(7, 26))
	parts := []string{"a", "b.yaml", `c\d`, "e f", "ä", "-n", "'q'", "\x01", ".git2", "x\ny", "\t", "C:", "con"}
	for range 20 {
		want := map[string]bool{}
		var build func(prefix string, depth int) string
		build = func(prefix string, depth int) string {
			var entries []string
			for _, p := range parts {
				switch n := random.IntN(4); {
				case n == 0:
					entries, want[prefix+p] = append(entries, "100644", p, blob), true
				case n == 1 && depth < 3:
					entries = append(entries, "40000", p, build(prefix+p+"/", depth+1))
				}
			}
			return plant(t, top, "tree", treeOf(entries...))
		}
		commit := git(t, top, nil, "commit-tree", build("", 0), "-m", "x")
		r, err := repository.Open(top)
		require.NoError(t, err)
		tree, err := r.Tree(commit)
		require.NoError(t, err)
		found := map[string]bool{}
		require.NoError(t, fs.WalkDir(tree, ".", func(name string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				found[name] = true
			}
			return err
		}))
		require.Equal(t, want, found)
		r.Close()
	}
}

// TestNothingRuns checks that no repository makes git run a program, whatever its configuration, attributes, hooks and
// missing objects are: random repositories in which everything that can name a program names one that leaves a trace.
func TestNothingRuns(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	rounds := 12
	if os.Getenv("KNOTHOLE_LONG") != "" {
		rounds = 400
	}
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	random := rand.New(rand.NewPCG(seed, 26))
	for round := range rounds {
		top := t.TempDir()
		trace := filepath.Join(t.TempDir(), "trace")
		program := filepath.Join(t.TempDir(), "program")
		write(t, program, fmt.Sprintf("#!/bin/sh\necho \"$0 $*\" >>%s\ncat\nexit 1\n", trace))
		git(t, top, nil, "init", "-q")
		write(t, filepath.Join(top, "map.knot"), "one\n")
		write(t, filepath.Join(top, "deep/pin.txt"), "1234\n")
		write(t, filepath.Join(top, ".gitattributes"), "* filter=run diff=run merge=run ident text\n")
		write(t, filepath.Join(top, ".gitignore"), ".secret/\n")
		git(t, top, nil, "add", ".")
		git(t, top, nil, "commit", "-q", "-m", "one")
		write(t, filepath.Join(top, "map.knot"), "two\n")
		folders := []string{top}
		if random.IntN(2) == 0 { // a submodule below
			part := t.TempDir()
			git(t, part, nil, "init", "-q")
			write(t, filepath.Join(part, "x.knot"), "one\n")
			git(t, part, nil, "add", ".")
			git(t, part, nil, "commit", "-q", "-m", "one")
			git(t, top, nil, "-c", "protocol.file.allow=always", "submodule", "--quiet", "add", part, "sub")
			folders = append(folders, filepath.Join(top, "sub"))
		}
		git(t, top, nil, "commit", "-q", "-a", "-m", "two")

		var ids []string
		for _, name := range []string{"HEAD^{tree}", "HEAD:deep", "HEAD:map.knot", "HEAD~1^{tree}", "HEAD~1"} {
			ids = append(ids, git(t, top, nil, "rev-parse", name))
		}

		config := [][2]string{
			{"core.fsmonitor", program}, {"core.hooksPath", filepath.Join(top, "hooks")}, {"core.sshCommand", program},
			{"core.gitProxy", program}, {"core.pager", program}, {"core.editor", program}, {"core.askPass", program},
			{"core.alternateRefsCommand", program}, {"sequence.editor", program}, {"credential.helper", "!" + program},
			{"diff.external", program}, {"diff.run.command", program}, {"diff.run.textconv", program},
			{"merge.run.driver", program}, {"filter.run.clean", program}, {"filter.run.smudge", program},
			{"filter.run.process", program}, {"filter.run.required", "true"}, {"gpg.program", program},
			{"gpg.ssh.program", program}, {"gpg.ssh.defaultKeyCommand", program}, {"log.showSignature", "true"},
			{"pager.ls-files", program}, {"pager.ls-tree", program}, {"pager.rev-parse", program},
			{"pager.cat-file", program}, {"alias.ls-files", "!" + program}, {"alias.ls-tree", "!" + program},
			{"alias.rev-parse", "!" + program}, {"alias.cat-file", "!" + program}, {"alias.check-ignore", "!" + program},
			{"alias.merge-base", "!" + program}, {"uploadpack.packObjectsHook", program},
			{"trailer.x.command", program}, {"interactive.diffFilter", program}, {"web.browser", "x"},
			{"browser.x.cmd", program}, {"man.x.cmd", program}, {"submodule.recurse", "true"},
			{"extensions.worktreeConfig", "true"}, {"core.attributesFile", filepath.Join(top, ".gitattributes")},
			{"protocol.allow", "always"}, {"protocol.ext.allow", "always"}, {"remote.origin.uploadpack", program},
			{"remote.origin.proxy", "http://127.0.0.1:1"}, {"safe.bareRepository", "all"},
			{"index.sparse", "true"}, {"core.sparseCheckout", "true"}, {"fetch.recurseSubmodules", "true"},
		}
		random.Shuffle(len(config), func(i, j int) { config[i], config[j] = config[j], config[i] })
		for _, folder := range folders {
			for _, c := range config[:1+random.IntN(len(config))] {
				git(t, folder, nil, "config", c[0], c[1])
			}
		}
		for _, hook := range []string{"post-index-change", "reference-transaction", "pre-auto-gc", "post-checkout",
			"fsmonitor-watchman", "query-watchman"} {
			write(t, filepath.Join(top, "hooks", hook), "#!/bin/sh\n"+program+" "+hook+"\n")
			write(t, filepath.Join(top, ".git/hooks", hook), "#!/bin/sh\n"+program+" "+hook+"\n")
		}
		if random.IntN(3) > 0 { // objects that are missing, and a place that promises them
			urls := []string{"ssh://nowhere.example/x", "ext::" + program + " %S", "file://" + top, top, "git://127.0.0.1:1/x",
				"https://127.0.0.1:1/x", "x::y", "nowhere.example:x"}
			for _, c := range [][2]string{{"core.repositoryformatversion", "1"}, {"extensions.partialClone", "origin"},
				{"remote.origin.promisor", "true"}, {"remote.origin.url", urls[random.IntN(len(urls))]}} {
				git(t, top, nil, "config", c[0], c[1])
			}
			if random.IntN(2) == 0 {
				git(t, top, nil, "config", "remote.origin.vcs", "../../../../../../../"+program)
			}
			for _, id := range ids {
				if random.IntN(2) == 0 {
					_ = os.Remove(filepath.Join(top, ".git/objects", id[:2], id[2:]))
				}
			}
		}
		if random.IntN(3) == 0 { // an object in the place of another
			id := fmt.Sprintf("%x", sha1.Sum(fmt.Appendf(nil, "blob 4\x00two\n")))
			write(t, filepath.Join(top, ".git/refs/replace", id), id+"\n")
		}
		_ = os.Remove(trace) // what people's git ran while this was made
		t.Setenv("GIT_SSH", program)
		t.Setenv("GIT_PAGER", program)
		t.Setenv("GIT_EXTERNAL_DIFF", program)
		t.Setenv("GIT_PROXY_COMMAND", program)
		for _, folder := range append(folders, filepath.Join(top, "deep")) {
			r, err := repository.Open(folder)
			if err != nil {
				continue // refused
			}
			for _, revision := range []string{"HEAD", "HEAD~1", "nowhere", strings.Repeat("a", 40)} {
				if commit, err := r.Commit(revision); err == nil {
					if tree, err := r.Tree(commit); err == nil {
						_, _ = fs.ReadFile(tree, "map.knot")
						_, _ = fs.ReadFile(tree, "pin.txt")
					}
				}
			}
			_, _ = r.Parted("HEAD", "HEAD~1")
			_, _ = r.Tracked([]string{"pin.txt", "map.knot", filepath.Join(top, "sub", "x.knot")})
			_, _ = r.TracksBelow(top)
			_, _ = r.TracksBelow(filepath.Join(top, "sub"))
			_, _ = r.NotIgnored([]string{".secret/x", "y", filepath.Join(top, "sub", "y")})
			r.Close()
		}
		ran, err := os.ReadFile(trace)
		require.ErrorIs(t, err, fs.ErrNotExist, "round %d of seed %d: %s", round, seed, ran)
	}
}
