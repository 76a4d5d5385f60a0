package eval

import (
	"slices"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Recorder holds what a recording evaluation wrote down: for each value that depends on inputs or on the environment,
// one step. Values of steps refer to them by their origin. A nil Recorder records nothing: it gives values back as they
// are, and origins that are places.
//
// There are hundreds of thousands of steps in an environment, so that they are packed: a step is 16 bytes without
// pointers, which the garbage collector need not look through; steps and operands are in blocks, which are never
// copied to grow.
type Recorder struct {
	steps  [][]packedStep // blocks of stepsInBlock
	number int            // of steps
	// operands are those of all steps. Those of one step are in one block.
	operands [][]value.Origin
	replaced []value.Value // by patches
	inputs   []*InputPart
	whole    map[string]*InputPart // whole inputs, by name
	defaults []value.Origin        // of inputs, where these depend on something
	ofTexts  *textRecord           // nil when the lines of texts are not distinguished
}

// Blocks hold so many steps, or operands, as powers of two. A step with more operands than a block holds has a block of
// its own.
const (
	stepBits    = 12
	operandBits = 14
)

// InputPart is an input, or a part of one, that values come from. The elements of a list are one: what is said of a
// part of them is said of all. A Recorder has one InputPart for each, so that they are compared by their addresses.
type InputPart struct {
	Outer  *InputPart  // that of which it is a part; nil for a whole input
	Path   *place.Path // fields only: the input, and the way into it
	Name   string      // the path as it is written
	number uint32
	parts  map[string]*InputPart
}

// In reports whether the input is another, or a part of it.
func (p *InputPart) In(other *InputPart) bool {
	for ; p != nil; p = p.Outer {
		if p == other {
			return true
		}
	}
	return false
}

// part returns the field of an input, or the input with a name when outer is nil.
func (r *Recorder) part(outer *InputPart, name string) *InputPart {
	known := &r.whole
	if outer != nil {
		known = &outer.parts
	}
	if p := (*known)[name]; p != nil {
		return p
	}
	p := &InputPart{Outer: outer, number: uint32(len(r.inputs))}
	if outer == nil {
		p.Path, p.Name = (*place.Path)(nil).Field(name), place.Key(name)
	} else {
		p.Path, p.Name = outer.Path.Field(name), outer.Name+"."+place.Key(name)
	}
	if *known == nil {
		*known = map[string]*InputPart{}
	}
	(*known)[name] = p
	r.inputs = append(r.inputs, p)
	return p
}

// packedStep is one step. Its first number is where its operands begin, as the number of their block and the position
// in it; for an input it is its number.
type packedStep struct {
	pos   source.Pos
	first uint32
	// count is how many operands there are; for a patch, which has one, 1 more than the number of what it replaced, and
	// for an input 1 more than that of its default, when that depends on something.
	count  uint32
	kind   StepKind
	origin stepOrigin
}

// stepOrigin says what else a step is.
type stepOrigin uint8

const (
	fromOperands stepOrigin = iota
	fromInput
	fromEnvironment
)

// RecordedStep says how one value came to be.
type RecordedStep struct {
	Pos   source.Pos // the line that decided the value: where it was written or computed
	Input *InputPart // that the value is; nil for a value that is not an input
	// Environment says that the value is env.name or another field of env.
	Environment bool
	// Operands are what it was computed from, or chosen by; of an input, its default, when that depends on something.
	// They must not be changed.
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

// Step returns the step after an origin; ok is false for an origin that is only a place.
func (r *Recorder) Step(o value.Origin) (step RecordedStep, ok bool) {
	number, ok := o.Step()
	if !ok || r == nil {
		return RecordedStep{}, false
	}
	p := r.packed(number)
	step = RecordedStep{Pos: p.pos, Kind: p.kind}
	switch {
	case p.origin == fromInput:
		step.Input = r.inputs[p.first]
		if p.count > 0 {
			step.Operands = r.defaults[p.count-1 : p.count : p.count]
		}
	case p.origin == fromEnvironment:
		step.Environment = true
	case p.kind == Patched:
		step.Operands = r.listed(p.first, 1)
		if p.count > 1 {
			step.Replaced = &r.replaced[p.count-2]
		}
	default:
		step.Operands = r.listed(p.first, p.count)
	}
	return step, true
}

func (r *Recorder) packed(number int) *packedStep {
	return &r.steps[number>>stepBits][number&(1<<stepBits-1)]
}

// listed returns the operands of a step.
func (r *Recorder) listed(first, count uint32) []value.Origin {
	if count == 0 {
		return nil
	}
	at := first & (1<<operandBits - 1)
	return r.operands[first>>operandBits][at : at+count : at+count]
}

// Inputs calls take for each input, and each part of one, that a value was computed from, in the order in which they
// are visited.
func (r *Recorder) Inputs(o value.Origin, take func(in *InputPart, at source.Pos)) {
	seen, stack := map[value.Origin]bool{}, []value.Origin{o}
	for len(stack) > 0 {
		o := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		step, ok := r.Step(o)
		if !ok || seen[o] {
			continue
		}
		seen[o] = true
		if step.Input != nil {
			take(step.Input, step.Pos)
		}
		for _, operand := range slices.Backward(step.Operands) {
			stack = append(stack, operand)
		}
	}
}

// Pos returns the place that decided a value.
func (r *Recorder) Pos(o value.Origin) source.Pos {
	for {
		number, ok := o.Step()
		if !ok || r == nil {
			return o.Pos()
		}
		p := r.packed(number)
		if p.kind != Placed && p.kind != Patched && p.kind != Passed {
			return p.pos
		}
		o = r.listed(p.first, 1)[0]
	}
}

// add writes down a step.
func (r *Recorder) add(s packedStep) value.Origin {
	at := r.number & (1<<stepBits - 1)
	if at == 0 {
		r.steps = append(r.steps, make([]packedStep, 1<<stepBits))
	}
	r.steps[len(r.steps)-1][at] = s
	r.number++
	return value.Recorded(r.number - 1)
}

// keep writes down operands and returns where they are.
func (r *Recorder) keep(operands ...value.Origin) uint32 {
	last := len(r.operands) - 1
	if last < 0 || len(r.operands[last])+len(operands) > cap(r.operands[last]) {
		r.operands = append(r.operands, make([]value.Origin, 0, max(1<<operandBits, len(operands))))
		last++
	}
	block := r.operands[last]
	first := uint32(last)<<operandBits | uint32(len(block))
	r.operands[last] = append(block, operands...)
	return first
}

// derived writes down a step with operands.
func (r *Recorder) derived(kind StepKind, at source.Pos, operands ...value.Origin) value.Origin {
	return r.add(packedStep{pos: at, kind: kind, first: r.keep(operands...), count: uint32(len(operands))})
}

// environment is the origin of a field of env that is read at a place.
func (r *Recorder) environment(at source.Pos) value.Origin {
	if r == nil {
		return value.From(at)
	}
	return r.add(packedStep{pos: at, origin: fromEnvironment})
}

// placed notes where a value was put into a record, unless it was written there.
func (r *Recorder) placed(v value.Value, key, written source.Span) value.Value {
	if r == nil {
		return v
	}
	o := v.Origin()
	if _, ok := o.Step(); !ok && o.Pos() >= written.Start && o.Pos() < written.End || v.IsAbsent() {
		return v
	}
	return v.WithOrigin(r.derived(Placed, key.Start, o))
}

// key returns the origin of the key under which a value is in a record: where the key is written, and what chose that
// it is there; not what the value was made of. Where that is not known it is the origin of the value.
func (r *Recorder) key(o value.Origin) value.Origin {
	step, ok := r.Step(o)
	switch {
	case !ok:
		return o
	case step.Kind == Placed:
		return value.From(step.Pos)
	case step.Kind == Chosen && len(step.Operands) == 2:
		return r.chosen(value.NullOf(r.key(step.Operands[0])), step.Operands[1]).Origin()
	}
	return o
}

// passed notes where a value that depends on something was given to a function or a component.
func (r *Recorder) passed(v value.Value, at source.Pos) value.Value {
	if r == nil {
		return v
	}
	if _, ok := v.Origin().Step(); !ok || v.IsAbsent() {
		return v
	}
	return v.WithOrigin(r.derived(Passed, at, v.Origin()))
}

// patched notes the patch that put a value, and what stood there before.
func (r *Recorder) patched(v, old value.Value, at source.Pos) value.Value {
	if r == nil {
		return v
	}
	s := packedStep{pos: at, kind: Patched, first: r.keep(v.Origin()), count: 1}
	if !old.IsAbsent() {
		r.replaced = append(r.replaced, old)
		s.count += uint32(len(r.replaced))
	}
	return v.WithOrigin(r.add(s))
}

// input marks a value and all its parts as coming from the input with a name.
func (r *Recorder) input(name string, v value.Value) value.Value {
	if r == nil {
		return v
	}
	return r.inputPart(r.part(nil, name), v)
}

func (r *Recorder) inputPart(p *InputPart, v value.Value) value.Value {
	s := packedStep{pos: r.Pos(v.Origin()), origin: fromInput, first: p.number}
	if _, depends := v.Origin().Step(); depends {
		r.defaults = append(r.defaults, v.Origin())
		s.count = uint32(len(r.defaults))
	}
	o := r.add(s)
	switch v.Kind() {
	case value.List:
		elements := make([]value.Value, v.Len())
		for i, x := range v.Elements() {
			elements[i] = r.inputPart(p, x)
		}
		return value.ListOf(elements, o)
	case value.Record:
		values := make([]value.Value, v.Len())
		for i, x := range v.Values() {
			values[i] = r.inputPart(r.part(p, v.Shape().Keys()[i]), x)
		}
		return value.RecordOf(v.Shape(), values, o)
	}
	return v.WithOrigin(o)
}

// computed returns the origin of a value that was computed at a place from others.
func (r *Recorder) computed(at source.Pos, operands ...value.Origin) value.Origin {
	if r == nil {
		return value.From(at)
	}
	kept := operands[:0:0]
	for _, o := range operands {
		if _, ok := o.Step(); ok {
			kept = append(kept, o)
		}
	}
	if len(kept) == 0 {
		return value.From(at)
	}
	return r.derived(Computed, at, kept...)
}

// chosen returns a value that something else chose, such as the condition of the branch that it is in: the same
// value, decided where it was, and depending on the choice too.
func (r *Recorder) chosen(v value.Value, by value.Origin) value.Value {
	if r == nil {
		return v
	}
	if _, ok := by.Step(); !ok || v.IsAbsent() {
		return v
	}
	if _, ok := v.Origin().Step(); ok {
		return v.WithOrigin(r.derived(Chosen, r.Pos(v.Origin()), v.Origin(), by))
	}
	return v.WithOrigin(r.derived(Chosen, v.Origin().Pos(), by))
}

// result makes what a built-in function returned depend on its arguments: a value that it made on all of them, one
// that it passed on, on where that came from and on what it was taken from. What it makes of several depends on how
// many there are: on the lists and records, and what chose their elements, not on all that these hold; so does a
// number of which it is said.
func (r *Recorder) result(v value.Value, at source.Pos, arguments []value.Value, counts bool) value.Value {
	var outer []value.Origin
	for _, a := range arguments {
		outer = append(outer, a.Origin())
		for _, x := range value.Parts(a) {
			outer = append(outer, x.Origin())
		}
	}
	all, made := r.computed(at, leaves(arguments)...), r.computed(at, outer...)
	if _, ok := all.Step(); !ok {
		return v
	}
	written := value.From(at)
	if v.Origin() != written {
		return r.chosen(v, made)
	}
	return mark(v, func(v value.Value) value.Origin {
		switch {
		case v.Origin() != written:
			return v.Origin()
		case counts || v.Kind() == value.List || v.Kind() == value.Record:
			return made
		}
		return all
	})
}

// leaves returns the recorded origins in values, each of what is shared once. It keeps its own stack, since values
// may nest deeper than calls.
func leaves(values []value.Value) []value.Origin {
	var origins []value.Origin
	seen := map[uintptr]bool{}
	stack := slices.Clone(values)
	slices.Reverse(stack) // so that the first comes first
	for len(stack) > 0 {
		v := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if _, ok := v.Origin().Step(); ok {
			origins = append(origins, v.Origin())
		}
		if id := v.Identity(); id != 0 {
			if seen[id] {
				continue
			}
			seen[id] = true
		}
		stack = append(stack, value.Parts(v)...)
	}
	return origins
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
