package gate

import (
	"io/fs"
	"path"
	"sync"

	"golang.org/x/text/unicode/norm"

	"knothole/core/source"
)

// Spelled returns the directory as a file system in which files have only their exact names, also where the operating
// system ignores case: a project that is read on one system is then the same on all.
func (r *Root) Spelled() fs.FS {
	return &spelled{files: files{r}, folders: map[string]map[string]bool{}}
}

type spelled struct {
	files
	mutex   sync.Mutex
	folders map[string]map[string]bool // the names in directories that ignore case; nil for others
}

// Open opens a plain file or a directory.
func (s *spelled) Open(name string) (fs.File, error) {
	if err := s.check("open", name); err != nil {
		return nil, err
	}
	return s.files.Open(name)
}

// ReadFile reads a plain file.
func (s *spelled) ReadFile(name string) ([]byte, error) {
	if err := s.check("open", name); err != nil {
		return nil, err
	}
	return s.files.ReadFile(name)
}

// Lstat describes a file, or a link itself.
func (s *spelled) Lstat(name string) (fs.FileInfo, error) {
	if err := s.check("lstat", name); err != nil {
		return nil, err
	}
	return s.files.Lstat(name)
}

// Stat describes a file, or the target of a link.
func (s *spelled) Stat(name string) (fs.FileInfo, error) {
	if err := s.check("stat", name); err != nil {
		return nil, err
	}
	return s.files.Stat(name)
}

// ReadDir lists a directory.
func (s *spelled) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := s.check("open", name); err != nil {
		return nil, err
	}
	return s.files.ReadDir(name)
}

// check returns an error if a part of a path has another spelling in its directory.
func (s *spelled) check(operation, name string) error {
	if !fs.ValidPath(name) {
		return nil // which the file system reports
	}
	for at := name; at != "."; at = path.Dir(at) {
		if !s.has(path.Dir(at), path.Base(at)) {
			return &fs.PathError{Op: operation, Path: name, Err: fs.ErrNotExist}
		}
	}
	return nil
}

// has reports whether a directory has a file with exactly this name, or distinguishes case itself.
func (s *spelled) has(folder, name string) bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	names, known := s.folders[folder]
	if known && (names == nil || names[norm.NFC.String(name)]) {
		return true
	}
	other := source.SwapCase(name)
	if other == name {
		return true
	}
	if _, err := s.files.Lstat(path.Join(folder, other)); err != nil {
		if _, err := s.files.Lstat(path.Join(folder, name)); err == nil {
			s.folders[folder] = nil
		}
		return true // or the file is missing
	}
	entries, err := s.files.ReadDir(folder)
	if err != nil {
		return true // which the file system reports
	}
	names = map[string]bool{}
	for _, e := range entries {
		names[norm.NFC.String(e.Name())] = true // some file systems decompose names
	}
	s.folders[folder] = names
	return names[norm.NFC.String(name)]
}
