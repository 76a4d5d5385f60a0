package check

import (
	"slices"
	"strconv"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// facts is a chain of what is known about names and field paths in a branch. Values never change, so that what is
// known where a function is written is known when it runs. The name of an each is the exception: operations change
// what it stands for.
type facts struct {
	outer *facts
	path  factPath
	t     types.Type
}

// factPath is a name and the fields and elements that lead on from it, each quoted.
type factPath struct {
	root  *Object // nil for env
	steps string
}

// know adds a fact.
func (c *checker) know(path factPath, t types.Type) { c.facts = &facts{c.facts, path, t} }

// forget takes away what is known about a name, which stands for something else now.
func (c *checker) forget(o *Object) {
	var kept *facts
	for f := c.facts; f != nil; f = f.outer {
		if f.path.root != o {
			kept = &facts{kept, f.path, f.t}
		}
	}
	c.facts = nil
	for f := kept; f != nil; f = f.outer { // in their order again
		c.facts = &facts{c.facts, f.path, f.t}
	}
}

// pathOf returns the path that an expression is, by which facts about it are found.
func (c *checker) pathOf(e syntax.Expression) (factPath, bool) {
	switch e := e.(type) {
	case *syntax.Paren:
		return c.pathOf(e.Inner)
	case *syntax.Name, *syntax.It:
		if o := c.module.Info.Objects[e.ID()]; o != nil {
			return factPath{root: o}, true
		}
	case *syntax.Env:
		return factPath{}, true
	case *syntax.Field:
		if o := c.module.Info.Objects[e.ID()]; o != nil {
			return factPath{root: o}, true
		}
		if of, ok := c.pathOf(e.Of); ok {
			return of.field(e.Name.Name), true
		}
	case *syntax.Index:
		of, ok := c.pathOf(e.Of)
		if literal, known := c.literalOf(e.Index); ok && known {
			switch key := types.LiteralValue(literal).(type) {
			case string:
				return of.field(key), true
			case int64:
				return factPath{of.root, of.steps + "[" + strconv.FormatInt(key, 10) + "]"}, true
			}
		}
	}
	return factPath{}, false
}

func (p factPath) field(name string) factPath {
	return factPath{p.root, p.steps + "." + strconv.Quote(name)}
}

// narrowed returns what is known about the type of an expression here, or t when nothing more is.
func (c *checker) narrowed(e syntax.Expression, t types.Type) types.Type {
	if c.facts == nil {
		return t
	}
	path, ok := c.pathOf(e)
	if !ok {
		return t
	}
	if known := c.facts.find(path, nil); known != nil {
		return known
	}
	return t
}

// find returns what is known about a path by the facts before an outer chain; nil when nothing is.
func (f *facts) find(path factPath, outer *facts) types.Type {
	for ; f != outer && f != nil; f = f.outer {
		if f.path == path {
			return f.t
		}
	}
	return nil
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
			c.assumeBoth(e, holds)
		case syntax.In, syntax.NotIn:
			if holds == (e.Operator == syntax.In) {
				c.assumePresent(e.Left, e.Right)
			} else {
				c.assumeMissing(e.Left, e.Right)
			}
		case syntax.Equal, syntax.NotEqual:
			c.assumeEqual(e.Left, e.Right, holds == (e.Operator == syntax.Equal))
			c.assumeEqual(e.Right, e.Left, holds == (e.Operator == syntax.Equal))
		}
	}
}

// assumption is a condition that holds, or that does not.
type assumption struct {
	condition *syntax.Binary
	holds     bool
}

// assumeBoth adds what follows from `and` or `or`. Of conditions in one another each is looked at once: what follows
// from it depends on nothing but itself.
func (c *checker) assumeBoth(e *syntax.Binary, holds bool) {
	if c.assumed == nil {
		c.assumed = map[assumption][]*facts{}
		defer func() { c.assumed = nil }()
	}
	key := assumption{e, holds}
	follows, known := c.assumed[key]
	if !known {
		before := c.facts
		if holds == (e.Operator == syntax.And) {
			c.assume(e.Left, holds)
			c.assume(e.Right, holds)
		} else {
			c.assumeEither(e, holds)
		}
		seen := map[factPath]bool{}
		for f := c.facts; f != before; f = f.outer {
			if !seen[f.path] {
				seen[f.path] = true
				follows = append(follows, f)
			}
		}
		c.assumed[key], c.facts = follows, before
	}
	for _, f := range slices.Backward(follows) {
		c.know(f.path, f.t)
	}
}

