//go:build !linux

package gate

// Sync does nothing: there is no call that keeps all files of a file system on the disk here.
func (r *Root) Sync() error { return nil }
