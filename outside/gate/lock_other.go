//go:build !unix

package gate

import (
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"

	"github.com/rogpeppe/go-internal/lockedfile"
)

// Lock makes other runs wait that write into a folder; it makes the folder, with a mode, when it is not there.
// Folders cannot be locked here, so a file beside it is. unlock gives it back, and removes the folder when it is empty.
func Lock(directory string, mode os.FileMode, waiting func()) (unlock func(), err error) {
	if err := os.MkdirAll(directory, mode); err != nil {
		return nil, Failed(directory, err)
	}
	name := filepath.Join(os.TempDir(), "knothole-"+fmt.Sprintf("%x", sha256.Sum256([]byte(directory)))[:16])
	free, err := lockedfile.MutexAt(name).Lock()
	if err != nil {
		return nil, Failed(directory, fmt.Errorf("it cannot be locked: %w", Plain(err)))
	}
	return func() {
		_ = os.Remove(directory) // when it is empty
		free()
	}, nil
}
