package command

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/shell/present"
)

// shownOpen is how many places are named for one text.
const shownOpen = 3

// printUnresolved lists the values that are known only after deployment, by what stands for them.
func (c *call) printUnresolved(open []render.Unresolved) {
	var texts []string
	places, environments := map[string][]string{}, map[string][]string{}
	add := func(list *[]string, s string) {
		if !slices.Contains(*list, s) {
			*list = append(*list, s)
		}
	}
	for _, o := range open {
		name := o.Document
		if o.Path != nil {
			name += " " + o.Path.String()
		}
		add(&texts, o.Text)
		names, in := places[o.Text], environments[o.Text]
		add(&names, name)
		add(&in, o.Environment)
		places[o.Text], environments[o.Text] = names, in
	}
	for _, text := range texts {
		names, more := places[text], ""
		if len(names) > shownOpen {
			more = fmt.Sprintf(", and %s more", source.Count(len(names)-shownOpen, "path"))
			names = names[:shownOpen]
		}
		fmt.Fprintf(c.err, "unresolved (%s): %s in %s%s\n", strings.Join(environments[text], ", "),
			present.Clean(text),
			strings.Join(names, ", "), more)
	}
}

// askMissing asks for the inputs of an environment that have no value.
func (c *call) askMissing(p *opened, runs []*project.Run) int {
	if len(runs) != 1 || len(c.arguments) == 0 {
		return c.wrongUsage("--ask asks for the inputs of one environment: name it")
	}
	in, ok := c.in.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return c.wrongUsage("--ask needs a terminal, but standard input is not one; give values with --input NAME=VALUE")
	}
	lines := bufio.NewReader(in)
	for _, o := range runs[0].Missing() {
		for {
			fmt.Fprintf(c.err, "%s (%s)", o.Name, o.Type)
			if description := o.Description(); description != "" {
				fmt.Fprintf(c.err, " %s", description)
			}
			fmt.Fprint(c.err, ": ")
			var text string
			if project.IsSecret(o) {
				read, err := term.ReadPassword(int(in.Fd()))
				fmt.Fprintln(c.err)
				if err != nil {
					return c.failed("the answer cannot be read")
				}
				text = string(read)
			} else {
				read, err := lines.ReadString('\n')
				if err == io.EOF && read == "" {
					return c.failed("there is no answer for %q", o.Name)
				}
				text = strings.TrimRight(read, "\r\n")
			}
			wrong := runs[0].TryInput(o.Name, text)
			if wrong == "" {
				with, err := runs[0].WithInput(o.Name, "the answer for "+o.Name, text)
				if err != nil {
					return c.failed("%s", err)
				}
				runs[0] = with
				break
			}
			fmt.Fprintf(c.err, "  %s\n", present.Clean(wrong))
		}
	}
	return exitClean
}
