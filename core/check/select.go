package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// readHelp is fieldHelp for a field that is read.
func (c *checker) readHelp(e *syntax.Field, record *types.Record) string {
	if help := c.subtractionHelp(e, record); help != "" {
		return help
	}
	return fieldHelp(e.Name.Name, record)
}

// subtractionHelp says how a subtraction is written when a name with hyphens is no field of a record, but its parts
// are something.
func (c *checker) subtractionHelp(e *syntax.Field, record *types.Record) string {
	first, rest, found := strings.Cut(e.Name.Name, "-")
	if !found || !types.HasField(record, first) {
		return ""
	}
	return fmt.Sprintf("a subtraction is written with spaces: %s.%s - %s", c.text(e.Of), first, rest)
}

// inferField finds the type of `x.name`.
func (c *checker) inferField(e *syntax.Field, absent bool) types.Type {
	t, ended := c.fieldStep(e, absent)
	return c.ended(t, ended)
}

// inferIndex finds the type of `x[i]`.
func (c *checker) inferIndex(e *syntax.Index, absent bool) types.Type {
	t, ended := c.indexStep(e, absent)
	return c.ended(t, ended)
}

// ended is the type of a chain of steps: null where one of them may end it.
func (c *checker) ended(t types.Type, ended bool) types.Type {
	if ended && t != types.Invalid {
		return c.universe.Optional(t)
	}
	return t
}

// operand finds the type of what is before a step. In a chain, what `?.` or `?[` meets null or nothing at ends
// all of it: ended says that this may have happened before, the type is what goes on otherwise.
func (c *checker) operand(e syntax.Expression, absent bool) (t types.Type, ended bool) {
	switch step := e.(type) {
	case *syntax.Field:
		t, ended = c.fieldStep(step, absent)
	case *syntax.Index:
		t, ended = c.indexStep(step, absent)
	default:
		if absent {
			return c.inferAbsent(e), false
		}
		return c.infer(e, nil), false
	}
	c.module.Info.Types[e.ID()] = c.ended(t, ended)
	return t, ended
}

// narrowedStep is narrowed for a step of a chain.
func (c *checker) narrowedStep(e syntax.Expression, t types.Type, ended bool) (types.Type, bool) {
	known := c.narrowed(e, nil)
	if known == nil {
		return t, ended
	}
	return known, ended && types.MayBeNull(known)
}

// optional reports whether what is not there gives null at a step of a chain: where a question mark is written, and in
// conditions of patches for all steps from what is looked at on.
func (c *checker) optional(e, of syntax.Expression, written bool) bool {
	if written || c.lenient == nil {
		return written
	}
	for {
		switch step := of.(type) {
		case *syntax.Field:
			of = step.Of
			continue
		case *syntax.Index:
			of = step.Of
			continue
		case *syntax.It:
			c.module.Info.Lenient[e.ID()] = c.it == c.lenient
		case *syntax.Name:
			c.module.Info.Lenient[e.ID()] = c.localNamed(step.Name) == c.lenient
		}
		return c.module.Info.Lenient[e.ID()]
	}
}

// fieldStep finds the type of a field. What may be absent gives null when that is allowed.
func (c *checker) fieldStep(e *syntax.Field, absent bool) (t types.Type, ended bool) {
	if _, ok := e.Of.(*syntax.Env); ok {
		return c.inferEnv(e), false
	}
	if name, ok := e.Of.(*syntax.Name); ok {
		if t, done := c.inferMember(e, name); done {
			return t, false
		}
	}
	optional := c.optional(e, e.Of, e.Optional)
	of, ended := c.operand(e.Of, optional)
	if of == types.Invalid {
		return of, false
	}
	if of == types.Any {
		return c.narrowedStep(e, types.Any, ended || optional)
	}
	if optional {
		ended = ended || types.MayBeNull(of)
		of = c.universe.WithoutNull(of)
	}
	switch {
	case of == types.Never && optional: // it is null
		return types.Null, false
	case of == types.Never: // nothing gets here
		return types.Never, false
	}
	var results []types.Type
	for _, part := range types.Parts(of) {
		record := types.AsRecord(part)
		instance := types.AsInstance(part)
		switch {
		case part == types.Any:
			results = append(results, types.Any)
			continue
		case part == types.Invalid:
			return types.Invalid, false
		case part == types.Null:
			c.report(source.MayBeNull, e.Of.Place(), fmt.Sprintf("write %s?.%s, or give a value for null with ??",
				c.text(e.Of), e.Name.Name), "this may be null, which has no field %q", e.Name.Name)
			return types.Invalid, false
		case instance != nil:
			t := c.instanceField(e, c.program.Module(instance.Module))
			if t == types.Invalid {
				return t, false
			}
			results = append(results, t)
			continue
		case record == nil:
			c.addWith(c.asFunction(e, of), NoFields(e.Of.Place(), types.Describe(of), e.Name.Name))
			return types.Invalid, false
		}
		field, ok := record.Field(e.Name.Name)
		switch {
		case ok:
			c.noteField(e.Name.Span, field)
			c.warnDeprecated(field, e.Name.Span)
			if field.Optional && !absent && !optional {
				help := fmt.Sprintf("write %s?.%s for null, or … ?? and a value for that case", c.text(e.Of),
					e.Name.Name)
				if t := c.narrowed(e, nil); t != nil {
					results = append(results, t)
					continue
				}
				c.add(source.Finding{Code: source.MayBeAbsent, Span: e.Name.Span,
					Message: fmt.Sprintf("the field %q may be absent", e.Name.Name), Help: help,
					Related: fieldPlace(field)})
				return types.Invalid, false
			}
			ended = ended || field.Optional
			results = append(results, field.Type)
		case record.Rest != nil:
			ended = ended || absent || optional
			results = append(results, record.Rest)
		case optional && slices.ContainsFunc(types.Parts(of),
			func(p types.Type) bool { return types.HasField(p, e.Name.Name) }):
			ended = true // other members of the union have it
		default:
			c.report(source.UnknownField, e.Name.Span, c.readHelp(e, record), "%s has no field %q", types.Article(of),
				e.Name.Name)
			return types.Invalid, false
		}
	}
	return c.narrowedStep(e, c.universe.Union(results...), ended)
}

