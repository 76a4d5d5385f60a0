package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

func (c *checker) inferUnary(e *syntax.Unary) types.Type {
	if e.Operator == syntax.Not {
		c.check(e.Operand, types.Bool, `"not"`)
		return types.Bool
	}
	t := c.infer(e.Operand, nil)
	return c.arithmetic(e.Operand, t, t, e.Operator)
}

// arithmetic returns the type of a calculation, reporting an operand that is no number.
func (c *checker) arithmetic(at syntax.Expression, left, right types.Type, operator syntax.Operator) types.Type {
	number := c.universe.Union(types.Int, types.Float)
	if left == types.Invalid || right == types.Invalid {
		return types.Invalid
	}
	for _, t := range []types.Type{left, right} {
		if !types.Assignable(t, number) {
			c.wrongOperand(at, t, operator, "numbers")
			return types.Invalid
		}
	}
	l, r := types.Widen(types.Core(left)), types.Widen(types.Core(right))
	switch {
	case l == types.Any || r == types.Any:
		return types.Any
	case l == types.Int && r == types.Int || allInts(l) && allInts(r):
		return types.Int
	case l == types.Float || r == types.Float:
		return types.Float
	}
	return number
}

func allInts(t types.Type) bool {
	return !slices.ContainsFunc(types.Parts(t), func(p types.Type) bool { return types.Widen(p) != types.Int })
}

// twoStrings is what + takes beside a string.
const twoStrings = "two strings here"

func (c *checker) wrongOperand(at syntax.Expression, t types.Type, operator syntax.Operator, takes string) {
	help := ""
	if types.MayBeNull(t) {
		help = "it may be null: give a value for that case with ??"
	} else if operator == syntax.Add && (types.Overlap(t, types.String) ||
		takes == twoStrings && types.Assignable(t, c.universe.Union(types.Int, types.Float))) {
		help = "numbers are inserted into strings with \"${…}\""
	} else if operator == syntax.Negate && types.AsList(t) == nil && types.Widen(t) != types.String {
		help = "the elements of a list are written in brackets: [a, b]"
	}
	c.report(source.WrongType, at.Place(), help, "%q takes %s, not %s", operator, takes, types.Describe(t))
}

func (c *checker) inferBinary(e *syntax.Binary) types.Type {
	switch e.Operator {
	case syntax.Or, syntax.And:
		c.check(e.Left, types.Bool, fmt.Sprintf("%q", e.Operator))
		facts := c.facts
		c.assume(e.Left, e.Operator == syntax.And)
		c.check(e.Right, types.Bool, fmt.Sprintf("%q", e.Operator))
		c.facts = facts
		return types.Bool
	case syntax.Default:
		left := c.inferAbsent(e.Left)
		right := c.infer(e.Right, nil)
		if left != types.Invalid && left != types.Never && !types.MayBeNull(left) {
			c.warn(source.NeedlessDefault, e.OperatorSpan, "remove ?? and the value after it",
				"the value before ?? is never null: it is %s", types.Article(left))
		}
		return c.universe.Gathered(c.universe.WithoutNull(left), right)
	case syntax.Range:
		c.check(e.Left, types.Int, "the start of a range")
		c.check(e.Right, types.Int, "the end of a range")
		return c.universe.List(types.Int)
	case syntax.Matches, syntax.NotMatches:
		c.check(e.Left, types.String, `"matches"`)
		c.check(e.Right, types.String, "a pattern")
		c.checkPattern(e.Right)
		return types.Bool
	}
	if c.unquoted(e) {
		return types.Invalid
	}
	left, right := c.infer(e.Left, nil), c.infer(e.Right, nil)
	if left == types.Invalid || right == types.Invalid {
		if e.Operator <= syntax.NotIn {
			return types.Bool
		}
		return types.Invalid
	}
	switch e.Operator {
	case syntax.Equal, syntax.NotEqual:
		c.comparable(e, left, right)
		return types.Bool
	case syntax.Less, syntax.LessEqual, syntax.Greater, syntax.GreaterEqual:
		number := c.universe.Union(types.Int, types.Float)
		switch {
		case types.Assignable(left, number) && types.Assignable(right, number), types.Assignable(left, types.String) &&
			types.Assignable(right, types.String):
		case types.Assignable(left, number) || types.Assignable(left, types.String):
			wanted := number
			if types.Assignable(left, types.String) {
				wanted = types.String
			}
			c.report(source.WrongType, e.Right.Place(), "", "cannot compare %s with %s by size: expected %s here",
				types.Describe(left), types.Describe(right), wanted)
		default:
			c.wrongOperand(e.Left, left, e.Operator, "numbers or strings")
		}
		return types.Bool
	case syntax.In, syntax.NotIn:
		c.checkIn(e, left, right)
		return types.Bool
	case syntax.Add:
		return c.inferAdd(e, left, right)
	}
	if !types.Assignable(left, c.universe.Union(types.Int, types.Float)) {
		return c.arithmetic(e.Left, left, left, e.Operator)
	}
	return c.arithmetic(e.Right, left, right, e.Operator)
}

