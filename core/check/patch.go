package check

import (
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// patching is the current patch.
type patching struct {
	target types.Type // what is patched
	all    bool       // all documents of the project
	// each is the type of the documents of the current each; nil outside of one.
	each types.Type
	// name is the name of the current each.
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
func (c *checker) inferPatch(e *syntax.Patch) types.Type {
	t := c.infer(e.Target, nil)
	core := types.Core(t)
	result := types.Any
	switch {
	case types.AsRecord(core) != nil:
		result = c.universe.Map(types.Any)
	case types.AsList(core) != nil:
		result = c.universe.List(types.Any)
	case core == types.Invalid:
		result = types.Invalid
	case core == types.Any || types.AsUnion(core) != nil && !types.MayBeNull(t):
	default:
		help := ""
		if types.MayBeNull(t) {
			help = "it may be null: give a value for that case with ??"
		}
		c.addWith(help, NotPatched(e.Target.Place(), types.Describe(t)))
		result = types.Invalid
	}
	c.checkData(t, e.Target, "what is patched")
	if result == types.Invalid {
		t = types.Invalid
	}
	c.patchBody(e.Body, &patching{target: t})
	return result
}

// inferPlaces finds the type of `d[.a.**.b]`: a list of what the path leads to.
func (c *checker) inferPlaces(e *syntax.Places) types.Type {
	t := c.infer(e.Of, nil)
	if t == types.Invalid {
		return t
	}
	if !types.IsData(t) {
		c.checkData(t, e.Of, "what a path leads through")
		return types.Invalid
	}
	if types.MayBeNull(t) && t != types.Any {
		c.report(source.MayBeNull, e.Of.Place(), "give a value for null with ??",
			"this may be null, which has no paths")
		return types.Invalid
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
	c.patchBody(d.Body, &patching{target: types.Any, all: true})
}

func (c *checker) checkEach(d *syntax.Each) {
	t := types.Any
	core := types.Core(c.patching.target)
	switch {
	case c.patching.all || core == types.Any || core == types.Invalid:
	case types.AsList(core) != nil:
		t = elementOf(types.AsList(core))
	default:
		c.add(NotEach(d.Name.Span, types.Describe(c.patching.target)))
		t = types.Invalid
	}
	if d.At != nil {
		c.check(d.At, types.String, "a pattern of paths")
		if !c.patching.all {
			c.report(source.WrongUse, d.At.Place(), "leave it out, or choose with where",
				"only the documents of the project have paths, in patch all documents { … }")
		}
	}
	outer, outerEach, facts := c.scope, c.patching.each, c.facts
	o := c.bind(d.Name, t)
	o.used = true
	if d.Where != nil {
		o.Type = c.untouched(t)
		lenient := c.lenient
		c.lenient = o
		c.check(d.Where, types.Bool, "a condition")
		c.lenient = lenient
	}
	o.Type = types.Any // whatever the operations make of it
	outerName := c.patching.name
	c.patching.each, c.patching.name = t, o
	c.checkBlock(d.Body)
	c.patching.each, c.patching.name, c.facts = outerEach, outerName, facts
	c.unbind(outer, d.Span.End)
}

// untouched returns what is known of the documents of an each when operations before may have changed some of their
// fields.
func (c *checker) untouched(t types.Type) types.Type {
	touched := c.patching.eachTouched
	record := types.AsRecord(t)
	switch {
	case len(touched) == 0:
		return t
	case touched[""] || record == nil:
		return types.Any
	}
	fields := types.WithoutDefaults(record.Fields)
	for i := range fields {
		if touched[fields[i].Name] {
			fields[i].Type, fields[i].Optional = types.Any, true
		}
	}
	rest := record.Rest
	for name := range touched {
		if _, declared := record.Field(name); !declared {
			rest = types.Any
		}
	}
	return c.universe.RecordOf(fields, rest, record.Loose)
}

// forgetEach forgets what is known of the document of the current each, which operations change.
func (c *checker) forgetEach() {
	if c.patching != nil && c.patching.name != nil {
		c.forget(c.patching.name)
	}
}

// elementOf returns the type of the elements of a list, any when it is known to be empty.
func elementOf(list *types.List) types.Type {
	if list.Element == types.Never {
		return types.Any
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
	if d.Base.Name != "" && c.patching.name != nil {
		c.note(d.Base.Span, c.patching.name)
	}
	if c.patching.isTouched(d) {
		t = types.Any
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
		old = types.Null
	case syntax.PutVerb:
		old = c.universe.Optional(t)
	}
	v := c.withIt(d.Span.Start, old, func() types.Type { return c.infer(d.Value, nil) })
	c.checkData(v, d.Value, "a value in data")
	if d.Verb == syntax.MergeVerb && !types.Assignable(v, c.universe.Map(types.Any)) {
		c.add(NotMerged(d.Value.Place(), types.Describe(v)))
	}
}

// withIt checks something in which `it` has a type of its own; it is found again by where what brings it stands.
func (c *checker) withIt(at source.Pos, t types.Type, check func() types.Type) types.Type {
	it := c.it
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: t, Slot: c.owner.Frame, Global: -1,
		state: resolved}
	c.owner.Frame++
	c.module.Info.Locals[at] = c.it
	result := check()
	c.it = it
	return result
}

// checkStep checks one step of a path from a type, and returns that of the place it leads to; any when that is not
// known.
func (c *checker) checkStep(d *syntax.Operation, s *syntax.Step, t types.Type, last bool) types.Type {
	for _, key := range s.Keys {
		c.checkKey(key)
	}
	core, record, list := types.Core(t), types.AsRecord(t), types.AsList(t)
	known := core != types.Any && types.AsUnion(t) == nil && core != types.Invalid
	switch s.Kind {
	case syntax.KeyStep, syntax.ChoiceStep, syntax.AnyKeyStep:
		if known && record == nil {
			if !d.Optional {
				help := "end the path before this step"
				if list != nil {
					help = `an element is named in brackets: [0], [it.name == "…"], [*]`
				}
				c.report(source.WrongType, s.Span, help, "%s has no fields", types.Describe(t))
			}
			return types.Any
		}
		if !known || s.Kind != syntax.KeyStep || s.Keys[0].Value != nil {
			return types.Any
		}
		name := s.Keys[0].Name
		if of := record.Possible(name).Type; of != nil {
			return of
		}
		creates := last && (d.Verb == syntax.AddVerb || d.Verb == syntax.PutVerb)
		if !creates && !d.Optional {
			help := fieldHelp(name, record)
			if merge := d.MergeInstead(c.module.Tree.File, slices.Index(d.Steps, s)); merge != "" {
				help = strings.TrimPrefix(help+"; "+merge+" adds it", "; ")
			}
			c.report(source.UnknownField, s.Keys[0].Span, help, "%s has no field %q", types.Article(t), name)
		}
		return types.Any
	case syntax.DeepStep, syntax.NamedStep: // paths with names are followed in data of which nothing is known
		return types.Any
	}
	element := types.Any
	if list != nil {
		element = elementOf(list)
	}
	isKey := false
	switch s.Kind {
	case syntax.IndexStep:
		index := c.infer(s.Index, nil)
		isKey = types.Assignable(index, types.String)
		isInt := types.Assignable(index, types.Int)
		if !isInt && (!isKey || list != nil) && index != types.Invalid {
			c.add(NotAnIndex(s.Index.Place(), types.Describe(index)))
			return types.Any
		}
	case syntax.ConditionStep, syntax.EachStep:
		if s.Index != nil {
			c.withIt(s.Span.Start, element, func() types.Type {
				facts, lenient := c.facts, c.lenient
				c.lenient = c.it
				c.check(s.Index, types.Bool, "a condition")
				c.facts, c.lenient = facts, lenient
				return types.Bool
			})
		}
	}
	if known && list == nil && !(isKey && record != nil) && !d.Optional {
		help := ""
		if record != nil {
			help = "a field is named by its key: .name"
		}
		c.addWith(help, NoElements(s.Span, types.Describe(t)))
	}
	return element
}
