package check

import (
	"fmt"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// functionType returns the type of a declared function as a value.
func (c *checker) functionType(o *Object) types.Type {
	if o.Type == nil || o.Type == types.Invalid {
		return types.Invalid
	}
	return o.Signature(c.universe)
}

// Signature returns the type of a declared function as a value.
func (o *Object) Signature(u *types.Universe) types.Type {
	var parameters []types.Type
	required := 0
	for _, p := range o.Parameters {
		parameters = append(parameters, p.Type)
		if p.Default == nil {
			required++
		}
	}
	return u.Function(parameters, required, o.Type)
}

// letIn checks `let a = x then e`; body checks what stands behind then, where the names are known.
func (c *checker) letIn(e *syntax.LetIn, body func() types.Type) types.Type {
	outer, facts := c.scope, c.facts
	for _, b := range e.Bindings {
		t := c.typedValue(b.Type, b.Value, fmt.Sprintf("%q", b.Name.Name))
		c.module.Info.Slots[b] = c.bind(b.Name, t).Slot
	}
	t := body()
	c.facts = facts
	c.unbind(outer)
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
		default:
			c.report(source.UnknownType, p.Name.Span, fmt.Sprintf("write it: %s: T", p.Name.Name),
				"nothing here tells the type of %q", p.Name.Name)
		}
		if p.Default != nil {
			c.check(p.Default, t, fmt.Sprintf("parameter %q", p.Name.Name))
		} else {
			required++
		}
		parameters = append(parameters, t)
		o := c.bind(p.Name, t)
		o.used = o.used || expected != nil // what calls it decides how many there are
		c.module.Info.Slots[p] = o.Slot
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
	c.unbind(outer)
	if tooMany {
		return types.Invalid
	}
	return c.universe.Function(parameters, required, result)
}

// callValue checks the call of a function that is a value, such as a parameter.
func (c *checker) callValue(e *syntax.Call, t types.Type) types.Type {
	function := types.AsFunction(t)
	if function == nil {
		if types.Core(t) != types.Invalid {
			c.report(source.WrongUse, e.Function.Place(), "", "only functions can be called, not %s", types.Describe(t))
		}
		for _, a := range e.Arguments {
			c.infer(a.Value, nil)
		}
		return types.Invalid
	}
	for i, a := range e.Arguments {
		switch {
		case a.Spread:
			c.report(source.WrongArguments, a.Value.Place(), "write the arguments out",
				"the parameters of a function that is a value have no names, so that no record can be spread into them")
			c.infer(a.Value, nil)
		case a.Name.Name != "":
			c.report(source.WrongArguments, a.Name.Span, "leave the name out",
				"the parameters of a function that is a value have no names")
			c.infer(a.Value, nil)
		case i >= len(function.Parameters):
			c.report(source.WrongArguments, a.Value.Place(), "leave it out", "%s takes %s, this is one too many",
				function, count(len(function.Parameters), "argument"))
			c.infer(a.Value, nil)
		default:
			c.check(a.Value, function.Parameters[i], "an argument")
		}
	}
	if len(e.Arguments) < function.Required {
		c.report(source.WrongArguments, e.Function.Place(), "add the arguments", "%s needs %s, not %d", function,
			count(function.Required, "argument"), len(e.Arguments))
	}
	return function.Result
}

func (c *checker) inferIs(e *syntax.Is) types.Type {
	t := c.infer(e.Operand, nil)
	asked := c.typeOf(e.Type)
	c.module.Info.Asked[e.ID()] = asked
	if t != types.Invalid && asked != types.Invalid && !types.Overlap(t, asked) {
		c.report(source.NeverEqual, e.Type.Place(), "", "%s is never %s", types.Describe(t), types.Article(asked))
	}
	return types.Bool
}

func (c *checker) inferAs(e *syntax.As) types.Type {
	t := c.infer(e.Operand, nil)
	asked := c.typeOf(e.Type)
	c.module.Info.Asked[e.ID()] = asked
	if t == types.Invalid {
		return asked
	}
	if !types.IsData(asked) {
		c.report(source.WrongType, e.Type.Place(), "", "only data can be converted, not into %s", asked)
		return types.Invalid
	}
	if !types.Overlap(t, asked) && !types.Assignable(t, asked) {
		c.report(source.WrongType, e.Operand.Place(), "", "%s is never %s", types.Describe(t), types.Article(asked))
	}
	return asked
}
