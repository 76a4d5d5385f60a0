package types

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

// check sees to it that an expression fits where a type is expected; what names the place in messages. The expected
// type is passed down into literals and branches, so that a mistake is reported at the part that is wrong.
func (c *checker) check(e syntax.Expression, want *Type, what string) {
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
	}
	inner := len(c.program.Literals)
	got := c.infer(e, want)
	if want.Kind == Invalid || got.Kind == Invalid {
		c.module.Info.Targets[e.ID()] = want
		return
	}
	if !Assignable(got, want) {
		c.mismatch(e, got, want, what)
		return
	}
	if Converts(got, want) {
		c.module.Info.Targets[e.ID()] = want
		if literal(e) && c.owner != nil {
			// The whole covers its parts.
			c.program.Literals = append(c.program.Literals[:inner], Passage{c.module, e, want, c.owner})
		}
	}
}

// mismatch reports a wrong type, unless its parts were reported already.
func (c *checker) mismatch(e syntax.Expression, got, want *Type, what string) {
	span := e.Place()
	help := ""
	switch {
	case got == NullType:
		help = fmt.Sprintf("a type that takes null too is written %s?", want)
	case got.MayBeNull() && Assignable(c.universe.WithoutNull(got), want):
		help = "it may be null: give a value for that case with ??"
	case want.Core().Kind == String && Overlap(got, c.universe.Union(IntType, FloatType, BoolType)):
		help = "put it into a text: \"${…}\""
		if literal(e) {
			help = fmt.Sprintf("write it as a text: %q", c.text(e))
		}
	case got.Widen().Kind == String && got.Kind == Literal:
		text := got.Literal.(string)
		if want.Core().Kind == Int || want.Core().Kind == Float {
			help = "a number is written without quotes"
			if strings.Trim(text, "0123456789.-") == "" && text != "" {
				help += ": " + text
			}
		} else if near, ok := source.Nearest(text, literalTexts(want)); ok {
			help = fmt.Sprintf("did you mean %q?", near)
		} else if texts := literalTexts(want); len(texts) > 0 {
			help = "possible values: " + quotedList(texts)
		}
	case got.Core().Kind == Float && want.Core().Kind == Int:
		help = "an int has no fraction"
	}
	where := ""
	if what != "" {
		where = " for " + what
	}
	because := ""
	if reason := difference(got, want, ""); reason != "" {
		because = ": " + reason
	}
	c.report(source.WrongType, span, help, "expected %s%s, found %s%s", Article(want), where, describeType(got), because)
}

// text returns an expression as it is written.
func (c *checker) text(e syntax.Expression) string { return c.module.Tree.File.Slice(e.Place()) }

// describeType names what was found: a literal by its own type and value.
func describeType(t *Type) string {
	if t.Kind == Literal {
		return fmt.Sprintf("the %s %s", t.Widen(), t)
	}
	return Article(t)
}

func literalTexts(t *Type) []string {
	var texts []string
	for _, p := range t.Parts() {
		if text, ok := p.Literal.(string); ok {
			texts = append(texts, text)
		}
	}
	return texts
}

// difference says in which part a record or list does not fit; it is empty when the whole is of another kind.
func difference(got, want *Type, path string) string {
	from, to := got.Core(), want.Core()
	at := func(name string) string { return strings.TrimPrefix(path+"."+name, ".") }
	switch {
	case from.Kind == List && to.Kind == List:
		if inner := difference(from.Element, to.Element, path+"[]"); inner != "" {
			return inner
		}
		return fmt.Sprintf("its elements are %s, not %s", from.Element, to.Element)
	case from.Kind != Record || to.Kind != Record:
		return ""
	}
	for _, f := range to.Fields {
		given, ok := from.Field(f.Name)
		required := !f.Optional && f.Default == nil
		switch {
		case ok && !Assignable(given.Type, f.Type):
			if inner := difference(given.Type, f.Type, at(f.Name)); inner != "" {
				return inner
			}
			return fmt.Sprintf("%s is %s, not %s", at(f.Name), describeType(given.Type), Article(f.Type))
		case ok && given.Optional && required:
			return at(f.Name) + " may be absent"
		case !ok && required && from.Rest == nil:
			return at(f.Name) + " is missing"
		}
	}
	for _, f := range from.Fields {
		if _, ok := to.Field(f.Name); ok {
			continue
		}
		if to.Rest == nil {
			return fmt.Sprintf("there is no field %s", at(f.Name))
		}
		if !Assignable(f.Type, to.Rest) {
			if inner := difference(f.Type, to.Rest, at(f.Name)); inner != "" {
				return inner
			}
			return fmt.Sprintf("%s is %s, not %s", at(f.Name), describeType(f.Type), Article(to.Rest))
		}
	}
	if from.Rest != nil && to.Rest == nil {
		return "it may have any other fields"
	}
	return ""
}

