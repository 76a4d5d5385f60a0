package types

import (
	"slices"
	"sync"
)

// pair is a question about two types.
type pair struct{ from, to Type }

// relationKind says what is asked of two types.
type relationKind uint8

const (
	assignableTo relationKind = iota
	fitsInto
	convertsInto
	relationKinds
)

// relations are the answers to questions about two types that hold whatever else is asked, of one universe.
type relations struct {
	mu      sync.RWMutex
	answers [relationKinds]map[pair]bool
}

func (r *relations) find(kind relationKind, question pair) (answer, known bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	answer, known = r.answers[kind][question]
	return answer, known
}

func (r *relations) keep(kind relationKind, answers map[pair]bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.answers[kind] == nil {
		r.answers[kind] = map[pair]bool{}
	}
	for question, answer := range answers {
		r.answers[kind][question] = answer
	}
}

// relation answers one question about two types that may contain themselves. A question that is asked again while it
// is being answered is taken to have an answer: the answer assumed for recursive questions, which is
// `assumed`. For types that fit that is yes, for types whose values change it is no.
//
// What was found while an answer was assumed is forgotten when the assumption turns out to be wrong. The opposite
// answers hold whatever was assumed. So, when the outermost question is answered, all answers that are left hold: they
// are kept in the universe, and no question about the same two types is asked twice; but not while a name is being
// resolved, which would change them.
type relation struct {
	kind    relationKind
	memory  *relations // of the universe of the types; nil when all are basic
	assumed bool
	answers map[pair]bool
	trail   []pair // the questions that have the assumed answer so far, in the order in which they were asked
}

// answer answers a question about two types by a relation of a kind.
func answer(kind relationKind, assumed bool, from, to Type, ask func(r *relation) bool) bool {
	r := &relation{kind: kind, assumed: assumed}
	universe := from.id().universe
	if universe == nil {
		universe = to.id().universe
	}
	if universe != nil {
		r.memory = &universe.relations
	}
	result := ask(r)
	if len(r.answers) > 0 && universe != nil && universe.unresolved.Load() == 0 {
		r.memory.keep(kind, r.answers)
	}
	return result
}

// ask answers a question that is part of the current one.
func (r *relation) ask(from, to Type, find func() bool) bool {
	question := pair{from, to}
	if known, ok := r.answers[question]; ok {
		return known
	}
	if r.memory != nil {
		if known, ok := r.memory.find(r.kind, question); ok {
			return known
		}
	}
	if r.answers == nil {
		r.answers = map[pair]bool{}
	}
	before := len(r.trail)
	r.answers[question] = r.assumed
	r.trail = append(r.trail, question)
	if find() == r.assumed {
		return r.assumed
	}
	for _, assumed := range r.trail[before:] {
		delete(r.answers, assumed)
	}
	r.trail = r.trail[:before]
	r.answers[question] = !r.assumed
	return !r.assumed
}

// Assignable reports whether every value of from is accepted where to is expected. What is any is accepted and
// checked when evaluated; limits are a matter of values.
func Assignable(from, to Type) bool {
	return answer(assignableTo, true, from, to, func(r *relation) bool { return r.assignable(from, to) })
}

// Fits reports whether every value of from is one of to as it is, without any conversion: `is` always holds.
func Fits(from, to Type) bool {
	return answer(fitsInto, true, from, to, func(r *relation) bool { return r.assignable(from, to) })
}

// exact says that nothing may be converted.
func (r *relation) exact() bool { return r.kind == fitsInto }

// settled answers what needs no look at the parts of two types.
func (r *relation) settled(from, to Type) (answer, done bool) {
	if from == to || from == Invalid || to == Invalid || from == Never {
		return true, true
	}
	if _, variable := to.(*Variable); variable {
		return true, true
	}
	switch {
	case to == Any:
		return IsData(from), true
	case from == Any:
		return !r.exact() && IsData(to), true
	}
	return false, false
}

func (r *relation) assignable(from, to Type) bool {
	if answer, done := r.settled(from, to); done {
		return answer
	}
	return r.ask(from, to, func() bool {
		if r.exact() && (AsLimited(to) != nil && Unnamed(from) != Unnamed(to) ||
			AsSet(to) != nil && AsSet(from) == nil) {
			return false
		}
		union := AsUnion(from)
		if tuple := AsTuple(to); tuple != nil && union == nil {
			return r.tuple(AsTuple(from), tuple)
		}
		if r.core(Core(from), Core(to)) {
			return true
		}
		// A tuple fits into a member of a union as what it is, not as the list of its elements.
		return Core(from) != from && union == nil && slices.ContainsFunc(Alternatives(to), func(m Type) bool {
			return AsTuple(m) != nil && r.assignable(from, m)
		})
	})
}

func (r *relation) tuple(from, to *Tuple) bool {
	if from == nil || len(from.Elements) != len(to.Elements) {
		return false
	}
	for i, e := range to.Elements {
		if !r.assignable(from.Elements[i], e) {
			return false
		}
	}
	return true
}

