//go:build !linux

package gate

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
)

// Sync syncs the files of a directory one by one, because this system has no call for all of them.
func (r *Root) Sync(folder string) error {
	if err := r.disk.fault("sync", "."); err != nil || r.disk != nil {
		return err
	}
	entries, err := fs.ReadDir(r.in.FS(), folder)
	if err != nil {
		return err
	}
	for _, e := range entries {
		f, err := r.in.OpenFile(filepath.FromSlash(path.Join(folder, e.Name())), os.O_RDWR, 0)
		if err != nil {
			return err
		}
		err = f.Sync()
		if err2 := f.Close(); err == nil {
			err = err2
		}
		if err != nil {
			return err
		}
	}
	return r.syncFolder(folder)
}
