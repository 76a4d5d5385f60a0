package flow

import (
	"knothole/core/syntax"
)

func (t *frame) patch(e *syntax.Patch) *taint {
	outer, sometimes := t.patched, t.sometimes
	t.patched, t.sometimes = t.expression(e.Target).unordered(), false
	t.statements(e.Body)
	found := t.patched
	t.patched, t.sometimes = outer, sometimes
	return found
}

// places returns the taint of the values that a path leads to. Where it does not name its keys, they may be any.
func (t *frame) places(e *syntax.Places) *taint {
	found := t.expression(e.Of)
	for _, s := range e.Path.Steps {
		for _, key := range s.Keys {
			t.key(key)
		}
		if s.Index != nil {
			if o := t.module.Info.Locals[s.Span.Start]; o != nil {
				t.locals[o.Slot] = found.element().standing(s.Index.Place())
			}
			t.decides(t.expression(s.Index), "this condition", s.Index.Place())
		}
		switch {
		case s.Kind == syntax.KeyStep && s.Keys[0].Value == nil:
			found = found.field(s.Keys[0].Name)
		case s.Kind == syntax.DeepStep || s.Kind == syntax.AnyKeyStep || s.Kind == syntax.ChoiceStep:
			return nil // what it leads to is known when it is evaluated
		default:
			found = found.element()
		}
	}
	return elements(found.standing(e.Place()))
}

// operation follows an operation of a patch: what decides where it goes, and what it puts there.
func (t *frame) operation(d *syntax.Operation) {
	place, exact := t.patched, !t.sometimes && d.Base.Name == ""
	if d.Base.Name != "" {
		place = place.element()
	}
	var keys []*syntax.Key
	for _, s := range d.Steps {
		for _, key := range s.Keys {
			t.key(key)
		}
		if s.Kind != syntax.KeyStep || s.Keys[0].Value != nil {
			exact = false
			if s.Kind == syntax.DeepStep {
				place = nil // it may lead anywhere
			}
			place = place.element()
			if s.Index != nil {
				what := "this condition"
				if s.Kind == syntax.IndexStep {
					what = "this index"
				}
				if o := t.module.Info.Locals[s.Span.Start]; o != nil {
					t.locals[o.Slot] = place.standing(s.Index.Place())
				}
				t.decides(t.expression(s.Index), what, s.Index.Place())
			}
			continue
		}
		keys = append(keys, s.Keys[0])
		place = place.field(s.Keys[0].Name)
	}
	var value *taint
	if d.Value != nil {
		it := t.module.Info.Slot(d.Span.Start)
		t.locals[it] = nil
		if d.Verb != syntax.AddVerb {
			t.locals[it] = place
		}
		value = t.expression(d.Value)
	}
	if exact && !(d.Verb == syntax.AddVerb && d.Optional) {
		t.patched = t.patched.changed(keys, value, d.Verb == syntax.MergeVerb)
		return
	}
	for i := len(d.Steps) - 1; i >= 0 && value != nil; i-- {
		s := d.Steps[i]
		switch {
		case s.Kind == syntax.DeepStep:
			value = nil // where, is known when it is evaluated
		case len(s.Keys) == 0 && s.Kind != syntax.AnyKeyStep:
			value = elements(value)
		case len(s.Keys) == 0 || s.Keys[0].Value != nil:
			value = &taint{rest: value}
		default:
			fields := make(map[string]*taint, len(s.Keys))
			for _, key := range s.Keys {
				fields[key.Name] = value
			}
			value = &taint{fields: fields}
		}
	}
	if d.Base.Name != "" {
		value = elements(value)
	}
	t.patched = either(t.patched, value)
}
