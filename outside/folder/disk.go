package folder

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"syscall"

	"knothole/outside/gate"
)

// open opens the directory of an environment in a directory for rendered files; nil when there is none yet. A link that
// leads out of the directory is refused, and so is one that is where the directory does: two environments could
// then be one.
func open(disk *gate.Disk, base, environment string) (*gate.Root, error) {
	outer, err := disk.OpenRoot(base)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer outer.Close()
	if info, err := outer.Lstat(environment); err == nil && info.Mode()&fs.ModeSymlink != 0 {
		return nil, errors.New("a link is at the path of the environment's directory")
	}
	root, err := outer.OpenRoot(environment)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return root, nil
}

// create opens the directory of the plan, which may not be there yet.
func (p *Plan) create(mode fs.FileMode) (*gate.Root, error) {
	base, environment := p.base, p.environment
	if err := p.options.Disk.MakeFolder(base, mode); err != nil {
		return nil, err
	}
	outer, err := p.options.Disk.OpenRoot(base)
	if err != nil {
		return nil, err
	}
	err = outer.Mkdir(environment, mode)
	if errors.Is(err, fs.ErrExist) {
		recase(outer, environment)
	}
	outer.Close()
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	return open(p.options.Disk, base, environment)
}

// recase renames the directory of an environment whose name differs only in case. A failure is ignored, because the
// directory is found under both names.
func recase(outer *gate.Root, environment string) {
	entries, err := fs.ReadDir(outer.FS(), ".")
	if err != nil || slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == environment }) {
		return
	}
	for _, e := range entries {
		if isOne(outer, environment, e.Name()) {
			_ = outer.Rename(e.Name(), environment)
		}
	}
}

// current returns the contents of a file.
func current(d *gate.Root, name string) (text []byte, exists bool, err error) {
	info, err := d.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, false, nil
	case errors.Is(err, syscall.ENOTDIR):
		return nil, false, fileInTheWay
	case err != nil:
		return nil, false, err
	case info.IsDir():
		return nil, false, obstacle("a directory is at the path of the document")
	case !info.Mode().IsRegular():
		return nil, false, obstacle("something other than a regular file is at the path of the document")
	}
	text, err = d.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) { // it is gone meanwhile, or was known under another name only
		return nil, false, nil
	}
	return text, err == nil, err
}

// reader is current for one file after the other. It keeps the directory of the last one open, where the next mostly
// stands, too.
type reader struct {
	root   *gate.Root // nil when nothing is there yet
	folder string
	inner  *gate.Root
	err    error // of opening the directory
}

func (r *reader) current(name string) (text []byte, exists bool, err error) {
	if r.root == nil {
		return nil, false, nil
	}
	folder, base := path.Split(name)
	if folder == "" {
		return current(r.root, name)
	}
	if folder != r.folder {
		r.close()
		r.folder = folder
		r.inner, r.err = r.root.OpenRoot(path.Clean(folder))
		if r.err != nil && blocked(r.root, path.Clean(folder)) {
			r.err = fileInTheWay
		}
	}
	switch {
	case errors.Is(r.err, fs.ErrNotExist):
		return nil, false, nil
	case r.err != nil:
		return nil, false, r.err
	}
	return current(r.inner, base)
}

// blocked reports whether a file is in the way of a directory, or of one of its parents. Systems report that with
// different errors, some with the one for a missing file.
func blocked(d *gate.Root, folder string) bool {
	for ; folder != "."; folder = path.Dir(folder) {
		if info, err := d.Lstat(folder); err == nil {
			return info.Mode().IsRegular()
		}
	}
	return false
}

func (r *reader) close() {
	if r.inner != nil {
		r.inner.Close()
		r.inner = nil
	}
}

// obstacle is something of other people where a document goes, which is not replaced.
type obstacle string

func (o obstacle) Error() string { return string(o) }

const fileInTheWay = obstacle("a file is at the path of the document's directory")

// cleared reports whether nothing is in the way of a path when files have been removed: what is in the way is one of
// them, or a directory with nothing but them. An empty directory is somebody's, unless nothing is said to be removed:
// then it was emptied by a run that was stopped.
func cleared(d *gate.Root, name string, removed map[string]string) bool {
	for folder := path.Dir(name); folder != "."; folder = path.Dir(folder) {
		if _, ok := removed[folder]; ok {
			return true
		}
	}
	info, err := d.Lstat(name)
	if err != nil || !info.IsDir() {
		return false
	}
	others, some := false, removed == nil
	err = fs.WalkDir(d.FS(), name, func(inner string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			_, ok := removed[inner]
			others, some = others || !ok, some || ok
		}
		return err
	})
	return err == nil && !others && some
}
