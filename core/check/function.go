package check

import (
	"fmt"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

func (c *checker) checkFunction(o *Object, d *syntax.Function) {
	if d.Result != nil {
		o.Type = c.typeOf(d.Result)
	}
	for _, p := range d.Parameters {
		parameter := Parameter{Name: p.Name.Name, Type: types.Invalid}
		if p.Type != nil {
			parameter.Type = c.typeOf(p.Type)
		}
		o.Parameters = append(o.Parameters, parameter)
	}
	// Parameters are the first in the frame. Each sees those before it in its default.
	first := o.Frame
	o.Frame += len(d.Parameters)
	for i, p := range d.Parameters {
		parameter := &o.Parameters[i]
		if p.Default != nil {
			c.check(p.Default, parameter.Type, fmt.Sprintf("parameter %q", p.Name.Name))
			parameter.Default = &Default{Module: c.module, Expression: p.Default, Owner: o}
		}
		parameter.Object = c.bindAt(p.Name, parameter.Type, first+i)
		c.module.Info.Scopes = append(c.module.Info.Scopes,
			Scope{parameter.Object, source.Span{Start: p.Name.Span.End, End: d.Span.End}})
	}
	if d.Body == nil || d.Broken {
		return
	}
	if o.Type != nil {
		c.check(d.Body, o.Type, fmt.Sprintf("the result of %q", o.Name))
		return
	}
	result := c.universe.Explained(c.infer(d.Body, nil))
	if o.Type == nil {
		o.Type = result
	}
}

// functionType returns the type of a declared function as a value.
func (c *checker) functionType(o *Object) types.Type {
	if o.Type == nil || o.Type == types.Invalid {
		return types.Invalid
	}
	return o.Signature(c.universe)
}

// letIn checks `let a = x then e`; body checks what is behind then, where the names are known.
func (c *checker) letIn(e *syntax.LetIn, body func() types.Type) types.Type {
	outer, facts := c.scope, c.facts
	for _, b := range e.Bindings {
		t := c.typedValue(b.Type, b.Value, fmt.Sprintf("%q", b.Name.Name))
		c.bind(b.Name, t)
	}
	t := body()
	c.facts = facts
	c.unbind(outer, e.Place().End)
	c.module.Info.Types[e.ID()] = t
	return t
}

// inferLambda finds the type of an anonymous function. Parameters without a type take it from what is expected.
func (c *checker) inferLambda(e *syntax.Lambda, want types.Type) types.Type {
	var expected *types.Function
	if want != nil {
		expected = types.OnlyFunction(want)
	}
	outer, facts, it := c.scope, c.facts, c.it
	var parameters []types.Type
	required := 0
	tooMany := false
	for i, p := range e.Parameters {
		t := types.Invalid
		switch {
		case expected != nil && i >= len(expected.Parameters) && p.Default == nil:
			if !tooMany {
				tooMany = true
				c.report(source.WrongArguments, p.Name.Span,
					"leave it out; a loop knows positions: for i, x in xs -> …",
					"this function is called with %s only", count(len(expected.Parameters), "argument"))
			}
		case p.Type != nil:
			t = c.typeOf(p.Type)
		case expected != nil && i < len(expected.Parameters):
			t = expected.Parameters[i]
		case c.lost: // what it is given to is not there, which is reported
		default:
			c.report(source.UnknownType, p.Name.Span, fmt.Sprintf("write it: %s: T", p.Name.Name),
				"the context does not determine the type of %q", p.Name.Name)
		}
		if p.Default != nil {
			c.check(p.Default, t, fmt.Sprintf("parameter %q", p.Name.Name))
		} else {
			required++
		}
		parameters = append(parameters, t)
		o := c.bind(p.Name, t)
		o.used = o.used || expected != nil // what calls it decides how many there are
	}
	var result types.Type
	switch {
	case e.Result != nil:
		result = c.typeOf(e.Result)
		c.check(e.Body, result, "the result of the function")
	case expected != nil && !types.HasVariables(expected.Result):
		result = expected.Result
		if result == types.Any {
			result = c.infer(e.Body, nil)
		} else {
			c.check(e.Body, result, "the result of the function")
		}
	default:
		result = c.infer(e.Body, nil)
	}
	c.facts, c.it = facts, it
	c.unbind(outer, e.Place().End)
	if tooMany {
		return types.Invalid
	}
	return c.universe.Function(parameters, required, result)
}
