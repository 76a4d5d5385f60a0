package check

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// check sees to it that an expression fits where a type is expected; what names the place in messages. The expected
// type is passed down into literals and branches, so that a mistake is reported at the part that is wrong.
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
	inner := len(c.program.Literals)
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
			c.program.Literals = append(c.program.Literals[:inner], Passage{c.module, e, want, c.owner})
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

// inferAbsent is infer where the value may be an absent field, such as left of ??. The result then includes null.
func (c *checker) inferAbsent(e syntax.Expression) types.Type {
	t := c.inferExpression(e, nil, true)
	c.module.Info.Types[e.ID()] = t
	return t
}

func (c *checker) inferExpression(e syntax.Expression, want types.Type, absent bool) types.Type {
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
			c.report(source.UnknownName, e.Place(), "", `"it" has a meaning only behind where and inside match`)
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
	}
	return types.Invalid
}

func (c *checker) interpolated(e syntax.Expression) {
	t := c.infer(e, nil)
	scalars := c.universe.Union(types.String, types.Int, types.Float, types.Bool)
	if types.Assignable(t, scalars) {
		return
	}
	help := "encode it, for example with encode.json"
	if types.MayBeNull(t) {
		help = "it may be null: give a text for that case with ??"
	}
	c.report(source.WrongType, e.Place(), help, "only strings, numbers and bools can stand in a text, not %s",
		types.Describe(t))
}

// interpolatedLine checks what stands alone on a line of a text: a text of any number of lines, a list with one for
// each, or null.
func (c *checker) interpolatedLine(e syntax.Expression) {
	t := (types.Type)(nil)
	if conditional, ok := e.(*syntax.If); ok {
		t = c.inferIf(conditional, nil, true)
		c.module.Info.Types[e.ID()] = t
	} else {
		t = c.infer(e, nil)
	}
	scalars := c.universe.Union(types.String, types.Int, types.Float, types.Bool)
	if !types.Assignable(t, c.universe.Union(scalars, c.universe.List(scalars), types.Null)) {
		c.report(source.WrongType, e.Place(), "encode it, for example with encode.json",
			"on a line of its own stands a text, a list of texts, each a line, or null, which is no line; not %s",
			types.Describe(t))
	}
}

