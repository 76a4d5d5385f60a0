package repository

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"knothole/outside/gate"
)

// Limits for a revision, so that a commit of a few hundred bytes cannot use all memory: the number of files and
// directories, the bytes of names, and the bytes of files that are read.
const (
	maxEntries = 100_000
	maxNames   = 64 << 20
	maxBytes   = 1 << 30
)

// Tree is a file system with the files of a directory at a commit. A file is read when it is opened. Links are not
// followed, and submodules are not entered.
type Tree struct {
	read    func(o object) ([]byte, error)
	files   map[string]object
	folders map[string][]fs.DirEntry // sorted by name
	taken   atomic.Int64             // how many bytes were read
}

// object is what git knows of a file.
type object struct {
	id   string
	mode string
	text []byte // of one that is in memory
}

// entry describes a file. Its size is known only if it is in memory.
func (o object) entry(name string) entry {
	return entry{name: path.Base(name), mode: 0o444, size: int64(len(o.text))}
}

// The modes of tree entries that are not files.
const (
	modeLink      = "120000"
	modeSubmodule = "160000"
)

// Tree lists the files of the directory at a commit. It reads and counts the names one by one, and does not read the
// files.
func (r *Repository) Tree(commit string) (*Tree, error) {
	tree := commit + "^{tree}"
	if r.prefix != "" {
		tree = commit + ":" + strings.TrimSuffix(r.prefix, "/")
	}
	command := r.command("ls-tree", "-r", "-z", "--full-tree", tree)
	var problems strings.Builder
	command.Stderr = &problems
	out, err := piped(command)
	if err != nil {
		return nil, err
	}
	t := newTree(r.readObject)
	listed := t.list(bufio.NewReaderSize(out, 64<<10))
	if listed != nil {
		_ = command.Process.Kill()
	}
	err = command.Wait()
	switch {
	case listed != nil:
		return nil, fmt.Errorf("the directory at %s %w", short(commit), listed)
	case err != nil && strings.Contains(problems.String(), "promisor"), strings.Contains(problems.String(), "missing"):
		return nil, fmt.Errorf("the clone is partial, and the directory at %s is missing", short(commit))
	case err != nil:
		return nil, fmt.Errorf("the directory was not there at %s", short(commit))
	}
	t.finish()
	return t, nil
}

// list reads what ls-tree -z prints: a mode, a type and a name of an object, a tab, a path, a zero byte.
func (t *Tree) list(in *bufio.Reader) error {
	names := 0
	for {
		entry, err := entryOf(in)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		about, name, ok := strings.Cut(entry, "\t")
		fields := strings.Fields(about)
		if !ok || len(fields) != 3 {
			return errors.New("cannot be listed")
		}
		if names += len(name); len(t.files) >= maxEntries || names > maxNames {
			return fmt.Errorf("has more than %d files, or paths of more than %d MiB", maxEntries, maxNames>>20)
		}
		if fields[0] == modeSubmodule {
			continue
		}
		if err := t.add(name, object{id: fields[2], mode: fields[0]}); err != nil {
			return err
		}
	}
}

// maxName is the maximum length of a path, in bytes.
const maxName = 4096

// entryOf reads up to a zero byte, at most the maximum length of an entry.
func entryOf(in *bufio.Reader) (string, error) {
	line, err := in.ReadSlice(0)
	switch {
	case err == nil && len(line) <= maxName+100:
		return string(line[:len(line)-1]), nil
	case err == io.EOF && len(line) == 0:
		return "", io.EOF
	case err == nil || errors.Is(err, bufio.ErrBufferFull):
		return "", fmt.Errorf("has a path of more than %d bytes", maxName)
	}
	return "", errors.New("cannot be listed to its end")
}

func newTree(read func(object) ([]byte, error)) *Tree {
	return &Tree{read: read, files: map[string]object{}, folders: map[string][]fs.DirEntry{".": nil}}
}

// InMemory makes a file system of files by their paths.
func InMemory(files map[string][]byte) fs.FS {
	t := newTree(nil)
	for name, text := range files {
		_ = t.add(name, object{text: text}) // what is no path cannot be opened either
	}
	t.finish()
	return t
}

// add adds a file with exactly its name, or returns an error.
func (t *Tree) add(name string, o object) error {
	if !fs.ValidPath(name) || !utf8.ValidString(name) || name == "." {
		return fmt.Errorf("has a file whose name is not a path: %q", shortened(name))
	}
	if _, there := t.files[name]; there {
		return fmt.Errorf("has two files called %q", shortened(name))
	}
	t.files[name] = o
	for folder := path.Dir(name); ; folder = path.Dir(folder) {
		if _, isFile := t.files[folder]; isFile {
			return fmt.Errorf("has a file and a directory called %q", shortened(folder))
		}
		_, known := t.folders[folder]
		if !known {
			if len(t.folders) > maxEntries {
				return fmt.Errorf("has more than %d directories", maxEntries)
			}
			t.folders[folder] = nil
		}
		if known || folder == "." {
			break
		}
	}
	if _, isFolder := t.folders[name]; isFolder {
		return fmt.Errorf("has a file and a directory called %q", shortened(name))
	}
	return nil
}

func shortened(name string) string {
	if len(name) > 60 {
		return strings.ToValidUTF8(name[:60], "") + "…"
	}
	return name
}

// finish sorts the entries of each directory.
func (t *Tree) finish() {
	in := func(name string, e entry) {
		folder := path.Dir(name)
		t.folders[folder] = append(t.folders[folder], e)
	}
	folders := make([]string, 0, len(t.folders))
	for name := range t.folders {
		folders = append(folders, name)
	}
	for _, name := range folders {
		if name != "." {
			in(name, entry{name: path.Base(name), mode: fs.ModeDir | 0o555})
		}
	}
	for name, o := range t.files {
		if o.mode != modeLink {
			in(name, o.entry(name))
		}
	}
	for _, entries := range t.folders {
		slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	}
}

