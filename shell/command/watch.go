package command

import (
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"knothole/outside/gate"

	"github.com/fsnotify/fsnotify"
)

// settleTime is how long files must be left alone after a change: editors and git write several.
const settleTime = 150 * time.Millisecond

// watch runs something, and again whenever a file of the project changes, until it is interrupted.
func (c *call) watch(run func() int) int {
	folder, ok := c.projectFolder()
	if !ok {
		return run() // which says what is wrong
	}
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return c.failed("changes cannot be watched here: %s", err)
	}
	defer watcher.Close()
	c.writing.Store(true) // an interrupt ends the watch
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt)
	defer signal.Stop(interrupted)
	var outs []string
	if p, _ := c.open(); p != nil {
		outs = []string{filepath.Join(folder, filepath.FromSlash(p.Out)),
			filepath.Join(folder, filepath.FromSlash(p.SecretOut))}
	}
	for {
		if err := watchFolders(watcher, folder, outs); err != nil {
			return c.failed("changes cannot be watched here: %s", err)
		}
		status := run()
		if !c.quiet {
			fmt.Fprintln(c.err, "waiting for changes; stop with Ctrl-C")
		}
		if !waitForChange(watcher, interrupted, outs) {
			return status
		}
	}
}

// watchFolders watches the directories of the project in which sources can stand: not those that are rendered to.
func watchFolders(watcher *fsnotify.Watcher, folder string, outs []string) error {
	return gate.Walk(folder, func(name string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() {
			return nil
		}
		if slices.Contains(outs, name) {
			return filepath.SkipDir
		}
		if name != folder && strings.HasPrefix(entry.Name(), ".") {
			return filepath.SkipDir
		}
		return watcher.Add(name)
	})
}

// waitForChange returns when something has changed and then stayed as it is; false when it is interrupted.
func waitForChange(watcher *fsnotify.Watcher, interrupted chan os.Signal, outs []string) bool {
	var settled <-chan time.Time
	for {
		select {
		case e, ok := <-watcher.Events:
			if !ok {
				return false
			}
			if name := filepath.Base(e.Name); !slices.Contains(outs, e.Name) && e.Op != fsnotify.Chmod &&
				!strings.HasPrefix(name, ".") && !strings.HasSuffix(name, "~") {
				settled = time.After(settleTime)
			}
		case <-settled:
			return true
		case _, ok := <-watcher.Errors: // more happened than was noted, so that something may have changed
			if !ok {
				return false
			}
			settled = time.After(settleTime)
		case <-interrupted:
			return false
		}
	}
}
