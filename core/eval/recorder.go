package eval

import (
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Recorder holds what a recording evaluation wrote down: for each value that depends on inputs or on the
// environment, one step. Values of steps refer to them by their origin.
type Recorder struct{ steps []RecordedStep }

// RecordedStep says how one value came to be.
type RecordedStep struct {
	Pos   source.Pos // the line that decided the value: where it was written or computed
	Input string     // the input that the value is, with the path of fields in it; empty for others
	// Environment says that the value is env.name or another field of env.
	Environment bool
	// Operands are what it was computed from, or chosen by.
	Operands []value.Origin
	Kind     StepKind
	// Replaced is what stood where a patch put the value; nil where nothing did.
	Replaced *value.Value
}

// StepKind says what a step did.
type StepKind uint8

// The kinds of steps. A value that is placed or patched was decided elsewhere: by its first operand.
const (
	Computed StepKind = iota
	Chosen            // the first operand was taken because of the second; or the place because of the only one
	Placed            // put under a key of a record
	Patched           // put into data by a patch
	Passed            // given to a function or a component
)

// Step returns the step behind an origin; ok is false for an origin that is only a place.
func (r *Recorder) Step(o value.Origin) (step RecordedStep, ok bool) {
	number, ok := o.Step()
	if !ok || r == nil {
		return RecordedStep{}, false
	}
	return r.steps[number], true
}

// Pos returns the place that decided a value.
func (r *Recorder) Pos(o value.Origin) source.Pos {
	for {
		step, ok := r.Step(o)
		switch {
		case !ok:
			return o.Pos()
		case step.Kind == Placed || step.Kind == Patched || step.Kind == Passed:
			o = step.Operands[0]
		default:
			return step.Pos
		}
	}
}

// placed notes where a value was put into a record, unless it was written there.
func (r *Recorder) placed(v value.Value, key, written source.Span) value.Value {
	o := v.Origin()
	if _, ok := o.Step(); !ok && o.Pos() >= written.Start && o.Pos() < written.End || v.IsAbsent() {
		return v
	}
	return v.WithOrigin(r.add(RecordedStep{Pos: key.Start, Operands: []value.Origin{o}, Kind: Placed}))
}

// passed notes where a value that depends on something was given to a function or a component.
func (r *Recorder) passed(v value.Value, at source.Pos) value.Value {
	if _, ok := v.Origin().Step(); !ok || v.IsAbsent() {
		return v
	}
	return v.WithOrigin(r.add(RecordedStep{Pos: at, Operands: []value.Origin{v.Origin()}, Kind: Passed}))
}

// patched notes the patch that put a value, and what stood there before.
func (f *frame) patched(v, old value.Value, at source.Pos) value.Value {
	r := f.world.recorder
	if r == nil {
		return v
	}
	step := RecordedStep{Pos: at, Operands: []value.Origin{v.Origin()}, Kind: Patched}
	if !old.IsAbsent() {
		step.Replaced = &old
	}
	return v.WithOrigin(r.add(step))
}

func (r *Recorder) add(s RecordedStep) value.Origin {
	r.steps = append(r.steps, s)
	return value.Recorded(len(r.steps) - 1)
}

// input marks a value and all that it holds as coming from an input; fields are named with their path in it.
func (r *Recorder) input(name string, v value.Value) value.Value {
	o := r.add(RecordedStep{Pos: r.Pos(v.Origin()), Input: name})
	switch v.Kind() {
	case value.List:
		elements := make([]value.Value, v.Len())
		for i, x := range v.Elements() {
			elements[i] = r.input(name, x)
		}
		return value.ListOf(elements, o)
	case value.Record:
		values := make([]value.Value, v.Len())
		for i, x := range v.Values() {
			values[i] = r.input(name+"."+place.Key(v.Shape().Keys()[i]), x)
		}
		return value.RecordOf(v.Shape(), values, o)
	}
	return v.WithOrigin(o)
}

// mark gives a value and all that it holds new origins. What is shared stays shared.
func mark(v value.Value, origin func(value.Value) value.Origin) value.Value {
	m := &marking{origin: origin, marked: map[value.Value]value.Value{}}
	return m.value(v)
}

// markDepth is how deep a value is marked. No document nests as deep; what does is not copied, since it may be deeper
// than the stack of a goroutine.
const markDepth = 100_000

type marking struct {
	origin func(value.Value) value.Origin
	marked map[value.Value]value.Value
	depth  int
}

func (m *marking) value(v value.Value) value.Value {
	if v.Kind() != value.List && v.Kind() != value.Record || m.depth > markDepth {
		return v.WithOrigin(m.origin(v))
	}
	m.depth++
	defer func() { m.depth-- }()
	if marked, ok := m.marked[v]; ok {
		return marked
	}
	var marked value.Value
	if v.Kind() == value.List {
		marked = value.ListOf(m.all(v.Elements()), m.origin(v))
	} else {
		marked = value.RecordOf(v.Shape(), m.all(v.Values()), m.origin(v))
	}
	m.marked[v] = marked
	return marked
}

func (m *marking) all(values []value.Value) []value.Value {
	marked := make([]value.Value, len(values))
	for i, x := range values {
		marked[i] = m.value(x)
	}
	return marked
}

// Originate returns a value with one origin for itself and all that it holds.
func Originate(v value.Value, o value.Origin) value.Value {
	return mark(v, func(value.Value) value.Origin { return o })
}

// computed returns the origin of a value that was computed at a place from others.
func (r *Recorder) computed(at source.Pos, operands ...value.Origin) value.Origin {
	var kept []value.Origin
	for _, o := range operands {
		if _, ok := o.Step(); ok {
			kept = append(kept, o)
		}
	}
	if kept == nil {
		return value.From(at)
	}
	return r.add(RecordedStep{Pos: at, Operands: kept})
}

// chosen returns a value that something else chose, such as the condition of the branch that it stands in: the same
// value, decided where it was, and depending on the choice too.
func (r *Recorder) chosen(v value.Value, by value.Origin) value.Value {
	if _, ok := by.Step(); !ok || v.IsAbsent() {
		return v
	}
	if _, ok := v.Origin().Step(); ok {
		return v.WithOrigin(r.add(RecordedStep{Pos: r.Pos(v.Origin()), Operands: []value.Origin{v.Origin(), by},
			Kind: Chosen}))
	}
	return v.WithOrigin(r.add(RecordedStep{Pos: v.Origin().Pos(), Operands: []value.Origin{by}, Kind: Chosen}))
}