// assumeEither adds what follows from one of the two sides of `or` being true, or of `and` being false: of a path
// that either side narrows, that it is of one of the two types.
func (c *checker) assumeEither(e *syntax.Binary, holds bool) {
	before := c.facts
	c.assume(e.Left, holds)
	left := c.facts
	c.facts = before
	c.assume(e.Left, !holds)
	between := c.facts
	c.assume(e.Right, holds)
	right := c.facts
	c.facts = before
	seen := map[factPath]bool{}
	for f := left; f != before; f = f.outer {
		if seen[f.path] {
			continue
		}
		seen[f.path] = true
		// What the first side says when it does not hold is all that it does not say when it does: together they are
		// nothing new.
		if other := right.find(f.path, between); other != nil {
			c.know(f.path, c.universe.Union(f.t, other))
		}
	}
}

// assumeIs narrows a path by `is`.
func (c *checker) assumeIs(e *syntax.Is, holds bool) {
	t, asked := c.module.Info.Types[e.Operand.ID()], c.module.Info.Asked[e.ID()]
	if t == nil || asked == nil || t == types.Invalid || asked == types.Invalid {
		return
	}
	if holds && !types.MayBeNull(asked) || !holds && types.Fits(types.Null, asked) {
		c.assumeThere(e.Operand)
	}
	if holds {
		c.assumeField(e.Operand, func(field types.Type) bool { return types.Overlap(field, asked) })
	} else {
		c.assumeField(e.Operand, func(field types.Type) bool { return !types.Fits(field, asked) })
	}
	if path, ok := c.pathOf(e.Operand); ok {
		if narrowed := c.restrict(t, asked, holds); narrowed != nil {
			c.know(path, narrowed)
		}
	}
}

// assumeThere notes that a chain of steps leads to something that is there: so is all that it leads through.
func (c *checker) assumeThere(e syntax.Expression) {
	for {
		switch step := e.(type) {
		case *syntax.Paren:
			e = step.Inner
			continue
		case *syntax.Field:
			c.present(e)
			e = step.Of
		case *syntax.Index:
			c.present(e)
			e = step.Of
		default:
			c.present(e)
			return
		}
	}
}

// present notes that an expression is there and not null.
func (c *checker) present(e syntax.Expression) {
	t := c.module.Info.Types[e.ID()]
	if t == nil || t == types.Invalid || t == types.Any {
		return
	}
	if path, ok := c.pathOf(e); ok && path.root != nil {
		c.know(path, c.universe.WithoutNull(t))
	}
}

// restrict returns what is left of a type when its values are, or are not, of another; nil when that cannot be told.
// `is` converts nothing: what it holds for has not passed into the type that it asks for.
func (c *checker) restrict(t, asked types.Type, holds bool) types.Type {
	if holds && (types.Core(t) == types.Any || types.Assignable(asked, t)) {
		if slices.Contains(types.Alternatives(t), asked) && !c.mayBeOther(t, asked) {
			return asked
		}
		return c.universe.Loose(asked)
	}
	var left []types.Type
	all := types.Alternatives(t)
	for _, part := range all {
		if holds && types.Overlap(part, asked) || !holds && !types.Fits(part, asked) {
			left = append(left, part)
		}
	}
	if len(left) == len(all) {
		return nil
	}
	return c.universe.Union(left...)
}

// mayBeOther reports whether a value of a type for which `is` holds may be of another of its members, too.
func (c *checker) mayBeOther(t, asked types.Type) bool {
	return slices.ContainsFunc(types.Alternatives(t),
		func(m types.Type) bool { return m != asked && types.Overlap(m, asked) })
}

// assumeField narrows a record of several types by what is known of one of its fields, such as the kind by which they
// are told apart: those are left of whose field it may be.
func (c *checker) assumeField(e syntax.Expression, may func(field types.Type) bool) {
	field, ok := e.(*syntax.Field)
	if !ok || c.module.Info.Objects[field.ID()] != nil {
		return
	}
	path, ok := c.pathOf(field.Of)
	t := c.module.Info.Types[field.Of.ID()]
	if !ok || t == nil {
		return
	}
	var left []types.Type
	all := types.Alternatives(t)
	for _, part := range all {
		record := types.AsRecord(part)
		if record == nil {
			left = append(left, part)
			continue
		}
		if f, ok := record.Field(field.Name.Name); !ok || f.Optional || may(f.Type) {
			left = append(left, part)
		}
	}
	if len(left) > 0 && len(left) < len(all) {
		c.know(path, c.universe.Union(left...))
	}
}

