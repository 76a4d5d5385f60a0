package command

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var fmtCommand = &command{
	name: "fmt", arguments: "[PATH…] [--check | --diff]",
	short: "format .knot files in place",
	long: `Puts .knot files into the one canonical form: those that are named, those in the directories that are named,
or all of the project. Line breaks stay where they are; indentation, spaces, commas at the ends of lines and empty
lines are given. A file with errors is left alone.

--check lists what is not in the canonical form, --diff shows it; both write nothing, and end with 1 when there is
any.`,
	example: "knothole fmt --diff main.knot",
	define: func(flags *flag.FlagSet) func(c *call) int {
		check := flags.Bool("check", false, "list the files that are not in the canonical form, and write nothing")
		diff := flags.Bool("diff", false, "show what would change, and write nothing")
		format := new(string)
		choose(flags, format, "format", "output `FORMAT` of the files that are, or would be, changed", "text", "json")
		return func(c *call) int {
			if *format == "json" && *diff {
				return c.wrongUsage("--diff shows lines for people: leave it or --format json out")
			}
			return runFmt(c, *check, *diff, *format)
		}
	},
}

// formattedJSON is the form of the files that are not in their canonical form, version 1.
type formattedJSON struct {
	Version int      `json:"version"`
	Files   []string `json:"files"` // changed, or with --check to be changed
}

func runFmt(c *call, check, diff bool, format string) int {
	files, status := c.sources(c.arguments)
	if files == nil && status != exitClean {
		return status
	}
	changed, paths := 0, []string{}
	for _, name := range files {
		text, err := gate.ReadFile(name)
		if err != nil {
			return c.failed("%s: %s", c.relative(name), plainError(err))
		}
		set := source.NewSet()
		file, err := set.Add(c.relative(name), text)
		if err != nil {
			return c.failed("%s: %s", c.relative(name), err)
		}
		formatted, findings := syntax.Format(file)
		if len(findings) > 0 {
			presenter := &present.Presenter{Out: c.err, Sources: set, Color: c.errColor, Width: c.width}
			presenter.Findings(findings)
			fmt.Fprintf(c.err, "\n%s was left alone\n", c.relative(name))
			status = exitFindings
			continue
		}
		if formatted == string(text) {
			continue
		}
		changed++
		paths = append(paths, file.Path)
		switch {
		case diff:
			fmt.Fprint(c.out, unified(file.Path, file.Path+" (formatted)", text, []byte(formatted)))
		case check:
			if format == "text" {
				fmt.Fprintln(c.out, file.Path)
			}
		default:
			if err := c.rewrite(name, text, []byte(formatted)); err != nil {
				return c.failed("%s: %s", file.Path, plainError(err))
			}
			if format == "text" {
				fmt.Fprintln(c.out, file.Path)
			}
		}
	}
	if format == "json" {
		if err := present.JSON(c.data, formattedJSON{1, paths}); err != nil {
			return c.failed("%s", err)
		}
	}
	if (check || diff) && changed > 0 {
		return exitFindings
	}
	return status
}

// rewrite replaces a source that a person named, wherever it is, unless it was changed since it was read.
func (c *call) rewrite(name string, before, text []byte) error {
	if folder, ok := c.projectFolder(); ok && !gate.Within(folder, name) {
		if relative, err := filepath.Rel(folder, name); err == nil && filepath.IsLocal(relative) {
			return errors.New("a link leads out of the project, and is not followed")
		}
	}
	if real, err := gate.Real(name); err == nil {
		name = real
	}
	root, err := c.disk.OpenRoot(filepath.Dir(name))
	if err != nil {
		return err
	}
	defer root.Close()
	unlock, err := gate.Lock(filepath.Dir(name), 0o755, nil)
	if err != nil {
		return err
	}
	defer unlock()
	return root.Replace(filepath.Base(name), before, text)
}

// sources returns the .knot files that the arguments name, sorted; without arguments those of the project. Directories
// whose name begins with a point are passed over.
func (c *call) sources(arguments []string) (files []string, status int) {
	if len(arguments) == 0 {
		root := c.project
		if root == "" {
			found, ok := upwards(c.folder)
			if !ok {
				return nil, c.failed("there is no project here\n  name the files or directories to format")
			}
			root = found
		}
		arguments = []string{root}
	}
	for _, argument := range arguments {
		name := argument
		if !filepath.IsAbs(name) {
			name = filepath.Join(c.folder, name)
		}
		exists, isFolder, err := gate.Exists(name)
		if err == nil && !exists {
			err = gate.ErrNotThere
		}
		if err != nil {
			return nil, c.failed("%s: %s", argument, plainError(err))
		}
		if !isFolder {
			if !strings.HasSuffix(name, ".knot") {
				return nil, c.failed("%s is not a .knot file", argument)
			}
			files = append(files, name)
			continue
		}
		err = gate.Walk(name, func(at string, entry fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case entry.IsDir() && at != name && strings.HasPrefix(entry.Name(), "."):
				return fs.SkipDir
			case entry.Type().IsRegular() && strings.HasSuffix(at, ".knot") && !gate.IsStaged(entry.Name()):
				files = append(files, at)
			}
			return nil
		})
		if err != nil && !errors.Is(err, fs.SkipDir) {
			return nil, c.failed("%s: %s", argument, plainError(err))
		}
	}
	slices.Sort(files)
	return slices.Compact(files), exitClean
}
