package folder

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/gate"
)

// faulty returns a disk on which one change fails. When it is killed, all that come after it fail too, as nothing is
// done any more by a program that is killed.
func faulty(left *int, killed bool) *gate.Disk {
	return &gate.Disk{Fault: func(string, string) error {
		*left--
		if *left == 0 || killed && *left < 0 {
			return syscall.ENOSPC
		}
		return nil
	}}
}

func contents(t *testing.T, directory string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(directory, func(name string, entry os.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := os.ReadFile(name)
		relative, _ := filepath.Rel(directory, name)
		files[filepath.ToSlash(relative)] = string(text)
		return err
	}))
	return files
}

func render(base string, files []File, options Options) error {
	p, err := Prepare(base, "north", files, options)
	if err != nil {
		return err
	}
	if err := p.Stage(); err != nil {
		return err
	}
	if err := p.Sync(); err != nil {
		return err
	}
	return p.Commit(nil)
}

// TestEveryFault lets each operation of a run fail, once as an error and once as the end of the program, and holds
// that the directory has the old documents or the new ones: at once when the run says that nothing was written, after
// the next run at the latest otherwise.
func TestEveryFault(t *testing.T) {
	before := []File{{Path: "a.yaml", Data: []byte("old a")}, {Path: "k8s/b.yaml", Data: []byte("old b")},
		{Path: "k8s/c.yaml", Data: []byte("old c")}, {Path: "gone/d.yaml", Data: []byte("old d")},
		{Path: "same", Data: []byte("same")}}
	after := []File{{Path: "a.yaml", Data: []byte("new a, which is longer")},
		{Path: "k8s/b.yaml", Data: []byte("new b")}, {Path: "k8s/c.yaml", Data: []byte("new c")},
		{Path: "gone", Data: []byte("a file now")}, {Path: "new/e/f.yaml", Data: []byte("new f")},
		{Path: "same", Data: []byte("same")}}
	want := func(files []File) map[string]string {
		base := t.TempDir()
		require.NoError(t, render(base, files, Options{}))
		return contents(t, base)
	}
	old, now := want(before), want(after)
	faults := 0
	for _, killed := range []bool{false, true} {
		for n := 1; ; n++ {
			base := t.TempDir()
			require.NoError(t, render(base, before, Options{}))
			left := n
			err := render(base, after, Options{Disk: faulty(&left, killed)})
			if left > 0 { // it came to its end before
				require.NoError(t, err)
				require.Equal(t, now, contents(t, base))
				break
			}
			faults++
			if err != nil && !strings.Contains(err.Error(), "the next run finishes") && !killed {
				require.Equal(t, old, contents(t, base), "operation %d failed: nothing was written", n)
			}
			// The next run, which finds the project as it was before: what is there then is whole.
			p, err := Prepare(base, "north", before, Options{})
			require.NoError(t, err, "after operation %d", n)
			whole := contents(t, base)
			if whole["north/a.yaml"] == "old a" {
				require.Equal(t, old, whole, "operation %d", n)
			} else {
				require.Equal(t, now, whole, "operation %d", n)
			}
			require.NoError(t, p.Stage())
			require.NoError(t, p.Sync())
			require.NoError(t, p.Commit(nil))
			require.Equal(t, old, contents(t, base))
		}
	}
	require.Greater(t, faults, 30)
}

// TestEditBetweenRuns checks that what a person changed after a run was killed is not lost when the next finishes its
// work.
func TestEditBetweenRuns(t *testing.T) {
	base := t.TempDir()
	require.NoError(t, render(base, []File{{Path: "a", Data: []byte("old")}, {Path: "b", Data: []byte("old")}},
		Options{}))
	p, err := Prepare(base, "north", []File{{Path: "a", Data: []byte("new")}, {Path: "b", Data: []byte("new")}},
		Options{})
	require.NoError(t, err)
	require.NoError(t, p.Stage())
	require.NoError(t, p.root.Rename(newJournalName, journalName)) // and here it is killed
	require.NoError(t, os.WriteFile(filepath.Join(base, "north", "a"), []byte("mine"), 0o644))
	_, err = Prepare(base, "north", []File{{Path: "a", Data: []byte("new")}, {Path: "b", Data: []byte("new")}},
		Options{})
	var refusal *Refusal
	require.ErrorAs(t, err, &refusal)
	require.Equal(t, []string{"a"}, refusal.Changed)
	require.Equal(t, "mine", contents(t, base)["north/a"])
	require.Equal(t, "new", contents(t, base)["north/b"])
}

func TestDamagedJournal(t *testing.T) {
	base := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(base, "north", stagingName), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(base, "north", journalName), []byte("what is this\n"), 0o644))
	_, err := Prepare(base, "north", nil, Options{})
	require.ErrorContains(t, err, "what a run left that was stopped cannot be finished")
}
