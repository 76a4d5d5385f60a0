package gate

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// ReadFile reads a plain file that a person names, wherever it is.
func ReadFile(name string) ([]byte, error) { return ReadSome(name, MaxFile) }

// ReadSome is ReadFile for a file of at most so many bytes.
func ReadSome(name string, most int64) ([]byte, error) {
	f, err := openPlain(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return bounded(f, most)
}

// ReadHead reads the first bytes of a plain file, at most so many.
func ReadHead(name string, most int64) ([]byte, error) {
	f, err := openPlain(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}

// openPlain opens a plain file to be read, and never waits for who writes into a pipe.
func openPlain(name string) (*os.File, error) {
	f, err := os.OpenFile(name, os.O_RDONLY|dontWait, 0)
	if err != nil {
		return nil, err
	}
	return plain(f)
}

// ReadGiven reads what a person names on the command line, such as the output of another program: a pipe too, for
// which it waits.
func ReadGiven(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || info.IsDir() {
		return nil, errors.Join(err, ErrNotPlain)
	}
	return bounded(f, MaxFile)
}

// IsFile reports whether a plain file is there.
func IsFile(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

// Exists reports whether anything is there, and an error when that cannot be known; a directory or not.
func Exists(name string) (exists, folder bool, err error) {
	info, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, false, nil
	}
	if err != nil {
		return false, false, err
	}
	return true, info.IsDir(), nil
}

// RemoveWith removes a file in a directory, and the directory if there is nothing else in it. It is an error when there
// is.
func RemoveWith(name, with string) error {
	if err := os.Remove(filepath.Join(name, with)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return os.Remove(name)
}

// Same reports whether two names lead to one file or directory.
func Same(a, b string) bool {
	one, err := os.Stat(a)
	if err != nil {
		return false
	}
	other, err := os.Stat(b)
	return err == nil && os.SameFile(one, other)
}

// Real returns the name of what a name leads to, without links.
func Real(name string) (string, error) { return filepath.EvalSymlinks(name) }

// Within reports whether a path that need not be there stays inside a directory, whatever links lead on the way.
func Within(folder, name string) bool {
	real, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return false
	}
	for {
		to, err := filepath.EvalSymlinks(name)
		if err == nil {
			relative, err := filepath.Rel(real, to)
			return err == nil && filepath.IsLocal(relative)
		}
		if _, err := os.Lstat(name); err == nil || name == filepath.Dir(name) {
			return false // a link that leads nowhere
		}
		name = filepath.Dir(name)
	}
}

// MakeFolder makes a directory and those that it is in.
func (d *Disk) MakeFolder(name string, mode fs.FileMode) error {
	if err := d.fault("mkdir", name); err != nil {
		return err
	}
	return os.MkdirAll(name, mode)
}

// RemoveEmpty removes a directory when it is empty.
func (d *Disk) RemoveEmpty(name string) {
	if d.fault("remove", name) == nil {
		_ = os.Remove(name)
	}
}

// Walk visits a directory and all that is in it; links are not followed.
func Walk(name string, visit fs.WalkDirFunc) error { return filepath.WalkDir(name, visit) }

// TempFolder makes a directory that nobody else has, among those that the machine has for such things; remove removes
// it with all that is in it.
func TempFolder(pattern string) (name string, remove func(), err error) {
	name, err = os.MkdirTemp("", pattern)
	return name, func() { _ = os.RemoveAll(name) }, err
}
