package types

import (
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

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
func (c *checker) inferIf(e *syntax.If, want *Type, spread bool) *Type {
	c.check(e.Condition, BoolType, "a condition")
	facts := c.facts
	c.assume(e.Condition, true)
	then := c.inferBranch(e.Then, want, spread)
	c.facts = facts
	if e.Else == nil {
		if core := then.Core(); core.Kind != Record && core.Kind != List { // on a line of a text
			return c.universe.Optional(then)
		}
		return c.partial(then)
	}
	c.assume(e.Condition, false)
	other := c.inferBranch(e.Else, want, spread)
	c.facts = facts
	if spread && then.Core().Kind == Record && other.Core().Kind == Record && then != other {
		return c.mergeBranches(then.Core(), other.Core())
	}
	return c.universe.Union(then, other)
}

func (c *checker) inferBranch(e syntax.Expression, want *Type, spread bool) *Type {
	if inner, ok := e.(*syntax.If); ok && spread {
		t := c.inferIf(inner, want, true)
		c.module.Info.Types[e.ID()] = t
		return t
	}
	return c.infer(e, want)
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
	return c.universe.record(fields, core.Rest, core.Loose)
}

// mergeBranches returns the record type that describes what is spread from either of two branches.
func (c *checker) mergeBranches(a, b *Type) *Type {
	var fields []Field
	add := func(f Field, other *Type) {
		o := possible(other, f.Name)
		if o.Type != nil {
			f.Type = c.universe.Union(f.Type, o.Type)
		}
		f.Optional, f.Default = f.Optional || o.Optional, nil
		fields = append(fields, f)
	}
	for _, f := range a.Fields {
		add(f, b)
	}
	for _, f := range b.Fields {
		if _, ok := a.Field(f.Name); !ok {
			add(f, a)
		}
	}
	return c.universe.record(fields, c.eitherRest(a, b), true)
}

// eitherRest returns the type of the fields that are not declared in either of two record types; nil when there are
// none.
func (c *checker) eitherRest(a, b *Type) *Type {
	switch {
	case a.Rest == nil:
		return b.Rest
	case b.Rest == nil:
		return a.Rest
	}
	return c.universe.Union(a.Rest, b.Rest)
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
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: subject, Slot: c.owner.Frame, Global: -1,
		state: resolved}
	c.owner.Frame++
	defer func() { c.it = outer }()
	// The slot of `it` is found by the subject when the match is compiled.
	c.module.Info.Objects[e.ID()] = c.it

	left := subject.alternatives()
	for i := 0; i < len(left); i++ {
		if left[i].Core().Kind == Bool {
			left = append(left[:i], append([]*Type{c.universe.Literal(true), c.universe.Literal(false)},
				left[i+1:]...)...)
		}
	}
	unbounded := func(t *Type) bool { return t.Core().Kind != Literal && t.Core().Kind != Null }
	open := slices.ContainsFunc(left, unbounded)
	// A single literal stands for its type: `let debug = false` may change tomorrow.
	single := subject.Kind == Literal && !isEnvironmentName(e.Subject)
	seen := map[any]bool{}
	closed := false
	for _, arm := range e.Arms {
		if closed {
			c.report(source.UnreachableArm, arm.Span, "put it before else, or remove it",
				"nothing reaches this arm: else stands before it")
		}
		var covered []*Type
		for _, pattern := range arm.Patterns {
			if is, ok := pattern.(*syntax.Is); ok {
				asked := c.typeOf(is.Type)
				c.module.Info.Asked[is.ID()] = asked
				if subject.Kind != Invalid && asked.Kind != Invalid && !single && !Overlap(subject, asked) {
					c.report(source.UnreachableArm, is.Place(), "remove it", "this can never be %s", Article(asked))
				}
				covered = append(covered, c.covered(subject, c.restrict(subject, asked, true)))
				left = slices.DeleteFunc(left, func(p *Type) bool { return Fits(p, asked) })
				open = slices.ContainsFunc(left, unbounded)
				continue
			}
			t := c.infer(pattern, nil)
			key := any(t.Literal)
			switch {
			case seen[key]:
				c.report(source.UnreachableArm, pattern.Place(), "remove it",
					"nothing reaches %s here: an arm above has it already", t)
			case subject.Kind != Invalid && !single && !Overlap(subject, t):
				help := ""
				if text, ok := t.Literal.(string); ok {
					help = nearestText(text, subject)
				}
				c.report(source.UnreachableArm, pattern.Place(), help, "this can never be %s", t)
			}
			seen[key] = true
			covered = append(covered, c.covered(subject, c.restrictEqual(subject, t, true)))
			left = slices.DeleteFunc(left, func(p *Type) bool { return p.Core() == t })
		}
		whole := c.it.Type
		if arm.Else {
			if len(left) == 0 && !closed && subject.Kind != Invalid && !single {
				c.report(source.UnreachableArm, arm.Span,
					"remove it, so that a value that is added later is not forgotten",
					"nothing reaches else: the arms above name every %s", subject)
			}
			closed = true
			if len(left) > 0 {
				c.it.Type = c.universe.Union(left...)
			}
		} else if len(covered) > 0 {
			c.it.Type = c.universe.Union(covered...)
		}
		outer := c.facts
		if narrowed := c.it.Type; narrowed != whole && narrowed.Kind != Invalid {
			if !narrowed.MayBeNull() {
				c.assumeThere(e.Subject)
			}
			if path, ok := c.pathOf(e.Subject); ok {
				c.know(path, narrowed)
			}
			c.assumeField(e.Subject, func(field *Type) bool { return Overlap(field, narrowed) })
		}
		value(arm.Value)
		c.it.Type, c.facts = whole, outer
	}
	if closed || subject.Kind == Invalid || len(left) == 0 {
		return
	}
	if open && !slices.ContainsFunc(left,
		func(t *Type) bool { return t.Core().Kind == Record || t.Core().Kind == List }) {
		c.report(source.IncompleteMatch, e.Place(), `add an arm: else -> …`,
			"this match needs else: it cannot name every %s", subject)
		return
	}
	var missing, arms []string
	for _, t := range left {
		missing = append(missing, t.String())
		arm := t.String()
		if t.Kind == Named {
			arm = "is " + arm
		} else if unbounded(t) {
			arm = "is (" + arm + ")"
		}
		arms = append(arms, arm+" -> …")
	}
	c.report(source.IncompleteMatch, source.Span{Start: e.Place().Start, End: e.Subject.Place().End},
		"add "+strings.Join(arms, ", ")+", or else -> …",
		"this match leaves out %s", strings.Join(missing, ", "))
}

