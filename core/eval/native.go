package eval

import (
	"slices"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// Call is what a built-in function knows of the call: it reports errors at the call and counts its work.
type Call struct {
	thread *thread
	name   string
	at     source.Span
	places []source.Span // of the arguments; the whole call for defaults
	hidden bool          // the arguments hold secrets, which no message may show
}

// Fail reports an error in the argument at a position and ends the evaluation of the declaration.
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

// Pattern returns a compiled pattern; the argument at a position is where it is.
func (c *Call) Pattern(argument int, text string) *Pattern {
	return c.thread.pattern(text, c.places[argument], c.hidden)
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
			"give the parts that are needed an input each; \"at\" in a reference is a path in JSON",
			"the shape of what %s returns, which is %s, would depend on a secret", c.name, types.Article(o.Type))
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

// Merge lays a record over another, as `with` does.
func (c *Call) Merge(under, over value.Value) value.Value { return c.thread.merge(under, over, c.at) }

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
	var lent []int // arguments
	for i, at := range order {
		if at >= 0 && lends(o, i, e.Arguments[at].Value) && c.module.Info.Targets[e.Arguments[at].Value.ID()] == nil {
			lent = append(lent, i)
		}
	}
	return func(f *frame) value.Value {
		values, mark := f.alloc(len(arguments))
		for i, argument := range arguments {
			values[i] = argument(f)
		}
		f.spend(1+looked(values), at)
		call := f.newCall()
		call.thread, call.name, call.at, call.places = f.thread, name, at, places
		v := call.run(native, handling, values, o)
		f.spare = append(f.spare, call)
		if f.recorder != nil {
			v = f.recorder.result(v, at.Start, values, counts)
			v = f.recorder.ofTexts.taken(v, values)
		}
		if severalLines(v) {
			f.textRecord().called(v, at.Start, slices.Clone(values))
		} else {
			for _, i := range lent {
				f.returned = append(f.returned, values[i])
			}
		}
		f.release(mark)
		return v
	}
}

// newCall returns a call of a built-in function that is not in use: those that ended are used again.
func (t *thread) newCall() *Call {
	n := len(t.spare)
	if n == 0 {
		return &Call{}
	}
	call := t.spare[n-1]
	t.spare = t.spare[:n-1]
	*call = Call{}
	return call
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