func (c *checker) inferEnv(e *syntax.Field) types.Type {
	c.owner.NeedsEnvironment = true
	switch e.Name.Name {
	case "name":
		if len(c.program.Environments) == 0 {
			return types.String
		}
		var names []types.Type
		for _, name := range c.program.Environments {
			names = append(names, c.universe.Literal(name))
		}
		return c.narrowed(e, c.universe.Union(names...))
	case "tags":
		return c.universe.Set(types.String)
	}
	help := c.suggestions.Suggest(e.Name.Name, []string{"name", "tags"}, "it has name and tags")
	c.report(source.UnknownField, e.Name.Span, help, "env has no field %q", e.Name.Name)
	return types.Invalid
}

// inferMember finds the type of `name.member` where name is a module or a group of built-in functions; done is
// false when it is neither.
func (c *checker) inferMember(e *syntax.Field, name *syntax.Name) (t types.Type, done bool) {
	// An input or a local name may be called like a group: it is meant where nothing is called.
	if _, declared := c.module.Objects[name.Name]; c.program.Builtins.IsGroup(name.Name) &&
		!declared && !c.local(name.Name) {
		if c.builtin(name.Name, e.Name) != nil {
			c.report(source.WrongUse, e.Place(), fmt.Sprintf("call it: %s.%s(…)", name.Name, e.Name.Name),
				"%s.%s is a built-in function, not a value", name.Name, e.Name.Name)
		}
		return types.Invalid, true
	}
	o := c.member(e, name)
	if o == nil {
		return nil, false
	}
	switch o.Kind {
	case ObjectFunction:
		c.module.Info.Objects[e.ID()] = o
		return c.functionType(o), true
	case ObjectType:
		c.report(source.WrongUse, e.Place(), "types are written after a colon", "%s is a type, not a value", c.text(e))
		return types.Invalid, true
	case ObjectRule:
		c.ruleNotCalled(e.Place(), o)
		return types.Invalid, true
	case ObjectLocal: // the mark of a member that was reported
		return types.Invalid, true
	}
	c.module.Info.Objects[e.ID()] = o
	return c.narrowed(e, o.Type), true
}

// member finds the member of a module that `name.member` stands for. It is nil when name is not a module, and an
// invalid local when there is no such member, which it reports.
func (c *checker) member(e *syntax.Field, name *syntax.Name) *Object {
	alias, ok := c.component(name)
	if !ok {
		return nil
	}
	missing := &Object{Kind: ObjectLocal, Type: types.Invalid, Invalid: true, Global: -1}
	c.use(alias, name.Place())
	if alias.Invalid {
		c.owner.Invalid = true
		return missing
	}
	module := alias.Imported()
	o, ok := module.Objects[e.Name.Name]
	if !ok || o.Private() || o.Kind == ObjectModule || o.Kind == ObjectData {
		c.owner.Invalid = true
		if module.Tree.Nameless {
			return missing
		}
		var candidates []string
		for n, other := range module.Objects {
			if !other.Private() && other.Kind != ObjectModule && other.Kind != ObjectData {
				candidates = append(candidates, n)
			}
		}
		help := c.suggestions.Suggest(e.Name.Name, candidates, "")
		message := fmt.Sprintf("%s has no %q", module.Path, e.Name.Name)
		if ok && o.Private() {
			message, help = fmt.Sprintf("%q is private to %s", e.Name.Name, module.Path),
				"a name that begins with _ is used in its own file only"
		}
		c.add(source.Finding{Code: source.UnknownName, Span: e.Name.Span, Message: message, Help: help,
			Related: see(module.Objects[e.Name.Name])})
		return missing
	}
	if o.NeedsInput {
		c.needsInstance(e.Name, alias, o)
		return missing
	}
	c.note(e.Name.Span, o)
	c.refer(o, e.Place())
	return o
}

