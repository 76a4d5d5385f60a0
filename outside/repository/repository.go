// Package repository reads folders as they were at a revision, by the plumbing of the git program. It exists so that a
// project can be compared with what it was, without touching the files that people work on.
package repository

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"knothole/outside/gate"
)

// Repository is that in which a folder is.
type Repository struct {
	folder string
	prefix string // from the top of the repository to the folder, with / at its end; empty at the top
}

// ErrNone says that a folder is in no repository of git.
var ErrNone = errors.New("not a repository of git")

// Open finds the repository of a folder, which may be a bare one itself.
func Open(folder string) (*Repository, error) {
	r := &Repository{folder: folder}
	bare, err := Git(r.folder, nil, "rev-parse", "--is-bare-repository")
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(string(bare)) == "true" {
		return r, nil
	}
	prefix, err := Git(r.folder, nil, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	r.prefix = strings.TrimSuffix(string(prefix), "\n")
	return r, nil
}

// Git runs git in a folder, so that nothing in the folder or in the environment makes it run another program, or look
// elsewhere.
func Git(folder string, in []byte, arguments ...string) ([]byte, error) {
	command := exec.Command("git", append([]string{"-c", "core.fsmonitor=false", "-c", "core.hooksPath=" + os.DevNull,
		"-c", "core.pager=cat", "--no-optional-locks"}, arguments...)...)
	command.Dir, command.Stdin = folder, bytes.NewReader(in)
	for _, entry := range os.Environ() {
		name, _, _ := strings.Cut(entry, "=")
		if !strings.HasPrefix(name, "GIT_") && name != "LC_ALL" && name != "LANGUAGE" {
			command.Env = append(command.Env, entry)
		}
	}
	command.Env = append(command.Env, "LC_ALL=C", "GIT_TERMINAL_PROMPT=0")
	out, err := command.Output()
	var exit *exec.ExitError
	switch {
	case errors.Is(err, exec.ErrNotFound):
		if inRepository(folder) {
			return nil, errors.New("it is not installed, but the folder is in a repository")
		}
		return nil, ErrNone
	case errors.As(err, &exit) && exit.ExitCode() != 1:
		said, _, _ := strings.Cut(strings.TrimPrefix(string(exit.Stderr), "fatal: "), "\n")
		if strings.HasPrefix(said, "not a git repository") && !inRepository(folder) {
			return nil, ErrNone
		}
		return nil, errors.New(said)
	}
	return out, err
}

// Said reports whether git ended with a status, which is its answer.
func Said(err error, status int) bool {
	var exit *exec.ExitError
	return errors.As(err, &exit) && exit.ExitCode() == status
}

// inRepository reports whether a folder, or one that it is in, looks like that of a repository.
func inRepository(folder string) bool {
	for {
		if exists, _, err := gate.Exists(filepath.Join(folder, ".git")); exists || err != nil {
			return true
		}
		parent := filepath.Dir(folder)
		if parent == folder {
			return false
		}
		folder = parent
	}
}

// Commit returns the name of the commit that a revision stands for.
func (r *Repository) Commit(revision string) (string, error) {
	if strings.HasPrefix(revision, "-") {
		return "", fmt.Errorf("%q is not a revision", revision)
	}
	out, err := Git(r.folder, nil, "rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
	if err == nil {
		return strings.TrimSpace(string(out)), nil
	}
	if r.isShallow() {
		return "", fmt.Errorf("the revision %s is not here: the clone is shallow, git fetch --unshallow gets the rest",
			revision)
	}
	return "", fmt.Errorf("there is no revision %s", revision)
}

func (r *Repository) isShallow() bool {
	shallow, err := Git(r.folder, nil, "rev-parse", "--is-shallow-repository")
	return err == nil && strings.TrimSpace(string(shallow)) == "true"
}

// Parted returns the last commit that two revisions have in common.
func (r *Repository) Parted(revision, other string) (string, error) {
	commit, err := r.Commit(revision)
	if err != nil {
		return "", err
	}
	with, err := r.Commit(other)
	if err != nil {
		return "", err
	}
	out, err := Git(r.folder, nil, "merge-base", commit, with)
	if err != nil && r.isShallow() {
		return "", fmt.Errorf("where %s and %s parted is not here: the clone is shallow, git fetch --unshallow gets "+
			"the rest", revision, other)
	}
	if err != nil {
		return "", fmt.Errorf("%s and %s have no commit in common", revision, other)
	}
	return short(strings.TrimSpace(string(out))), nil
}

// most is how many bytes a folder has at most.
const most = 1 << 30

// Files returns the files of the folder as they were at a commit, by their paths in it.
func (r *Repository) Files(commit string) (map[string][]byte, error) {
	tree := commit + "^{tree}"
	if r.prefix != "" {
		tree = commit + ":" + strings.TrimSuffix(r.prefix, "/")
	}
	listed, err := Git(r.folder, nil, "ls-tree", "-r", "-z", "--full-tree", tree)
	if err != nil {
		return nil, fmt.Errorf("the folder was not there at %s", short(commit))
	}
	var names []string
	var wanted bytes.Buffer
	for _, entry := range strings.Split(string(listed), "\x00") {
		about, name, ok := strings.Cut(entry, "\t")
		fields := strings.Fields(about)
		if !ok || len(fields) != 3 || fields[1] != "blob" || fields[0] == "120000" { // links are not followed
			continue
		}
		names = append(names, name)
		wanted.WriteString(fields[2] + "\n")
	}
	out, err := Git(r.folder, wanted.Bytes(), "cat-file", "--batch")
	if err != nil {
		return nil, err
	}
	files := make(map[string][]byte, len(names))
	in := bufio.NewReader(bytes.NewReader(out))
	total := 0
	for _, name := range names {
		head, err := in.ReadString('\n')
		if err != nil {
			return nil, err
		}
		fields := strings.Fields(head)
		if len(fields) != 3 {
			return nil, fmt.Errorf("%s is not here: the clone is partial", name)
		}
		size, err := strconv.Atoi(fields[2])
		if total += size; err != nil || total > most {
			return nil, fmt.Errorf("the folder is too large at %s", short(commit))
		}
		text := make([]byte, size)
		if _, err := io.ReadFull(in, text); err != nil {
			return nil, err
		}
		_, _ = in.Discard(1)
		files[name] = text
	}
	return files, nil
}

func short(commit string) string { return commit[:min(len(commit), 10)] }

// Tree makes a file system of files.
func Tree(files map[string][]byte) fs.FS {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for name, text := range files {
		if !fs.ValidPath(name) || name == "." || strings.HasSuffix(path.Clean(name), "/") {
			continue
		}
		if f, err := w.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store}); err == nil {
			_, _ = f.Write(text) // to memory
		}
	}
	_ = w.Close()
	tree, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		panic(fmt.Sprintf("what was written cannot be read: %s", err))
	}
	return tree
}
