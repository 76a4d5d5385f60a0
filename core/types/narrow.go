package types

import (
	"fmt"
	"slices"

	"knothole/core/syntax"
)

// facts is a chain of what is known about names and field paths in a branch.
type facts struct {
	outer *facts
	path  string
	t     *Type
}

// pathOf returns a text for a name or a path of fields from a name, by which facts about it are found.
func (c *checker) pathOf(e syntax.Expression) (string, bool) {
	switch e := e.(type) {
	case *syntax.Paren:
		return c.pathOf(e.Inner)
	case *syntax.Name:
		if o := c.module.Info.Objects[e.ID()]; o != nil {
			return fmt.Sprintf("%p", o), true
		}
	case *syntax.It:
		return fmt.Sprintf("%p", c.it), c.it != nil
	case *syntax.Env:
		return "env", true
	case *syntax.Field:
		if o := c.module.Info.Objects[e.ID()]; o != nil {
			return fmt.Sprintf("%p", o), true
		}
		if of, ok := c.pathOf(e.Of); ok {
			return of + "." + e.Name.Name, true
		}
	}
	return "", false
}

// narrowed returns what is known about the type of an expression here, or t when nothing more is.
func (c *checker) narrowed(e syntax.Expression, t *Type) *Type {
	if c.facts == nil {
		return t
	}
	path, ok := c.pathOf(e)
	if !ok {
		return t
	}
	for f := c.facts; f != nil; f = f.outer {
		if f.path == path {
			return f.t
		}
	}
	return t
}

// assume adds what follows from a condition being true or false.
func (c *checker) assume(condition syntax.Expression, holds bool) {
	switch e := condition.(type) {
	case *syntax.Paren:
		c.assume(e.Inner, holds)
	case *syntax.Is:
		c.assumeIs(e, holds)
	case *syntax.Unary:
		if e.Operator == syntax.Not {
			c.assume(e.Operand, !holds)
		}
	case *syntax.Binary:
		switch e.Operator {
		case syntax.And, syntax.Or:
			if holds == (e.Operator == syntax.And) {
				c.assume(e.Left, holds)
				c.assume(e.Right, holds)
			}
		case syntax.In, syntax.NotIn:
			if holds == (e.Operator == syntax.In) {
				c.assumePresent(e.Left, e.Right)
			}
		case syntax.Equal, syntax.NotEqual:
			c.assumeEqual(e.Left, e.Right, holds == (e.Operator == syntax.Equal))
			c.assumeEqual(e.Right, e.Left, holds == (e.Operator == syntax.Equal))
		}
	}
}

// assumeIs narrows a path by `is`.
func (c *checker) assumeIs(e *syntax.Is, holds bool) {
	path, ok := c.pathOf(e.Operand)
	t, asked := c.module.Info.Types[e.Operand.ID()], c.module.Info.Asked[e.ID()]
	if !ok || t == nil || asked == nil || t.Kind == Invalid {
		return
	}
	if narrowed := c.restrict(t, asked, holds); narrowed != nil {
		c.facts = &facts{c.facts, path, narrowed}
	}
}

// restrict returns what is left of a type when its values are, or are not, of another; nil when that cannot be told.
func (c *checker) restrict(t, asked *Type, holds bool) *Type {
	if holds && (t.Core().Kind == Any || Assignable(asked, t)) {
		return asked
	}
	var left []*Type
	for _, part := range t.Parts() {
		if holds && Overlap(part, asked) || !holds && (part.Kind == Any || limited(asked) || !exactly(part, asked)) {
			left = append(left, part)
		}
	}
	if len(left) == len(t.Parts()) {
		return nil
	}
	return c.universe.Union(left...)
}

// assumeField narrows a record of several types by what is known of one of its fields, such as the kind by which they are told
// apart: those are left of whose field it may be.
func (c *checker) assumeField(e syntax.Expression, may func(field *Type) bool) {
	field, ok := e.(*syntax.Field)
	if !ok || c.module.Info.Objects[field.ID()] != nil {
		return
	}
	path, ok := c.pathOf(field.Of)
	t := c.module.Info.Types[field.Of.ID()]
	if !ok || t == nil {
		return
	}
	var left []*Type
	all := t.alternatives()
	for _, part := range all {
		core := part.Core()
		if core.Kind != Record {
			left = append(left, part)
			continue
		}
		if f, ok := core.Field(field.Name.Name); !ok || may(f.Type) {
			left = append(left, part)
		}
	}
	if len(left) > 0 && len(left) < len(all) {
		c.facts = &facts{c.facts, path, c.universe.Union(left...)}
	}
}

// assumePresent notes that a record has a field, by `"field" in record`.
func (c *checker) assumePresent(key, record syntax.Expression) {
	literal, ok := c.literalOf(key)
	if !ok || literal.Kind != Literal {
		return
	}
	name, _ := literal.Literal.(string)
	path, ok := c.pathOf(record)
	t := c.module.Info.Types[record.ID()]
	if !ok || t == nil || t.Core().Kind != Record {
		return
	}
	if field, ok := t.Core().Field(name); ok {
		c.facts = &facts{c.facts, path + "." + name, field.Type}
	}
}

// assumeEqual narrows a path that is compared with a literal.
func (c *checker) assumeEqual(e, other syntax.Expression, equal bool) {
	literal, ok := c.literalOf(other)
	if !ok {
		return
	}
	path, ok := c.pathOf(e)
	t := c.module.Info.Types[e.ID()]
	if !ok || t == nil || t.Kind == Invalid || t.Kind == Any {
		return
	}
	if literal.Kind == Literal {
		c.assumeField(e, func(field *Type) bool { return equal && Overlap(field, literal) || !equal && field.Core() != literal })
	}
	// 1 == 1.0, so that a number that equals an int need not be one.
	if numeric(literal) && slices.ContainsFunc(t.Parts(), func(p *Type) bool { return numeric(p) && p.Widen() != literal.Widen() }) {
		return
	}
	var left []*Type
	for _, part := range t.Parts() {
		if (part == literal) == equal {
			left = append(left, part)
		}
	}
	switch {
	case equal && len(left) == 0:
		left = []*Type{literal}
	case !equal && literal == NullType:
		left = []*Type{c.universe.WithoutNull(t)}
	case !equal && len(left) == len(t.Parts()):
		return
	}
	c.facts = &facts{c.facts, path, c.universe.Union(left...)}
}
