package eval

import (
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// closure is a function that is a value: a declared one, or an anonymous one with the frame that it was made in.
type closure struct {
	declared  *check.Object
	signature types.Type // of an anonymous one
	world     *World     // the world whose values it uses; nil when it may be that of any caller
	passed    *passed    // a function that passed into another type; nil for others

	body     code
	captured []value.Value
	slots    []int  // places of the parameters
	defaults []code // of the parameters; nil for those that are required
}

// passed is a function that passed into another function type: what it is given then passes into its own parameters,
// and what it returns into the result that is expected.
type passed struct {
	function value.Value
	own, as  *types.Function
}

// typeOf returns the type of a function as a value.
func (p *Program) typeOf(fn *closure) types.Type {
	switch {
	case fn.passed != nil:
		return fn.passed.as
	case fn.declared != nil:
		return fn.declared.Signature(p.checked.Universe)
	}
	return fn.signature
}

// function passes a function into a function type.
func (c *conversion) function(v value.Value, to *types.Function, path *place.Path) value.Value {
	if v.Kind() != value.Function {
		return c.wrongKind(path, v, to, "")
	}
	own := types.AsFunction(c.world.program.typeOf(v.Function().(*closure)))
	switch converts := types.Converts(own, to); {
	case !types.Assignable(own, to), converts && !c.fill:
		return c.wrongKind(path, v, to, "")
	case converts:
		return value.FunctionOf(&closure{passed: &passed{function: v, own: own, as: to}}, v.Origin())
	}
	return v
}

// applyPassed calls a function that passed into another function type.
func (t *thread) applyPassed(p *passed, arguments []value.Value, at source.Span) value.Value {
	into := make([]value.Value, len(arguments))
	for i, a := range arguments {
		into[i] = t.convert(a, p.as.Parameters[i], p.own.Parameters[i], passing{at: at})
	}
	return t.convert(t.apply(p.function, into, at), p.own.Result, p.as.Result, passing{at: at})
}

// lambda compiles an anonymous function. It runs on a copy of the frame that it was made in, so that it can outlive
// it.
func (c *compiler) lambda(e *syntax.Lambda) code {
	prototype := closure{signature: c.module.Info.Types[e.ID()], body: c.expression(e.Body)}
	for _, p := range e.Parameters {
		var body code
		if p.Default != nil {
			body = c.expression(p.Default)
		}
		prototype.slots = append(prototype.slots, c.module.Info.Slots[p])
		prototype.defaults = append(prototype.defaults, body)
	}
	o, at := origin(e), e.Place()
	return func(f *frame) value.Value {
		f.spend(1+len(f.slots), at)
		made := prototype
		made.captured = append([]value.Value(nil), f.slots...)
		if f.world != f.world.program.constants {
			made.world = f.world
		}
		return value.FunctionOf(&made, o)
	}
}

// apply calls a function that is a value.
func (t *thread) apply(function value.Value, arguments []value.Value, at source.Span) value.Value {
	fn := function.Function().(*closure)
	if fn.passed != nil {
		return t.applyPassed(fn.passed, arguments, at)
	}
	if fn.world != nil && fn.world != t.world {
		inner := *t
		inner.world, inner.stack, inner.frames = fn.world, nil, nil
		v := inner.apply(function, arguments, at)
		t.steps = inner.steps
		return v
	}
	body, defaults, size := fn.body, fn.defaults, len(fn.captured)
	if o := fn.declared; o != nil {
		if o.Invalid {
			panic(abort{})
		}
		p := t.world.program
		compiled := p.function(o)
		compiled.once.Do(func() { p.compileFunction(compiled) })
		body, defaults, size = compiled.body, compiled.defaults, o.Frame
	}
	slots, mark := t.alloc(size)
	copy(slots, fn.captured)
	inner := t.push(slots)
	for i, missing := range defaults {
		slot := i // parameters of a declared function are the first in its frame
		if fn.declared == nil {
			slot = fn.slots[i]
		}
		if i < len(arguments) && !arguments[i].IsAbsent() {
			slots[slot] = arguments[i]
		} else {
			slots[slot] = missing(inner)
		}
	}
	v := t.invoke(body, inner, at)
	t.pop()
	t.release(mark)
	return v
}

// Apply calls a function that was given as an argument. What it is given must be of its types.
func (c *Call) Apply(function value.Value, arguments ...value.Value) value.Value {
	return c.thread.apply(function, arguments, c.at)
}

// Choose marks a value that was taken because of another, such as the answer of a filter.
func (c *Call) Choose(v, because value.Value) value.Value {
	return c.thread.recorder.chosen(v, because.Origin())
}

// countUnknown reports whether a number that a function needs is not known: a placeholder stands for texts only.
func (c *Call) countUnknown(o *check.Object, arguments []value.Value) bool {
	for i, a := range arguments {
		if a.Unknown() && types.Core(o.Parameters[i].Type) == types.Int {
			return true
		}
	}
	return false
}

// shaped reports whether the values of a type all have the same shape: scalars, and records of them.
func shaped(t types.Type) bool {
	if types.Core(t) == types.Any {
		return false
	}
	_, ok := standIn(value.UnknownOf(value.String, "", value.Secret, 0), t)
	return ok
}

// run calls a built-in function, and lets the marks of what it is given pass to what it returns.
func (c *Call) run(native Native, handling check.Handling, arguments []value.Value, o *check.Object) value.Value {
	if handling == check.Passes {
		// What is passed on keeps its marks, however deep it stands.
		for i, a := range arguments {
			if a.Mark() == 0 {
				continue
			}
			switch of := types.Core(o.Parameters[i].Type); of.(type) {
			case *types.List, *types.Record:
				c.thread.known(a, c.places[i])
			default:
				if of == types.Int || of == types.String {
					c.thread.decide(a, "the result of "+c.name, c.places[i])
				}
			}
		}
		return native(c, arguments)
	}
	m := c.thread.marks(arguments...)
	if m == 0 {
		return native(c, arguments)
	}
	c.hidden = m&value.Secret != 0
	switch {
	case c.hidden && !shaped(o.Type):
		// How many there are, and under which keys, would tell of the secret.
		c.thread.failAt(source.NotKnown, c.at,
			"give the parts that are needed an input each; \"at\" in a reference names a place in JSON",
			"a secret would decide the shape of what %s returns, which is %s", c.name, types.Article(o.Type))
	case m&value.Unknown == 0:
		return value.MarkAll(native(c, arguments), m)
	case handling == check.Joins && !c.countUnknown(o, arguments):
		shown := make([]value.Value, len(arguments))
		for i, a := range arguments {
			shown[i] = value.WithPlaceholders(a)
		}
		return native(c, shown).WithMark(m)
	}
	v, ok := standIn(value.UnknownOf(value.String, standsFor(arguments), m, c.Origin()), o.Type)
	if !ok { // what is done with it will say that it is not known
		v = value.UnknownOf(value.String, v.Placeholder(), m, c.Origin())
	}
	return v
}

// Truth returns the answer of a function by which something is chosen, Key one by which something is known. Neither
// may be hidden or open.
func (c *Call) Truth(answer value.Value) bool {
	return c.thread.decide(answer, "what "+c.name+" chooses", c.at).Bool()
}

// Key returns the text of a key.
func (c *Call) Key(v value.Value) string {
	key := c.thread.decide(v, "a key of "+c.name, c.at).Text()
	c.Spend(len(key) / value.CompareCost)
	return key
}

// Plain returns a value by which others are put in order, which must not be hidden or open.
func (c *Call) Plain(v value.Value) value.Value {
	if m := c.thread.marks(v); m != 0 {
		c.thread.decides(value.StringOf("", v.Origin()).WithMark(m), "the result of "+c.name, c.at)
	}
	return v
}

// callValue compiles the call of a function that is a value.
func (c *compiler) callValue(e *syntax.Call) code {
	function, at := c.expression(e.Function), e.Place()
	arguments := make([]code, len(e.Arguments))
	for i, a := range e.Arguments {
		arguments[i] = c.expression(a.Value)
	}
	return func(f *frame) value.Value {
		fn := function(f)
		values := make([]value.Value, len(arguments))
		for i, argument := range arguments {
			values[i] = argument(f)
		}
		return f.choose(f.apply(fn, values, at), fn.Origin())
	}
}

func (c *compiler) letIn(e *syntax.LetIn) code {
	slots, values := make([]int, len(e.Bindings)), make([]code, len(e.Bindings))
	for i, b := range e.Bindings {
		slots[i], values[i] = c.module.Info.Slots[b], c.expression(b.Value)
	}
	body := c.expression(e.Body)
	return func(f *frame) value.Value {
		for i, v := range values {
			f.slots[slots[i]] = v(f)
		}
		return body(f)
	}
}

// isA asks whether a value is of a type as it stands.
// What was tested to find out is absent when nothing of it is hidden or open.
func (t *thread) isA(v value.Value, asked types.Type) (is bool, tested value.Value) {
	c := (&conversion{thread: t}).attempt(false)
	c.value(v, asked, nil)
	if c.fit() == never {
		return false, value.Value{}
	}
	return len(c.misfits) == 0, c.tested
}

func (c *compiler) is(e *syntax.Is) code {
	operand, asked, at := c.expression(e.Operand), c.module.Info.Asked[e.ID()], e.Place().Start
	return func(f *frame) value.Value {
		v := operand(f)
		is, tested := f.isA(v, asked)
		return derived(value.BoolOf(is, f.from(at, v)), v, tested)
	}
}

func (c *compiler) as(e *syntax.As) code {
	operand, asked, at := c.expression(e.Operand), c.module.Info.Asked[e.ID()], e.Operand.Place()
	return func(f *frame) value.Value { return f.convertTo(operand(f), asked, passing{at: at}) }
}

// change is one change of a with, compiled. written are the paths that were written before, the keys of each joined.
type change func(f *frame, v value.Value, written *[]string) value.Value

// keySeparator joins keys, in which it does not stand.
const keySeparator = "\x00"

// with compiles a record with changes.
func (c *compiler) with(e *syntax.With) code {
	of, at := c.expression(e.Of), e.Place()
	if e.Over != nil {
		over, ofAt, overAt := c.expression(e.Over), e.Of.Place(), e.Over.Place()
		return func(f *frame) value.Value { return f.lay(of(f), over(f), ofAt, overAt, at) }
	}
	changes := make([]change, len(e.Changes))
	for i, tree := range e.Changes {
		changes[i] = c.change(tree, e.Of.Place(), at)
	}
	return func(f *frame) value.Value {
		v := of(f)
		var written []string
		for _, change := range changes {
			v = change(f, v, &written)
		}
		return v
	}
}

func (c *compiler) change(tree *syntax.Change, ofAt, at source.Span) change {
	if tree.Spread {
		body := c.spread(&syntax.Entry{Span: tree.Span, Value: tree.Value, Spread: true, Optional: tree.Optional})
		return func(f *frame, v value.Value, written *[]string) value.Value {
			over := body(f)
			if over.IsAbsent() {
				return v
			}
			for _, path := range *written {
				key, _, _ := strings.Cut(path, keySeparator)
				if over.Kind() == value.Record && !over.Get(key).IsAbsent() {
					f.failAt(source.DuplicateKey, tree.Span,
						"put the spread before the key, so that the key wins, or leave one out",
						"this brings in the key %q, which is written already", key)
				}
			}
			return f.lay(v, over, ofAt, tree.Value.Place(), at)
		}
	}
	var path []code
	var spans []source.Span
	for _, key := range tree.Path {
		path = append(path, c.key(key))
		spans = append(spans, key.Span)
	}
	body := c.expression(tree.Value)
	if tree.Optional {
		body = c.absent(tree.Value)
	}
	return func(f *frame, v value.Value, written *[]string) value.Value {
		keys := make([]string, len(path))
		for i, key := range path {
			keys[i] = key(f).Text()
		}
		to := body(f)
		if tree.Optional && (to.IsAbsent() || to.IsNull()) {
			return v
		}
		whole := strings.Join(keys, keySeparator)
		if slices.Contains(*written, whole) {
			f.failAt(source.DuplicateKey, spans[0], "each key stands once", "the key %q is there already",
				strings.Join(keys, "."))
		}
		*written = append(*written, whole)
		return f.change(v, keys, spans, to, ofAt, at)
	}
}

// lay returns a record over which another is laid.
func (f *frame) lay(v, over value.Value, ofAt, overAt, at source.Span) value.Value {
	if f.known(v, ofAt).Kind() != value.Record {
		f.failAt(source.WrongType, ofAt, "", "with changes records, not %s", describeValue(v))
	}
	if f.known(over, overAt).Kind() != value.Record {
		f.failAt(source.WrongType, overAt, "", "with changes records, not %s", describeValue(over))
	}
	return f.merge(v, over, at).WithOrigin(v.Origin())
}

// change returns a record in which the place that keys lead to was changed. The way to it must exist.
func (f *frame) change(v value.Value, keys []string, spans []source.Span, to value.Value, ofAt,
	at source.Span) value.Value {
	if f.known(v, ofAt).Kind() != value.Record {
		f.failAt(source.WrongType, ofAt, "", "with changes records, not %s", describeValue(v))
	}
	old := v.Get(keys[0])
	next := to
	if len(keys) > 1 {
		if old.IsAbsent() {
			f.missingKey(v, keys[0], spans[0])
		}
		next = f.change(old, keys[1:], spans[1:], to, spans[1], at)
	} else if old.Kind() == value.Record && to.Kind() == value.Record {
		next = f.merge(old, to, at)
	}
	return f.put(v, keys[0], next, at)
}

// put returns a record with one entry set.
func (t *thread) put(v value.Value, key string, to value.Value, at source.Span) value.Value {
	i := v.Shape().Index(key)
	if i < 0 {
		t.spend(1+elementCost, at)
		return v.Extend([]string{key}, []value.Value{to}, v.Origin())
	}
	t.spend(1+v.Len(), at)
	values := append([]value.Value(nil), v.Values()...)
	values[i] = to
	return value.RecordOf(v.Shape(), values, v.Origin())
}

// merge lays a record over another: records merge into records, anything else replaces.
func (t *thread) merge(under, over value.Value, at source.Span) value.Value {
	m := merging{thread: t, at: at}
	return m.merge(under, over)
}

// merging is one record on its way over another. When there are many records in them, it remembers what it has made:
// some may be shared so often that making each again would never end.
type merging struct {
	*thread
	at    source.Span
	count int
	made  map[[2]uintptr]value.Value
}

func (m *merging) merge(under, over value.Value) value.Value {
	if under.Identity() == over.Identity() {
		return over
	}
	pair := [2]uintptr{under.Identity(), over.Identity()}
	if known, ok := m.made[pair]; ok {
		m.spend(1, m.at)
		return known
	}
	result := m.lay(under, over)
	if m.count++; m.count > manyVisits {
		if m.made == nil {
			m.made = map[[2]uintptr]value.Value{}
		}
		m.made[pair] = result
	}
	return result
}

// lay is merge for two records that were not met before.
func (m *merging) lay(under, over value.Value) value.Value {
	t, at := m.thread, m.at
	t.spend(1+over.Len()*elementCost, at)
	var values []value.Value // those of under, once one of them changes
	var keys []string        // what is added
	var added []value.Value
	for i, key := range over.Shape().Keys() {
		v := over.Values()[i]
		place := under.Shape().Index(key)
		if place < 0 {
			keys, added = append(keys, key), append(added, v)
			continue
		}
		if old := under.Values()[place]; old.Kind() == value.Record && v.Kind() == value.Record {
			v = m.merge(old, v)
		}
		if values == nil {
			t.spend(under.Len(), at)
			values = slices.Clone(under.Values())
		}
		values[place] = v
	}
	result := under
	if values != nil {
		result = value.RecordOf(under.Shape(), values, over.Origin())
	}
	return result.Extend(keys, added, over.Origin())
}

// Merge lays a record over another, as `with` does.
func (c *Call) Merge(under, over value.Value) value.Value { return c.thread.merge(under, over, c.at) }
