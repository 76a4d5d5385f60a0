package folder_test

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/outside/caseless"
	"knothole/outside/folder"
	"knothole/outside/gate"
)

// spellings are paths of which some differ in case only; those of one row are the same for such a file system.
var spellings = [][]string{
	{"m.yaml", "M.yaml", "M.YAML"}, {"b/y.yaml", "B/y.yaml", "b/Y.yaml", "B/Y.yaml"}, {"d/e/f", "D/e/f", "d/E/F"},
	{"same"}, {"été.yaml", "ÉTÉ.yaml"},
}

// recasings renders random documents, most of them again with names that differ in case, and checks that what is there
// then is exactly that, with these names; when a run was stopped before, a directory may keep its spelling.
func recasings(t *testing.T, base string, seed uint64, secret bool) {
	t.Helper()
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	random := rand.New(rand.NewPCG(seed, 26))
	d := filepath.Join(base, "rendered", "north")
	require.NoError(t, os.RemoveAll(filepath.Join(base, "rendered")))
	require.NoError(t, os.MkdirAll(d, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(d, "mine"), []byte("mine"), 0o644))
	options := func() folder.Options {
		if secret {
			return remembered(t, d)
		}
		return folder.Options{}
	}
	spelt := func(files map[string]string) map[string]string { return files }
	for range 6 {
		want, files := map[string]string{"mine": "mine"}, []folder.File(nil)
		for _, row := range spellings {
			if random.IntN(5) > 0 {
				name, text := row[random.IntN(len(row))], []string{"1", "2"}[random.IntN(2)]
				want[name] = text
				files = append(files, file(name, text))
			}
		}
		if random.IntN(6) == 0 { // a run that is stopped somewhere, as by a full disk
			left := random.IntN(20)
			stopped := options()
			stopped.Disk = &gate.Disk{Fault: func(operation, name string) error {
				if left--; left < 0 {
					return errors.New("stopped")
				}
				return nil
			}}
			_, _ = write(t, d, stopped, files...)
			spelt = func(files map[string]string) map[string]string {
				folded := map[string]string{}
				for name, text := range files {
					folded[source.FoldName(name)] = text
				}
				return folded
			}
		}
		_, err := write(t, d, options(), files...)
		require.NoError(t, err, "seed %d", seed)
		require.Equal(t, spelt(want), spelt(tree(t, d)), "seed %d", seed)
	}
}

func TestRecasedOnAnyFileSystem(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for seed := range uint64(60) {
		recasings(t, t.TempDir(), seed, seed%3 == 0)
	}
}

// TestRecased checks that a document whose name changes in case only is renamed and never lost.
func TestRecased(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	base := caseless.Mount(t)
	seeds := uint64(4)
	if os.Getenv("KNOTHOLE_LONG") != "" {
		seeds = 100
	}
	for seed := range seeds {
		recasings(t, base, seed, seed%3 == 0)
	}
	// The directory of an environment is found under either name; whether it gets the new one is the file system's.
	_, err := write(t, filepath.Join(base, "out", "north"), folder.Options{}, file("a", "1"))
	require.NoError(t, err)
	require.Empty(t, folder.Orphans(filepath.Join(base, "out"), []string{"North"}, nil))
	_, err = write(t, filepath.Join(base, "out", "North"), folder.Options{}, file("a", "2"), file("b", "1"))
	require.NoError(t, err)
	entries, err := os.ReadDir(filepath.Join(base, "out"))
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.Equal(t, "north", source.FoldName(entries[0].Name()))
	require.Equal(t, map[string]string{"a": "2", "b": "1"}, tree(t, filepath.Join(base, "out", entries[0].Name())))
}
