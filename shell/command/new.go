package command

import (
	"flag"
	"fmt"
	"path/filepath"

	"knothole/demo"
)

var newCommand = &command{
	name: "new", arguments: "DIR",
	short: "a small project that checks and renders",
	long: `Writes a small project into the folder DIR, which must be empty or not there yet: a project file with two
environments, a template with two inputs, and a layer of values for each environment.`,
	example: "knothole new harbour-clock",
	define: func(*flag.FlagSet) func(c *call) int {
		return runNew
	},
}

func runNew(c *call) int {
	if len(c.arguments) != 1 {
		return c.wrongUsage("name the folder of the new project")
	}
	folder := c.arguments[0]
	if !filepath.IsAbs(folder) {
		folder = filepath.Join(c.folder, folder)
	}
	if err := demo.CheckEmpty(folder); err != nil {
		return c.failed("%s: name another folder, nothing was written", plainError(err))
	}
	if err := demo.WriteNew(folder); err != nil {
		return c.failed("%s", err)
	}
	fmt.Fprintf(c.out, "A project is in %s. Next:\n\n  cd %s\n  knothole check\n  knothole render\n  knothole diff bench live\n", c.arguments[0], c.arguments[0])
	return exitClean
}
