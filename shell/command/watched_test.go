package command

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/require"
)

// TestWatchedFolders checks that what is rendered is not watched: each run would else be the cause of the next.
func TestWatchedFolders(t *testing.T) {
	project := t.TempDir()
	for _, name := range []string{"lib/deep", "rendered/north/k8s", "secret/north", ".git/hooks"} {
		require.NoError(t, os.MkdirAll(filepath.Join(project, name), 0o755))
	}
	watcher, err := fsnotify.NewWatcher()
	require.NoError(t, err)
	defer watcher.Close()
	outs := []string{filepath.Join(project, "rendered"), filepath.Join(project, "secret")}
	require.NoError(t, watchFolders(watcher, project, outs))
	require.ElementsMatch(t,
		[]string{project, filepath.Join(project, "lib"), filepath.Join(project, "lib", "deep")}, watcher.WatchList())
}

// TestChangesThatCount checks that what the program itself makes in a directory that is watched is no change, and that
// a source is.
func TestChangesThatCount(t *testing.T) {
	project := t.TempDir()
	outs := []string{filepath.Join(project, "rendered")}
	watcher, err := fsnotify.NewWatcher()
	require.NoError(t, err)
	defer watcher.Close()
	require.NoError(t, watchFolders(watcher, project, outs))
	changed, interrupted := make(chan bool, 1), make(chan os.Signal, 1)
	go func() { changed <- waitForChange(watcher, interrupted, outs) }()
	require.NoError(t, os.Mkdir(outs[0], 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(project, ".main.knot.swp"), nil, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(project, "main.knot~"), nil, 0o644))
	select {
	case <-changed:
		t.Fatal("no source has changed")
	case <-time.After(3 * settleTime):
	}
	require.NoError(t, os.WriteFile(filepath.Join(project, "main.knot"), nil, 0o644))
	require.True(t, <-changed)
	go func() { changed <- waitForChange(watcher, interrupted, outs) }()
	interrupted <- os.Interrupt
	require.False(t, <-changed)
}
