//go:build unix

package gate_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/gate"
)

// TestModesOfSources checks that a file that is replaced keeps its mode, whatever the mask of the user says, and that a
// new one has what the mask leaves.
func TestModesOfSources(t *testing.T) {
	old := syscall.Umask(0o077)
	defer syscall.Umask(old)
	folder := t.TempDir()
	root, err := gate.OpenRoot(folder)
	require.NoError(t, err)
	defer root.Close()
	mode := func(name string) os.FileMode {
		info, err := os.Stat(filepath.Join(folder, name))
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	require.NoError(t, root.Create("new", []byte("1"), 0o644))
	require.Equal(t, os.FileMode(0o600), mode("new"))
	require.NoError(t, os.Chmod(filepath.Join(folder, "new"), 0o664))
	require.NoError(t, root.Replace("new", []byte("1"), []byte("2")))
	require.Equal(t, os.FileMode(0o664), mode("new"))
	require.NoError(t, root.Keep("kept", []byte("1"), 0o640))
	require.Equal(t, os.FileMode(0o640), mode("kept"))
}
