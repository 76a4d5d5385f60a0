package present

import (
	"slices"
	"strings"

	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/render"
)

// Annotation is a rendered document and what is known of its lines.
type Annotation struct {
	Environment, Document string
	Lines                 []render.Line
	Recorder              *eval.Recorder
}

// Widths of the left side of an annotated document: at least, and at most of the width of the terminal.
const (
	minAnnotated     = 40
	annotatedPercent = 58
)

// shownInputs is how many inputs are named beside a line.
const shownInputs = 2

// Annotated shows a document with the source of each line at the right: the place that decided what is there, and
// the inputs on which it depends. A place that is that of the line above is not repeated.
func (p *Presenter) Annotated(a *Annotation) {
	p.printf("%s\n", p.bold(a.Environment+"/"+a.Document))
	longest := 0
	for _, l := range a.Lines {
		longest = max(longest, columnsOf(l.Text))
	}
	width := max(minAnnotated, min(longest, p.Width*annotatedPercent/100))
	places := 0
	for _, l := range a.Lines {
		if !l.Value.IsAbsent() {
			places = max(places, columnsOf(p.line(l.At)))
		}
	}
	last := ""
	for _, l := range a.Lines {
		text := visible(l.Text)
		if p.Fit {
			text = cut(text, width)
		}
		if l.Value.IsAbsent() {
			p.printf("%s\n", strings.TrimRight(text, " "))
			last = ""
			continue
		}
		at, inputs := p.line(l.At), inputNames(a.Recorder, l)
		if at == last && inputs == "" {
			p.printf("%s\n", strings.TrimRight(text, " "))
			continue
		}
		last = at
		pad := strings.Repeat(" ", max(0, width-columnsOf(text))) + "  "
		gap := strings.Repeat(" ", max(0, places-columnsOf(at))+2)
		if p.Fit {
			inputs = cut(inputs, max(minColumn, p.Width-max(width, columnsOf(text))-places-4))
		}
		if inputs == "" {
			gap = ""
		}
		p.printf("%s%s%s%s%s\n", text, pad, p.faint(at), gap, p.cyan(inputs))
	}
}

// inputNames lists what the value of a line depends on: of a record or list only what chose it.
func inputNames(r *eval.Recorder, l render.Line) string {
	var names []string
	for _, leaf := range explain.Leaves(r, l.Value.Origin()) {
		if !slices.Contains(names, leaf.Name) {
			names = append(names, leaf.Name)
		}
	}
	// The part of an input says more than the whole.
	names = slices.DeleteFunc(slices.Clone(names), func(name string) bool {
		return slices.ContainsFunc(names, func(part string) bool { return strings.HasPrefix(part, name+".") })
	})
	if len(names) > shownInputs {
		return strings.Join(names[:shownInputs], ", ") + ", …"
	}
	return strings.Join(names, ", ")
}