// Converts reports whether passing a value of one type where another is expected may change it or fail.
func Converts(from, to *Type) bool {
	if from == to || to.Kind == Any {
		return false
	}
	return converts(from, to, map[pair]bool{})
}

func converts(from, to *Type, seen map[pair]bool) bool {
	if from == to || to.Kind == Any {
		return false
	}
	if seen[pair{from, to}] {
		return false
	}
	seen[pair{from, to}] = true
	if limited(to) || from.Kind == Any {
		return true
	}
	to, from = to.Core(), from.Core()
	switch to.Kind {
	case Float:
		return from.Widen().Kind != Float
	case List:
		return from.Kind != List || converts(from.Element, to.Element, seen)
	case Record:
		if from.Kind != Record || len(to.Fields) > 0 {
			return true
		}
		for _, f := range from.Fields {
			if converts(f.Type, to.Rest, seen) {
				return true
			}
		}
		return from.Rest != nil && converts(from.Rest, to.Rest, seen)
	case Union:
		for _, part := range from.Parts() {
			scalar := part.Kind != Record && part.Kind != List && part.Kind != Any
			if !scalar || !slices.ContainsFunc(to.Members, func(m *Type) bool { return Assignable(part, m) && !converts(part, m, map[pair]bool{}) }) {
				return true
			}
		}
		return false
	}
	return from.Kind == Any
}

func limited(t *Type) bool {
	for t.Kind == Named && t.Base != nil {
		t = t.Base
	}
	return t.Kind == Limited
}

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

// infer finds the type of an expression. The wanted type, which may be nil, helps literals; whether the result fits
// is for the caller to see.
func (c *checker) infer(e syntax.Expression, want *Type) *Type {
	t := c.inferExpression(e, want, false)
	c.module.Info.Types[e.ID()] = t
	return t
}

// inferAbsent is infer where the value may be an absent field, such as left of ??. The result then includes null.
func (c *checker) inferAbsent(e syntax.Expression) *Type {
	t := c.inferExpression(e, nil, true)
	c.module.Info.Types[e.ID()] = t
	return t
}

func (c *checker) inferExpression(e syntax.Expression, want *Type, absent bool) *Type {
	if t, ok := c.literalOf(e); ok {
		return t
	}
	switch e := e.(type) {
	case *syntax.String:
		for _, part := range e.Parts {
			if part.Value != nil {
				c.interpolated(part.Value)
			}
		}
		return StringType
	case *syntax.Name:
		return c.inferName(e)
	case *syntax.It:
		if c.it == nil {
			c.report(source.UnknownName, e.Place(), "", `"it" has a meaning only behind where and inside match`)
			return InvalidType
		}
		c.module.Info.Objects[e.ID()] = c.it
		return c.narrowed(e, c.it.Type)
	case *syntax.Env:
		c.report(source.WrongUse, e.Place(), "write env.name or env.tags", "env is not a value; its fields are")
		return InvalidType
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
		return c.inferIf(e, false)
	case *syntax.Match:
		return c.inferMatch(e)
	case *syntax.For:
		return c.inferFor(e, want)
	case *syntax.Call:
		return c.inferCall(e)
	case *syntax.Field:
		return c.inferField(e, absent)
	case *syntax.Index:
		return c.inferIndex(e, absent)
	}
	return InvalidType
}

func (c *checker) interpolated(e syntax.Expression) {
	t := c.infer(e, nil)
	scalars := c.universe.Union(StringType, IntType, FloatType, BoolType)
	if Assignable(t, scalars) {
		return
	}
	help := "encode it, for example with encode.json"
	if t.MayBeNull() {
		help = "it may be null: give a text for that case with ??"
	}
	c.report(source.WrongType, e.Place(), help, "only strings, numbers and bools can stand in a text, not %s", describeType(t))
}

