package eval

import (
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// compiler turns the expressions of one module into closures.
type compiler struct {
	program *Program
	module  *check.Module
	// bare is an expression whose own passage into a type is left out, so that the caller can do it.
	bare syntax.Expression
	// eachSlot is the place of the document of the each in hand.
	eachSlot int
}

func (c *compiler) declaration(d *declaration) {
	o := d.object
	switch tree := o.Declaration.(type) {
	case *syntax.Use:
		d.body = c.data(o, tree)
	case *syntax.Input:
		if tree.Default != nil {
			d.body = c.expression(tree.Default)
		}
	case *syntax.Let:
		d.body = c.expression(tree.Value)
	case *syntax.Output:
		d.body = c.expression(tree.Value)
	case *syntax.Document:
		d.body = c.expression(tree.Value)
		d.path = c.documentPath(tree.Path)
	}
}

// data is the contents of a data file, passed into its type.
func (c *compiler) data(o *check.Object, tree *syntax.Use) code {
	v, ok := c.program.data[o]
	return func(f *frame) value.Value {
		if !ok {
			panic(abort{})
		}
		if tree.Type == nil {
			return v
		}
		return f.convertTo(v, o.Type, passing{what: "data", name: o.Name, declared: o})
	}
}

func origin(e syntax.Expression) value.Origin { return value.From(e.Place().Start) }

// expression compiles an expression together with its passage into the type that is declared for it.
func (c *compiler) expression(e syntax.Expression) code {
	body := c.observed(e, c.module.Info.Types[e.ID()], c.bareExpression(e))
	target := c.module.Info.Targets[e.ID()]
	if target == nil || e == c.bare {
		return body
	}
	from := c.module.Info.Types[e.ID()]
	at := e.Place()
	return c.observed(e, target, func(f *frame) value.Value {
		return f.convert(body(f), from, target,
			passing{at: at})
	})
}

// observed lets the observer of the program, if there is one, see what an expression gives.
func (c *compiler) observed(e syntax.Expression, t types.Type, body code) code {
	observer, at := c.program.observer, e.Place()
	if observer == nil || t == nil {
		return body
	}
	return func(f *frame) value.Value {
		v := body(f)
		observer(at, t, v)
		return v
	}
}

func constant(v value.Value) code { return func(*frame) value.Value { return v } }

func (c *compiler) bareExpression(e syntax.Expression) code {
	switch e := e.(type) {
	case *syntax.Null:
		return constant(value.NullOf(origin(e)))
	case *syntax.Bool:
		return constant(value.BoolOf(e.Value, origin(e)))
	case *syntax.Int:
		return constant(value.IntOf(e.Value, origin(e)))
	case *syntax.Float:
		return constant(value.FloatOf(e.Value, origin(e)))
	case *syntax.String:
		return c.text(e)
	case *syntax.Name:
		return c.object(c.module.Info.Objects[e.ID()], e.Place())
	case *syntax.It:
		return c.object(c.module.Info.Objects[e.ID()], e.Place())
	case *syntax.Paren:
		return c.expression(e.Inner)
	case *syntax.List:
		return c.list(e)
	case *syntax.Record:
		return c.recordLiteral(e)
	case *syntax.Unary:
		return c.unary(e)
	case *syntax.Binary:
		return c.binary(e)
	case *syntax.If:
		return c.conditional(e)
	case *syntax.Match:
		return c.match(e)
	case *syntax.For:
		return c.loop(e)
	case *syntax.Call:
		return c.call(e)
	case *syntax.Patch:
		return c.patch(e)
	case *syntax.Places:
		return c.places(e)
	case *syntax.LetIn:
		return c.letIn(e)
	case *syntax.Is:
		return c.is(e)
	case *syntax.As:
		return c.as(e)
	case *syntax.With:
		return c.with(e)
	case *syntax.Lambda:
		return c.lambda(e)
	case *syntax.Field:
		return c.field(e)
	case *syntax.Index:
		return c.steps(e)
	}
	return c.broken()
}

// broken stands for what has a mistake that was reported.
func (c *compiler) broken() code { return func(*frame) value.Value { panic(abort{}) } }

// object is the use of a name.
func (c *compiler) object(o *check.Object, at source.Span) code {
	switch {
	case o == nil:
		return c.broken()
	case o.Kind == check.ObjectLocal:
		slot := o.Slot
		return func(f *frame) value.Value { return f.slots[slot] }
	case o.Kind == check.ObjectFunction:
		if o.NeedsInput {
			return func(f *frame) value.Value {
				return value.FunctionOf(&closure{declared: o, world: f.world}, value.From(at.Start))
			}
		}
		return constant(value.FunctionOf(&closure{declared: o}, value.From(at.Start)))
	case o.Global >= 0:
		return c.global(o, at)
	}
	return c.broken()
}

// global is the use of a declaration that has a value.
func (c *compiler) global(o *check.Object, at source.Span) code {
	global := o.Global
	if o.NeedsInput {
		return func(f *frame) value.Value {
			w := f.world
			if i := global - w.base; i >= 0 && i < len(w.states) && w.states[i].status.Load() == done {
				return w.states[i].value
			}
			return f.force(global, at)
		}
	}
	return func(f *frame) value.Value {
		w := f.world.root
		if o.Constant() {
			w = f.world.program.constants
		}
		if s := &w.states[global]; s.status.Load() == done {
			return s.value
		}
		return f.force(global, at)
	}
}

// text compiles a string with its interpolations.
func (c *compiler) text(e *syntax.String) code { return c.interpolation(e, false) }

// interpolation is text; when it is shown to people, what is secret is hidden in it.
func (c *compiler) interpolation(e *syntax.String, shown bool) code {
	if text, plain := e.Plain(); plain {
		return constant(value.StringOf(text, origin(e)))
	}
	type part struct {
		text   string
		indent string
		line   bool
		code   code
		at     source.Span
	}
	parts := make([]part, len(e.Parts))
	for i, p := range e.Parts {
		parts[i].text, parts[i].indent, parts[i].line = p.Text, p.Indent, p.Line
		if p.Value != nil {
			parts[i].code, parts[i].at = c.expression(p.Value), p.Value.Place()
		}
	}
	at, span := origin(e), e.Place()
	return func(f *frame) value.Value {
		var b strings.Builder
		o, records := at, f.recorder != nil
		var marks value.Mark
		var operands []value.Origin
		for i := range parts {
			p := &parts[i]
			if p.code == nil {
				f.spend(len(p.text), span)
				b.WriteString(p.text)
				continue
			}
			v := p.code(f)
			if p.line {
				if records {
					operands = append(operands, leaves([]value.Value{v})...)
				}
				marks |= f.lines(&b, v, p.indent, shown, p.at)
				continue
			}
			text, ok := v.Scalar()
			if shown && v.Secret() {
				text = value.Hidden
			} else {
				marks |= v.Mark()
			}
			if !ok {
				f.failAt(source.WrongType, p.at, "", "only strings, numbers and bools can stand in a text, not %s",
					describeValue(v))
			}
			if p.indent != "" && strings.Contains(text, "\n") {
				text = indentLines(text, p.indent)
			}
			f.spend(1+len(text), span)
			b.WriteString(text)
			if records {
				operands = append(operands, v.Origin())
			}
		}
		if records {
			o = f.recorder.computed(span.Start, operands...)
		}
		return value.StringOf(b.String(), o).WithMark(marks)
	}
}

// lines adds what stands alone on a line of a text: the lines of a text, a line for each element of a list, none for
// null. It returns the marks of what it added.
func (f *frame) lines(b *strings.Builder, v value.Value, indent string, shown bool, at source.Span) value.Mark {
	if v.IsNull() || v.IsAbsent() {
		return 0
	}
	if v.Kind() == value.List {
		var marks value.Mark
		for _, x := range v.Elements() {
			if text, ok := x.Scalar(); ok && text == "" {
				f.spend(1, at)
				b.WriteByte('\n')
				continue
			}
			if x.Kind() == value.List || x.IsNull() {
				f.failAt(source.WrongType, at, "", "each element is a line of the text, and one is %s",
					describeValue(x))
			}
			marks |= f.lines(b, x, indent, shown, at)
		}
		return marks
	}
	text, ok := v.Scalar()
	if !ok {
		f.failAt(source.WrongType, at, "",
			"on a line of its own stands a text, a list of texts, each a line, or null, which is no line; not %s",
			describeValue(v))
	}
	marks := v.Mark()
	if shown && v.Secret() {
		text, marks = value.Hidden, 0
	}
	f.spend(1+len(text), at)
	for line := range strings.Lines(text) {
		if line = strings.TrimSuffix(line, "\n"); line != "" {
			b.WriteString(indent)
		}
		b.WriteString(line)
		b.WriteByte('\n')
	}
	return marks
}

// indentLines puts white space before every line of a text but the first and empty ones.
func indentLines(text, indent string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines[1:] {
		if line != "" {
			lines[i+1] = indent + line
		}
	}
	return strings.Join(lines, "\n")
}

// truth evaluates a condition.
func (c *compiler) truth(e syntax.Expression) func(f *frame) (bool, value.Origin) {
	body, at := c.expression(e), e.Place()
	return func(f *frame) (bool, value.Origin) {
		v := body(f)
		if v.Mark() != 0 {
			f.decides(v, "this condition", at)
		}
		return v.Bool(), v.Origin()
	}
}

// choose is recorder.chosen where something is recorded.
func (f *frame) choose(v value.Value, by value.Origin) value.Value {
	if f.recorder == nil { // which is so nearly always
		return v
	}
	return f.recorder.chosen(v, by)
}

func (c *compiler) conditional(e *syntax.If) code {
	condition, then := c.truth(e.Condition), c.expression(e.Then)
	other := func(*frame) value.Value { return value.Value{} } // behind `...`: nothing
	if e.Else != nil {
		other = c.expression(e.Else)
	}
	return func(f *frame) value.Value {
		holds, by := condition(f)
		if holds {
			return f.choose(then(f), by)
		}
		return f.choose(other(f), by)
	}
}

func (c *compiler) match(e *syntax.Match) code {
	type arm struct {
		patterns []value.Value
		types    []types.Type
		value    code
	}
	subject, slot := c.expression(e.Subject), c.module.Info.Objects[e.ID()].Slot
	arms := make([]arm, len(e.Arms))
	for i, a := range e.Arms {
		for _, p := range a.Patterns {
			if is, ok := p.(*syntax.Is); ok {
				arms[i].types = append(arms[i].types, c.module.Info.Asked[is.ID()])
				continue
			}
			arms[i].patterns = append(arms[i].patterns, c.bareExpression(p)(nil))
		}
		arms[i].value = c.expression(a.Value)
	}
	at, subjectAt, compares := e.Place(), e.Subject.Place(), false
	for _, a := range arms {
		compares = compares || a.types != nil ||
			slices.ContainsFunc(a.patterns, func(p value.Value) bool { return !p.IsNull() })
	}
	return func(f *frame) value.Value {
		v := subject(f)
		if v.Mark() != 0 && compares {
			f.decides(v, "this match", subjectAt)
		}
		f.slots[slot] = v
		for i := range arms {
			a := &arms[i]
			hit := a.patterns == nil && a.types == nil
			for _, p := range a.patterns {
				hit = hit || value.Equal(v, p, func(int) {})
			}
			for _, t := range a.types {
				if hit {
					break
				}
				is, tested := f.isA(v, t)
				if !tested.IsAbsent() {
					f.decides(tested, "this match", subjectAt)
				}
				hit = is
			}
			if hit {
				return f.choose(a.value(f), v.Origin())
			}
		}
		f.failAt(source.IncompleteMatch, at, "add an arm for it, or else -> …", "no arm of this match is for %s",
			describeValue(v))
		return v
	}
}

func (c *compiler) field(e *syntax.Field) code {
	if _, ok := e.Of.(*syntax.Env); ok {
		return c.environment(e)
	}
	if o := c.module.Info.Objects[e.ID()]; o != nil { // a member of a module
		return c.object(o, e.Place())
	}
	return c.steps(e)
}

// environment is env.name or env.tags.
func (c *compiler) environment(e *syntax.Field) code {
	name, at := e.Name.Name, e.Place()
	return func(f *frame) value.Value {
		o := f.recorder.environment(at.Start)
		environment := f.world.environment
		if name == "tags" {
			tags := make([]value.Value, len(environment.Tags))
			for i, tag := range environment.Tags {
				tags[i] = value.StringOf(tag, o)
			}
			return value.ListOf(tags, o)
		}
		return value.StringOf(environment.Name, o)
	}
}

// steps compiles a chain of fields and indexes. An absent field is an error.
func (c *compiler) steps(e syntax.Expression) code {
	step := c.step(e)
	return func(f *frame) value.Value {
		v, _ := step(f, true)
		return v
	}
}

// absent compiles an expression that may be an absent field, which gives the value Absent.
func (c *compiler) absent(e syntax.Expression) code {
	last := syntax.Bare(e)
	switch last := last.(type) {
	case *syntax.Field:
		if _, env := last.Of.(*syntax.Env); env || c.module.Info.Objects[last.ID()] != nil {
			return c.expression(e)
		}
	case *syntax.Index:
	default:
		return c.expression(e)
	}
	step := c.step(last)
	body := func(f *frame) value.Value {
		v, _ := step(f, false)
		return v
	}
	target := c.module.Info.Targets[e.ID()]
	if target == nil {
		return body
	}
	from, at := c.module.Info.Types[e.ID()], e.Place()
	return func(f *frame) value.Value {
		v := body(f)
		if v.IsAbsent() {
			return v
		}
		return f.convert(v, from, target, passing{at: at})
	}
}

// stepper evaluates a chain. ended says that `?.` or `?[` met null or nothing there, which ends the chain: the value
// is then null. When must is false, an absent last step gives Absent instead of an error.
type stepper func(f *frame, must bool) (v value.Value, ended bool)

func (c *compiler) step(e syntax.Expression) stepper {
	switch e := e.(type) {
	case *syntax.Field:
		if _, env := e.Of.(*syntax.Env); !env && c.module.Info.Objects[e.ID()] == nil {
			return c.fieldStep(e)
		}
	case *syntax.Index:
		return c.indexStep(e)
	case *syntax.Paren: // in which a chain ends, but may lead to nothing
		inner := c.step(e.Inner)
		if c.module.Info.Targets[e.ID()] == nil {
			return func(f *frame, must bool) (value.Value, bool) {
				v, _ := inner(f, must)
				return v, false
			}
		}
	}
	body := c.expression(e)
	return func(f *frame, must bool) (value.Value, bool) { return body(f), false }
}

func (c *compiler) fieldStep(e *syntax.Field) stepper {
	of, optional := c.step(e.Of), e.Optional
	name, at, ofAt := e.Name.Name, e.Name.Span, e.Of.Place()
	return func(f *frame, must bool) (value.Value, bool) {
		v, ended := of(f, !optional)
		if ended {
			return v, true
		}
		if optional && (v.IsNull() || v.IsAbsent()) {
			return value.NullOf(value.From(at.Start)), true
		}
		if v.Kind() == value.Instance {
			return f.choose(f.member(v.Instance().(*World), name, at), v.Origin()), false
		}
		if v.Unknown() {
			return f.choose(derived(value.StringOf("", value.From(at.Start)), v), v.Origin()), false
		}
		if v.Kind() != value.Record && e.Lenient {
			return value.NullOf(value.From(at.Start)), true
		}
		if v.Kind() != value.Record {
			f.failAt(source.WrongType, ofAt, "", "%s has no fields, so there is no %q", describeValue(v), name)
		}
		field := v.Get(name)
		if !field.IsAbsent() {
			return f.choose(field, v.Origin()), false
		}
		if optional {
			return value.NullOf(value.From(at.Start)), true
		}
		if must {
			f.missingKey(v, name, at)
		}
		return field, false
	}
}

// missingKey reports a key that a record does not have.
func (f *frame) missingKey(v value.Value, name string, at source.Span) {
	help := "?. or ?[…] gives null for what is not there"
	if first, rest, found := strings.Cut(name, "-"); found && !v.Get(first).IsAbsent() {
		help = "a subtraction is written with spaces: " + first + " - " + rest
	} else if near, ok := source.Nearest(name, v.Shape().Keys()); ok {
		help = "did you mean \"" + near + "\"?"
	}
	f.fail(source.Finding{Code: source.UnknownField, Span: at,
		Message: "there is no field \"" + name + "\" in " + v.Show(60), Help: help, Related: f.madeAt(v, at)})
}

// madeAt is the related place at which a value was made, when it is not the place of the finding itself.
func (f *frame) madeAt(v value.Value, at source.Span) []source.Related {
	p := f.recorder.Pos(v.Origin())
	if !p.IsValid() || p == at.Start {
		return nil
	}
	return []source.Related{{Span: source.At(p), Text: "the " + v.Kind().String() + " comes from here"}}
}

func (c *compiler) indexStep(e *syntax.Index) stepper {
	of, index, optional := c.step(e.Of), c.expression(e.Index), e.Optional
	at, ofAt := e.Index.Place(), e.Of.Place()
	return func(f *frame, must bool) (value.Value, bool) {
		v, ended := of(f, !optional)
		if ended {
			return v, true
		}
		null := value.NullOf(value.From(at.Start))
		if optional && (v.IsNull() || v.IsAbsent()) {
			return null, true
		}
		i := f.decide(index(f), "this index", at)
		var found value.Value
		switch {
		case v.Unknown():
			found = derived(value.StringOf("", value.From(at.Start)), v)
		case v.Kind() == value.Record && i.Kind() == value.String:
			f.spend(1+len(i.Text())/value.CompareCost, at)
			found = v.Get(i.Text())
			if found.IsAbsent() && must && !optional {
				f.missingKey(v, i.Text(), at)
			}
		case v.Kind() == value.List && i.Kind() == value.Int:
			n := i.Int()
			if n < 0 {
				n += int64(v.Len())
			}
			if n >= 0 && n < int64(v.Len()) {
				found = v.Elements()[n]
			} else if must && !optional {
				f.fail(source.Finding{Code: source.NoElement, Span: at, Related: f.madeAt(v, at),
					Help:    "?[…] gives null for what is not there",
					Message: "there is no element " + i.Show(20) + ": the list has " + countOf(v.Len(), "element")})
			}
		case v.Kind() == value.Record || v.Kind() == value.List:
			f.failAt(source.WrongType, at, "lists are indexed by int, records by string",
				"%s cannot be indexed by %s", describeValue(v), describeValue(i))
		default:
			f.failAt(source.WrongType, ofAt, "", "%s has no elements", describeValue(v))
		}
		if found.IsAbsent() {
			if optional {
				return null, true
			}
			return found, false
		}
		return f.choose(f.choose(found, v.Origin()), i.Origin()), false
	}
}

func (c *compiler) call(e *syntax.Call) code {
	o := c.module.Info.Objects[e.ID()]
	switch {
	case o == nil:
		return c.callValue(e)
	case o.Kind == check.ObjectModule:
		return c.instantiate(e, o)
	case o.Builtin == check.Fail:
		return c.failCall(e)
	case o.Builtin == check.Environment:
		return c.environmentCall(e)
	}
	if slices.ContainsFunc(e.Arguments, func(a *syntax.Argument) bool { return a.Spread }) {
		return c.spreadCall(e, o)
	}
	order := check.Arrange(o.Parameters, e.Arguments)
	arguments := make([]code, len(o.Parameters))
	for i, at := range order {
		if at >= 0 {
			arguments[i] = c.expression(e.Arguments[at].Value)
		}
	}
	if o.Kind == check.ObjectBuiltin {
		return c.nativeCall(e, o, order, arguments)
	}
	places := make([]source.Pos, len(order))
	for i, at := range order {
		if at >= 0 {
			places[i] = e.Arguments[at].Value.Place().Start
		}
	}
	fn, at := c.program.function(o), e.Place()
	return func(f *frame) value.Value {
		if o.Invalid {
			panic(abort{})
		}
		fn.once.Do(func() { c.program.compileFunction(fn) })
		slots, mark := f.alloc(o.Frame)
		inner := f.push(slots)
		for i, argument := range arguments {
			if argument != nil {
				slots[i] = f.recorder.passed(argument(f), places[i])
			} else {
				slots[i] = fn.defaults[i](inner)
			}
		}
		v := f.invoke(fn.body, inner, at)
		f.pop()
		f.release(mark)
		return v
	}
}

// failCall compiles `fail("…")`, which stops with its message.
func (c *compiler) failCall(e *syntax.Call) code {
	message, at := c.message(e.Arguments[0].Value), e.Place()
	return func(f *frame) value.Value {
		f.failAt(source.Failed, at, "", "%s", message(f))
		return value.Value{}
	}
}

// spreadCall compiles a call of which arguments are spread from a record: those by position, then a record of the
// others.
func (c *compiler) spreadCall(e *syntax.Call, o *check.Object) code {
	var positions []code
	for _, a := range e.Arguments {
		if a.Name.Name == "" && !a.Spread {
			positions = append(positions, c.expression(a.Value))
		}
	}
	others, at := c.expression(e.Named), e.Place()
	return func(f *frame) value.Value {
		values := make([]value.Value, len(o.Parameters))
		for i, p := range positions {
			values[i] = p(f)
		}
		rest := others(f)
		for i := len(positions); i < len(values); i++ {
			values[i] = rest.Get(o.Parameters[i].Name)
		}
		return f.apply(value.FunctionOf(&closure{declared: o}, value.From(at.Start)), values, at)
	}
}

// invoke runs the body of a function on its frame.
func (t *thread) invoke(body code, inner *frame, at source.Span) value.Value {
	t.spend(1, at)
	t.enter(at)
	t.calls = append(t.calls, caller{at: at})
	v := body(inner)
	t.calls = t.calls[:len(t.calls)-1]
	t.depth--
	return v
}

func (p *Program) function(o *check.Object) *function {
	p.mu.Lock()
	defer p.mu.Unlock()
	fn, ok := p.functions[o]
	if !ok {
		fn = &function{object: o}
		p.functions[o] = fn
	}
	return fn
}

func (p *Program) compileFunction(fn *function) {
	c := &compiler{program: p, module: fn.object.Module}
	declaration := fn.object.Declaration.(*syntax.Function)
	fn.defaults = make([]code, len(declaration.Parameters))
	for i, parameter := range declaration.Parameters {
		if parameter.Default != nil {
			fn.defaults[i] = c.expression(parameter.Default)
		}
	}
	fn.body = c.expression(declaration.Body)
}

// Call is what a built-in function knows of the call: it reports mistakes at the call and counts its work.
type Call struct {
	thread *thread
	name   string
	at     source.Span
	places []source.Span // of the arguments; the whole call for defaults
	hidden bool          // the arguments hold secrets, which no message may show
}

// Fail reports a mistake in the argument at a position and ends the evaluation of the declaration.
func (c *Call) Fail(argument int, help, message string) {
	if c.hidden {
		message, help = "it cannot be called with this value, which is secret",
			"knothole help "+c.name+" says when it fails"
	}
	if c.thread.testing {
		panic(notHeld{c.name + ": " + message})
	}
	c.thread.fail(source.Finding{Code: source.CallFailed, Span: c.places[argument], Message: c.name + ": " + message,
		Help: help})
}

// Spend counts steps.
func (c *Call) Spend(n int) { c.thread.spend(n, c.at) }

// SpendPattern counts what a pattern looks at in a text: in the worst case each of its instructions at each byte.
func (c *Call) SpendPattern(pattern *Pattern, length int) { c.Spend(pattern.cost(length)) }

// Nest runs something inside of what the call does, and counts how deep it is.
func (c *Call) Nest(inside func()) {
	c.thread.enter(c.at)
	inside()
	c.thread.depth--
}

// Origin is the origin of what the call computes.
func (c *Call) Origin() value.Origin { return value.From(c.at.Start) }

// Pattern returns a compiled pattern; the argument at a position is where it stands.
func (c *Call) Pattern(argument int, text string) *Pattern {
	return c.thread.pattern(text, c.places[argument], c.hidden)
}

func (c *compiler) nativeCall(e *syntax.Call, o *check.Object, order []int, arguments []code) code {
	native := c.program.builtins.bodies[o.Builtin]
	places := make([]source.Span, len(order))
	for i, at := range order {
		places[i] = e.Place()
		if at >= 0 {
			places[i] = e.Arguments[at].Value.Place()
		} else {
			p := o.Parameters[i].Default
			// Defaults of built-in functions are literals.
			none := make([]types.Type, p.Module.Tree.Expressions)
			arguments[i] = (&compiler{program: c.program, module: &check.Module{Info: check.Info{Types: none,
				Targets: none}}}).expression(p.Expression)
		}
	}
	at, name := e.Place(), o.Name
	handling, counts := o.Builtin.Handling, o.Builtin.Counts
	return func(f *frame) value.Value {
		values := make([]value.Value, len(arguments))
		for i, argument := range arguments {
			values[i] = argument(f)
		}
		f.spend(1+looked(values), at)
		call := &Call{thread: f.thread, name: name, at: at, places: places}
		v := call.run(native, handling, values, o)
		if f.recorder != nil {
			v = f.recorder.result(v, at.Start, values, counts)
		}
		return v
	}
}

// looked is how many steps it takes to look at the texts that a function is given.
func looked(values []value.Value) int {
	const perStep = 16
	n := 0
	for _, v := range values {
		if v.Kind() == value.String {
			n += len(v.Text()) / perStep
		}
	}
	return n
}

// result makes what a built-in function returned depend on its arguments: a value that it made on all of them, one
// that it passed on, on where that came from. What it makes of several depends on how many there are: on the lists and
// records, and what chose their elements, not on all that these hold; so does a number of which it is said.
func (r *Recorder) result(v value.Value, at source.Pos, arguments []value.Value, counts bool) value.Value {
	var outer []value.Origin
	for _, a := range arguments {
		outer = append(outer, a.Origin())
		switch a.Kind() {
		case value.List:
			for _, x := range a.Elements() {
				outer = append(outer, x.Origin())
			}
		case value.Record:
			for _, x := range a.Values() {
				outer = append(outer, x.Origin())
			}
		}
	}
	all, made := r.computed(at, leaves(arguments)...), r.computed(at, outer...)
	if _, ok := all.Step(); !ok {
		return v
	}
	return mark(v, func(v value.Value) value.Origin {
		switch {
		case v.Origin() != value.From(at):
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
		switch v.Kind() {
		case value.List:
			stack = append(stack, v.Elements()...)
		case value.Record:
			stack = append(stack, v.Values()...)
		}
	}
	return origins
}
