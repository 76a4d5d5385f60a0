package command

import (
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/shell/present"
)

var lookCommand = &command{
	name: "look", arguments: "PATH [ENV…|FILE…] [--only GLOB] [--format]",
	short: "show the values at a path in every document",
	long: `Shows the values at a path in every document of all environments, or of those that are named: an inventory
of images, replicas or hosts. A value is shown once with the environments that have it. With data files (YAML, JSON,
TOML) it looks into these instead, and needs no project.

PATH is a path as patches have it: [*] is every element, .* every key, .** any number of steps, [it.kind == "x"] an
element that satisfies a condition; or a JSON Pointer, such as /spec/replicas. Documents that have no such path are
counted. --only takes a pattern of paths of documents.

Ends with 0 when something was found, 1 when nothing was.`,
	example: "knothole look 'spec.template.spec.containers[*].image'",
	define: func(flags *flag.FlagSet) func(c *call) int {
		l := &lookRun{}
		chooseFormat(flags, &l.format, "text", "json")
		l.only.defineOnly(flags)
		l.given.define(flags)
		return l.run
	},
}

type lookRun struct {
	given
	format string
	only   patterns
}

func (l *lookRun) run(c *call) int {
	if len(c.arguments) == 0 {
		return c.wrongUsage("name a path in data")
	}
	path, err := eval.ParsePlaces(c.arguments[0], builtin.Table)
	if err != nil {
		return c.failed("%s", err)
	}
	c.arguments = c.arguments[1:]
	var sets []explain.Documents
	var presenter *present.Presenter
	var environments []string
	if c.areFiles(c.arguments) {
		if l.any() {
			return c.wrongUsage("--layer, --input and --later belong to an environment, not to files")
		}
		set, documents, status := c.readFiles(c.arguments)
		if status != exitClean {
			return status
		}
		sets = []explain.Documents{{Documents: documents}}
		presenter = &present.Presenter{
			Out: c.answer(l.format), Sources: set, Color: c.system.color, Width: c.width, Fit: c.fit,
		}
	} else {
		p, chosen, status := c.openSelected()
		if p == nil {
			return status
		}
		if status := l.apply(c, p, chosen); status != exitClean {
			return status
		}
		results, findings, err := render.All(p.Project, chosen, render.Options{Only: l.only.filter()})
		if err != nil {
			return c.interrupted(err)
		}
		if findings.HasErrors() {
			return c.stopped(p, findings, "nothing was looked at")
		}
		for _, r := range results {
			sets = append(sets, explain.Documents{Name: r.Run.Environment.Name, Documents: r.Documents})
			environments = append(environments, r.Run.Name)
		}
		presenter = c.presenter(p, c.answer(l.format))
	}
	inventory := explain.Look(sets, path)
	if l.format == "json" {
		if err := presenter.InventoryJSON(inventory); err != nil {
			return c.failed("%s", err)
		}
	} else {
		presenter.Inventory(inventory, environments)
	}
	if len(inventory.Places) == 0 {
		fmt.Fprintf(c.err, "none of %s has such a path", source.Count(inventory.Documents, "document"))
		if inventory.Why != "" {
			fmt.Fprintf(c.err, "; %s", inventory.Why)
		}
		fmt.Fprintln(c.err)
		return exitFindings
	}
	if !c.quiet {
		fmt.Fprintf(c.err, "%s in %s", source.Count(len(inventory.Places), "value"),
			source.Count(inventory.Documents-inventory.Without, "document"))
		if inventory.Without > 0 {
			fmt.Fprintf(c.err, "; %s without such a path", source.Count(inventory.Without, "document"))
		}
		fmt.Fprintln(c.err)
	}
	return exitClean
}

// areFiles reports whether arguments name data files: they have an ending of data, or are there and no environment.
func (c *call) areFiles(arguments []string) bool {
	return len(arguments) > 0 && slices.ContainsFunc(arguments, func(name string) bool {
		format, ok := data.FormatOf(name)
		return ok && format.Readable() || strings.ContainsRune(name, '/')
	})
}

// readFiles reads data files; directories stand for all data files in them.
func (c *call) readFiles(arguments []string) (*source.Set, []render.Document, int) {
	set := source.NewSet()
	names, status := c.dataFiles(arguments)
	if status != exitClean {
		return nil, nil, status
	}
	var documents []render.Document
	var findings source.Findings
	for _, name := range names {
		format, _ := data.ReadableFormatOf(name)
		file, status := c.readData(set, name)
		if file == nil {
			return nil, nil, status
		}
		var v value.Value
		var found source.Findings
		if format.Streams() {
			v, found = data.ReadStream(file, data.Keys{})
		} else {
			v, found = data.Read(file, format, data.Keys{})
		}
		findings = append(findings, found...)
		if found.HasErrors() {
			continue
		}
		d := render.Document{Format: format}
		d.Path, d.Value, d.Stream = filepath.ToSlash(name), v, format.Streams()
		if d.Stream && v.Len() == 1 {
			d.Value, d.Stream = v.Elements()[0], false
		}
		documents = append(documents, d)
	}
	if findings.HasErrors() {
		(&present.Presenter{Out: c.err, Sources: set, Color: c.errColor, Width: c.width}).Findings(findings)
		return nil, nil, exitFindings
	}
	return set, documents, exitClean
}
