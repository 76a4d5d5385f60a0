package types

import (
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

// patching is the patch in hand.
type patching struct {
	target *Type // what is patched
	all    bool  // all documents of the project
	// each is the type of the documents of the each in hand; nil outside of one.
	each *Type
	// name is the name of the each in hand.
	name *Object
	// touched are the keys of what is patched, and of its elements, below which operations may have changed what is
	// there: the type says nothing about it any more. The empty key stands for all.
	touched, eachTouched map[string]bool
}

// firstKey returns the key with which the path of an operation begins; empty when it may lead anywhere.
func firstKey(d *syntax.Operation) string {
	if len(d.Steps) == 0 || d.Steps[0].Kind != syntax.KeyStep || d.Steps[0].Keys[0].Value != nil {
		return ""
	}
	return d.Steps[0].Keys[0].Name
}

// touch notes what an operation may change.
func (p *patching) touch(d *syntax.Operation) {
	mark := func(touched *map[string]bool, key string) {
		if *touched == nil {
			*touched = map[string]bool{}
		}
		(*touched)[key] = true
	}
	if d.Base.Name == "" {
		mark(&p.touched, firstKey(d))
		mark(&p.eachTouched, "")
	} else {
		mark(&p.eachTouched, firstKey(d))
		mark(&p.touched, "")
	}
}

// isTouched reports whether operations before may have changed what the path of an operation leads through.
func (p *patching) isTouched(d *syntax.Operation) bool {
	touched := p.touched
	if d.Base.Name != "" {
		touched = p.eachTouched
	}
	key := firstKey(d)
	return touched[""] || touched[key] || key == "" && len(touched) > 0
}

// touchAll notes what the operations of a block may change, all of which may have run before when it is repeated.
func (p *patching) touchAll(body []syntax.Declaration) {
	for _, d := range body {
		switch d := d.(type) {
		case *syntax.Operation:
			p.touch(d)
		case *syntax.Each:
			p.touchAll(d.Body)
		case *syntax.IfBlock:
			p.touchAll(d.Then)
			p.touchAll(d.Else)
		case *syntax.ForBlock:
			p.touchAll(d.Body)
		}
	}
}

// inferPatch finds the type of `patch target { … }`. An operation may change the type of any place, so that no more
// is known of the result than whether it is a record or a list.
func (c *checker) inferPatch(e *syntax.Patch) *Type {
	t := c.infer(e.Target, nil)
	core := t.Core()
	result := AnyType
	switch {
	case core.Kind == Record:
		result = c.universe.Map(AnyType)
	case core.Kind == List:
		result = c.universe.List(AnyType)
	case core.Kind == Invalid:
		result = InvalidType
	case core.Kind == Any || core.Kind == Union && !t.MayBeNull():
	default:
		help := ""
		if t.MayBeNull() {
			help = "it may be null: give a value for that case with ??"
		}
		c.report(source.WrongType, e.Target.Place(), help, "a patch changes records and lists, not %s", describeType(t))
		result = InvalidType
	}
	c.checkData(t, e.Target, "what is patched")
	if result.Kind == Invalid {
		t = InvalidType
	}
	c.patchBody(e.Body, &patching{target: t})
	return result
}

// inferPlaces finds the type of `d[.a.**.b]`: a list of what the path leads to.
func (c *checker) inferPlaces(e *syntax.Places) *Type {
	t := c.infer(e.Of, nil)
	if t.Kind == Invalid {
		return t
	}
	if !IsData(t) {
		c.checkData(t, e.Of, "what a path leads through")
		return InvalidType
	}
	if t.MayBeNull() && t.Kind != Any {
		c.report(source.MayBeNull, e.Of.Place(), "give a value for null with ??",
			"this may be null, which has no places")
		return InvalidType
	}
	for i, s := range e.Path.Steps {
		t = c.checkStep(e.Path, s, t, i == len(e.Path.Steps)-1)
	}
	return c.universe.List(t)
}

func (c *checker) patchBody(body []syntax.Declaration, p *patching) {
	outer, it := c.patching, c.it
	c.patching = p
	c.checkBlock(body)
	c.patching, c.it = outer, it
}

func (c *checker) checkPatchAll(d *syntax.PatchAll) {
	if !c.module.Main {
		c.report(source.WrongUse, source.At(d.Span.Start), "put it into the main module",
			"the documents of the project are patched in its main module, %s is not that", c.module.Path)
	}
	c.patchBody(d.Body, &patching{target: AnyType, all: true})
}

func (c *checker) checkEach(d *syntax.Each) {
	t := AnyType
	core := c.patching.target.Core()
	switch {
	case c.patching.all || core.Kind == Any || core.Kind == Invalid:
	case core.Kind == List:
		t = elementOf(core)
	default:
		c.report(source.WrongType, d.Name.Span, "leave each out: outside of it a path begins at what is patched",
			"each goes through the elements of a list, and what is patched is %s", describeType(c.patching.target))
		t = InvalidType
	}
	if d.At != nil {
		c.check(d.At, StringType, "a pattern of paths")
		if !c.patching.all {
			c.report(source.WrongUse, d.At.Place(), "leave it out, or choose with where",
				"only the documents of the project have paths, in patch all documents { … }")
		}
	}
	outer, outerEach, facts := c.scope, c.patching.each, c.facts
	o := c.bind(d.Name, t)
	o.used = true
	c.module.Info.Slots[d] = o.Slot
	if d.Where != nil {
		o.Type = c.untouched(t)
		c.check(d.Where, BoolType, "a condition")
	}
	o.Type = AnyType // whatever the operations make of it
	outerName := c.patching.name
	c.patching.each, c.patching.name = t, o
	c.checkBlock(d.Body)
	c.patching.each, c.patching.name, c.facts = outerEach, outerName, facts
	c.unbind(outer)
}

// untouched returns what is known of the documents of an each when operations before may have changed some of their
// fields.
func (c *checker) untouched(t *Type) *Type {
	touched := c.patching.eachTouched
	core := t.Core()
	switch {
	case len(touched) == 0:
		return t
	case touched[""] || core.Kind != Record:
		return AnyType
	}
	fields := withoutDefaults(core.Fields)
	for i := range fields {
		if touched[fields[i].Name] {
			fields[i].Type, fields[i].Optional = AnyType, true
		}
	}
	rest := core.Rest
	for name := range touched {
		if _, declared := core.Field(name); !declared {
			rest = AnyType
		}
	}
	return c.universe.record(fields, rest, core.Loose)
}

// forgetEach forgets what is known of the document of the each in hand, which operations change.
func (c *checker) forgetEach() {
	if c.patching != nil && c.patching.name != nil {
		c.forget(c.patching.name)
	}
}

// elementOf returns the type of the elements of a list, any when it is known to be empty.
func elementOf(list *Type) *Type {
	if list.Element.Kind == Never {
		return AnyType
	}
	return list.Element
}

// checkOperation checks one operation: its path, as far as the type of what it leads through is known, and its value.
func (c *checker) checkOperation(d *syntax.Operation) {
	t := c.patching.target
	switch {
	case c.patching.each != nil:
		t = c.patching.each
	case c.patching.all:
		c.report(source.WrongUse, d.PathSpan, "put it into: each d { … }", "this does not say in which documents")
	}
	if c.patching.isTouched(d) {
		t = AnyType
	}
	defer c.patching.touch(d)
	for i, s := range d.Steps {
		t = c.checkStep(d, s, t, i == len(d.Steps)-1)
	}
	if d.Value == nil {
		return
	}
	old := t
	switch d.Verb {
	case syntax.AddVerb:
		old = NullType
	case syntax.PutVerb:
		old = c.universe.Optional(t)
	}
	v := c.withIt(d, old, func() *Type { return c.infer(d.Value, nil) })
	c.checkData(v, d.Value, "a value in data")
	if d.Verb == syntax.MergeVerb && !Assignable(v, c.universe.Map(AnyType)) {
		c.report(source.WrongType, d.Value.Place(), "replace puts any value",
			"merge lays a record over another, not %s", describeType(v))
	}
}

// withIt checks something in which `it` has a type of its own; key finds its place in the frame again.
func (c *checker) withIt(key any, t *Type, check func() *Type) *Type {
	it := c.it
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: t, Slot: c.owner.Frame, Global: -1,
		state: resolved}
	c.owner.Frame++
	c.module.Info.Slots[key] = c.it.Slot
	result := check()
	c.it = it
	return result
}