// unquoted reports names with hyphens between them, such as my-app, as the text that they are when the first of them is
// unknown.
func (c *checker) unquoted(e *syntax.Binary) bool {
	text := c.text(e)
	if e.Operator != syntax.Subtract || strings.ContainsAny(text, " \t\n()[]") {
		return false
	}
	first := syntax.Expression(e)
	for inner, ok := e, true; ok && inner.Operator == syntax.Subtract; inner, ok = first.(*syntax.Binary) {
		first = inner.Left
	}
	name, ok := first.(*syntax.Name)
	if !ok || c.module.Tree.Nameless || c.local(name.Name) || c.module.Objects[name.Name] != nil {
		return false
	}
	if near, found := c.nearest(name.Name); found && !c.program.Builtins.IsGroup(near) {
		return false // a name that is misspelt
	}
	c.owner.Invalid = true
	c.report(source.UnknownName, e.Place(), fmt.Sprintf("a string is written in quotes: %q", text),
		"there is no %q here to subtract from", name.Name)
	return true
}

func (c *checker) inferAdd(e *syntax.Binary, left, right types.Type) types.Type {
	first, second := c.universe.AsLists(left), c.universe.AsLists(right)
	switch {
	case types.Core(left) == types.Any:
		if second != nil {
			return c.universe.List(c.universe.Union(types.Any, second.Element))
		}
		return types.Any
	case first != nil:
		if types.Core(right) == types.Any {
			return c.universe.List(c.universe.Union(types.Any, first.Element))
		}
		if second == nil {
			c.wrongOperand(e.Right, right, e.Operator, "two lists here")
			return types.Invalid
		}
		return c.universe.List(c.universe.Gathered(first.Element, second.Element))
	case types.Assignable(left, types.String):
		if !types.Assignable(right, types.String) {
			c.wrongOperand(e.Right, right, e.Operator, twoStrings)
		}
		return types.String
	case !types.Assignable(left, c.universe.Union(types.Int, types.Float)):
		c.wrongOperand(e.Left, left, e.Operator, "numbers, strings or lists")
		return types.Invalid
	}
	return c.arithmetic(e.Right, left, right, e.Operator)
}

// comparable reports a comparison that can never be true.
func (c *checker) comparable(e *syntax.Binary, left, right types.Type) {
	// A single literal stands for its type: `let debug = false` may change tomorrow. env.name has one of the names
	// that there are.
	if isEnvironmentName(e.Left) || isEnvironmentName(e.Right) {
		c.neverEqual(e, left, right)
		return
	}
	if types.LiteralValue(left) != nil && types.LiteralValue(right) == nil {
		if types.AsUnion(right) == nil {
			left = types.Widen(left)
		}
	} else if types.LiteralValue(right) != nil && types.AsUnion(left) == nil {
		right = types.Widen(right)
	}
	if types.LiteralValue(left) != nil && types.AsUnion(right) == nil {
		left = types.Widen(left)
	}
	c.neverEqual(e, left, right)
}

