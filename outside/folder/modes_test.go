//go:build unix

package folder_test

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/folder"
)

// TestModes checks that a file that is new has the mode that the mask of the user leaves, and that one that is replaced
// keeps its own.
func TestModes(t *testing.T) {
	old := syscall.Umask(0o027)
	defer syscall.Umask(old)
	d := filepath.Join(t.TempDir(), "north")
	mode := func(name string) os.FileMode {
		info, err := os.Stat(filepath.Join(d, name))
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	_, err := write(t, d, folder.Options{}, file("a", "1"), file("b", "1"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), mode("a"))
	require.NoError(t, os.Chmod(filepath.Join(d, "a"), 0o664))
	_, err = write(t, d, folder.Options{}, file("a", "2"), file("b", "2"))
	require.NoError(t, err)
	require.Equal(t, []os.FileMode{0o664, 0o640}, []os.FileMode{mode("a"), mode("b")})
	syscall.Umask(0o777)
	secret := filepath.Join(filepath.Dir(d), "secret")
	require.NoError(t, os.Mkdir(secret, 0o700))
	require.NoError(t, os.Chmod(secret, 0o700))
	_, err = write(t, filepath.Join(secret, "north"), folder.Options{Secret: true}, file("a", "1"))
	if os.Getuid() == 0 { // whom no mode stops
		require.NoError(t, err)
		info, err := os.Stat(filepath.Join(secret, "north", "a"))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	}
}