func (c *checker) inferName(e *syntax.Name) *Type {
	o := c.lookup(e.Name, e.Place())
	if o == nil {
		return InvalidType
	}
	c.module.Info.Objects[e.ID()] = o
	switch o.Kind {
	case ObjectModule:
		c.report(source.WrongUse, e.Place(), fmt.Sprintf("take one of its members: %s.name", o.Name), "%q is a module, not a value", o.Name)
		return InvalidType
	case ObjectType:
		c.report(source.WrongUse, e.Place(), "types stand behind a colon", "%q is a type, not a value", o.Name)
		return InvalidType
	case ObjectFunction:
		c.report(source.WrongUse, e.Place(), fmt.Sprintf("call it: %s(…)", o.Name), "%q is a function, not a value", o.Name)
		return InvalidType
	}
	if o.Type == nil { // part of a circle, which is reported on its own
		return InvalidType
	}
	return c.narrowed(e, o.Type)
}

func (c *checker) inferUnary(e *syntax.Unary) *Type {
	if e.Operator == syntax.Not {
		c.check(e.Operand, BoolType, `"not"`)
		return BoolType
	}
	t := c.infer(e.Operand, nil)
	return c.arithmetic(e.Operand, t, t, e.Operator)
}

// arithmetic returns the type of a calculation, reporting an operand that is no number.
func (c *checker) arithmetic(at syntax.Expression, left, right *Type, operator syntax.Operator) *Type {
	number := c.universe.Union(IntType, FloatType)
	if left.Kind == Invalid || right.Kind == Invalid {
		return InvalidType
	}
	for _, t := range []*Type{left, right} {
		if !Assignable(t, number) {
			c.wrongOperand(at, t, operator, "numbers")
			return InvalidType
		}
	}
	l, r := left.Core().Widen(), right.Core().Widen()
	switch {
	case l.Kind == Any || r.Kind == Any:
		return AnyType
	case l.Kind == Int && r.Kind == Int || allInts(l) && allInts(r):
		return IntType
	case l.Kind == Float || r.Kind == Float:
		return FloatType
	}
	return number
}

func allInts(t *Type) bool {
	return !slices.ContainsFunc(t.Parts(), func(p *Type) bool { return p.Widen().Kind != Int })
}

func (c *checker) wrongOperand(at syntax.Expression, t *Type, operator syntax.Operator, takes string) {
	help := ""
	if t.MayBeNull() {
		help = "it may be null: give a value for that case with ??"
	} else if operator == syntax.Add && Overlap(t, StringType) {
		help = "numbers are put into texts with \"${…}\""
	}
	c.report(source.WrongType, at.Place(), help, "%q takes %s, not %s", operator, takes, describeType(t))
}

func (c *checker) inferBinary(e *syntax.Binary) *Type {
	switch e.Operator {
	case syntax.Or, syntax.And:
		c.check(e.Left, BoolType, fmt.Sprintf("%q", e.Operator))
		facts := c.facts
		c.assume(e.Left, e.Operator == syntax.And)
		c.check(e.Right, BoolType, fmt.Sprintf("%q", e.Operator))
		c.facts = facts
		return BoolType
	case syntax.Default:
		left := c.inferAbsent(e.Left)
		right := c.infer(e.Right, nil)
		return c.universe.Union(c.universe.WithoutNull(left), right)
	case syntax.Range:
		c.check(e.Left, IntType, "the start of a range")
		c.check(e.Right, IntType, "the end of a range")
		return c.universe.List(IntType)
	case syntax.Matches:
		c.check(e.Left, StringType, `"matches"`)
		c.check(e.Right, StringType, "a pattern")
		c.checkPattern(e.Right)
		return BoolType
	}
	left, right := c.infer(e.Left, nil), c.infer(e.Right, nil)
	if left.Kind == Invalid || right.Kind == Invalid {
		if e.Operator <= syntax.NotIn {
			return BoolType
		}
		return InvalidType
	}
	switch e.Operator {
	case syntax.Equal, syntax.NotEqual:
		c.comparable(e, left, right)
		return BoolType
	case syntax.Less, syntax.LessEqual, syntax.Greater, syntax.GreaterEqual:
		number := c.universe.Union(IntType, FloatType)
		switch {
		case Assignable(left, number) && Assignable(right, number), Assignable(left, StringType) && Assignable(right, StringType):
		case Assignable(left, number) || Assignable(left, StringType):
			wanted := number
			if Assignable(left, StringType) {
				wanted = StringType
			}
			c.report(source.WrongType, e.Right.Place(), "", "cannot compare %s with %s by size: expected %s here", describeType(left), describeType(right), wanted)
		default:
			c.wrongOperand(e.Left, left, e.Operator, "numbers or strings")
		}
		return BoolType
	case syntax.In, syntax.NotIn:
		c.checkIn(e, left, right)
		return BoolType
	case syntax.Add:
		return c.inferAdd(e, left, right)
	}
	if !Assignable(left, c.universe.Union(IntType, FloatType)) {
		return c.arithmetic(e.Left, left, left, e.Operator)
	}
	return c.arithmetic(e.Right, left, right, e.Operator)
}

