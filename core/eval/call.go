package eval

import (
	"slices"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

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
	case o.Builtin == check.Environments:
		return c.environmentsCall(e)
	}
	if o.Kind == check.ObjectBuiltin && o.Builtin.NewNumbers && c.module.Info.Types[e.ID()] == types.Float {
		return floating(c.declaredCall(e, o))
	}
	return c.declaredCall(e, o)
}

// floating converts the result of a call to a float if its type requires it: the sum of an empty list is an int
// otherwise.
func floating(call code) code {
	return func(f *frame) value.Value {
		v := call(f)
		if v.Kind() == value.Int && value.Marks(v) == 0 {
			return value.FloatOf(float64(v.Int()), v.Origin())
		}
		return v
	}
}

// declaredCall compiles the call of a function that is declared or built in.
func (c *compiler) declaredCall(e *syntax.Call, o *check.Object) code {
	if slices.ContainsFunc(e.Arguments, func(a *syntax.Argument) bool { return a.Spread }) {
		return c.spreadCall(e, o)
	}
	order := check.Arrange(o.Parameters, e.Arguments)
	arguments := make([]code, len(o.Parameters))
	for i, at := range order {
		if at >= 0 {
			arguments[i] = c.forParameter(o, i, e.Arguments[at].Value)
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

// forParameter compiles the argument for a parameter.
func (c *compiler) forParameter(o *check.Object, parameter int, e syntax.Expression) code {
	if lends(o, parameter, e) {
		outer := c.lent
		c.lent = syntax.Bare(e)
		defer func() { c.lent = outer }()
	}
	return c.expression(e)
}

// lends reports whether an argument is a function that nothing but a built-in function uses, and only while it runs.
func lends(o *check.Object, parameter int, e syntax.Expression) bool {
	_, lambda := syntax.Bare(e).(*syntax.Lambda)
	return lambda && o.Kind == check.ObjectBuiltin && types.AsFunction(o.Parameters[parameter].Type) != nil
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
