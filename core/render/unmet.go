package render

import (
	"slices"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/value"
)

// shownRead is how many inputs are named that a requirement read.
const shownRead = 4

// nameRead adds to each requirement that does not hold which inputs it read, with their lines and values: one of them
// has to change. What it read is only known of a recorded evaluation, which is made for this.
func nameRead(r *Result, options Options) {
	broken := func(f source.Finding) bool { return f.Code == source.Requirement }
	if !slices.ContainsFunc(r.Findings, broken) {
		return
	}
	w := r.World
	if w == nil || w.Recorder() == nil {
		options.Recording, options.Validate = true, false
		w = World(r.Run, r.Run.World(true), options).World
	}
	unmet := slices.Clone(w.Unmet())
	for i := range r.Findings {
		f := &r.Findings[i]
		at := slices.IndexFunc(unmet, func(u eval.Unmet) bool { return u.At == f.Span && u.Message == f.Message })
		if !broken(*f) || at < 0 {
			continue
		}
		related := read(r.Run.Unit, w, unmet[at])
		f.Related = slices.Concat(related, f.Related)
		unmet = slices.Delete(unmet, at, at+1)
	}
}

// nameReadUpstream is nameRead for requirements of environments that are not rendered, but whose outputs others need.
func nameReadUpstream(runs []*project.Run, findings source.Findings) {
	for _, run := range project.Upstream(runs)[len(runs):] {
		r := &Result{Run: run}
		var at []int
		for i, f := range findings {
			if f.Code == source.Requirement && f.Related == nil && slices.Equal(f.Environments, []string{run.Name}) {
				r.Findings, at = append(r.Findings, f), append(at, i)
			}
		}
		if at == nil {
			continue
		}
		nameRead(r, Options{})
		for i, f := range r.Findings {
			findings[at[i]] = f
		}
	}
}

// read returns the inputs that a requirement read.
func read(unit *project.Unit, w *eval.World, u eval.Unmet) (related []source.Related) {
	var inputs []*eval.InputPart
	w.Recorder().Inputs(u.Origin, func(in *eval.InputPart, at source.Pos) {
		if slices.Contains(inputs, in) || len(inputs) == shownRead {
			return
		}
		// A record or list that is gone through on the way to a part of it tells less than the part.
		v := inputValue(unit, w, in)
		if v.IsAbsent() || v.Kind() == value.Record && len(inputs) > 0 {
			return
		}
		inputs = append(inputs, in)
		related = append(related, source.Related{Span: source.At(at), Text: in.Name + " is " + value.Shown(v).Show(60)})
	})
	all := related
	related = nil
	for i, in := range inputs { // a part says more than the whole
		if !slices.ContainsFunc(inputs, func(other *eval.InputPart) bool { return other != in && other.In(in) }) {
			related = append(related, all[i])
		}
	}
	return related
}

// inputValue returns what an input, or a part of one, is; Absent when that is not known.
func inputValue(unit *project.Unit, w *eval.World, in *eval.InputPart) value.Value {
	path := in.Path.Fields()
	o := unit.Module.Objects[path[0]]
	if o == nil || o.Kind != check.ObjectInput {
		return value.Value{}
	}
	v, _ := w.Value(o)
	found, missing := place.Follow(v, path[1:])
	if missing != "" {
		return value.Value{}
	}
	return found.Value
}
