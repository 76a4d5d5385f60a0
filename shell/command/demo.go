package command

import (
	"bufio"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"knothole/core/source"
	"knothole/demo"
	"knothole/outside/gate"
)

var demoCommand = &command{
	name: "demo", arguments: "[DIR]",
	short: "write the demo project, and walk through it",
	long: `Writes the demo project into the directory DIR, which must be empty or not there yet, or into a temporary
one, and walks through inputs, check, render, why, look and diff on it. A stand-in secret store runs as long as the
walk does. Then it makes eight errors on purpose. On a terminal it waits after each step. Each command is shown
before its output; all of them can be repeated in the directory, those that ask the store aside.`,
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
	// before changes something in the directory of the demo first; nil for nothing.
	before func(folder string) error
}

func demoSteps(policy string) []demoStep {
	steps := []demoStep{
		{text: "The project describes five services of a flood warning system for four environments.\nWhat can be " +
			"given to it, and who gives what?", arguments: []string{"inputs"}},
		{text: "Is anything wrong with it?", arguments: []string{"check"}},
		{text: "Render plain files for every environment. Documents that contain secrets are not written.",
			arguments: []string{"render"}},
		{text: "Again: nothing has changed, so no file is touched.", arguments: []string{"render", "--quiet"}},
		{text: "One rendered file, with the source of each line and the inputs it depends on.",
			arguments: []string{"render", "north", "--annotate", "--only", "siren-router/*"}},
		{text: "Why are there six map servers on the north coast?",
			arguments: []string{"why", "north", "k8s/bay-map.yaml", "spec.replicas"}},
		{text: "All images that run anywhere.", arguments: []string{"look", "spec.template.spec.containers[*].image"}},
		{text: "Results for scripts. Secrets are redacted; the address of the map is known only when it runs.",
			arguments: []string{"outputs", "north"}},
		{text: "The secret documents too: from an age-encrypted file, and from a secret store that runs for this " +
			"walk.\nWhich token goes to which host is said outside of the project.",
			arguments: []string{"render", "north", "--secrets", "--secret-policy", policy, "--identity",
				"secrets/demo-identity.txt"}},
		{text: "What differs between the rehearsal and the north coast? At the right of each difference is what " +
			"made it so.", arguments: []string{"diff", "rehearsal", "north"}, status: exitFindings},
		{text: "An environment does not differ from itself.", arguments: []string{"diff", "north", "north"}},
		{text: "Which standards are enforced, why, and what is exempt until when?", arguments: []string{"rules"}},
	}
	texts := map[string]string{
		"misspelt-input": "Now some errors. In this copy, an input is misspelt in the layer of the north " +
			"coast.",
		"zero-replicas": "In this one, the map runs no copy at all: the limit is on the type of the input, " +
			"so the layer is to blame.",
		"vendor-renamed": "Here the vendor of the cache renamed a container, and the patches of it match no " +
			"more.",
		"forgotten-environment": "Here a template forgot the south coast. Nothing had to be rendered to find out.",
		"secret-exposed":        "Here the key of the survey office gets into a plain file. The error shows the way.",
		"unknown-field": "Here a field is misspelt that the harbour office's own kind of object has. Its definition " +
			"is in the project.",
		"broken-standards": "Here a new service violates seven standards of the team. Each error is at the line that " +
			"has to change,\nwith the reason for the rule.",
		"edited-rendering": "And here somebody has changed a rendered file by hand.",
	}
	for _, name := range demo.Wrong {
		step := demoStep{text: texts[name], arguments: []string{"check", "--project", "errors/" + name},
			status: exitFindings}
		if name == "edited-rendering" {
			step.arguments = append(step.arguments, "--rendered")
			step.before = editRendering
		}
		steps = append(steps, step)
	}
	return steps
}

// editRendering renders a copy of the project and changes one of its files.
func editRendering(folder string) error {
	quiet := &system{in: strings.NewReader(""), out: io.Discard, err: io.Discard, folder: folder}
	project := filepath.Join("errors", "edited-rendering")
	if status := Main([]string{"render", "--quiet", "--project", project}, quiet); status != exitClean {
		return fmt.Errorf("the copy in %s cannot be rendered", project)
	}
	root, err := gate.OpenRoot(filepath.Join(folder, project))
	if err != nil {
		return err
	}
	defer root.Close()
	name := "rendered/north/k8s/bay-map.yaml"
	text, err := root.ReadFile(name)
	if err != nil {
		return err
	}
	return root.WriteFile(name, []byte(strings.Replace(string(text), "replicas: 6", "replicas: 9", 1)), 0o644)
}

func runDemo(c *call) int {
	if len(c.arguments) > 1 {
		return c.wrongUsage("it takes one directory")
	}
	var folder string
	if len(c.arguments) == 1 {
		folder = c.arguments[0]
		if !filepath.IsAbs(folder) {
			folder = filepath.Join(c.folder, folder)
		}
		if err := demo.CheckEmpty(folder); err != nil {
			return c.failed("%s: name another directory, nothing was written", plainError(err))
		}
	} else {
		made, _, err := gate.TempFolder("flood-watch-")
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
	said, remove, err := gate.TempFolder("flood-watch-store-")
	if err != nil {
		return c.failed("%s", err)
	}
	defer remove()
	store, err := demo.StartStore(said)
	if err != nil {
		return c.failed("the stand-in secret store cannot be started: %s", err)
	}
	defer store.Close()
	steps := demoSteps(store.Policy)
	for i, step := range steps {
		if i > 0 && !c.goesOn(len(steps)-i) {
			break
		}
		if step.before != nil {
			if err := step.before(folder); err != nil {
				return c.failed("%s", err)
			}
		}
		fmt.Fprintf(c.out, "\n%s\n\n$ knothole %s\n", step.text, commandLine(step.arguments))
		if status := Main(step.arguments, &inside); status != step.status {
			return c.failed("knothole %s ended with %d, not %d", commandLine(step.arguments), status, step.status)
		}
	}
	fmt.Fprintf(c.out, "\nLook around: cd %s\nRead main.knot, change a value in inputs/north.toml, and run knothole "+
		"diff rehearsal north again.\n", folder)
	return exitClean
}

// goesOn waits on a terminal until the person has read what is there; it is false when that is enough.
func (c *call) goesOn(left int) bool {
	in, ok := c.in.(*os.File)
	if !c.terminal || !ok || !term.IsTerminal(int(in.Fd())) {
		return true
	}
	fmt.Fprintf(c.out, "\n— Enter goes on (%s), q and Enter end the walk —", source.Count(left, "step"))
	answer, err := bufio.NewReader(in).ReadString('\n')
	return err == nil && strings.TrimSpace(answer) != "q"
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
