package command

import (
	"flag"
	"fmt"
	"slices"
	"strings"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var driftCommand = &command{
	name: "drift", arguments: "ENV FILE|DIR|-",
	short: "compare what runs with what would be rendered",
	long: `Compares the objects that an environment renders to with those that run, as they were exported: a stream of
YAML, JSON or TOML files, a directory of them, or standard input (-). Lists of objects are opened.

Only what is rendered is compared: fields that servers add do not count. Amounts such as 1 and 1000m are the same, and
so is what servers leave out since it is empty. Of a Secret the decoded fields are compared, and never shown. Values
that are not known here match any.

Objects are known by their kind and name, and by the name space where both name one; --namespace says which is meant by
those that are rendered without one. With --owner LABEL=VALUE, objects with this label that run and are not rendered
are reported, except those that another object controls.

Ends with 0 when nothing differs, 1 when something does, 2 when what runs cannot be read or is empty,
or what is rendered has errors.`,
	example: "knothole drift north exported.yaml",
	define: func(flags *flag.FlagSet) func(c *call) int {
		d := &driftRun{}
		chooseFormat(flags, &d.format, present.Comparisons.Only("text", "json").Names()...)
		flags.BoolVar(&d.full, "full", false, "show whole values, and each row")
		flags.StringVar(&d.namespace, "namespace", "", "the `NAME` of the name space of objects without one")
		flags.StringVar(&d.owner, "owner", "", "a label of the objects that should be rendered, `LABEL=VALUE`")
		return d.run
	},
}

type driftRun struct {
	format, namespace, owner string
	full                     bool
}

func (d *driftRun) run(c *call) int {
	if len(c.arguments) != 2 {
		return c.wrongUsage("name an environment, and what runs: a file, a directory or - for standard input")
	}
	options := compare.DriftOptions{Namespace: d.namespace}
	if d.owner != "" {
		label, wanted, ok := strings.Cut(d.owner, "=")
		if !ok {
			return c.wrongUsage("--owner is LABEL=VALUE, not %s", d.owner)
		}
		options.Owned = func(v value.Value) bool {
			has := v.Get("metadata").Get("labels")
			return has.Kind() == value.Record && has.Get(label).Kind() == value.String &&
				has.Get(label).Text() == wanted
		}
	}
	p, status := c.open()
	if p == nil {
		return status
	}
	runs, ok := c.environments(p, c.arguments[:1])
	if !ok {
		return exitFailed
	}
	running, status := d.running(c, p)
	if running == nil {
		return status
	}
	results, findings, err := render.All(p.Project, runs, render.Options{Recording: true})
	if err != nil {
		return c.interrupted(err)
	}
	if findings.HasErrors() {
		return c.unmade(p, findings)
	}
	rendered := compare.Rendered(results[0], compare.Options{})
	comparison, others := compare.Drift(rendered, running, options)
	comparison.ExplainDrift(rendered)
	presenter := c.presenter(p, c.answer(d.format))
	shown := &present.Compared{Comparison: comparison,
		ComparisonOptions: present.ComparisonOptions{GroupOptions: compare.GroupOptions{Full: d.full}}}
	if err := present.Comparisons.Show(presenter, d.format, shown); err != nil {
		return c.failed("%s", err)
	}
	if !c.quiet {
		if !comparison.Equal() && d.format == "text" {
			fmt.Fprintln(c.err)
		}
		fmt.Fprintf(c.err, "only what is rendered was compared, with %s\n",
			source.Count(len(running), "running object"))
		if others > 0 {
			fmt.Fprintf(c.err, "not compared, since they are not objects: %s\n", source.Count(others, "document"))
		}
	}
	if comparison.Equal() {
		return exitClean
	}
	return exitFindings
}

// running reads the objects that run; nil when there are none, or one cannot be read.
func (d *driftRun) running(c *call, p *opened) ([]value.Value, int) {
	name := c.arguments[1]
	exists, isFolder, err := gate.Exists(c.path(name))
	if name != "-" && (err != nil || !exists) {
		return nil, c.failed("%s is not there", name)
	}
	s := &sidesOf{project: p, sources: p.Sources}
	files, status := c.readSide(s, name, isFolder)
	if status != exitClean {
		return nil, status
	}
	side, findings := compare.Files(name, readableFiles(files), compare.Options{})
	if findings.HasErrors() {
		c.presenter(p, c.err).Findings(withoutExcerpts(p, findings))
		fmt.Fprintln(c.err, "\nnothing was compared: what runs is not known")
		return nil, exitFailed
	}
	var running []value.Value
	for _, unit := range side.Contents {
		for _, object := range compare.Objects(unit.Value) {
			running = append(running, compare.HideSecrets(object))
		}
	}
	if len(running) == 0 {
		return nil, c.failed("%s has no objects: is it what runs?", name)
	}
	slices.SortStableFunc(running, func(a, b value.Value) int { return int(a.Origin().Pos()) - int(b.Origin().Pos()) })
	return running, exitClean
}

// withoutExcerpts leaves out what findings show of files that hold a Secret, or may hold one: lines, and messages that
// quote them.
func withoutExcerpts(p *opened, findings source.Findings) source.Findings {
	shown := slices.Clone(findings)
	for i, f := range shown {
		file := p.Sources.File(f.Span.Start)
		if file == nil || !strings.Contains(file.Text, "Secret") {
			continue
		}
		file.Hide(f.Span.Start)
		shown[i].Message = "this line cannot be read, and is not shown because the file may hold secrets"
		shown[i].Help, shown[i].Related = fmt.Sprintf("knothole help %s says what may be wrong", f.Code), nil
	}
	return shown
}

// readableFiles are the files in formats that objects are exported in.
func readableFiles(files map[string]compare.File) map[string]compare.File {
	kept := map[string]compare.File{}
	for name, f := range files {
		if f.Source == nil {
			continue
		}
		if format, ok := data.FormatOf(f.Source.Path); ok && format.Readable() {
			kept[name] = f
		}
	}
	return kept
}
