// Package repository reads the git repository of a project through the git program: the files of a revision, and which
// files git tracks or ignores. Reading a revision does not touch the working tree, and nothing in the project decides
// what git does.
package repository

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"

	"knothole/outside/gate"
)

// Repository is a git repository. It keeps one git process that reads objects: see Close.
type Repository struct {
	top    string // the directory that holds .git, without links; or the bare repository itself
	prefix string // from the top to the directory that was opened, with / at its end; empty at the top
	bare   bool

	reading sync.Mutex
	objects *objects
}

// ErrNone says that a directory is in no repository of git.
var ErrNone = errors.New("not a repository of git")

// dotGit is the only name under which a repository is found. Git refuses to track a file or directory with this name,
// so a commit cannot contain one.
const dotGit = ".git"

// Open finds the repository of a directory: the nearest .git in it or above it. It ignores bare repositories, because a
// commit can contain their files. It also refuses a repository inside the directory that is not its .git.
func Open(folder string) (*Repository, error) {
	folder, err := gate.Real(folder)
	if err != nil {
		return nil, err
	}
	top, err := upwards(folder)
	if err != nil {
		return nil, err
	}
	r := &Repository{top: top}
	relative, err := filepath.Rel(top, folder)
	if err != nil {
		return nil, err
	}
	if relative != "." {
		r.prefix = filepath.ToSlash(relative) + "/"
	}
	said, err := r.git("rev-parse", "--absolute-git-dir")
	if err != nil {
		return nil, err
	}
	at, err := gate.Real(filepath.FromSlash(strings.TrimSuffix(string(said), "\n")))
	if err != nil {
		return nil, err
	}
	inside, err := filepath.Rel(folder, at)
	first, _, _ := strings.Cut(filepath.ToSlash(inside), "/")
	if err == nil && filepath.IsLocal(inside) && first != dotGit {
		return nil, fmt.Errorf("the git repository %s is inside the project, where a change could make git run "+
			"a program: move it outside, or to .git", filepath.ToSlash(inside))
	}
	return r, nil
}

// OpenNamed opens the repository that the user named: a bare one, or that of a directory. A directory in the working
// tree of another repository is never used as a bare one, because it may come from a commit.
func OpenNamed(name string) (*Repository, error) {
	r, err := Open(name)
	if errors.Is(err, ErrNone) && IsBare(name) {
		real, err := gate.Real(name)
		return &Repository{top: real, bare: true}, err
	}
	return r, err
}

// IsBare reports whether a directory looks like a bare repository (gitrepository-layout(5)).
func IsBare(folder string) bool {
	for _, part := range []string{"objects", "refs"} {
		if exists, isFolder, err := gate.Exists(filepath.Join(folder, part)); !exists || !isFolder || err != nil {
			return false
		}
	}
	return gate.IsFile(filepath.Join(folder, "HEAD"))
}

// upwards returns the nearest directory with a .git.
func upwards(folder string) (string, error) {
	for {
		exists, _, err := gate.Exists(filepath.Join(folder, dotGit))
		if err != nil {
			return "", err
		}
		if exists {
			return folder, nil
		}
		parent := filepath.Dir(folder)
		if parent == folder {
			return "", ErrNone
		}
		folder = parent
	}
}

// Close ends the process of git that reads objects.
func (r *Repository) Close() {
	r.reading.Lock()
	defer r.reading.Unlock()
	if r.objects != nil {
		r.objects.close()
		r.objects = nil
	}
}

// settings keep git from running another program, regardless of the repository's configuration, and from looking for
// another repository. The variables of environment do the rest.
var settings = []string{
	"-c", "core.fsmonitor=false",
	"-c", "core.hooksPath=" + os.DevNull,
	"-c", "core.pager=cat",
	"-c", "core.sshCommand=false",
	"-c", "credential.helper=",
	"-c", "protocol.allow=never",
	"-c", "safe.bareRepository=explicit", // since git 2.38
	"--no-optional-locks",
}

// allocationLimit is how much memory git may take at once.
const allocationLimit = "600m"

// environment returns the environment variables of git: those of the machine, with these in place of git's own.
func (r *Repository) environment() []string {
	var kept []string
	for _, entry := range os.Environ() {
		name, _, _ := strings.Cut(entry, "=")
		if !strings.HasPrefix(name, "GIT_") && name != "LC_ALL" && name != "LANGUAGE" {
			kept = append(kept, entry)
		}
	}
	return append(kept, "LC_ALL=C",
		"GIT_ALLOC_LIMIT="+allocationLimit,
		"GIT_ALLOW_PROTOCOL=", // none
		"GIT_ASKPASS=false",
		"GIT_CEILING_DIRECTORIES="+filepath.Dir(r.top), // it looks nowhere above
		"GIT_NO_LAZY_FETCH=1",                          // since git 2.39.4; before, no protocol is allowed for it
		"GIT_NO_REPLACE_OBJECTS=1",
		"GIT_SSH_COMMAND=false",
		"GIT_TERMINAL_PROMPT=0")
}

// command returns a git command that starts at the top of the repository, where git finds .git first.
func (r *Repository) command(arguments ...string) *exec.Cmd {
	all := settings
	if r.bare {
		all = append(all[:len(all):len(all)], "--git-dir="+r.top)
	}
	command := exec.Command("git", append(all[:len(all):len(all)], arguments...)...)
	command.Dir, command.Env = r.top, r.environment()
	return command
}

// git runs git and returns what it prints.
func (r *Repository) git(arguments ...string) ([]byte, error) { return output(r.command(arguments...)) }

func output(command *exec.Cmd) ([]byte, error) {
	out, err := command.Output()
	return out, plain(err)
}

