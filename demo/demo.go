// Package demo holds the demo project, the errors that it makes on purpose, and the project that `knothole new`
// begins with.
package demo

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"knothole/outside/gate"
)

//go:embed all:project errors all:new
var files embed.FS

// Wrong names the directories of copies of the project in which one thing is wrong, in the order in which they are
// shown.
var Wrong = []string{"misspelt-input", "zero-replicas", "forgotten-environment", "vendor-renamed",
	"secret-exposed", "unknown-field", "broken-standards", "edited-rendering"}

// Write writes the demo project into an empty directory, and below it, in `errors`, a copy for each error.
func Write(folder string) error {
	if err := copyTree("project", folder); err != nil {
		return err
	}
	for _, name := range Wrong {
		to := filepath.Join(folder, "errors", name)
		if err := copyTree("project", to); err != nil {
			return err
		}
		if _, err := fs.Stat(files, path.Join("errors", name)); err != nil {
			continue // it is made while it is shown
		}
		if err := copyTree(path.Join("errors", name), to); err != nil {
			return err
		}
	}
	return nil
}

// placeholder is in the new project for its name.
const placeholder = "NAME"

// NotEmpty says that there is something in a directory that a project was to be written to.
type NotEmpty struct {
	Folder string
	Files  []string // what is there, as paths in it
}

// Error names the directory.
func (n *NotEmpty) Error() string { return n.Folder + " is not empty" }

// nameOf returns the name of a project in a directory: that of the directory, in the characters that a name has.
func nameOf(folder string) string {
	name := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r - 'A' + 'a'
		}
		return '-'
	}, filepath.Base(folder)), "-")
	if name == "" {
		return "service"
	}
	return name
}

// WriteNew writes a small project into a directory, which need not be there, with the name of the directory. It must be
// empty, but for hidden files such as those of git, and what a run left that was stopped.
func WriteNew(disk *gate.Disk, folder string) error {
	if err := disk.MakeFolder(folder, 0o755); err != nil {
		return err
	}
	root, err := disk.OpenRoot(folder)
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
	there := &NotEmpty{Folder: folder}
	err = fs.WalkDir(root.FS(), ".", func(name string, entry fs.DirEntry, err error) error {
		hidden := strings.HasPrefix(entry.Name(), ".") && name != "."
		switch {
		case err == nil && hidden && entry.IsDir():
			return fs.SkipDir
		case err == nil && !entry.IsDir() && !hidden && !gate.IsStaged(entry.Name()) &&
			(!slices.Contains(names, name) || name == "knothole.toml"): // which is written last
			there.Files = append(there.Files, name)
		}
		return err
	})
	if err == nil && there.Files != nil {
		err = there
	}
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
		text = bytes.ReplaceAll(text, []byte(placeholder), []byte(nameOf(folder)))
		if err := root.Create(name, text, 0o644); err != nil {
			return fmt.Errorf("%s is not empty: %s: %w", folder, name, err)
		}
	}
	return nil
}

// CheckEmpty returns an error when a directory holds anything; it need not exist.
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
	var disk *gate.Disk // of the machine
	if err := disk.MakeFolder(to, 0o755); err != nil {
		return err
	}
	root, err := disk.OpenRoot(to)
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
