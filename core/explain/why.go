package explain

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// Why is the whole life of one value in a rendered document.
type Why struct {
	Run      *project.Run
	Document *render.Document
	Path     *place.Path
	// Line is that of a string of several lines, from 1; 0 for a whole value. Value is then the line.
	Line   int
	Value  value.Value
	Events []Event
	// Around are the patches that touched what holds the value, outermost first.
	Around []Event
	// Holders are the inputs, or the environment, that chose what holds the value.
	Holders []Leaf
	Inputs  []InputLife
	// Upstream is what inputs that are outputs of other environments depend on there.
	Upstream []UpstreamValue
}

// InputLife is an input on which the value depends.
type InputLife struct {
	Input    *project.Input
	Settings project.Settings
}

// Asked is what is asked about in a document.
type Asked struct {
	Path *eval.Places // nil for the document as it is written
	// Line is one of the string of several lines at the path, or of the document; 0 for a whole value.
	Line int
}

// Value explains one value of an environment. Only the document in question is evaluated. It is nil when there are
// findings that keep the document from being rendered. The error says that the document or the place is not there, or
// is that of the context of the project.
func Value(run *project.Run, document string, at Asked) (*Why, source.Findings, error) {
	p := run.Unit.Project
	results, findings, err := render.All(p, []*project.Run{run},
		render.Options{Recording: true, Only: func(name string) bool { return name == document }})
	if err != nil || findings.HasErrors() {
		return nil, findings, err
	}
	r := results[0]
	if len(r.Documents) == 0 {
		return nil, nil, noDocument(run, document)
	}
	w := &Why{Run: run, Document: &r.Documents[0]}
	var written source.Pos // of a line, where that is known better than from how it was made
	var whyNot string
	if at.Path == nil {
		written, whyNot = w.onLine(p, r, at.Line)
	} else {
		written, whyNot = w.find(at, r.Recorder(), p.Sources)
	}
	if whyNot != "" {
		return nil, nil, fmt.Errorf("%s: %s", w.Document.Path, whyNot)
	}
	w.Events = Story(r.Recorder(), w.Value.Origin(), p.InSource)
	for i, known := range w.Events {
		if written.IsValid() && known.Pos == r.Recorder().Pos(w.Value.Origin()) {
			w.Events[i].Pos = written
		}
	}
	v := w.Document.Value
	holders := newCollector(r.Recorder())
	holders.choices(w.Document.Name.Origin())
	for _, step := range w.Path.Steps() {
		holders.choices(v.Origin())
		holders.decided(v.Origin())
		for _, event := range Story(r.Recorder(), v.Origin(), p.InSource) {
			if event.Kind == Patched && event.Depth == 0 {
				w.Around = append(w.Around, event)
			}
		}
		if step.Kind == place.Field {
			v = v.Get(step.Name)
		} else {
			v = v.Elements()[step.Index]
		}
	}
	w.Path = new(place.Namer).Path(w.Document.Value, w.Path)
	own := deep(r.Recorder(), w.Value)
	for _, leaf := range holders.leaves {
		same := func(other Leaf) bool { return other.InputPart == leaf.InputPart }
		if !slices.ContainsFunc(own, same) && !slices.ContainsFunc(w.Holders, same) {
			w.Holders = append(w.Holders, leaf)
		}
	}
	leaves := w.leaves(r.Recorder())
	w.addInputs(r, leaves)
	w.Upstream = upstreamOf(run, leaves, maxUpstream)
	return w, findings, p.Context().Err()
}

