package eval

import (
	"slices"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// closure is a function that is a value: a declared one, or an anonymous one with the frame that it was made in.
type closure struct {
	declared *check.Object
	world    *World  // the world whose values it uses; nil when it may be that of any caller
	passed   *passed // a function that passed into another type; nil for others

	anonymous *anonymous
	captured  []value.Value
}

// anonymous is an anonymous function, compiled.
type anonymous struct {
	signature types.Type
	body      code
	slots     []int  // places of the parameters
	defaults  []code // of the parameters; nil for those that are required
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
	return fn.anonymous.signature
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
// it. One that cannot runs on a copy that is made when it is called.
func (c *compiler) lambda(e *syntax.Lambda) code {
	compiled := &anonymous{signature: c.module.Info.Types[e.ID()], body: c.expression(e.Body)}
	for _, p := range e.Parameters {
		var body code
		if p.Default != nil {
			body = c.expression(p.Default)
		}
		compiled.slots = append(compiled.slots, c.module.Info.Slot(p.Name.Span.Start))
		compiled.defaults = append(compiled.defaults, body)
	}
	o, at := origin(e), e.Place()
	if c.lent == syntax.Expression(e) {
		return func(f *frame) value.Value {
			f.spend(1+len(f.slots), at)
			return f.lend(compiled).WithOrigin(o)
		}
	}
	return func(f *frame) value.Value {
		f.spend(1+len(f.slots), at)
		made := &closure{anonymous: compiled, captured: slices.Clone(f.slots)}
		if f.world != f.world.program.constants {
			made.world = f.world
		}
		return value.FunctionOf(made, o)
	}
}

// lend returns a function that is not used any more when the built-in function that it is for has ended. It is one
// that was lent before, when there is one.
func (f *frame) lend(compiled *anonymous) value.Value {
	var v value.Value
	if n := len(f.returned); n > 0 {
		v, f.returned = f.returned[n-1], f.returned[:n-1]
	} else {
		v = value.FunctionOf(&closure{}, 0)
	}
	fn := v.Function().(*closure)
	*fn = closure{anonymous: compiled, captured: f.slots}
	if f.world != f.world.program.constants {
		fn.world = f.world
	}
	return v
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
	var body code
	var defaults []code
	size := len(fn.captured)
	if o := fn.declared; o == nil {
		body, defaults = fn.anonymous.body, fn.anonymous.defaults
	} else {
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
			slot = fn.anonymous.slots[i]
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

func (c *compiler) letIn(e *syntax.LetIn) code {
	slots, values := make([]int, len(e.Bindings)), make([]code, len(e.Bindings))
	for i, b := range e.Bindings {
		slots[i], values[i] = c.module.Info.Slot(b.Name.Span.Start), c.expression(b.Value)
	}
	body := c.expression(e.Body)
	return func(f *frame) value.Value {
		for i, v := range values {
			f.slots[slots[i]] = v(f)
		}
		return body(f)
	}
}
