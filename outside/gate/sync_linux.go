package gate

import "golang.org/x/sys/unix"

// Sync keeps all that was written to the file system of the folder on the disk.
func (r *Root) Sync() error {
	if err := fault("sync", "."); err != nil || injected {
		return err
	}
	f, err := r.in.Open(".")
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
