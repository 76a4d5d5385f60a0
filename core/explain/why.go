package explain

import (
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
	Environment *project.Environment
	Document    *render.Document
	Path        *place.Path
	Value       value.Value
	Events      []Event
	// Around are the patches that touched what holds the value, outermost first.
	Around []Event
	// Holders are the inputs, or the environment, that chose what holds the value.
	Holders []Leaf
	Inputs  []InputLife
}

// InputLife is an input on which the value depends.
type InputLife struct {
	Input    *project.Input
	Settings project.Settings
}

// Value explains one value of an environment. Only the document in question is evaluated. The findings are those that
// keep it from being rendered; why not is said when the document or the place is not there.
func Value(p *project.Project, e *project.Environment, document string, path *eval.Places) (why *Why, whyNot string,
	findings source.Findings) {
	results, findings := render.All(p, []*project.Environment{e},
		render.Options{Recording: true, Only: func(name string) bool { return name == document }})
	if findings.HasErrors() {
		return nil, "", findings
	}
	r := results[0]
	if len(r.Documents) == 0 {
		return nil, noDocument(p, e, document), nil
	}
	w := &Why{Environment: e, Document: &r.Documents[0]}
	found, whyNot := w.find(path)
	if whyNot != "" {
		return nil, whyNot, nil
	}
	w.Path, w.Value = found.Path, found.Value
	w.Events = Story(r.Recorder(), w.Value.Origin(), p.InSource)
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
		same := func(other Leaf) bool { return other.Name == leaf.Name }
		if !slices.ContainsFunc(own, same) && !slices.ContainsFunc(w.Holders, same) {
			w.Holders = append(w.Holders, leaf)
		}
	}
	w.addInputs(p, r, w.names(r.Recorder()))
	return w, "", findings
}

// find follows the path, which must lead to one place.
func (w *Why) find(path *eval.Places) (place.Found, string) {
	all, why := path.Find(w.Document.Value)
	switch {
	case why != "":
		return place.Found{}, w.Document.Path + ": " + why
	case len(all) > 1:
		var texts []string
		for _, f := range all[:min(len(all), 6)] {
			texts = append(texts, f.Path.String())
		}
		return place.Found{}, fmt.Sprintf("%s: the path leads to %d places, such as %s; name one of them",
			w.Document.Path, len(all), strings.Join(texts, ", "))
	}
	return all[0], ""
}

// names returns the inputs on which the value depends, in the order in which they are told.
func (w *Why) names(r *eval.Recorder) []string {
	var names []string
	for _, leaf := range slices.Concat(deep(r, w.Value), w.Holders) {
		if leaf.Name != EnvironmentName && !slices.Contains(names, leaf.Name) {
			names = append(names, leaf.Name)
		}
	}
	return names
}

func (w *Why) addInputs(p *project.Project, r *render.Result, names []string) {
	all := p.InputsOf(p.Module)
	for _, name := range names {
		var best *project.Input
		for _, in := range all {
			own := in.Name()
			if name == own || strings.HasPrefix(name, own+".") {
				best = in
			}
		}
		if best == nil || slices.ContainsFunc(w.Inputs, func(l InputLife) bool { return l.Input == best }) {
			continue
		}
		w.Inputs = append(w.Inputs, InputLife{best, p.Settings(r.Environment, r.World, best)})
	}
}

func noDocument(p *project.Project, e *project.Environment, document string) string {
	results, _ := render.All(p, []*project.Environment{e}, render.Options{})
	var names []string
	for _, d := range results[0].Documents {
		names = append(names, d.Path)
	}
	text := fmt.Sprintf("%s has no document %q", e.Name, document)
	if len(names) == 0 {
		return text
	}
	return text + "\n  " + source.Suggest(document, names, "documents are such as "+
		strings.Join(names[:min(len(names), 6)], ", "))
}