// ErrLink says that a file of a revision is a link.
var ErrLink = errors.New("it is a link, and links of a revision are not followed")

// ReadFile reads a file.
func (t *Tree) ReadFile(name string) ([]byte, error) {
	wrong := func(err error) ([]byte, error) { return nil, &fs.PathError{Op: "open", Path: name, Err: err} }
	o, there := t.files[name]
	_, isFolder := t.folders[name]
	switch {
	case isFolder:
		return wrong(gate.ErrNotPlain)
	case !there:
		return wrong(fs.ErrNotExist)
	case o.mode == modeLink:
		return wrong(ErrLink)
	case t.read == nil:
		return slices.Clone(o.text), nil
	}
	text, err := t.read(o)
	if err != nil {
		return wrong(err)
	}
	if t.taken.Add(int64(len(text))) > maxBytes {
		return wrong(fmt.Errorf("%w: the files of the revision have more than %d MiB", gate.ErrTooLarge, maxBytes>>20))
	}
	return text, nil
}

// Open opens a file or a directory.
func (t *Tree) Open(name string) (fs.File, error) {
	if entries, is := t.folders[name]; is {
		return &openFolder{entry: entry{name: path.Base(name), mode: fs.ModeDir | 0o555}, rest: entries}, nil
	}
	text, err := t.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return &openFile{t.files[name].entry(name), bytes.NewReader(text)}, nil
}

// ReadDir lists a directory.
func (t *Tree) ReadDir(name string) ([]fs.DirEntry, error) {
	entries, is := t.folders[name]
	if !is {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrNotExist}
	}
	return slices.Clone(entries), nil
}

// Stat describes a file or a directory.
func (t *Tree) Stat(name string) (fs.FileInfo, error) {
	if _, is := t.folders[name]; is {
		return entry{name: path.Base(name), mode: fs.ModeDir | 0o555}, nil
	}
	if o, there := t.files[name]; there && o.mode != modeLink {
		return o.entry(name), nil
	}
	return nil, &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
}

// entry describes a file or a directory.
type entry struct {
	name string
	mode fs.FileMode
	size int64
}

func (e entry) Name() string               { return e.name }
func (e entry) IsDir() bool                { return e.mode.IsDir() }
func (e entry) Type() fs.FileMode          { return e.mode.Type() }
func (e entry) Info() (fs.FileInfo, error) { return e, nil }
func (e entry) Size() int64                { return e.size }
func (e entry) Mode() fs.FileMode          { return e.mode }
func (e entry) ModTime() time.Time         { return time.Time{} }
func (e entry) Sys() any                   { return nil }

type openFile struct {
	entry
	*bytes.Reader
}

func (f *openFile) Stat() (fs.FileInfo, error) { return f.entry, nil }
func (f *openFile) Close() error               { return nil }
func (f *openFile) Size() int64                { return f.entry.size }

type openFolder struct {
	entry
	rest []fs.DirEntry
}

func (f *openFolder) Stat() (fs.FileInfo, error) { return f.entry, nil }
func (f *openFolder) Close() error               { return nil }
func (f *openFolder) Read([]byte) (int, error) {
	return 0, &fs.PathError{Op: "read", Path: f.name, Err: gate.ErrNotPlain}
}

// ReadDir returns the next entries, all if n is not above 0.
func (f *openFolder) ReadDir(n int) ([]fs.DirEntry, error) {
	if n <= 0 {
		n = len(f.rest)
	} else if len(f.rest) == 0 {
		return nil, io.EOF
	}
	n = min(n, len(f.rest))
	next := f.rest[:n:n]
	f.rest = f.rest[n:]
	return next, nil
}

// objects is a git process that reads objects one after the other.
type objects struct {
	command *exec.Cmd
	to      io.WriteCloser
	from    *bufio.Reader
}

func (o *objects) close() {
	_ = o.to.Close()
	_ = o.command.Process.Kill()
	_ = o.command.Wait()
}

// readObject reads the bytes of a file, after it has checked their number.
func (r *Repository) readObject(o object) ([]byte, error) {
	r.reading.Lock()
	defer r.reading.Unlock()
	if r.objects == nil {
		command := r.command("cat-file", "--batch")
		to, err := command.StdinPipe()
		if err != nil {
			return nil, err
		}
		out, err := piped(command)
		if err != nil {
			return nil, err
		}
		r.objects = &objects{command, to, bufio.NewReader(out)}
	}
	text, err := r.objects.read(o.id)
	if err != nil { // what comes next is not known any more
		r.objects.close()
		r.objects = nil
	}
	return text, err
}

func (o *objects) read(id string) ([]byte, error) {
	if _, err := io.WriteString(o.to, id+"\n"); err != nil {
		return nil, errors.New("git cannot read it")
	}
	head, err := o.from.ReadString('\n')
	if err != nil {
		return nil, errors.New("git cannot read it")
	}
	fields := strings.Fields(head)
	if len(fields) != 3 {
		return nil, errors.New("the clone is partial, and this file is missing")
	}
	size, err := strconv.ParseInt(fields[2], 10, 64)
	if err != nil || size > gate.MaxFile {
		return nil, fmt.Errorf("%w: it has more than %d MiB", gate.ErrTooLarge, gate.MaxFile>>20)
	}
	text := make([]byte, size+1) // with the line end after it
	if _, err := io.ReadFull(o.from, text); err != nil {
		return nil, errors.New("git cannot read it to its end")
	}
	return text[:size:size], nil
}