func (c *checker) inferAdd(e *syntax.Binary, left, right *Type) *Type {
	kind := left.Core().Kind
	switch {
	case kind == Any:
		if right.Core().Kind == List {
			return c.universe.List(AnyType)
		}
		return AnyType
	case kind == List:
		if right.Core().Kind == Any {
			return c.universe.List(AnyType)
		}
		if right.Core().Kind != List {
			c.wrongOperand(e.Right, right, e.Operator, "two lists here")
			return InvalidType
		}
		return c.universe.List(c.universe.Union(left.Core().Element, right.Core().Element))
	case Assignable(left, StringType):
		if !Assignable(right, StringType) {
			c.wrongOperand(e.Right, right, e.Operator, "two strings here")
		}
		return StringType
	case !Assignable(left, c.universe.Union(IntType, FloatType)):
		c.wrongOperand(e.Left, left, e.Operator, "numbers, strings or lists")
		return InvalidType
	}
	return c.arithmetic(e.Right, left, right, e.Operator)
}

// comparable reports a comparison that can never be true.
func (c *checker) comparable(e *syntax.Binary, left, right *Type) {
	// A single literal stands for its type: `let debug = false` may change tomorrow.
	if left.Kind == Literal && right.Kind != Literal {
		if right.Core().Kind != Union {
			left = left.Widen()
		}
	} else if right.Kind == Literal && left.Core().Kind != Union {
		right = right.Widen()
	}
	if left.Kind == Literal && right.Kind != Union {
		left = left.Widen()
	}
	if Overlap(left, right) {
		return
	}
	help := ""
	if text, ok := right.Literal.(string); ok && right.Kind == Literal {
		if near, found := source.Nearest(text, literalTexts(left)); found {
			help = fmt.Sprintf("did you mean %q?", near)
		} else if texts := literalTexts(left); len(texts) > 0 {
			help = "possible values: " + quotedList(texts)
		}
	}
	c.report(source.NeverEqual, e.Right.Place(), help, "%s can never be equal to %s", describeType(left), describeType(right))
}

func quotedList(texts []string) string {
	quoted := make([]string, len(texts))
	for i, t := range texts {
		quoted[i] = fmt.Sprintf("%q", t)
	}
	return strings.Join(quoted, ", ")
}

func (c *checker) checkIn(e *syntax.Binary, left, right *Type) {
	switch core := right.Core(); core.Kind {
	case Any:
	case List:
		if !Overlap(left.Widen(), widenAll(c.universe, core.Element)) {
			c.report(source.NeverEqual, e.Left.Place(), "", "%s is never an element of %s", describeType(left), Article(right))
		}
	case Record:
		if !Assignable(left, StringType) {
			c.report(source.WrongType, e.Left.Place(), "", `the keys of a record are strings: "in" cannot look for %s`, describeType(left))
		}
	default:
		help := ""
		if core.Widen().Kind == String {
			help = "text.contains looks for a part of a text"
		}
		c.report(source.WrongType, e.Right.Place(), help, `"in" looks in a list, a record or a range, not in %s`, describeType(right))
	}
}

func widenAll(u *Universe, t *Type) *Type {
	var parts []*Type
	for _, p := range t.Parts() {
		parts = append(parts, p.Widen())
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
			c.report(source.BadPattern, e.Place(), "patterns are RE2; '…' keeps backslashes as they are", "this is not a pattern: %s", PatternMistake(err))
		}
	}
}

