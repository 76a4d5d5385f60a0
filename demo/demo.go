// Package demo holds the demo project, the mistakes that it makes on purpose, and the project that `knothole new`
// begins with.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"knothole/outside/gate"
)

//go:embed all:project mistakes all:new
var files embed.FS

// Mistakes are the folders of copies of the project in which one thing is wrong, in the order in which they are shown.
var Mistakes = []string{"misspelt-input", "zero-replicas", "forgotten-environment", "vendor-renamed",
	"secret-exposed", "unknown-field", "broken-standards", "edited-rendering"}

// Write writes the demo project into an empty folder, and below it, in `mistakes`, a copy for each mistake.
func Write(folder string) error {
	if err := copyTree("project", folder); err != nil {
		return err
	}
	for _, name := range Mistakes {
		to := filepath.Join(folder, "mistakes", name)
		if err := copyTree("project", to); err != nil {
			return err
		}
		if _, err := fs.Stat(files, path.Join("mistakes", name)); err != nil {
			continue // it is made while it is shown
		}
		if err := copyTree(path.Join("mistakes", name), to); err != nil {
			return err
		}
	}
	return nil
}

// WriteNew writes a small project into a folder, which need not be there. It must be empty, but for what a run left
// that was stopped.
func WriteNew(folder string) error {
	if err := gate.MakeFolder(folder, 0o755); err != nil {
		return err
	}
	root, err := gate.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	var names []string
	err = fs.WalkDir(files, "new", func(name string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() {
			names = append(names, strings.TrimPrefix(name, "new/"))
		}
		return err
	})
	if err != nil {
		return err
	}
	err = fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && !slices.Contains(names, name) && !gate.IsStaged(entry.Name()) {
			return fmt.Errorf("%s is not empty", folder)
		}
		return err
	})
	if err != nil {
		return err
	}
	// The project file comes last: without it there is no project yet.
	slices.SortStableFunc(names, func(a, b string) int {
		last := func(name string) int { return strings.Count(name, "knothole.toml") }
		return last(a) - last(b)
	})
	for _, name := range names {
		text, err := files.ReadFile(path.Join("new", name))
		if err != nil {
			return err
		}
		if err := root.Create(name, text, 0o644); err != nil {
			return fmt.Errorf("%s is not empty: %s: %w", folder, name, err)
		}
	}
	return nil
}

// CheckEmpty returns an error when a folder holds anything; it need not exist.
func CheckEmpty(folder string) error {
	exists, _, err := gate.Exists(folder)
	if err != nil || !exists {
		return err
	}
	root, err := gate.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	entries, err := fs.ReadDir(root.FS(), ".")
	if err == nil && len(entries) > 0 {
		err = fmt.Errorf("%s is not empty", folder)
	}
	return err
}

func copyTree(from, to string) error {
	if err := gate.MakeFolder(to, 0o755); err != nil {
		return err
	}
	root, err := gate.OpenRoot(to)
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(files, from, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		relative := strings.TrimPrefix(strings.TrimPrefix(name, from), "/")
		switch {
		case relative == "":
			return nil
		case entry.IsDir():
			return root.MkdirAll(relative, 0o755)
		}
		text, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return root.WriteFile(relative, text, 0o644)
	})
}