// neverEqual reports two types that have no value in common.
func (c *checker) neverEqual(e *syntax.Binary, left, right types.Type) {
	if types.Overlap(left, right) {
		return
	}
	help := ""
	if text, ok := types.LiteralValue(right).(string); ok {
		help = nearestText(text, left)
	} else if text, ok := types.LiteralValue(left).(string); ok {
		help = nearestText(text, right)
	}
	c.report(source.NeverEqual, e.Right.Place(), help, "%s can never be equal to %s", types.Describe(left),
		types.Describe(right))
}

func (c *checker) checkIn(e *syntax.Binary, left, right types.Type) {
	list, record := c.universe.AsLists(right), false
	for _, of := range types.Parts(right) { // a union is looked in when each of its members is
		switch {
		case of == types.Any, types.AsList(of) != nil:
		case types.AsRecord(of) != nil:
			record = true
		default:
			help := ""
			switch {
			case of == types.Null:
				help = "it may be null: give a value for that case with ??"
			case types.Widen(of) == types.String:
				help = "text.contains looks for a part of a string"
			}
			c.report(source.WrongType, e.Right.Place(), help, `"in" looks in a list, a record or a range, not in %s`,
				types.Describe(right))
			return
		}
	}
	switch {
	case record:
		if !types.Assignable(left, types.String) {
			c.report(source.WrongType, e.Left.Place(), "",
				`the keys of a record are strings: "in" cannot look for %s`, types.Describe(left))
		}
	case list != nil && types.Core(right) != types.Any:
		if types.LiteralValue(left) != nil && !isEnvironmentName(e.Left) {
			left = types.Widen(left) // which stands for its type, as in a comparison
		}
		if c.checkElements(e.Right, left) {
			return
		}
		if !types.Overlap(left, widenAll(c.universe, list.Element)) {
			c.report(source.NeverEqual, e.Left.Place(), "", "%s is never an element of %s", types.Describe(left),
				types.Article(right))
		}
	}
}

// checkElements reports elements of a list that is written out that a value of a type never equals. It returns
// whether it reported any.
func (c *checker) checkElements(list syntax.Expression, of types.Type) (reported bool) {
	written, ok := list.(*syntax.List)
	if !ok {
		return false
	}
	for _, element := range written.Elements {
		t := c.module.Info.Types[element.Value.ID()]
		if element.Spread || t == nil || types.LiteralValue(t) == nil || types.Overlap(of, t) {
			continue
		}
		help := ""
		if text, ok := types.LiteralValue(t).(string); ok {
			help = nearestText(text, of)
		}
		c.report(source.NeverEqual, element.Value.Place(), help, "%s can never be equal to %s", types.Describe(of),
			types.Describe(t))
		reported = true
	}
	return reported
}

func widenAll(u *types.Universe, t types.Type) types.Type {
	var parts []types.Type
	for _, p := range types.Parts(t) {
		parts = append(parts, types.Widen(p))
	}
	return u.Union(parts...)
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

// conversionHelp names the function that makes a value of one scalar type into one of another.
func conversionHelp(e *syntax.As, from, to types.Type) string {
	scalar := map[types.Type]string{types.Int: "int", types.Float: "float", types.Bool: "bool", types.String: "string"}
	if scalar[types.Widen(from)] == "" || scalar[types.Core(to)] == "" {
		return ""
	}
	return fmt.Sprintf("as does not convert: convert.%s(…) does", scalar[types.Core(to)])
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
		c.report(source.WrongType, e.Operand.Place(), conversionHelp(e, t, asked), "%s is never %s", types.Describe(t),
			types.Article(asked))
	}
	return asked
}
