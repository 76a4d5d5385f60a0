// Package gate is the one way from the program to the files of the machine. It exists so that what is promised of them
// holds wherever they are read or written: inside of a directory that is opened as a Root nothing leads out, no link
// either; what is read is a plain file of bounded size, so that no device, pipe or endless file can hold the program
// up; and a file that is replaced has its old contents or its new ones, whatever happens. No other package of the
// program opens a file, which a test holds.
package gate

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"knothole/core/source"
)

// MaxFile is how large a file may be that is read, in bytes.
const MaxFile = 256 << 20

// ErrNotPlain says that something is no plain file: a directory, a pipe, a device.
var ErrNotPlain = errors.New("it is not a plain file")

// ErrNotThere says that nothing has a name.
var ErrNotThere = errors.New("no such file or directory")

// ErrTooLarge says that a file has more bytes than are read.
var ErrTooLarge = errors.New("it is too large")

// ErrChanged says that a file is not what it was when it was read.
var ErrChanged = errors.New("it was changed by somebody else in the meantime; run the command again")

// Disk is that of the machine, as far as files are changed. Nil is the disk as it is.
type Disk struct {
	// Fault is asked before each change, and may let it fail, so that a test can see what is left then. Nothing need
	// survive a loss of power where it is set: waiting for the disk would only take time.
	Fault func(operation, name string) error
}

func (d *Disk) fault(operation, name string) error {
	if d == nil {
		return nil
	}
	return d.Fault(operation, name)
}

// Root is a directory of the machine. Names in it have forward slashes; a link that leads out of it is refused.
type Root struct {
	in   *os.Root
	disk *Disk
}

// OpenRoot opens a directory.
func (d *Disk) OpenRoot(name string) (*Root, error) {
	in, err := os.OpenRoot(name)
	if err != nil {
		return nil, err
	}
	return &Root{in, d}, nil
}

// OpenRoot opens a directory of the disk as it is.
func OpenRoot(name string) (*Root, error) { return (*Disk)(nil).OpenRoot(name) }

