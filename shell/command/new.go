package command

import (
	"errors"
	"flag"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/project"
	"knothole/demo"
)

var newCommand = &command{
	name: "new", arguments: "DIR | --environment NAME --like ENV",
	short: "write a small project to begin with, or add an environment",
	long: `Writes a small project into the directory DIR, which must be empty or not there yet, with the name of the directory:
a project file with two environments, a template with two inputs, and a layer of values for each environment.

With --environment it adds an environment to the project that is like another: its entry in the project file, with the
same shared layers, and a layer of its own that holds, as comments, what the other decides for itself and what has no
value at all. Those are to be decided; check says which of them must be.`,
	example: "knothole new --environment east --like north",
	define: func(flags *flag.FlagSet) func(c *call) int {
		name := flags.String("environment", "", "add the environment `NAME` to the project")
		like := flags.String("like", "", "the environment `ENV` that the new one is like")
		return func(c *call) int {
			if *name != "" || *like != "" {
				return runNewEnvironment(c, *name, *like)
			}
			return runNew(c)
		}
	},
}

func runNew(c *call) int {
	if len(c.arguments) != 1 {
		return c.wrongUsage("name the directory of the new project, or an environment with --environment NAME --like ENV")
	}
	folder := c.path(c.arguments[0])
	var there *demo.NotEmpty
	switch err := demo.WriteNew(c.disk, folder); {
	case errors.As(err, &there):
		return c.notEmpty(there)
	case err != nil:
		return c.failed("%s: name another directory, nothing was written", plainError(err))
	case c.quiet:
		return exitClean
	}
	fmt.Fprintf(c.out, "A project is in %s. Next:\n\n  cd %s\n  knothole render        # its files, for dev and live\n"+
		"  knothole diff dev live # what differs, and which line makes it so\n\n"+
		"Then change main.knot. knothole help tutorial goes on from here.\n", c.arguments[0], c.arguments[0])
	return exitClean
}

// notEmpty says what can be done with a directory in which there are files.
func (c *call) notEmpty(there *demo.NotEmpty) int {
	known := slices.Contains(there.Files, project.FileName)
	if known {
		return c.failed("%s is a project already: nothing was written\n  knothole check says what is wrong with it",
			c.relative(there.Folder))
	}
	text := c.relative(there.Folder) + " is not empty: nothing was written\n  a project needs a directory of its " +
		"own: knothole " +
		"new " + path.Join(c.arguments[0], "config")
	isYAML := func(name string) bool {
		format, ok := data.FormatOf(name)
		return ok && format == data.YAML
	}
	if slices.ContainsFunc(there.Files, isYAML) {
		text += "\n  what is there can be used without one: knothole validate " + c.arguments[0] + ", knothole " +
			"look PATH " +
			c.arguments[0] + ", knothole diff A B\n  how to make a project of it: knothole help from-yaml"
	}
	return c.failed("%s", text)
}

func runNewEnvironment(c *call, name, like string) int {
	if len(c.arguments) > 0 || name == "" || like == "" {
		return c.wrongUsage("name the new environment and one that it is like: --environment NAME --like ENV")
	}
	unlock, status := c.lockProject()
	if status != exitClean {
		return status
	}
	defer unlock()
	p, status := c.open()
	if p == nil {
		return status
	}
	runs, ok := c.environments(p, []string{like})
	if !ok {
		return exitFailed
	}
	if p.Unit().Module == nil {
		return c.stopped(p, p.Findings, "nothing was written")
	}
	entry, layerPath, layerText, err := p.NewEnvironment(name, runs[0].Environment)
	if err != nil {
		return c.failed("%s: nothing was written", err)
	}
	root, err := c.disk.OpenRoot(p.folder)
	if err != nil {
		return c.failed("%s", plainError(err))
	}
	defer root.Close()
	before, err := root.ReadFile(project.FileName)
	if err != nil {
		return c.failed("%s: %s", project.FileName, plainError(err))
	}
	projectFile, layerFile := filepath.Join(p.folder, project.FileName),
		filepath.Join(p.folder, filepath.FromSlash(layerPath))
	// The layer comes first: an entry without its layer would be an error. One that a stopped run left is the same.
	if err := root.Create(layerPath, []byte(layerText), 0o644); err != nil {
		return c.failed("%s: %s: nothing was written", c.relative(layerFile), plainError(err))
	}
	text := strings.TrimRight(string(before), "\n") + "\n\n" + entry
	if err := root.Replace(project.FileName, before, []byte(text)); err != nil {
		_ = root.Remove(layerPath)
		return c.failed("%s: %s", project.FileName, plainError(err))
	}
	fmt.Fprintf(c.out, "%s: [environments.%s] was added, like %s\ncreated %s: fill in the commented values\n\nNext: "+
		"knothole check %s\n",
		c.relative(projectFile), name, like, path.Join(p.prefix, layerPath), name)
	return exitClean
}
