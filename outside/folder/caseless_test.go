package folder_test

import (
	"errors"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/outside/folder"
	"knothole/outside/gate"
)

// caseless mounts a file system that does not look at the case of names: exFAT, from a file, through FUSE. Where that
// cannot be the test is skipped, unless KNOTHOLE_CASELESS=needed says that it must be.
func caseless(t *testing.T) string {
	t.Helper()
	missing := func(why string) string {
		if os.Getenv("KNOTHOLE_CASELESS") == "needed" {
			t.Fatalf("a file system without case is needed: %s", why)
		}
		t.Skipf("no file system without case here: %s", why)
		return ""
	}
	image, at := filepath.Join(t.TempDir(), "image"), t.TempDir()
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 64<<20))
	if said, err := exec.Command("mkfs.exfat", image).CombinedOutput(); err != nil {
		return missing(string(said) + err.Error())
	}
	device, err := exec.Command("losetup", "-f", "--show", image).Output()
	if err != nil {
		return missing("losetup: " + err.Error())
	}
	loop := strings.TrimSpace(string(device))
	t.Cleanup(func() { _ = exec.Command("losetup", "-d", loop).Run() })
	if said, err := exec.Command("mount.exfat-fuse", loop, at).CombinedOutput(); err != nil {
		return missing(string(said) + err.Error())
	}
	t.Cleanup(func() { _ = exec.Command("umount", at).Run() })
	return at
}

// spellings are paths of which some differ in case only; those of one row are the same for such a file system.
var spellings = [][]string{
	{"m.yaml", "M.yaml", "M.YAML"}, {"b/y.yaml", "B/y.yaml", "b/Y.yaml", "B/Y.yaml"}, {"d/e/f", "D/e/f", "d/E/F"},
	{"same"}, {"été.yaml", "ÉTÉ.yaml"},
}

// recasings renders random documents, most of them again with names that differ in case, and holds that what is there
// then is exactly that, with these names; when a run was stopped before, a folder may keep its spelling.
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
			restore := gate.Inject(func(operation, name string) error {
				if left--; left < 0 {
					return errors.New("stopped")
				}
				return nil
			})
			_, _ = write(t, d, options(), files...)
			restore()
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
	for seed := range uint64(60) {
		recasings(t, t.TempDir(), seed, seed%3 == 0)
	}
}

// TestRecased holds that a document whose name changes in case only is renamed and never lost.
func TestRecased(t *testing.T) {
	base := caseless(t)
	seeds := uint64(4)
	if os.Getenv("KNOTHOLE_LONG") != "" {
		seeds = 100
	}
	for seed := range seeds {
		recasings(t, base, seed, seed%3 == 0)
	}
	// The folder of an environment is found under either name; whether it gets the new one is the file system's.
	_, err := write(t, filepath.Join(base, "out", "north"), folder.Options{}, file("a", "1"))
	require.NoError(t, err)
	require.Empty(t, folder.Strangers(filepath.Join(base, "out"), []string{"North"}, nil))
	_, err = write(t, filepath.Join(base, "out", "North"), folder.Options{}, file("a", "2"), file("b", "1"))
	require.NoError(t, err)
	entries, err := os.ReadDir(filepath.Join(base, "out"))
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.Equal(t, "north", source.FoldName(entries[0].Name()))
	require.Equal(t, map[string]string{"a": "2", "b": "1"}, tree(t, filepath.Join(base, "out", entries[0].Name())))
}