// insertedName is the beginning of an insert and the name that it begins with.
var insertedName = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)[^{}]*\}`)

// warnNotInserted warns of a text in single quotes that holds an insert with a name that is known here.
func (c *checker) warnNotInserted(e syntax.Expression) {
	written := c.text(e)
	if _, ok := e.(*syntax.String); !ok || written[0] != '\'' || strings.HasPrefix(written, "'''") {
		return
	}
	for _, m := range insertedName.FindAllStringSubmatch(written, -1) {
		if c.local(m[1]) || c.module.Objects[m[1]] != nil {
			c.warn(source.NotInserted, e.Place(), `put it in double quotes; there, \$ is a dollar sign`,
				"nothing is put into a text in single quotes: %s stays as it is", m[0])
			return
		}
	}
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
		c.report(source.WrongUse, e.Place(), "types stand behind a colon", "%q is a type, not a value", o.Name)
		return types.Invalid
	case ObjectFunction:
		return c.functionType(o)
	}
	if o.Type == nil { // part of a circle, which is reported on its own
		return types.Invalid
	}
	return c.narrowed(e, o.Type)
}

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
		help = "numbers are put into texts with \"${…}\""
	} else if operator == syntax.Negate {
		help = "the elements of a list stand in brackets: [a, b]"
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
			c.warn(source.NeedlessDefault, e.OperatorSpan, "leave ?? and what stands behind it out",
				"what stands before ?? is never null: it is %s", types.Article(left))
		}
		return c.universe.Union(c.universe.WithoutNull(left), right)
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
	c.report(source.UnknownName, e.Place(), fmt.Sprintf("a text is written in quotes: %q", text),
		"there is no %q here to subtract from", name.Name)
	return true
}

func (c *checker) inferAdd(e *syntax.Binary, left, right types.Type) types.Type {
	first, second := types.AsList(left), types.AsList(right)
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
		return c.universe.List(c.universe.Union(first.Element, second.Element))
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
	switch of := types.Core(right).(type) {
	case *types.List:
		if types.LiteralValue(left) != nil && !isEnvironmentName(e.Left) {
			left = types.Widen(left) // which stands for its type, as in a comparison
		}
		if c.checkElements(e.Right, left) {
			return
		}
		if !types.Overlap(left, widenAll(c.universe, of.Element)) {
			c.report(source.NeverEqual, e.Left.Place(), "", "%s is never an element of %s", types.Describe(left),
				types.Article(right))
		}
	case *types.Record:
		if !types.Assignable(left, types.String) {
			c.report(source.WrongType, e.Left.Place(), "",
				`the keys of a record are strings: "in" cannot look for %s`, types.Describe(left))
		}
	default:
		if of == types.Any {
			return
		}
		help := ""
		if types.Widen(of) == types.String {
			help = "text.contains looks for a part of a text"
		}
		c.report(source.WrongType, e.Right.Place(), help, `"in" looks in a list, a record or a range, not in %s`,
			types.Describe(right))
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

// checkPattern reports a regular expression that is written out and wrong.
func (c *checker) checkPattern(e syntax.Expression) {
	s, ok := e.(*syntax.String)
	if !ok {
		return
	}
	if pattern, plain := s.Plain(); plain {
		if _, err := regexp.Compile(pattern); err != nil {
			c.report(source.BadPattern, e.Place(), "patterns are RE2; '…' keeps backslashes as they are",
				"this is not a pattern: %s", PatternMistake(err))
		}
	}
}

// PatternMistake returns what is wrong with a pattern, in the words of the reader of patterns, without its prefix.
func PatternMistake(err error) string {
	return strings.TrimPrefix(err.Error(), "error parsing regexp: ")
}

// entryValue checks the value of an entry or element against the type expected there, which may be nil, and returns
// the type that it has then. A value that is marked `?` may be null or absent.
func (c *checker) entryValue(entry *syntax.Entry, want types.Type, what string) types.Type {
	if entry.Optional {
		t := c.inferAbsent(entry.Value)
		present := c.universe.WithoutNull(t)
		if !types.MayBeNull(t) && t != types.Invalid {
			c.warn(source.WrongUse, entry.Value.Place(), "leave out the ?", "marked ?, but never null or absent")
		}
		if want == nil {
			return present
		}
		if !types.Assignable(present, want) {
			c.mismatch(entry.Value, present, want, what)
		} else if types.Converts(present, want) {
			c.module.Info.Targets[entry.Value.ID()] = c.universe.Optional(want)
		}
		return want
	}
	if want == nil || want == types.Any {
		return c.infer(entry.Value, nil)
	}
	c.check(entry.Value, want, what)
	return want
}

func (c *checker) checkKey(key *syntax.Key) {
	if key.Value != nil {
		c.check(key.Value, types.String, "a key")
	}
}

func (c *checker) inferList(e *syntax.List, want types.Type) types.Type {
	var expected types.Type
	if want != nil {
		if t := c.inferTuple(e, want); t != nil {
			return t
		}
		if list := types.OnlyList(want); list != nil {
			expected = list.Element
		}
	}
	if len(e.Elements) == 0 && want == nil {
		return c.universe.List(types.Never)
	}
	var elements []types.Type
	for _, element := range e.Elements {
		if element.Spread {
			t := c.inferSpreadList(element, expected)
			elements = append(elements, elementOr(t, t))
			continue
		}
		elements = append(elements, c.entryValue(element, expected, "an element"))
	}
	if len(elements) > manyElements {
		for i, t := range elements {
			elements[i] = types.Widen(t)
		}
	}
	return c.universe.List(c.universe.Union(elements...))
}

// manyElements is beyond how many elements of a list literal each is no longer a type of its own.
const manyElements = 100

// inferTuple checks a list literal against a tuple, where one is expected; else it is nil. Of several the one is
// meant that has as many elements.
func (c *checker) inferTuple(e *syntax.List, want types.Type) types.Type {
	var tuples []*types.Tuple
	for _, alternative := range types.Alternatives(want) {
		if t := types.AsTuple(alternative); t != nil {
			tuples = append(tuples, t)
		} else if types.AsList(alternative) != nil {
			return nil
		}
	}
	if tuples == nil || slices.ContainsFunc(e.Elements, func(x *syntax.Entry) bool { return x.Optional }) {
		return nil
	}
	if slices.ContainsFunc(e.Elements, func(x *syntax.Entry) bool { return x.Spread }) {
		return c.spreadTuple(e)
	}
	var meant *types.Tuple
	for _, t := range tuples {
		if len(t.Elements) == len(e.Elements) {
			if meant != nil {
				return c.plainTuple(e)
			}
			meant = t
		}
	}
	if meant == nil {
		c.report(source.WrongType, e.Place(), "", "%s has %s, not %d", tuples[0], count(len(tuples[0].Elements),
			"element"), len(e.Elements))
		return types.Invalid
	}
	for i, element := range e.Elements {
		c.entryValue(element, meant.Elements[i], fmt.Sprintf("element %d", i))
	}
	return meant
}

// plainTuple returns the tuple that the elements of a list literal are.
func (c *checker) plainTuple(e *syntax.List) types.Type {
	elements := make([]types.Type, len(e.Elements))
	for i, element := range e.Elements {
		elements[i] = c.infer(element.Value, nil)
	}
	return c.universe.Tuple(elements...)
}

// spreadTuple returns the tuple that a list literal is into which other tuples are spread; a list when others are.
func (c *checker) spreadTuple(e *syntax.List) types.Type {
	var elements []types.Type
	all := true
	for _, element := range e.Elements {
		if !element.Spread {
			elements = append(elements, c.infer(element.Value, nil))
			continue
		}
		t := c.inferSpreadList(element, nil)
		if tuple := types.AsTuple(t); tuple != nil {
			elements = append(elements, tuple.Elements...)
		} else {
			all = false
			elements = append(elements, elementOr(t, t))
		}
	}
	if all && len(elements) > 1 {
		return c.universe.Tuple(elements...)
	}
	return c.universe.List(c.universe.Union(elements...))
}

// elementOr returns the type of the elements of a list, and another one for what is no list.
func elementOr(t, other types.Type) types.Type {
	if list := types.AsList(t); list != nil {
		return list.Element
	}
	return other
}

// inferSpreadList checks `...value` in a list whose elements are expected to be of a type, which may be nil; the
// result is a list type, any or invalid.
func (c *checker) inferSpreadList(entry *syntax.Entry, expected types.Type) types.Type {
	var want types.Type
	if expected != nil && expected != types.Any {
		want = c.universe.List(expected)
	}
	t := c.inferSpread(entry, want)
	switch {
	case t == types.Invalid || types.AsList(t) != nil:
		return t
	case t == types.Any:
		return c.universe.List(types.Any)
	case !slices.ContainsFunc(types.Parts(t), func(p types.Type) bool { return types.AsList(p) == nil }):
		var elements []types.Type
		for _, p := range types.Parts(t) {
			elements = append(elements, types.AsList(p).Element)
		}
		return c.universe.List(c.universe.Union(elements...))
	}
	c.report(source.WrongType, entry.Value.Place(), spreadHelp(t),
		`"..." in a list brings in the elements of a list, not of %s`, types.Describe(t))
	return types.Invalid
}

func spreadHelp(t types.Type) string {
	if types.MayBeNull(t) {
		return "it may be null: write ...(… ?? []), or mark the entry ?"
	}
	return ""
}

// inferSpread finds the type of what a spread brings in; marked `?`, null brings in nothing. The wanted type, which
// may be nil, is passed down into what is written out, so that a mistake is found at the part that is wrong.
func (c *checker) inferSpread(entry *syntax.Entry, want types.Type) types.Type {
	var t types.Type
	if conditional, ok := entry.Value.(*syntax.If); ok {
		t = c.inferIf(conditional, want, true)
		c.module.Info.Types[entry.Value.ID()] = t
	} else if entry.Optional {
		t = c.inferAbsent(entry.Value)
	} else {
		t = c.infer(entry.Value, want)
	}
	if entry.Optional {
		t = c.universe.Partial(c.universe.WithoutNull(t))
	}
	return t
}
