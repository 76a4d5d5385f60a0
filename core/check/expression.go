package check

import (
	"fmt"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// check sees to it that an expression fits where a type is expected; what names the place in messages. The expected
// type is passed down into literals and branches, so that an error is reported at the part that is wrong.
func (c *checker) check(e syntax.Expression, want types.Type, what string) {
	switch e := e.(type) {
	case *syntax.Paren:
		c.check(e.Inner, want, what)
		c.module.Info.Types[e.ID()] = want
		return
	case *syntax.If:
		c.checkIf(e, want, what)
		return
	case *syntax.Match:
		c.checkMatch(e, want, what)
		return
	case *syntax.LetIn:
		c.letIn(e, func() types.Type {
			c.check(e.Body, want, what)
			return want
		})
		return
	}
	inner := len(c.module.Literals)
	got := c.infer(e, want)
	if want == types.Invalid || got == types.Invalid {
		c.module.Info.Targets[e.ID()] = want
		return
	}
	if !types.Assignable(got, want) {
		c.mismatch(e, got, want, what)
		return
	}
	if types.Converts(got, want) {
		c.module.Info.Targets[e.ID()] = want
		if literal(e) && c.owner != nil && e != c.arguments {
			// The whole covers its parts.
			c.uncover(e)
			c.module.Literals = append(c.module.Literals[:inner], Passage{c.module, e, want, c.owner})
		}
	}
}

// uncover leaves the conversion of the parts of a literal to that of the whole, which reports all that does not fit
// in it. The types of the parts are then not what they are said to be.
func (c *checker) uncover(e syntax.Expression) {
	c.module.Info.Types[e.ID()] = nil
	entries := []*syntax.Entry(nil)
	switch e := e.(type) {
	case *syntax.List:
		entries = e.Elements
	case *syntax.Record:
		entries = e.Entries
	}
	if paren, ok := e.(*syntax.Paren); ok {
		c.module.Info.Targets[paren.Inner.ID()] = nil
		c.uncover(paren.Inner)
	}
	for _, entry := range entries {
		c.module.Info.Targets[entry.Value.ID()] = nil
		c.uncover(entry.Value)
	}
}

// infer finds the type of an expression. The wanted type, which may be nil, helps literals; whether the result fits
// is for the caller to see.
func (c *checker) infer(e syntax.Expression, want types.Type) types.Type {
	t := c.inferExpression(e, want, false)
	c.module.Info.Types[e.ID()] = t
	return t
}

// budget is how many types and members of unions may be made and looked at for one declaration. What people write
// takes a thousandth of it.
const budget = 500_000

// exhausted reports whether the types of a declaration take too much work, which is reported once.
func (c *checker) exhausted(e syntax.Expression) bool {
	if c.owner != c.spender {
		c.spender, c.before, c.spent = c.owner, c.universe.Work(), false
	}
	if c.universe.Work()-c.before < budget {
		return false
	}
	if !c.spent {
		c.spent = true
		c.report(source.TooMuchWork, e.Place(), "declare the type of a part of it: let x: T = …",
			"the types of this declaration have too many forms to be checked")
	}
	return true
}

// inferAbsent is infer where the value may be an absent field, such as left of ??. The result then includes null.
func (c *checker) inferAbsent(e syntax.Expression) types.Type {
	t := c.inferExpression(e, nil, true)
	c.module.Info.Types[e.ID()] = t
	return t
}

func (c *checker) inferExpression(e syntax.Expression, want types.Type, absent bool) types.Type {
	if c.exhausted(e) {
		return types.Invalid
	}
	if t, ok := c.literalOf(e); ok {
		c.warnNotInserted(e)
		return t
	}
	switch e := e.(type) {
	case *syntax.String:
		for _, part := range e.Parts {
			if part.Line {
				c.interpolatedLine(part.Value)
			} else if part.Value != nil {
				c.interpolated(part.Value)
			}
		}
		return types.String
	case *syntax.Name:
		return c.inferName(e)
	case *syntax.It:
		if c.it == nil {
			c.report(source.UnknownName, e.Place(), "", `"it" has a meaning only after where and inside match`)
			return types.Invalid
		}
		c.module.Info.Objects[e.ID()] = c.it
		return c.narrowed(e, c.it.Type)
	case *syntax.Env:
		c.report(source.WrongUse, e.Place(), "write env.name or env.tags", "env is not a value; its fields are")
		return types.Invalid
	case *syntax.Paren:
		if absent {
			return c.inferAbsent(e.Inner)
		}
		return c.infer(e.Inner, want)
	case *syntax.List:
		return c.inferList(e, want)
	case *syntax.Record:
		return c.inferRecord(e, want)
	case *syntax.Unary:
		return c.inferUnary(e)
	case *syntax.Binary:
		return c.inferBinary(e)
	case *syntax.If:
		return c.inferIf(e, nil, false)
	case *syntax.Match:
		return c.inferMatch(e)
	case *syntax.For:
		return c.inferFor(e, want)
	case *syntax.LetIn:
		return c.letIn(e, func() types.Type { return c.infer(e.Body, want) })
	case *syntax.Is:
		return c.inferIs(e)
	case *syntax.As:
		return c.inferAs(e)
	case *syntax.With:
		return c.inferWith(e)
	case *syntax.Lambda:
		return c.inferLambda(e, want)
	case *syntax.Patch:
		return c.inferPatch(e)
	case *syntax.Places:
		return c.inferPlaces(e)
	case *syntax.Call:
		return c.inferCall(e)
	case *syntax.Field:
		return c.inferField(e, absent)
	case *syntax.Index:
		return c.inferIndex(e, absent)
	case *syntax.Bad:
		return types.Invalid
	}
	panic(fmt.Sprintf("the checker does not know %T", e))
}

func (c *checker) inferName(e *syntax.Name) types.Type {
	o := c.lookup(e.Name, e.Place())
	if o == nil {
		return types.Invalid
	}
	c.module.Info.Objects[e.ID()] = o
	switch o.Kind {
	case ObjectModule:
		c.report(source.WrongUse, e.Place(),
			fmt.Sprintf("take one of its members: %s.name, or make an instance: %s(…)", o.Name, o.Name),
			"%q is a module, not a value", o.Name)
		return types.Invalid
	case ObjectType:
		c.report(source.WrongUse, e.Place(), "types are written after a colon", "%q is a type, not a value", o.Name)
		return types.Invalid
	case ObjectRule:
		c.ruleNotCalled(e.Place(), o)
		return types.Invalid
	case ObjectFunction:
		return c.functionType(o)
	}
	if o.Type == nil { // part of a cycle, which is reported on its own
		return types.Invalid
	}
	return c.narrowed(e, o.Type)
}

// text returns an expression as it is written.
func (c *checker) text(e syntax.Expression) string { return c.module.Tree.File.Slice(e.Place()) }

// literal reports whether an expression is written out, without anything to evaluate.
func literal(e syntax.Expression) bool {
	switch e := e.(type) {
	case *syntax.Null, *syntax.Bool, *syntax.Int, *syntax.Float:
		return true
	case *syntax.String:
		_, plain := e.Plain()
		return plain
	case *syntax.Paren:
		return literal(e.Inner)
	case *syntax.List:
		return !slices.ContainsFunc(e.Elements, func(x *syntax.Entry) bool { return x.Spread || !literal(x.Value) })
	case *syntax.Record:
		return !slices.ContainsFunc(e.Entries, func(x *syntax.Entry) bool {
			return x.Spread || x.Key.Value != nil || !literal(x.Value)
		})
	}
	return false
}
