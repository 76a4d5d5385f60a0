package gate

import "golang.org/x/sys/unix"

// Sync keeps the files of a directory on the disk, with all else that was written to its file system.
func (r *Root) Sync(folder string) error {
	if err := r.disk.fault("sync", "."); err != nil || r.disk != nil {
		return err
	}
	f, err := r.in.Open(folder)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
