package gate

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/windows"
)

// lockName is the file that a run keeps open in a directory to lock it, for all users and all spellings of its path.
// The system removes it when the run ends.
const lockName = ".knothole-lock"

// lockPause is the time between retries.
const lockPause = 50 * time.Millisecond

// mostDenied is the number of retries after access was denied.
const mostDenied = 20

// Lock locks a directory for writing, and creates it with a mode if it does not exist. Waiting is called once if
// another run has the lock. unlock releases it, and removes the directory if it is empty.
func Lock(directory string, mode os.FileMode, waiting func()) (unlock func(), err error) {
	name, err := windows.UTF16PtrFromString(filepath.Join(directory, lockName))
	if err != nil {
		return nil, Failed(directory, err)
	}
	denied := 0
	for {
		if err := os.MkdirAll(directory, mode); err != nil {
			return nil, Failed(directory, err)
		}
		file, err := windows.CreateFile(name, windows.GENERIC_READ|windows.GENERIC_WRITE, 0, nil, windows.CREATE_ALWAYS,
			windows.FILE_ATTRIBUTE_HIDDEN|windows.FILE_FLAG_DELETE_ON_CLOSE, 0)
		switch {
		case err == nil:
			return func() {
				_ = windows.CloseHandle(file)
				_ = os.Remove(directory) // when it is empty
			}, nil
		case errors.Is(err, windows.ERROR_PATH_NOT_FOUND): // the run before has removed the directory
		case errors.Is(err, windows.ERROR_ACCESS_DENIED) && denied < mostDenied:
			denied++ // a file that is about to be removed cannot be opened either
			time.Sleep(lockPause)
		case errors.Is(err, windows.ERROR_SHARING_VIOLATION), errors.Is(err, windows.ERROR_DELETE_PENDING):
			if waiting != nil {
				waiting()
				waiting = nil
			}
			time.Sleep(lockPause)
		default:
			return nil, Failed(directory, fmt.Errorf("it cannot be locked: %w", Plain(err)))
		}
	}
}
