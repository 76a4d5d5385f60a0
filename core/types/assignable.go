package types

import "slices"

// pair is a question about two types.
type pair struct{ from, to *Type }

// relation answers questions about pairs of types that may contain themselves. A question that is asked again while
// it is being answered is taken to have the answer yes: types that contain themselves fit when nothing else speaks
// against it.
type relation struct {
	answers map[pair]bool
	yes     []pair // the questions whose answer is yes so far, in the order in which they were asked
	exact   bool   // without any conversion
}

// ask answers a question. What was found while it was taken to be yes is forgotten when it turns out to be no: only
// answers that are no hold whatever was assumed.
func (r *relation) ask(from, to *Type, answer func() bool) bool {
	question := pair{from, to}
	if known, ok := r.answers[question]; ok {
		return known
	}
	before := len(r.yes)
	r.answers[question] = true
	r.yes = append(r.yes, question)
	if answer() {
		return true
	}
	for _, assumed := range r.yes[before:] {
		delete(r.answers, assumed)
	}
	r.yes = r.yes[:before]
	r.answers[question] = false
	return false
}

// Fits reports whether every value of from is one of to as it stands, without any conversion: `is` always holds.
func Fits(from, to *Type) bool {
	return assignable(from, to, &relation{answers: map[pair]bool{}, exact: true})
}

// sameLimit reports whether two types are the same limited type, names taken off.
func sameLimit(a, b *Type) bool {
	unnamed := func(t *Type) *Type {
		for t.Kind == Named && t.Base != nil {
			t = t.Base
		}
		return t
	}
	return unnamed(a) == unnamed(b)
}

// Assignable reports whether every value of from is accepted where to is expected. What is any is accepted and
// checked when evaluated; limits are a matter of values.
func Assignable(from, to *Type) bool {
	return assignable(from, to, &relation{answers: map[pair]bool{}})
}

func assignable(from, to *Type, r *relation) bool {
	if from == to || from.Kind == Invalid || to.Kind == Invalid || from.Kind == Never || to.Kind == Variable {
		return true
	}
	if to.Kind == Any {
		return IsData(from)
	}
	if from.Kind == Any {
		return !r.exact && IsData(to)
	}
	return r.ask(from, to, func() bool {
		if r.exact && (limited(to) && !sameLimit(from, to) || to.set() && !from.set()) {
			return false
		}
		if tuple := to.tuple(); tuple != nil && from.Core().Kind != Union {
			return assignableTuple(from.tuple(), tuple, r)
		}
		if assignableCore(from.Core(), to.Core(), r) {
			return true
		}
		// A tuple fits into a member of a union as what it is, not as the list of its elements.
		core := from.Core()
		return core != from && core.Kind != Union &&
			slices.ContainsFunc(to.alternatives(), func(m *Type) bool {
				return m.tuple() != nil && assignable(from, m, r)
			})
	})
}

func assignableTuple(from, to *Type, r *relation) bool {
	if from == nil || len(from.Parameters) != len(to.Parameters) {
		return false
	}
	for i, e := range to.Parameters {
		if !assignable(from.Parameters[i], e, r) {
			return false
		}
	}
	return true
}

func assignableCore(from, to *Type, r *relation) bool {
	if from.Kind == Union {
		for _, m := range from.Members {
			if !assignable(m, to, r) {
				return false
			}
		}
		return true
	}
	if to.Kind == Union {
		for _, m := range to.Members {
			if assignable(from, m, r) {
				return true
			}
		}
		// bool is the union of its two literals.
		return from.Kind == Bool && holdsBoth(to)
	}
	switch to.Kind {
	case Invalid, Any:
		return true
	case Literal:
		return from.Kind == Literal && from.Literal == to.Literal
	case Float:
		return from.Widen().Kind == Float || from.Widen().Kind == Int && !r.exact
	case Null, Bool, Int, String:
		return from.Widen().Kind == to.Kind
	case List:
		return from.Kind == List && assignable(from.Element, to.Element, r)
	case Function:
		if from.Kind != Function || from.Required > len(to.Parameters) || len(from.Parameters) < len(to.Parameters) {
			return false
		}
		if r.exact {
			return !Converts(from, to) && Assignable(from, to)
		}
		for i, p := range to.Parameters {
			if !assignable(p, from.Parameters[i], r) {
				return false
			}
		}
		return assignable(from.Result, to.Result, r)
	case Record:
		if from.Kind != Record {
			return from.Kind == Invalid || from.Kind == Any
		}
		for _, f := range to.Fields {
			given, ok := from.Field(f.Name)
			absent := f.Optional || f.Default != nil && !r.exact // it may be
			switch {
			case ok && given.Optional && !absent:
				return false
			case ok && !assignable(given.Type, f.Type, r):
				return false
			case !ok && from.Rest != nil && (from.Rest.Kind != Any || r.exact) && (!absent || !assignable(from.Rest,
				f.Type, r)):
				return false
			case !ok && from.Rest == nil && !absent:
				return false
			}
		}
		for _, f := range from.Fields {
			if _, ok := to.Field(f.Name); !ok && (to.Rest == nil || !assignable(f.Type, to.Rest, r)) {
				return false
			}
		}
		return from.Rest == nil || to.Rest != nil && assignable(from.Rest, to.Rest,
			r) || to.Rest == nil && from.Rest.Kind == Any && !r.exact
	}
	return false
}

// IsData reports whether the values of a type are data: they hold no functions.
func IsData(t *Type) bool { return isData(t, map[*Type]bool{}) }

func isData(t *Type, seen map[*Type]bool) bool {
	if seen[t] {
		return true
	}
	switch t.Kind {
	case Function, Instance:
		return false
	case List:
		seen[t] = true
		return isData(t.Element, seen)
	case Union:
		seen[t] = true
		return !slices.ContainsFunc(t.Members, func(m *Type) bool { return !isData(m, seen) })
	case Record:
		seen[t] = true
		return (t.Rest == nil || isData(t.Rest, seen)) &&
			!slices.ContainsFunc(t.Fields, func(f Field) bool { return !isData(f.Type, seen) })
	case Named, Limited, Tuple, Set:
		seen[t] = true
		return t.Base == nil || isData(t.Base, seen)
	}
	return true
}

func holdsBoth(union *Type) bool {
	has := func(b bool) bool {
		return slices.ContainsFunc(union.Parts(), func(p *Type) bool { return p.Kind == Literal && p.Literal == b })
	}
	return has(true) && has(false)
}

// Overlap reports whether some value could belong to both types.
func Overlap(a, b *Type) bool {
	for _, x := range a.Parts() {
		for _, y := range b.Parts() {
			if overlapParts(x, y) {
				return true
			}
		}
	}
	return false
}

func overlapParts(x, y *Type) bool {
	switch {
	case x.Kind <= Any || y.Kind <= Any:
		return true
	case x.Kind == Literal && y.Kind == Literal:
		return x.Literal == y.Literal || numeric(x) && numeric(y) && x.Widen() != y.Widen()
	case numeric(x) && numeric(y):
		return true
	case x.Kind == Record && y.Kind == Record, x.Kind == List && y.Kind == List:
		return true
	case x.Kind == Instance && y.Kind == Instance:
		return x == y
	}
	return x.Widen().Kind == y.Widen().Kind
}

func numeric(t *Type) bool { k := t.Widen().Kind; return k == Int || k == Float }