// covered is what an arm is for: what is left of the subject, or all of it when that cannot be told.
func (c *checker) covered(subject, left *Type) *Type {
	if left == nil {
		return subject
	}
	return left
}

func (c *checker) inferFor(e *syntax.For, want *Type) *Type {
	in := c.infer(e.In, nil)
	key, element := c.loopTypes(e, in)
	outer, facts := c.scope, c.facts
	c.bindLoop(e, key, element)
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
			result = c.inferSpreadList(e.Body, element)
		default:
			result = c.universe.List(c.entryValue(e.Body, element, "an element"))
		}
	}
	c.facts = facts
	c.unbind(outer)
	return result
}

// bindLoop binds the names of a loop and checks its filter. One name is the element; of two the first is its key or
// position.
func (c *checker) bindLoop(e *syntax.For, key, element *Type) {
	if e.Second.Name == "" {
		c.module.Info.Objects[e.ID()] = c.bind(e.First, element)
	} else {
		c.module.Info.Objects[e.ID()] = c.bind(e.First, key)
		c.bind(e.Second, element)
	}
	if e.Where != nil {
		c.check(e.Where, BoolType, "a condition")
		c.assume(e.Where, true)
	}
}

// loopTypes returns the types of the keys or positions, and of the elements, that a loop goes through.
func (c *checker) loopTypes(e *syntax.For, in *Type) (key, element *Type) {
	var keys, elements []*Type
	for _, part := range in.Parts() {
		switch part.Kind {
		case Invalid:
			return InvalidType, InvalidType
		case Any:
			keys = append(keys, StringType, IntType)
			elements = append(elements, AnyType)
		case List:
			keys = append(keys, IntType)
			elements = append(elements, part.Element)
		case Record:
			keys = append(keys, StringType)
			for _, f := range part.Fields {
				elements = append(elements, f.Type)
			}
			if part.Rest != nil {
				elements = append(elements, part.Rest)
			}
		default:
			help := ""
			if in.MayBeNull() {
				help = "it may be null: write (… ?? [])"
			}
			c.report(source.WrongType, e.In.Place(), help, "for goes through a list, a record or a range, not %s",
				describeType(in))
			return InvalidType, InvalidType
		}
	}
	return c.universe.Union(keys...), c.universe.Union(elements...)
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