// plain returns the reason for a failure of git in one line, with the remedy that git suggests.
func plain(err error) error {
	var exit *exec.ExitError
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return errors.New("the project is in a git repository, but git is not installed")
	case errors.As(err, &exit) && exit.ExitCode() != 1:
		lines := strings.Split(strings.TrimPrefix(string(exit.Stderr), "fatal: "), "\n")
		said := lines[0]
		for _, line := range lines[1:] {
			if line = strings.TrimSpace(line); strings.HasPrefix(line, "git config ") {
				said += "\n  " + line
			}
		}
		return errors.New(said)
	}
	return err
}

// said reports whether git ended with a status that is an answer.
func said(err error, status int) bool {
	var exit *exec.ExitError
	return errors.As(err, &exit) && exit.ExitCode() == status
}

// Commit returns the name of the commit that a revision stands for.
func (r *Repository) Commit(revision string) (string, error) {
	if strings.HasPrefix(revision, "-") || strings.HasPrefix(revision, "^") {
		return "", fmt.Errorf("%q is not a revision", revision)
	}
	out, err := r.git("rev-parse", "--verify", "--quiet", "--end-of-options", revision+"^{commit}")
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
	shallow, err := r.git("rev-parse", "--is-shallow-repository")
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
	out, err := r.git("merge-base", commit, with)
	if err != nil && r.isShallow() {
		return "", fmt.Errorf("where %s and %s parted is not here: the clone is shallow, git fetch --unshallow gets "+
			"the rest", revision, other)
	}
	if err != nil {
		return "", fmt.Errorf("%s and %s have no commit in common", revision, other)
	}
	return short(strings.TrimSpace(string(out))), nil
}

func short(commit string) string { return commit[:min(len(commit), 10)] }

// Tracked returns the files that git tracks. Names are file paths, relative to the opened directory unless they are
// absolute.
func (r *Repository) Tracked(names []string) ([]string, error) {
	inTree, err := r.names(names)
	if err != nil {
		return nil, err
	}
	out, err := r.git(append([]string{"--literal-pathspecs", "ls-files", "-z", "--"}, inTree...)...)
	if err != nil {
		return nil, err
	}
	has := set(out)
	var tracked []string
	for i, name := range inTree {
		if has[name] {
			tracked = append(tracked, names[i])
		}
	}
	return tracked, nil
}

// Has reports whether git tracks a file with exactly its current contents.
func (r *Repository) Has(name string, text []byte) bool {
	inTree, err := r.names([]string{name})
	if err != nil {
		return false
	}
	out, err := r.git("--literal-pathspecs", "ls-files", "-z", "--stage", "--", inTree[0])
	if err != nil {
		return false
	}
	for _, entry := range strings.Split(string(out), "\x00") { // mode, object, stage, tab, path
		about, path, _ := strings.Cut(entry, "\t")
		fields := strings.Fields(about)
		if path == inTree[0] && len(fields) == 3 && fields[1] == blobID(text, len(fields[1])) {
			return true
		}
	}
	return false
}

// blobID returns the object name of the bytes of a file, for a hash with so many digits.
func blobID(text []byte, digits int) string {
	h := sha1.New()
	if digits == 2*sha256.Size {
		h = sha256.New()
	}
	fmt.Fprintf(h, "blob %d\x00", len(text))
	h.Write(text)
	return hex.EncodeToString(h.Sum(nil))
}

// TracksBelow returns the first file that git tracks in a directory, or an empty string.
func (r *Repository) TracksBelow(folder string) (string, error) {
	inTree, err := r.names([]string{folder})
	if err != nil {
		return "", err
	}
	out, err := r.git("--literal-pathspecs", "ls-files", "-z", "--", inTree[0])
	if name, _, _ := strings.Cut(string(out), "\x00"); name != "" {
		return filepath.Join(r.top, filepath.FromSlash(name)), nil
	}
	return "", err
}

// NotIgnored returns the files that git does not ignore.
func (r *Repository) NotIgnored(names []string) ([]string, error) {
	inTree, err := r.names(names)
	if err != nil {
		return nil, err
	}
	for i, name := range inTree {
		inTree[i] = "./" + name // so that nothing in it is taken for more than a name: here there is no flag for that
	}
	command := r.command("check-ignore", "--stdin", "-z", "--no-index")
	command.Stdin = strings.NewReader(strings.Join(inTree, "\x00") + "\x00")
	out, err := output(command)
	if err != nil && !said(err, 1) { // that it ignores none
		return nil, err
	}
	ignored := set(out)
	var open []string
	for i, name := range inTree {
		if !ignored[name] {
			open = append(open, names[i])
		}
	}
	return open, nil
}

// names makes paths from the top of the repository, as git writes them.
func (r *Repository) names(names []string) ([]string, error) {
	inTree := make([]string, len(names))
	for i, name := range names {
		if !filepath.IsAbs(name) {
			name = filepath.Join(r.top, filepath.FromSlash(r.prefix), name)
		}
		relative, err := filepath.Rel(r.top, name)
		if err != nil || !filepath.IsLocal(relative) {
			return nil, fmt.Errorf("%s is outside of the repository", name)
		}
		inTree[i] = filepath.ToSlash(relative)
	}
	return inTree, nil
}

// set returns the names in output that git printed with a zero byte after each.
func set(out []byte) map[string]bool {
	names := map[string]bool{}
	for _, name := range bytes.Split(out, []byte{0}) {
		names[string(name)] = true
	}
	return names
}

// piped starts a command whose output is read while it runs, and keeps the end of its error output. The caller ends it.
func piped(command *exec.Cmd) (out io.ReadCloser, err error) {
	if out, err = command.StdoutPipe(); err == nil {
		err = plain(command.Start())
	}
	return out, err
}
