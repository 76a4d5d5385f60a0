package eval

import (
	"slices"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// force returns the value of a declaration, evaluating it if need be; it does not return when that fails.
func (t *thread) force(global int, at source.Span) value.Value {
	return t.forceIn(t.world, global, at)
}

// forceIn is force for a declaration of a certain world.
func (t *thread) forceIn(w *World, global int, at source.Span) value.Value {
	d := w.program.declarations[global]
	w = w.home(d.object)
	if w == nil {
		t.failAt(source.NeedsInstance, at, "", "%s depends on the inputs of %s, which have no values here",
			describe(d.object), d.object.Module.Path)
	}
	s := &w.states[global-w.base]
	if s.status.Load() == done {
		return s.value
	}
	defer t.lock(w)()
	switch s.status.Load() {
	case done:
		return s.value
	case running:
		t.circle(w, d.object, at)
	case failed:
		panic(abort{})
	}
	if d.object.Invalid || w.evaluation.spent {
		s.status.Store(failed)
		panic(abort{})
	}
	t.enter(at)
	s.status.Store(running)
	defer func() {
		if s.status.Load() == running {
			s.status.Store(failed)
		}
	}()
	inner := t.inner(w, d.object)
	inner.needed = at
	inner.run(func(f *frame) { s.value = w.program.compiled(d).evaluate(f) }, d.object.Frame)
	t.depth--
	t.account(w, inner, s.value, at)
	s.status.Store(done)
	return s.value
}

// Limits of an environment: how many steps its declarations may take together, since a loop may make many instances of
// them, and how many elements their values may hold. keptFrom is from how many steps on the elements of a value are
// counted: what took fewer cannot hold many.
const (
	totalLimit = 4 * stepLimit
	keptLimit  = 12_000_000
	keptFrom   = 1 << 17
)

// account counts what a declaration took, and the elements of its value, which is kept for as long as its world.
func (t *thread) account(w *World, inner *thread, v value.Value, at source.Span) {
	all := w.evaluation
	all.steps += inner.steps
	if all.steps > totalLimit {
		all.spent = true
		t.failAt(source.TooMuchWork, at, "go through fewer elements, make fewer instances, or do less in each",
			"the declarations of one environment need more than %d million steps together, and were stopped here",
			totalLimit/1_000_000)
	}
	if inner.steps < keptFrom {
		return
	}
	all.kept += value.Size(v, keptLimit)
	if all.kept > keptLimit {
		all.spent = true
		t.failAt(source.TooMuchWork, at, "keep fewer elements, or less text",
			"the values of one environment hold more than %d million elements with those of %s", keptLimit/1_000_000,
			describe(inner.owner))
	}
}

// evaluate runs the body of a declaration. That of an input of an instance is what the instance was made with, or
// else its default.
func (d *declaration) evaluate(f *frame) value.Value {
	if d.object.Kind != check.ObjectInput || f.world.making() == nil {
		v := d.body(f)
		if tree, ok := d.object.Declaration.(*syntax.Output); ok {
			if tree.Secret {
				return value.MarkAll(v, value.Secret)
			}
			f.expose(v, nil, check.OfOutput(d.object), tree.Value.Place())
		}
		return v
	}
	m := inputMark(d.object)
	if v := f.world.input(f.thread, d.object); !v.IsAbsent() {
		if m&value.Secret == 0 {
			f.expose(v, d.object.Type, check.OfInput(d.object), f.world.making().at)
		}
		return value.MarkAll(v, m)
	}
	if m&value.Later != 0 {
		return absentInput(d.object, m, value.From(d.object.Span.Start))
	}
	return d.body(f)
}

// circle reports a declaration that needs its own value, with the way back to it.
func (t *thread) circle(w *World, o *check.Object, at source.Span) {
	var names []string
	related := []source.Related{{Span: at, Text: describe(o) + " is needed again here"}}
	for s := t; s != nil; s = s.outer {
		if s.owner == nil {
			continue
		}
		if len(names) == 0 || names[0] != s.owner.Name {
			names = slices.Insert(names, 0, s.owner.Name)
		}
		if s.owner == o && s.world == w {
			break
		}
		related = append(related, source.Related{Span: s.needed, Text: describe(s.owner) + " is needed here"})
	}
	slices.Reverse(related)
	finding := check.Circle(o.Span, describe(o), append(names, o.Name))
	finding.Related = related
	t.fail(finding)
}