// PatternMistake returns what is wrong with a pattern, in the words of the reader of patterns, without its prefix.
func PatternMistake(err error) string {
	return strings.TrimPrefix(err.Error(), "error parsing regexp: ")
}

func (c *checker) checkIf(e *syntax.If, want *Type, what string) {
	c.check(e.Condition, BoolType, "a condition")
	facts := c.facts
	c.assume(e.Condition, true)
	c.check(e.Then, want, what)
	c.facts = facts
	if e.Else != nil {
		c.assume(e.Condition, false)
		c.check(e.Else, want, what)
		c.facts = facts
	}
	c.module.Info.Types[e.ID()] = want
}

// inferIf finds the type of an if. Behind `...` the else may be missing: spread says so, and the other case is then
// an empty record or list, which adds nothing to the type but that all of it may be absent.
func (c *checker) inferIf(e *syntax.If, spread bool) *Type {
	c.check(e.Condition, BoolType, "a condition")
	facts := c.facts
	c.assume(e.Condition, true)
	then := c.inferBranch(e.Then, spread)
	c.facts = facts
	if e.Else == nil {
		return c.partial(then)
	}
	c.assume(e.Condition, false)
	other := c.inferBranch(e.Else, spread)
	c.facts = facts
	if spread && then.Core().Kind == Record && other.Core().Kind == Record && then != other {
		return c.mergeBranches(then.Core(), other.Core())
	}
	return c.universe.Union(then, other)
}

func (c *checker) inferBranch(e syntax.Expression, spread bool) *Type {
	if inner, ok := e.(*syntax.If); ok && spread {
		t := c.inferIf(inner, true)
		c.module.Info.Types[e.ID()] = t
		return t
	}
	return c.infer(e, nil)
}

// partial makes all fields of a record type optional.
func (c *checker) partial(t *Type) *Type {
	core := t.Core()
	if core.Kind != Record {
		return t
	}
	fields := slices.Clone(core.Fields)
	for i := range fields {
		fields[i].Optional, fields[i].Default = true, nil
	}
	return c.universe.Record(fields, core.Rest)
}

// mergeBranches returns the record type that describes what is spread from either of two branches.
func (c *checker) mergeBranches(a, b *Type) *Type {
	var fields []Field
	for _, f := range a.Fields {
		if other, ok := b.Field(f.Name); ok {
			f.Type = c.universe.Union(f.Type, other.Type)
			f.Optional = f.Optional || other.Optional
		} else {
			f.Optional = true
		}
		f.Default = nil
		fields = append(fields, f)
	}
	for _, f := range b.Fields {
		if _, ok := a.Field(f.Name); !ok {
			f.Optional, f.Default = true, nil
			fields = append(fields, f)
		}
	}
	rest := a.Rest
	if rest == nil {
		rest = b.Rest
	} else if b.Rest != nil {
		rest = c.universe.Union(rest, b.Rest)
	}
	return c.universe.Record(fields, rest)
}

func (c *checker) checkMatch(e *syntax.Match, want *Type, what string) {
	c.matchArms(e, func(value syntax.Expression) { c.check(value, want, what) })
	c.module.Info.Types[e.ID()] = want
}

func (c *checker) inferMatch(e *syntax.Match) *Type {
	var results []*Type
	c.matchArms(e, func(value syntax.Expression) { results = append(results, c.infer(value, nil)) })
	return c.universe.Union(results...)
}