// core is assignable for types without names and limits.
func (r *relation) core(from, to Type) bool {
	if union, ok := from.(*Union); ok {
		return !slices.ContainsFunc(union.Members, func(m Type) bool { return !r.assignable(m, to) })
	}
	switch to := to.(type) {
	case *Basic:
		wide := Widen(from)
		return to == Invalid || to == Any || wide == Type(to) && to != Never ||
			to == Float && wide == Int && !r.exact()
	case *Union:
		return slices.ContainsFunc(to.candidates(from), func(m Type) bool { return r.assignable(from, m) }) ||
			from == Bool && holdsBoth(to) // bool is the union of its two literals
	case *Literal:
		return LiteralValue(from) == to.Value
	case *List:
		list, ok := from.(*List)
		return ok && r.assignable(list.Element, to.Element)
	case *Function:
		function, ok := from.(*Function)
		return ok && r.function(function, to)
	case *Record:
		record, ok := from.(*Record)
		return from == Invalid || from == Any || ok && r.record(record, to)
	}
	return from == to
}

func (r *relation) function(from, to *Function) bool {
	if from.Required > len(to.Parameters) || len(from.Parameters) < len(to.Parameters) {
		return false
	}
	if r.exact() {
		return !Converts(from, to) && Assignable(from, to)
	}
	for i, p := range to.Parameters {
		if !r.assignable(p, from.Parameters[i]) {
			return false
		}
	}
	return r.assignable(from.Result, to.Result)
}

func (r *relation) record(from, to *Record) bool {
	open := from.Rest != nil && (from.Rest != Any || r.exact()) // it may hold fields that it does not declare
	for _, f := range to.Fields {
		given, ok := from.Field(f.Name)
		absent := f.Optional || f.Default != nil && !r.exact() // it may be
		switch {
		case ok && given.Optional && !absent:
			return false
		case ok && !r.assignable(given.Type, f.Type):
			return false
		case !ok && open && (!absent || !r.assignable(from.Rest, f.Type)):
			return false
		case !ok && from.Rest == nil && !absent:
			return false
		}
	}
	for _, f := range from.Fields {
		if _, ok := to.Field(f.Name); !ok && (to.Rest == nil || !r.assignable(f.Type, to.Rest)) {
			return false
		}
	}
	return from.Rest == nil || to.Rest != nil && r.assignable(from.Rest, to.Rest) ||
		to.Rest == nil && from.Rest == Any && !r.exact()
}

// distinction is a field by whose literal types the records among the members of a union are told apart.
type distinction struct {
	field string
	// records are the members with each literal; others are the members that it does not tell.
	records map[any][]Type
	others  []Type
}

// candidates returns the members of a union that a type may fit into. Of many records those are left out whose literal
// is another, so that the work for a union of n records does not grow with its square.
func (t *Union) candidates(from Type) []Type {
	record := AsRecord(from)
	if record == nil || len(t.Members) <= manyMembers {
		return t.Members
	}
	t.once.Do(func() { t.told = t.distinguish() })
	if t.told == nil {
		return t.Members
	}
	f, ok := record.Field(t.told.field)
	if !ok || LiteralValue(f.Type) == nil {
		return t.Members
	}
	return slices.Concat(t.told.records[LiteralValue(f.Type)], t.told.others)
}

// distinguish finds the field by which most of the records of a union are told apart; nil when there is none.
func (t *Union) distinguish() *distinction {
	var best *distinction
	tried := map[string]bool{}
	for _, m := range t.Members {
		record, ok := m.(*Record)
		if !ok {
			continue
		}
		for _, f := range record.Fields {
			if LiteralValue(f.Type) == nil || tried[f.Name] || len(tried) == manyFields {
				continue
			}
			tried[f.Name] = true
			if d := t.by(f.Name); best == nil || len(d.records) > len(best.records) {
				best = d
			}
		}
	}
	return best
}

// by tells the members of a union apart by a field.
func (t *Union) by(field string) *distinction {
	d := &distinction{field: field, records: map[any][]Type{}}
	for _, m := range t.Members {
		var literal any
		if record, ok := m.(*Record); ok {
			if f, ok := record.Field(field); ok {
				literal = LiteralValue(f.Type)
			}
		}
		if literal == nil {
			d.others = append(d.others, m)
		} else {
			d.records[literal] = append(d.records[literal], m)
		}
	}
	return d
}

// holdsBoth reports whether both bools are among the members of a union.
func holdsBoth(union *Union) bool {
	has := func(b bool) bool {
		return slices.ContainsFunc(Parts(union), func(p Type) bool { return LiteralValue(p) == b })
	}
	return has(true) && has(false)
}

// Overlap reports whether some value could belong to both types.
func Overlap(a, b Type) bool {
	for _, x := range Parts(a) {
		for _, y := range Parts(b) {
			if overlapParts(x, y) {
				return true
			}
		}
	}
	return false
}

func overlapParts(x, y Type) bool {
	if vague(x) || vague(y) {
		return true
	}
	if a, b := LiteralValue(x), LiteralValue(y); a != nil && b != nil {
		return a == b || IsNumeric(x) && IsNumeric(y) && Widen(x) != Widen(y)
	}
	switch x.(type) {
	case *Basic, *Literal:
		return Widen(x) == Widen(y) || IsNumeric(x) && IsNumeric(y)
	case *Function:
		_, function := y.(*Function)
		return function
	case *Instance:
		return x == y
	}
	return sameKind(x, y)
}

// vague reports whether a type says nothing about what its values are.
func vague(t Type) bool { return t == Invalid || t == Never || t == Any }

// IsNumeric reports whether a type is a kind of number, or one number.
func IsNumeric(t Type) bool {
	wide := Widen(t)
	return wide == Int || wide == Float
}
