package check

import (
	"fmt"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

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
	return c.universe.List(c.universe.Gathered(elements...))
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
		} else if types.AsList(alternative) != nil || types.Core(alternative) == types.Any {
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
	return c.universe.List(c.universe.Gathered(elements...))
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
		return c.universe.List(c.universe.Gathered(elements...))
	}
	c.report(source.WrongType, entry.Value.Place(), spreadHelp(t),
		`"..." in a list adds the elements of a list, not of %s`, types.Describe(t))
	return types.Invalid
}

func spreadHelp(t types.Type) string {
	if types.MayBeNull(t) {
		return "it may be null: write ...(… ?? []), or mark the entry ?"
	}
	return ""
}

// inferSpread finds the type of what a spread brings in; marked `?`, null brings in nothing. The wanted type, which
// may be nil, is passed down into what is written out, so that an error is found at the part that is wrong.
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

// literalOf returns the type of a literal.
func (c *checker) literalOf(e syntax.Expression) (types.Type, bool) {
	switch e := e.(type) {
	case *syntax.Null:
		return types.Null, true
	case *syntax.Bool:
		return c.universe.Literal(e.Value), true
	case *syntax.Int:
		return c.universe.Literal(e.Value), true
	case *syntax.Float:
		return c.universe.Literal(e.Value), true
	case *syntax.String:
		if text, plain := e.Plain(); plain {
			return c.universe.Literal(text), true
		}
	}
	return nil, false
}
