package command

import (
	"flag"
	"strconv"
	"strings"

	"knothole/core/builtin"
	"knothole/core/compare"
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/project"
)

var whyCommand = &command{
	name: "why", arguments: "ENV DOCUMENT [OBJECT] PATH [LINE] | ENV DOCUMENT LINE [--all] [--format]",
	short: "explain where a rendered value comes from",
	long: `Shows why a value in a rendered document is what it is: where it was written, computed or patched, what
chose it, and for each input on which it depends what its layers say, what was overridden, and the limits that it
passed. The answer is short: the line that gave the value, what that overrode, what chose it, and what is there in
other environments. --all shows every step. Only this document is evaluated.

PATH is a path as patches have it, such as spec.containers[0].image, spec.containers[it.name == "map"].image, or with
the name of an element as comparisons show it, spec.containers[map].image; or a JSON Pointer, such as /spec/replicas.
OBJECT is one of a document that holds several, as comparisons show it: 'Deployment bay-map'. LINE is the number of a
line in the string at the path, or in the rendered file: what is on it is explained.`,
	example: "knothole why north k8s/bay-map.yaml spec.replicas",
	define: func(flags *flag.FlagSet) func(c *call) int {
		w := &whyRun{}
		chooseFormat(flags, &w.format, "text", "json")
		flags.BoolVar(&w.all, "all", false, "show the whole life: every step, every layer, the limits")
		w.given.define(flags)
		return w.run
	},
}

// manyOthers is in how many other environments a value is looked up.
const manyOthers = 12

type whyRun struct {
	given
	format string
	all    bool
}

func (w *whyRun) run(c *call) int {
	at, status := w.place(c)
	if status != exitClean {
		return status
	}
	p, run, status := w.openOne(c)
	if p == nil {
		return status
	}
	why, findings, err := explain.Value(run, c.arguments[1], at)
	switch {
	case err != nil:
		return c.interrupted(err)
	case why == nil:
		return c.stopped(p, findings, "nothing was explained")
	}
	presenter := c.presenter(p, c.answer(w.format))
	if w.format == "json" {
		if err := presenter.WhyJSON(why); err != nil {
			return c.failed("%s", err)
		}
		return exitClean
	}
	var elsewhere []compare.Elsewhere
	more := 0
	if !w.any() {
		var others []*project.Run
		for _, other := range p.Concrete() {
			if other != run.Environment {
				others = append(others, p.Run(other))
			}
		}
		shown := others[:min(len(others), manyOthers)]
		elsewhere, err = compare.Others(p.Project, run, shown, c.arguments[1], why.Path, why.Line)
		if err != nil {
			return c.interrupted(err)
		}
		more = len(others) - len(shown)
	}
	if w.all {
		presenter.Why(why)
		presenter.Elsewhere(elsewhere, more)
	} else {
		presenter.WhyShort(why, elsewhere)
	}
	return exitClean
}

// place finds out what the arguments after the document name.
func (w *whyRun) place(c *call) (at explain.Asked, status int) {
	rest := c.arguments[min(2, len(c.arguments)):]
	if n := len(rest); n > 0 {
		if number, err := strconv.Atoi(rest[n-1]); err == nil && number > 0 {
			at.Line, rest = number, rest[:n-1]
		}
	}
	switch {
	case len(rest) == 0 && at.Line > 0:
		return at, exitClean
	case len(rest) == 2:
		rest = []string{inObject(rest[0], rest[1])}
	case len(rest) != 1:
		return at, c.wrongUsage("name an environment, a document, and a path or a line in it")
	}
	if at.Path = eval.Whole(); rest[0] == "" {
		return at, exitClean
	}
	var err error
	if at.Path, err = eval.ParsePlaces(rest[0], builtin.Table); err != nil {
		return at, c.failed("%s", err)
	}
	return at, exitClean
}

// inObject returns the path to a place in an object of a document that holds several.
func inObject(object, path string) string {
	at := "[" + place.Quote(object) + "]"
	if steps, err := place.ParsePointer(path); err == nil && path != "" {
		for _, step := range steps {
			if _, err := strconv.Atoi(step); err == nil {
				at += "[" + step + "]"
			} else {
				at += "." + place.Key(step)
			}
		}
		return at
	}
	if strings.HasPrefix(path, "[") || strings.HasPrefix(path, ".") {
		return at + path
	}
	return at + "." + path
}