// OpenRoot opens a directory in a directory.
func (r *Root) OpenRoot(name string) (*Root, error) {
	in, err := r.in.OpenRoot(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	return &Root{in, r.disk}, nil
}

// Close gives the directory back.
func (r *Root) Close() error { return r.in.Close() }

// Lstat describes what a name stands for, a link too.
func (r *Root) Lstat(name string) (fs.FileInfo, error) { return r.in.Lstat(filepath.FromSlash(name)) }

// Mkdir makes a directory.
func (r *Root) Mkdir(name string, mode fs.FileMode) error {
	if err := r.disk.fault("mkdir", name); err != nil {
		return err
	}
	return r.in.Mkdir(filepath.FromSlash(name), mode)
}

// MkdirAll makes a directory and those that it is in.
func (r *Root) MkdirAll(name string, mode fs.FileMode) error {
	if err := r.disk.fault("mkdir", name); err != nil {
		return err
	}
	return r.in.MkdirAll(filepath.FromSlash(name), mode)
}

// Rename gives something another name, over a file that is there.
func (r *Root) Rename(from, to string) error {
	if err := r.disk.fault("rename", to); err != nil {
		return err
	}
	return r.in.Rename(filepath.FromSlash(from), filepath.FromSlash(to))
}

// Chmod changes the mode of a file or directory.
func (r *Root) Chmod(name string, mode fs.FileMode) error {
	return r.in.Chmod(filepath.FromSlash(name), mode)
}

// Remove removes a file or an empty directory.
func (r *Root) Remove(name string) error {
	if err := r.disk.fault("remove", name); err != nil {
		return err
	}
	return r.in.Remove(filepath.FromSlash(name))
}

// RemoveAll removes a file, or a directory with all that is in it; that there is none is no error.
func (r *Root) RemoveAll(name string) error {
	if r.disk != nil { // it may end when some of what is in it is gone
		entries, _ := fs.ReadDir(r.in.FS(), name)
		for _, e := range entries {
			if err := r.RemoveAll(path.Join(name, e.Name())); err != nil {
				return err
			}
		}
	}
	if err := r.disk.fault("remove", name); err != nil {
		return err
	}
	return r.in.RemoveAll(filepath.FromSlash(name))
}

// ReadFile reads a plain file.
func (r *Root) ReadFile(name string) ([]byte, error) {
	f, err := r.open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return bounded(f, MaxFile)
}

// ReadSome reads a plain file that has at most so many bytes.
func (r *Root) ReadSome(name string, most int64) ([]byte, error) {
	f, err := r.open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return bounded(f, most)
}

// open opens a plain file without waiting for anybody, as a pipe would.
func (r *Root) open(name string) (*os.File, error) {
	f, err := r.in.OpenFile(filepath.FromSlash(name), os.O_RDONLY|dontWait, 0)
	if err != nil {
		return nil, err
	}
	return plain(f)
}

// plain closes what is no plain file.
func plain(f *os.File) (*os.File, error) {
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = ErrNotPlain
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func bounded(f *os.File, most int64) ([]byte, error) {
	var b bytes.Buffer
	if info, err := f.Stat(); err == nil && info.Mode().IsRegular() && info.Size() <= most {
		b.Grow(int(info.Size()) + bytes.MinRead) // so that it is read at once
	}
	if _, err := b.ReadFrom(io.LimitReader(f, most+1)); err != nil {
		return nil, err
	}
	if int64(b.Len()) > most {
		return nil, fmt.Errorf("%w: it has more than %s", ErrTooLarge, size(most))
	}
	return b.Bytes(), nil
}

func size(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d KiB", n>>10)
}

// WriteFile writes a file in full. It is not for files that others could be reading: see Replace.
func (r *Root) WriteFile(name string, text []byte, mode fs.FileMode) error {
	if err := r.disk.fault("create", name); err != nil {
		return err
	}
	if err := r.disk.fault("write", name); err != nil {
		_ = r.in.WriteFile(filepath.FromSlash(name), text[:len(text)/2], mode)
		return err
	}
	return r.in.WriteFile(filepath.FromSlash(name), text, mode)
}

// stagedPrefix begins the names of files that are being written, before they get the name that they are written for.
const stagedPrefix = ".knothole-new-"

// IsStaged reports whether a file is one that a run left that was stopped.
func IsStaged(name string) bool { return strings.HasPrefix(name, stagedPrefix) }

// Replace replaces the contents of a file, which must still be what they were, and keeps its mode. A link is followed,
// so that what it leads to is replaced. The caller holds the lock of the directory.
func (r *Root) Replace(name string, before, text []byte) error {
	name, err := r.follow(name)
	if err != nil {
		return err
	}
	now, err := r.ReadFile(name)
	if err != nil {
		return err
	}
	if !bytes.Equal(now, before) {
		return ErrChanged
	}
	info, err := r.Lstat(name)
	if err != nil {
		return err
	}
	return r.put(name, text, info.Mode().Perm(), putting{safe: true, exactly: true})
}

// Create writes a file that is not there yet, or holds nothing, or has these contents already: then a run that was
// stopped has made it. The directories on the way are made. The mask of the user holds for the mode.
func (r *Root) Create(name string, text []byte, mode fs.FileMode) error {
	if info, err := r.Lstat(name); err == nil {
		now, err := r.ReadFile(name)
		switch {
		case err != nil || !info.Mode().IsRegular() || len(now) > 0 && !bytes.Equal(now, text):
			return errors.New("there is a file already")
		case len(now) > 0:
			return nil
		}
	}
	if err := r.MkdirAll(path.Dir(name), 0o755); err != nil {
		return err
	}
	return r.put(name, text, mode, putting{safe: true})
}

// Keep writes a file that may be lost when the machine loses power, whole or not at all, over one that is there.
func (r *Root) Keep(name string, text []byte, mode fs.FileMode) error {
	return r.put(name, text, mode, putting{exactly: true})
}

// putting says how a file is put in place: whether it is synced before it gets its name, and whether its mode ignores
// the umask.
type putting struct{ safe, exactly bool }

// put writes a file beside its place, whole, before it takes its name. What runs left that were stopped is removed.
func (r *Root) put(name string, text []byte, mode fs.FileMode, how putting) error {
	folder := path.Dir(name)
	if entries, err := fs.ReadDir(r.in.FS(), folder); err == nil {
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), stagedPrefix) && e.Type().IsRegular() {
				_ = r.Remove(path.Join(folder, e.Name())) // nobody else writes here while the lock is held
			}
		}
	}
	staged := path.Join(folder, stagedPrefix+path.Base(name))
	if err := r.disk.fault("create", staged); err != nil {
		return err
	}
	f, err := r.in.OpenFile(filepath.FromSlash(staged), os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	if err = r.disk.fault("write", staged); err != nil {
		text = text[:len(text)/2]
	}
	if _, err2 := f.Write(text); err == nil {
		err = err2
	}
	if err == nil && how.exactly {
		err = f.Chmod(mode)
	}
	if err == nil && how.safe {
		if err = r.disk.fault("sync", staged); err == nil && r.disk == nil {
			err = f.Sync()
		}
	}
	if err2 := f.Close(); err == nil {
		err = err2
	}
	if err == nil {
		err = r.Rename(staged, name)
	}
	if err != nil {
		_ = r.Remove(staged)
		return err
	}
	if !how.safe {
		return nil
	}
	return r.syncFolder(folder)
}