// find follows the path, which must lead to one place.
func (w *Why) find(at Asked, r *eval.Recorder, sources *source.Set) (written source.Pos, whyNot string) {
	all, why := at.Path.Find(w.Document.Value)
	switch {
	case why != "":
		return 0, why
	case len(all) > 1:
		var texts []string
		for _, f := range all[:min(len(all), 6)] {
			texts = append(texts, f.Path.String())
		}
		return 0, fmt.Sprintf("the path matches %d values, such as %s; name one of them", len(all),
			strings.Join(texts, ", "))
	}
	w.Path, w.Value = all[0].Path, all[0].Value
	switch {
	case at.Line == 0:
		return 0, ""
	case w.Value.Kind() != value.String:
		return 0, fmt.Sprintf("%s has no lines, since it is not a string", w.Path)
	case w.Value.Mark() != 0:
		return 0, fmt.Sprintf("the lines of %s are secret, or not known here", w.Path)
	}
	return w.takeLine(render.TextLines(r, sources, w.Value), at.Line)
}

// takeLine makes one line of a text what is explained.
func (w *Why) takeLine(lines []render.TextLine, number int) (written source.Pos, whyNot string) {
	if number > len(lines) {
		return 0, fmt.Sprintf("there is no line %d: it has %s", number, source.Count(len(lines), "line"))
	}
	line := lines[number-1]
	w.Line, w.Value = number, value.StringOf(line.Text, line.Origin)
	return line.At, ""
}

// onLine finds what is on a line of the document as it is written.
func (w *Why) onLine(p *project.Project, r *render.Result, number int) (written source.Pos, whyNot string) {
	shown := *w.Document
	if shown.Secret {
		shown.Value, shown.Open = value.Shown(shown.Value), false
	}
	text, err := shown.Text()
	if err != nil {
		return 0, err.Error()
	}
	header := strings.Count(render.Header(w.Run.Environment, shown.Format), "\n")
	lines := render.Lines(w.Document, text, r.Recorder(), p.Sources)
	switch at := number - 1 - header; {
	case at < 0:
		return 0, fmt.Sprintf("line %d is the header of the file: there is no value on it", number)
	case at >= len(lines):
		return 0, fmt.Sprintf("there is no line %d: it has %s", number, source.Count(header+len(lines), "line"))
	case strings.TrimSpace(lines[at].Text) == "":
		return 0, fmt.Sprintf("line %d is empty", number)
	case lines[at].Value.IsAbsent():
		return 0, fmt.Sprintf("there is no value on line %d: %s", number, strings.TrimSpace(lines[at].Text))
	default:
		on := lines[at]
		w.Path, w.Value, w.Line = on.Path, on.Value, on.Number
		return on.At, ""
	}
}

// leaves returns the inputs on which the value depends, each once, in the order in which they are shown.
func (w *Why) leaves(r *eval.Recorder) (leaves []Leaf) {
	for _, leaf := range slices.Concat(deep(r, w.Value), w.Holders) {
		same := func(other Leaf) bool { return other.InputPart == leaf.InputPart }
		if leaf.Path != nil && !slices.ContainsFunc(leaves, same) {
			leaves = append(leaves, leaf)
		}
	}
	return leaves
}

func (w *Why) addInputs(r *render.Result, leaves []Leaf) {
	all := w.Run.Unit.Project.InputsOf(w.Run.Unit.Module)
	for _, leaf := range leaves {
		fields := leaf.Path.Fields()
		var best *project.Input
		for _, in := range all {
			if len(in.Path) <= len(fields) && slices.Equal(in.Path, fields[:len(in.Path)]) {
				best = in
			}
		}
		if best == nil || slices.ContainsFunc(w.Inputs, func(l InputLife) bool { return l.Input == best }) {
			continue
		}
		w.Inputs = append(w.Inputs, InputLife{best, w.Run.Settings(r.World, best)})
	}
}

func noDocument(run *project.Run, document string) error {
	results, _, err := render.All(run.Unit.Project, []*project.Run{run}, render.Options{})
	if err != nil {
		return err
	}
	var names []string
	for _, d := range results[0].Documents {
		names = append(names, d.Path)
	}
	text := fmt.Sprintf("%s has no document %q", run.Name, document)
	if len(names) == 0 {
		return errors.New(text)
	}
	return fmt.Errorf("%s\n  %s", text, source.Suggest(document, names, "documents are such as "+
		strings.Join(names[:min(len(names), 6)], ", ")))
}
