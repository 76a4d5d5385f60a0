// Package demo holds the demo project, the mistakes that it makes on purpose, and the project that `knothole new`
// begins with.
package demo

import (
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
)

//go:embed all:project mistakes all:new
var files embed.FS

// Mistakes are the folders of copies of the project in which one thing is wrong, in the order in which they are shown.
var Mistakes = []string{"misspelt-input", "zero-replicas", "forgotten-environment", "vendor-renamed",
	"secret-exposed", "edited-rendering"}

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

// WriteNew writes a small project into an empty folder.
func WriteNew(folder string) error { return copyTree("new", folder) }

// CheckEmpty returns an error when a folder holds anything; it need not exist.
func CheckEmpty(folder string) error {
	entries, err := os.ReadDir(folder)
	if os.IsNotExist(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if len(entries) > 0 {
		return fmt.Errorf("%s is not empty", folder)
	}
	return nil
}

func copyTree(from, to string) error {
	return fs.WalkDir(files, from, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		relative, err := filepath.Rel(from, name)
		if err != nil {
			return err
		}
		target := filepath.Join(to, relative)
		if entry.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		text, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		return os.WriteFile(target, text, 0o644)
	})
}