// Touch says that a file was used now.
func (r *Root) Touch(name string) error {
	now := time.Now()
	return r.in.Chtimes(filepath.FromSlash(name), now, now)
}

// syncFolder keeps the names in a directory on the disk. Where directories cannot be synced, names are as safe as the
// file system makes them.
func (r *Root) syncFolder(name string) error {
	if r.disk != nil {
		return nil
	}
	f, err := r.in.Open(filepath.FromSlash(name))
	if err != nil {
		return err
	}
	_ = f.Sync()
	return f.Close()
}

// maxLinks is how many links may lead from one to the next.
const maxLinks = 40

// follow returns what a name leads to, links in the last part followed.
func (r *Root) follow(name string) (string, error) {
	for range maxLinks {
		info, err := r.Lstat(name)
		if err != nil {
			return "", err
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			return name, nil
		}
		to, err := r.in.Readlink(filepath.FromSlash(name))
		if err != nil {
			return "", err
		}
		if to = filepath.ToSlash(to); path.IsAbs(to) {
			return "", errLeadsOut
		}
		if name = path.Join(path.Dir(name), to); !filepath.IsLocal(filepath.FromSlash(name)) {
			return "", errLeadsOut
		}
	}
	return "", errors.New("links lead in a cycle")
}

// FS returns the directory as a file system of plain files and directories.
func (r *Root) FS() fs.FS { return files{r} }

type files struct{ root *Root }

// Open opens a plain file or a directory.
func (f files) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	opened, err := f.root.in.OpenFile(filepath.FromSlash(name), os.O_RDONLY|dontWait, 0)
	if err != nil {
		return nil, outward(name, err)
	}
	if info, err := opened.Stat(); err == nil && info.IsDir() {
		return opened, nil
	}
	plain, err := plain(opened)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return plain, nil
}

// ReadFile reads a plain file.
func (f files) ReadFile(name string) ([]byte, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	text, err := f.root.ReadFile(name)
	if errors.Is(err, ErrNotPlain) {
		err = &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return text, outward(name, err)
}

// outward returns an error of a name as who reads the files knows it when a link leads out of them.
func outward(name string, err error) error {
	if err != nil && errors.Is(Plain(err), errLeadsOut) {
		return &fs.PathError{Op: "open", Path: name, Err: source.ErrLeadsOut}
	}
	return err
}

// Lstat describes what a name stands for, a link too.
func (f files) Lstat(name string) (fs.FileInfo, error) { return f.root.Lstat(name) }

// ReadLink returns where a link leads.
func (f files) ReadLink(name string) (string, error) {
	to, err := f.root.in.Readlink(filepath.FromSlash(name))
	return filepath.ToSlash(to), err
}

// ReadDir lists a directory.
func (f files) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(f.root.in.FS(), name) }

// Stat describes what a name leads to.
func (f files) Stat(name string) (fs.FileInfo, error) { return fs.Stat(f.root.in.FS(), name) }

// leadsOut is how an os.Root says that a link leads out of it.
const leadsOut = "path escapes from parent"

var errLeadsOut = errors.New("a link leads out of the directory, and is not followed")

// Plain takes the operation and the path off an error of the file system, which the caller names better.
func Plain(err error) error {
	var pathError *fs.PathError
	var linkError *os.LinkError
	for { // one may hold another
		if errors.As(err, &pathError) {
			err = pathError.Err
		} else if errors.As(err, &linkError) {
			err = linkError.Err
		} else {
			break
		}
	}
	if err != nil && err.Error() == leadsOut {
		return errLeadsOut
	}
	return err
}

// Failure says what could not be done, and where.
type Failure struct {
	Path string
	Err  error
}

// Error names the place.
func (f *Failure) Error() string { return f.Path + ": " + f.Err.Error() }

// Unwrap returns what went wrong.
func (f *Failure) Unwrap() error { return f.Err }

// Failed is the failure at a place.
func Failed(name string, err error) error { return &Failure{name, Plain(err)} }