// assumePresent notes that a record has a field, by `"field" in record`.
func (c *checker) assumePresent(key, record syntax.Expression) {
	literal, ok := c.literalOf(key)
	if !ok || types.LiteralValue(literal) == nil {
		return
	}
	name, _ := types.LiteralValue(literal).(string)
	path, ok := c.pathOf(record)
	t := c.module.Info.Types[record.ID()]
	if !ok || t == nil || name == "" {
		return
	}
	if of := types.AsRecord(t); of != nil {
		if field, ok := of.Field(name); ok {
			c.know(path.field(name), field.Type)
		}
		return
	}
	// Of a union those are left that may have the field; where all of these declare it, its type is known, too.
	var left, fields []types.Type
	all := types.Alternatives(t)
	for _, part := range all {
		of := types.AsRecord(part)
		if of == nil { // a list may hold the text, and what any is nobody knows
			left, fields = append(left, part), append(fields, nil)
			continue
		}
		if field, ok := of.Field(name); ok {
			left, fields = append(left, part), append(fields, field.Type)
		} else if of.Rest != nil {
			left, fields = append(left, part), append(fields, nil)
		}
	}
	if len(left) > 0 && len(left) < len(all) {
		c.know(path, c.universe.Union(left...))
	}
	if len(left) > 0 && !slices.Contains(fields, nil) {
		c.know(path.field(name), c.universe.Union(fields...))
	}
}

// assumeMissing notes that a record has no field, by `"field" not in record`: of a union those are left that need not
// have it.
func (c *checker) assumeMissing(key, record syntax.Expression) {
	literal, ok := c.literalOf(key)
	if !ok {
		return
	}
	name, _ := types.LiteralValue(literal).(string)
	path, ok := c.pathOf(record)
	t := c.module.Info.Types[record.ID()]
	if !ok || t == nil || name == "" || types.AsUnion(t) == nil {
		return
	}
	all := types.Alternatives(t)
	left := slices.DeleteFunc(slices.Clone(all), func(part types.Type) bool {
		of := types.AsRecord(part)
		if of == nil {
			return false
		}
		field, declared := of.Field(name)
		return declared && !field.Optional
	})
	if len(left) > 0 && len(left) < len(all) {
		c.know(path, c.universe.Union(left...))
	}
}

// assumeEqual narrows a path that is compared with a literal.
func (c *checker) assumeEqual(e, other syntax.Expression, equal bool) {
	literal, ok := c.literalOf(other)
	if !ok {
		return
	}
	if equal != (literal == types.Null) {
		c.assumeThere(e)
	}
	path, ok := c.pathOf(e)
	t := c.module.Info.Types[e.ID()]
	if !ok || t == nil || t == types.Invalid {
		return
	}
	if types.LiteralValue(literal) != nil {
		c.assumeField(e, func(field types.Type) bool {
			return equal && types.Overlap(field, literal) || !equal &&
				types.Core(field) != literal
		})
	}
	if narrowed := c.restrictEqual(t, literal, equal); narrowed != nil {
		c.know(path, narrowed)
	}
}

// restrictEqual returns what is left of a type when its values equal a literal, or do not; nil when that cannot be
// told.
func (c *checker) restrictEqual(t, literal types.Type, equal bool) types.Type {
	if t == types.Any {
		if equal && !types.IsNumeric(literal) {
			return literal
		}
		return nil
	}
	// 1 == 1.0, so that a number that equals an int need not be one.
	otherNumber := func(p types.Type) bool { return types.IsNumeric(p) && types.Widen(p) != types.Widen(literal) }
	if types.IsNumeric(literal) && slices.ContainsFunc(types.Parts(t), otherNumber) {
		if !equal {
			return nil
		}
		var numbers []types.Type
		for _, p := range types.Parts(t) {
			if types.IsNumeric(p) && (types.LiteralValue(p) == nil || types.Overlap(p, literal)) {
				numbers = append(numbers, p)
			}
		}
		return c.universe.Union(numbers...)
	}
	var left []types.Type
	all := types.Alternatives(t)
	for _, part := range all {
		if (types.Core(part) == literal) == equal {
			left = append(left, part)
		}
	}
	switch {
	case equal && len(left) == 0:
		left = []types.Type{literal}
	case !equal && literal == types.Null:
		return c.universe.WithoutNull(t)
	case !equal && len(left) == len(all):
		return nil
	}
	return c.universe.Union(left...)
}

// isEnvironmentName reports whether an expression is env.name, which has one of the names of the environments: that
// there may be only one of them does not make it a constant.
func isEnvironmentName(e syntax.Expression) bool {
	field, ok := syntax.Bare(e).(*syntax.Field)
	if !ok {
		return false
	}
	_, ok = field.Of.(*syntax.Env)
	return ok && field.Name.Name == "name"
}

// nearestText suggests one of the texts that a type allows for another that it does not.
func nearestText(text string, of types.Type) string {
	texts := types.LiteralTexts(of)
	if len(texts) == 0 {
		return ""
	}
	return source.Suggest(text, texts, "possible values: "+source.Quoted(texts))
}
