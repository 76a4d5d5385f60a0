package command

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/shell/present"
)

var outputsCommand = &command{
	name: "outputs", arguments: "ENV [NAME] [--format] [--reveal]",
	short: "print named outputs, for people and scripts",
	long: `Prints the named outputs of the project in an environment, or one of them. As text, one alone is printed as it
is, without quotes; several as names and values. As env, each is a line NAME=value that a POSIX shell reads back;
lists and records are JSON in it.

A secret output is redacted, and a later one has no value before --later gives it. No script can take a placeholder for
the value: JSON leaves such outputs out, env has a comment for them, and one that is asked for by name prints nothing,
says why on standard error and ends with 1.

With --reveal the secrets are read and shown, on a terminal only; with --reveal=always
anywhere. With --final, an unresolved output is an error.`,
	example: "knothole outputs north map_url",
	define: func(flags *flag.FlagSet) func(c *call) int {
		o := &outputsRun{}
		chooseFormat(flags, &o.format, "text", "json", "env")
		flags.BoolVar(&o.final, "final", false, "fail if a later input is unresolved")
		o.given.define(flags)
		o.given.defineSecrets(flags)
		return o.run
	},
}

type outputsRun struct {
	given
	format string
	final  bool
}

// output is one output with its value.
type output struct {
	object *check.Object
	value  value.Value
	// hidden and open say that what is printed is not the value: it is secret, or known only after deployment.
	hidden, open bool
}

func (o *outputsRun) run(c *call) int {
	if o.format == "plain" { // as it was called
		o.format = "text"
	}
	if len(c.arguments) < 1 || len(c.arguments) > 2 {
		return c.wrongUsage("name one environment, and one output if it is to be one")
	}
	show, status := o.revealed(c)
	if status != exitClean {
		return status
	}
	p, run, status := o.openOne(c)
	if p == nil {
		return status
	}
	var findings source.Findings
	if show {
		from, status := o.source(c, p)
		if from == nil {
			return status
		}
		defer from.Root.Close()
		run, findings = run.WithSecrets(from)
	}
	results, found, err := render.All(p.Project, []*project.Run{run}, render.Options{Outputs: true})
	if err != nil {
		return c.interrupted(err)
	}
	var all []output
	for _, out := range results[0].Outputs {
		all = append(all, output{object: out.Object, value: out.Value})
	}
	if findings = append(findings, found...); findings.HasErrors() {
		status := c.stopped(p, findings, "nothing was printed")
		if unavailable(findings) {
			return exitFailed
		}
		return status
	}
	var names []string
	for _, out := range all {
		names = append(names, out.object.Name)
	}
	single := len(c.arguments) == 2
	if single {
		i := slices.Index(names, c.arguments[1])
		if i < 0 {
			help := source.Suggest(c.arguments[1], names, "outputs are "+strings.Join(names, ", "))
			if len(names) == 0 {
				help = fmt.Sprintf("declare one in %s: output %s = …", run.Unit.Main, c.arguments[1])
			}
			return c.failed("%s has no output %q\n  %s", run.Unit.Main, c.arguments[1], help)
		}
		all = all[i : i+1]
	}
	for i := range all {
		marks := value.Marks(all[i].value)
		all[i].hidden = marks&value.Secret != 0 && !show
		all[i].open = marks&value.Unknown != 0 && !all[i].hidden
		if o.final && marks&value.Later != 0 && marks&value.Unknown != 0 {
			c.failed("the output %q is unresolved: give its value with --later FILE", all[i].object.Name)
			return exitFindings
		}
		if show {
			all[i].value = value.WithPlaceholders(all[i].value)
		} else {
			all[i].value = value.Shown(all[i].value)
		}
	}
	if single && (all[0].hidden || all[0].open) {
		o.noteAbsent(c, all)
		return exitFindings
	}
	o.print(c, all, single)
	if o.format != "text" || !c.terminal {
		o.noteAbsent(c, all)
	}
	return exitClean
}

// noteAbsent says which outputs a script does not get.
func (o *outputsRun) noteAbsent(c *call, all []output) {
	for _, out := range all {
		switch {
		case out.hidden:
			fmt.Fprintf(c.err, "%s is redacted: --reveal=always shows it\n", out.object.Name)
		case out.open:
			fmt.Fprintf(c.err, "%s is unresolved: give its value with --later FILE, or refuse it with --final\n",
				out.object.Name)
		}
	}
}

func (o *outputsRun) print(c *call, all []output, single bool) {
	switch {
	case o.format == "json" && single:
		fmt.Fprintln(c.data, data.JSONText(all[0].value, 2))
	case o.format == "json":
		var b value.Builder
		for _, out := range all {
			if !out.hidden && !out.open {
				b.Set(out.object.Name, out.value)
			}
		}
		fmt.Fprintln(c.data, data.JSONText(b.Record(0), 2))
	case o.format == "env":
		for _, out := range all {
			if out.hidden || out.open {
				fmt.Fprintf(c.data, "# %s: %s\n", out.object.Name, present.Clean(plainText(out.value)))
				continue
			}
			var b value.Builder
			b.Set(out.object.Name, value.StringOf(plainText(out.value), 0))
			text, _ := data.Write(b.Record(0), data.Env) // a text only
			_, _ = c.data.Write(text)
		}
	case single:
		fmt.Fprintln(c.data, plainText(all[0].value))
	default:
		width := 0
		for _, out := range all {
			width = max(width, len(out.object.Name))
		}
		for _, out := range all {
			fmt.Fprintf(c.out, "%-*s  %s\n", width, out.object.Name, present.Clean(plainText(out.value)))
		}
		if len(all) == 0 {
			fmt.Fprintln(c.err, "the project has no outputs")
		}
	}
}

// plainText returns a scalar as it is, a list or record as JSON, and nothing for null.
func plainText(v value.Value) string {
	if text, ok := v.Scalar(); ok {
		return text
	}
	if v.IsNull() {
		return ""
	}
	return data.CompactJSON(v)
}
