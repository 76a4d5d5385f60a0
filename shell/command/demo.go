package command

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"knothole/demo"
)

var demoCommand = &command{
	name: "demo", arguments: "[DIR]",
	short: "writes the demo project and walks through it",
	long: `Writes the demo project into the folder DIR, which must be empty or not there yet, or into a temporary one, and walks
through check, render and diff on it. Then it makes four mistakes on purpose. Each command is shown before its
output; all of them can be repeated in the folder.`,
	example: "knothole demo /tmp/flood-watch",
	define: func(*flag.FlagSet) func(c *call) int {
		return runDemo
	},
}

// demoStep is one command of the walk.
type demoStep struct {
	text      string
	arguments []string
	status    int
}

func demoSteps() []demoStep {
	steps := []demoStep{
		{"The project describes five services of a flood warning system for four environments.\nFirst, is anything wrong with it?", []string{"check"}, exitClean},
		{"Render plain files for every environment.", []string{"render"}, exitClean},
		{"Again: nothing has changed, so no file is touched.", []string{"render"}, exitClean},
		{"One rendered file: how the router on the north coast sends warnings.", []string{"render", "north", "--stdout", "--only", "siren-router/*"}, exitClean},
		{"What differs between the rehearsal and the north coast? At the right of each difference stands what made it so.", []string{"diff", "rehearsal", "north"}, exitFindings},
		{"An environment does not differ from itself.", []string{"diff", "north", "north"}, exitClean},
	}
	texts := map[string]string{
		"misspelt-input":        "Now some mistakes. In this copy, an input is misspelt in the layer of the north coast.",
		"zero-replicas":         "In this one, the map runs no copy at all: the limit is on the type of the input, so the layer is to blame.",
		"vendor-renamed":        "Here the vendor of the cache renamed a container, and the patches of it match no more.",
		"forgotten-environment": "Here a template forgot the south coast. Nothing had to be rendered to find out.",
	}
	for _, name := range demo.Mistakes {
		steps = append(steps, demoStep{texts[name], []string{"check", "--project", "mistakes/" + name}, exitFindings})
	}
	return steps
}

func runDemo(c *call) int {
	if len(c.arguments) > 1 {
		return c.wrongUsage("it takes one folder")
	}
	var folder string
	if len(c.arguments) == 1 {
		folder = c.arguments[0]
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(c.folder, folder)
		}
		if err := demo.CheckEmpty(folder); err != nil {
			return c.failed("%s: name another folder, nothing was written", plainError(err))
		}
	} else {
		made, err := os.MkdirTemp("", "flood-watch-")
		if err != nil {
			return c.failed("%s", err)
		}
		folder = made
	}
	if err := demo.Write(folder); err != nil {
		return c.failed("%s", err)
	}
	inside := *c.system
	inside.err, inside.folder = c.out, folder
	fmt.Fprintf(c.out, "The demo is in %s\n", folder)
	for _, step := range demoSteps() {
		fmt.Fprintf(c.out, "\n%s\n\n$ knothole %s\n", step.text, commandLine(step.arguments))
		if status := Main(step.arguments, &inside); status != step.status {
			return c.failed("knothole %s ended with %d, not %d", commandLine(step.arguments), status, step.status)
		}
	}
	fmt.Fprintf(c.out, "\nLook around: cd %s\nRead main.knot, change a value in inputs/north.toml, and run knothole diff rehearsal north again.\n", folder)
	return exitClean
}

// commandLine joins arguments as they are typed.
func commandLine(arguments []string) string {
	quoted := make([]string, len(arguments))
	for i, a := range arguments {
		quoted[i] = a
		if strings.ContainsAny(a, "* ") {
			quoted[i] = "'" + a + "'"
		}
	}
	return strings.Join(quoted, " ")
}
