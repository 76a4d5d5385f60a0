package command

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/fsnotify/fsnotify"
	"github.com/stretchr/testify/require"
)

// TestWatchedFolders holds that what is rendered is not watched: each run would else be the cause of the next.
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