// needsInstance reports a member of a module that has no value, or no meaning, without an instance.
func (c *checker) needsInstance(name syntax.Identifier, alias, o *Object) {
	help := fmt.Sprintf("make an instance and take it from that: let x = %s(…), then x.%s", alias.Name, name.Name)
	if o.Kind == ObjectType || o.Kind == ObjectInput {
		help = "use only what depends on no input"
	}
	c.add(source.Finding{
		Code: source.NeedsInstance, Span: name.Span, Help: help, Related: see(o),
		Message: fmt.Sprintf("%s.%s depends on the inputs of %s, which have no values here", alias.Name, o.Name,
			alias.Imported().Path),
	})
}

// indexStep finds the type of an element or of the entry of a key. What may be absent gives null when that is allowed.
func (c *checker) indexStep(e *syntax.Index, absent bool) (t types.Type, ended bool) {
	optional := c.optional(e, e.Of, e.Optional)
	of, ended := c.operand(e.Of, optional)
	if optional {
		ended = ended || types.MayBeNull(of)
		of = c.universe.WithoutNull(of)
	}
	index := c.infer(e.Index, nil)
	if of == types.Invalid || index == types.Invalid {
		return types.Invalid, false
	}
	if of == types.Never {
		return types.Null, false
	}
	if tuple := types.AsTuple(of); tuple != nil {
		if t, done := c.tupleElement(e, tuple, index, absent || optional); done {
			return c.narrowedStep(e, t, ended)
		}
	}
	var results []types.Type
	for _, part := range types.Parts(of) {
		list, record := types.AsList(part), types.AsRecord(part)
		switch {
		case part == types.Any:
			results = append(results, types.Any)
		case list != nil:
			if !types.Assignable(index, types.Int) {
				c.report(source.WrongType, e.Index.Place(), "", "the index of a list is an int, not %s",
					types.Describe(index))
				return types.Invalid, false
			}
			results = append(results, list.Element)
		case record != nil:
			if !types.Assignable(index, types.String) {
				c.report(source.WrongType, e.Index.Place(), "", "the key of a record is a string, not %s",
					types.Describe(index))
				return types.Invalid, false
			}
			t, ok := c.keyType(e, record, index, absent || optional)
			if !ok {
				return types.Invalid, false
			}
			results = append(results, t)
		case part == types.Null:
			c.report(source.MayBeNull, e.Of.Place(), "write ?[…], or give a value for null with ??",
				"this may be null, which has no elements")
			return types.Invalid, false
		default:
			help := ""
			if types.Widen(part) == types.String {
				help = "text.slice takes a part of a string"
			}
			c.addWith(help, NoElements(e.Of.Place(), types.Describe(of)))
			return types.Invalid, false
		}
	}
	return c.narrowedStep(e, c.universe.Union(results...), ended || absent || optional)
}

// tupleElement returns the type of an element of a tuple at a position that is written out; done is false when it is
// not.
func (c *checker) tupleElement(e *syntax.Index, tuple *types.Tuple, index types.Type,
	absent bool) (t types.Type, done bool) {
	at, ok := types.LiteralValue(index).(int64)
	if !ok {
		return nil, false
	}
	n := int64(len(tuple.Elements))
	if at < 0 {
		at += n
	}
	if at < 0 || at >= n {
		if absent {
			return types.Null, true
		}
		c.report(source.NoElement, e.Index.Place(), "", "%s has %s", tuple, count(int(n), "element"))
		return types.Invalid, true
	}
	return tuple.Elements[at], true
}

// keyType returns the type of r[key], reporting a key that is known not to be there.
func (c *checker) keyType(e *syntax.Index, record *types.Record, index types.Type, absent bool) (types.Type, bool) {
	texts := types.LiteralTexts(index)
	known := len(texts) == len(types.Parts(index))
	var results []types.Type
	for _, f := range record.Fields {
		if known && !slices.Contains(texts, f.Name) {
			continue
		}
		if known && f.Optional && !absent && c.narrowed(e, nil) == nil {
			c.report(source.MayBeAbsent, e.Index.Place(), "write ?[…] for null, or … ?? and a value for that case",
				"the field %q may be absent", f.Name)
			return nil, false
		}
		results = append(results, f.Type)
	}
	if record.Rest != nil {
		results = append(results, record.Rest)
	} else if known && !absent {
		for _, text := range texts {
			if _, ok := record.Field(text); !ok {
				c.report(source.UnknownField, e.Index.Place(), fieldHelp(text, record), "%s has no field %q",
					types.Article(record), text)
				return nil, false
			}
		}
	}
	return c.universe.Gathered(results...), true
}