// matchArms checks the subject and the arms of a match; value is called for the value of each arm.
func (c *checker) matchArms(e *syntax.Match, value func(syntax.Expression)) {
	subject := c.infer(e.Subject, nil)
	outer := c.it
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: subject, Slot: c.owner.Frame, Global: -1, state: resolved}
	c.owner.Frame++
	defer func() { c.it = outer }()
	// The slot of `it` is found by the subject when the match is compiled.
	c.module.Info.Objects[e.ID()] = c.it

	left := slices.Clone(subject.Parts())
	for i := 0; i < len(left); i++ {
		if left[i].Kind == Bool {
			left = append(left[:i], append([]*Type{c.universe.Literal(true), c.universe.Literal(false)}, left[i+1:]...)...)
		}
	}
	open := slices.ContainsFunc(left, func(t *Type) bool { return t.Kind != Literal && t.Kind != Null })
	single := subject.Kind == Literal
	seen := map[any]bool{}
	closed := false
	for _, arm := range e.Arms {
		if closed {
			c.report(source.UnreachableArm, arm.Span, "put it before else, or remove it", "nothing reaches this arm: else stands before it")
		}
		var covered []*Type
		for _, pattern := range arm.Patterns {
			t := c.infer(pattern, nil)
			key := any(t.Literal)
			switch {
			case seen[key]:
				c.report(source.UnreachableArm, pattern.Place(), "remove it", "nothing reaches %s here: an arm above has it already", t)
			case subject.Kind != Invalid && !single && !Overlap(subject, t):
				help := ""
				if text, ok := t.Literal.(string); ok {
					if near, found := source.Nearest(text, literalTexts(subject)); found {
						help = fmt.Sprintf("did you mean %q?", near)
					} else if texts := literalTexts(subject); len(texts) > 0 {
						help = "possible values: " + quotedList(texts)
					}
				}
				c.report(source.UnreachableArm, pattern.Place(), help, "this can never be %s", t)
			}
			seen[key] = true
			covered = append(covered, t)
			left = slices.DeleteFunc(left, func(p *Type) bool { return p == t })
		}
		whole := c.it.Type
		if arm.Else {
			closed = true
			if len(left) > 0 && !open {
				c.it.Type = c.universe.Union(left...)
			}
		} else if len(covered) > 0 {
			c.it.Type = c.universe.Union(covered...)
		}
		value(arm.Value)
		c.it.Type = whole
	}
	if closed || subject.Kind == Invalid || len(left) == 0 {
		return
	}
	if open {
		c.report(source.IncompleteMatch, e.Place(), `add an arm: else -> …`, "this match needs else: it cannot name every %s", subject)
		return
	}
	var missing, arms []string
	for _, t := range left {
		missing = append(missing, t.String())
		arms = append(arms, t.String()+" -> …")
	}
	c.report(source.IncompleteMatch, source.Span{Start: e.Place().Start, End: e.Subject.Place().End}, "add "+strings.Join(arms, ", ")+", or else -> …",
		"this match leaves out %s", strings.Join(missing, ", "))
}

func (c *checker) inferFor(e *syntax.For, want *Type) *Type {
	in := c.infer(e.In, nil)
	first, second := c.loopTypes(e, in)
	outer, facts := c.scope, c.facts
	c.module.Info.Objects[e.ID()] = c.bind(e.First, first)
	if e.Second.Name != "" {
		c.bind(e.Second, second)
	}
	if e.Where != nil {
		c.check(e.Where, BoolType, "a condition")
		c.assume(e.Where, true)
	}
	var result *Type
	if e.Body.Key != nil {
		c.checkKey(e.Body.Key)
		var element *Type
		if want != nil {
			if record := onlyPart(want, Record); record != nil && len(record.Fields) == 0 {
				element = record.Rest
			}
		}
		result = c.universe.Map(c.entryValue(e.Body, element, "an entry"))
	} else {
		var element *Type
		if want != nil {
			if list := onlyPart(want, List); list != nil {
				element = list.Element
			}
		}
		switch {
		case e.Body.Spread:
			result = c.inferSpreadList(e.Body)
		default:
			result = c.universe.List(c.entryValue(e.Body, element, "an element"))
		}
	}
	c.facts = facts
	c.unbind(outer)
	return result
}

// loopTypes returns the types of the two names of a loop; the second is only of use when it is written.
func (c *checker) loopTypes(e *syntax.For, in *Type) (first, second *Type) {
	var elements []*Type
	lists, records := 0, 0
	parts := in.Parts()
	for _, part := range parts {
		switch part.Kind {
		case Invalid:
			return InvalidType, InvalidType
		case Any:
			if e.Second.Name != "" {
				c.report(source.WrongUse, e.Second.Span, "give what it goes through a type: [any] or { *: any }",
					"two names need to know whether this is a list or a record, but it is any")
			}
			return AnyType, InvalidType
		case List:
			lists++
			elements = append(elements, part.Element)
		case Record:
			records++
			for _, f := range part.Fields {
				elements = append(elements, f.Type)
			}
			if part.Rest != nil {
				elements = append(elements, part.Rest)
			}
		}
	}
	element := c.universe.Union(elements...)
	switch {
	case lists == len(parts):
		return element, IntType
	case records == len(parts) && e.Second.Name != "":
		return StringType, element
	case records == len(parts):
		return element, InvalidType
	}
	help := ""
	if in.MayBeNull() {
		help = "it may be null: write (… ?? [])"
	}
	c.report(source.WrongType, e.In.Place(), help, "for goes through a list, a record or a range, not %s", describeType(in))
	return InvalidType, InvalidType
}