// checkStep checks one step of a path from a type, and returns that of the place it leads to; any when that is not
// known.
func (c *checker) checkStep(d *syntax.Operation, s *syntax.Step, t *Type, last bool) *Type {
	for _, key := range s.Keys {
		c.checkKey(key)
	}
	core := t.Core()
	known := core.Kind != Any && core.Kind != Union && core.Kind != Invalid
	switch s.Kind {
	case syntax.KeyStep, syntax.ChoiceStep, syntax.AnyKeyStep:
		if known && core.Kind != Record {
			if !d.Optional {
				help := "end the path before this step"
				if core.Kind == List {
					help = `an element is named in brackets: [0], [it.name == "…"], [*]`
				}
				c.report(source.WrongType, s.Span, help, "%s has no fields", describeType(t))
			}
			return AnyType
		}
		if !known || s.Kind != syntax.KeyStep || s.Keys[0].Value != nil {
			return AnyType
		}
		name := s.Keys[0].Name
		if field, ok := core.Field(name); ok {
			return field.Type
		}
		if core.Rest != nil {
			return core.Rest
		}
		creates := last && (d.Verb == syntax.AddVerb || d.Verb == syntax.PutVerb)
		if !creates && !d.Optional {
			help := fieldHelp(name, core)
			if merge := d.MergeInstead(c.module.Tree.File, slices.Index(d.Steps, s)); merge != "" {
				help = strings.TrimPrefix(help+"; "+merge+" brings it", "; ")
			}
			c.report(source.UnknownField, s.Keys[0].Span, help, "%s has no field %q", Article(t), name)
		}
		return AnyType
	case syntax.DeepStep:
		return AnyType
	}
	element := AnyType
	if core.Kind == List {
		element = elementOf(core)
	}
	isKey := false
	switch s.Kind {
	case syntax.IndexStep:
		index := c.infer(s.Index, nil)
		isKey = Assignable(index, StringType)
		isInt := Assignable(index, IntType)
		if !isInt && (!isKey || core.Kind == List) && index.Kind != Invalid {
			c.report(source.WrongType, s.Index.Place(), "an element is named by its position or by a condition on it",
				"the index of a list is an int, not %s", describeType(index))
			return AnyType
		}
	case syntax.ConditionStep, syntax.EachStep:
		if s.Index != nil {
			c.withIt(s, element, func() *Type {
				facts := c.facts
				c.check(s.Index, BoolType, "a condition")
				c.facts = facts
				return BoolType
			})
		}
	}
	if known && core.Kind != List && !(isKey && core.Kind == Record) && !d.Optional {
		help := ""
		if core.Kind == Record {
			help = "a field is named by its key: .name"
		}
		c.report(source.WrongType, s.Span, help, "%s has no elements", describeType(t))
	}
	return element
}
