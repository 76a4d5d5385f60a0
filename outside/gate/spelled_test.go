package gate_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/caseless"
	"knothole/outside/gate"
)

// TestSpelled checks that files have only their exact names, on file systems with and without case.
func TestSpelled(t *testing.T) {
	for name, folder := range map[string]func(t *testing.T) string{
		"case": func(t *testing.T) string { return t.TempDir() }, "no case": caseless.Mount,
	} {
		t.Run(name, func(t *testing.T) {
			base := filepath.Join(folder(t), "project")
			for _, path := range []string{"main.knot", "lib/Names.knot", "7", "été.yaml"} {
				require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(base, path)), 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(base, path), []byte(path), 0o644))
			}
			root, err := gate.OpenRoot(base)
			require.NoError(t, err)
			defer root.Close()
			files := root.Spelled()
			for path, exists := range map[string]bool{
				"main.knot": true, "Main.knot": false, "MAIN.KNOT": false, "lib/Names.knot": true, "lib/names.knot": false,
				"Lib/Names.knot": false, "7": true, "été.yaml": true, "Été.yaml": false, "none": false, "lib/none": false,
			} {
				text, err := fs.ReadFile(files, path)
				_, described := fs.Stat(files, path)
				if exists {
					require.NoError(t, err, path)
					require.Equal(t, path, string(text))
					require.NoError(t, described)
				} else {
					require.ErrorIs(t, err, fs.ErrNotExist, path)
					require.ErrorIs(t, described, fs.ErrNotExist, path)
				}
			}
			entries, err := fs.ReadDir(files, "lib")
			require.NoError(t, err)
			require.Len(t, entries, 1)
			_, err = fs.ReadDir(files, "LIB")
			require.ErrorIs(t, err, fs.ErrNotExist)

			require.NoError(t, os.WriteFile(filepath.Join(base, "late.knot"), nil, 0o644))
			_, err = fs.ReadFile(files, "late.knot")
			require.NoError(t, err, "a file that was made afterwards")
		})
	}
}
