//go:build unix

package gate

import (
	"errors"
	"fmt"
	"os"
	"syscall"
)

// Lock makes other runs wait that write into a directory; it makes the directory, with a mode, when it is not there.
// Waiting is called once when another run has it. unlock gives it back, and removes the directory when it is empty.
func Lock(directory string, mode os.FileMode, waiting func()) (unlock func(), err error) {
	for {
		if err := os.MkdirAll(directory, mode); err != nil {
			return nil, Failed(directory, err)
		}
		f, err := os.Open(directory)
		if err != nil {
			return nil, Failed(directory, err)
		}
		err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB)
		if errors.Is(err, syscall.EWOULDBLOCK) {
			if waiting != nil {
				waiting()
				waiting = nil
			}
			err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX)
			for errors.Is(err, syscall.EINTR) {
				err = syscall.Flock(int(f.Fd()), syscall.LOCK_EX)
			}
		}
		if err != nil {
			f.Close()
			return nil, Failed(directory, fmt.Errorf("it cannot be locked: %w", Plain(err)))
		}
		// The run before may have removed the directory while this one waited for it.
		mine, err1 := f.Stat()
		now, err2 := os.Stat(directory)
		if err1 == nil && err2 == nil && os.SameFile(mine, now) {
			return func() {
				_ = os.Remove(directory) // when it is empty
				f.Close()
			}, nil
		}
		f.Close()
	}
}