// onlyPart returns the one member of the wanted kind of a type, nil when there is none or more than one.
func onlyPart(t *Type, kind Kind) *Type {
	var found *Type
	for _, p := range t.Parts() {
		if p.Kind == kind {
			if found != nil {
				return nil
			}
			found = p
		}
	}
	return found
}

// entryValue checks the value of an entry or element against the type expected there, which may be nil, and returns
// the type that it has then. A value that is marked `?` may be null or absent.
func (c *checker) entryValue(entry *syntax.Entry, want *Type, what string) *Type {
	if entry.Optional {
		t := c.inferAbsent(entry.Value)
		present := c.universe.WithoutNull(t)
		if !t.MayBeNull() && t.Kind != Invalid {
			c.warn(source.WrongUse, entry.Value.Place(), "leave out the ?", "marked ?, but never null or absent")
		}
		if want == nil {
			return present
		}
		if !Assignable(present, want) {
			c.mismatch(entry.Value, present, want, what)
		} else if Converts(present, want) {
			c.module.Info.Targets[entry.Value.ID()] = c.universe.Optional(want)
		}
		return want
	}
	if want == nil || want.Kind == Any {
		return c.infer(entry.Value, nil)
	}
	c.check(entry.Value, want, what)
	return want
}

func (c *checker) checkKey(key *syntax.Key) {
	if key.Value != nil {
		c.check(key.Value, StringType, "a key")
	}
}

func (c *checker) inferList(e *syntax.List, want *Type) *Type {
	var expected *Type
	if want != nil {
		if list := onlyPart(want, List); list != nil {
			expected = list.Element
		}
	}
	if len(e.Elements) == 0 && want == nil {
		return c.universe.List(NeverType)
	}
	var elements []*Type
	for _, element := range e.Elements {
		if element.Spread {
			if t := c.inferSpreadList(element); t.Core().Kind == List {
				elements = append(elements, t.Core().Element)
			} else {
				elements = append(elements, t)
			}
			continue
		}
		elements = append(elements, c.entryValue(element, expected, "an element"))
	}
	return c.universe.List(c.universe.Union(elements...))
}

// inferSpreadList checks `...value` in a list; the result is a list type, any or invalid.
func (c *checker) inferSpreadList(entry *syntax.Entry) *Type {
	t := c.inferSpread(entry)
	switch {
	case t.Kind == Invalid || t.Core().Kind == List:
		return t
	case t.Kind == Any:
		return c.universe.List(AnyType)
	case !slices.ContainsFunc(t.Parts(), func(p *Type) bool { return p.Kind != List }):
		var elements []*Type
		for _, p := range t.Parts() {
			elements = append(elements, p.Element)
		}
		return c.universe.List(c.universe.Union(elements...))
	}
	c.report(source.WrongType, entry.Value.Place(), spreadHelp(t), `"..." in a list brings in the elements of a list, not of %s`, describeType(t))
	return InvalidType
}

func spreadHelp(t *Type) string {
	if t.MayBeNull() {
		return "it may be null: write ...(… ?? []), or mark the entry ?"
	}
	return ""
}

// inferSpread finds the type of what a spread brings in; marked `?`, null brings in nothing.
func (c *checker) inferSpread(entry *syntax.Entry) *Type {
	var t *Type
	if conditional, ok := entry.Value.(*syntax.If); ok {
		t = c.inferIf(conditional, true)
		c.module.Info.Types[entry.Value.ID()] = t
	} else if entry.Optional {
		t = c.inferAbsent(entry.Value)
	} else {
		t = c.infer(entry.Value, nil)
	}
	if entry.Optional {
		t = c.partial(c.universe.WithoutNull(t))
	}
	return t
}
