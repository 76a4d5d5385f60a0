package types

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

// builder puts together the type of a record literal.
type builder struct {
	fields  []Field
	index   map[string]int         // positions in fields
	written map[string]source.Span // keys that were written, not spread
	rest    *Type
	open    bool // something of unknown shape was spread
}

func (b *builder) set(f Field) {
	if i, ok := b.index[f.Name]; ok {
		b.fields[i] = f
		return
	}
	b.index[f.Name] = len(b.fields)
	b.fields = append(b.fields, f)
}

func (b *builder) get(name string) (*Field, bool) {
	if i, ok := b.index[name]; ok {
		return &b.fields[i], true
	}
	return nil, false
}

// inferRecord finds the type of a record literal. With an expected record type its entries are checked one by one,
// and fields that are unknown or missing are reported.
func (c *checker) inferRecord(e *syntax.Record, want *Type) *Type {
	var expected *Type
	if want != nil {
		if expected = onlyPart(want, Record); expected == nil {
			if member := c.memberFor(e, want); member != nil {
				want, expected = member, member.Core()
			}
		}
	}
	b := &builder{index: map[string]int{}, written: map[string]source.Span{}}
	wrong := false
	var meant []string // fields that unknown ones were probably meant for
	for _, entry := range e.Entries {
		switch {
		case entry.Spread:
			c.spreadInto(b, entry)
		case entry.Key.Value != nil:
			c.checkKey(entry.Key)
			var rest *Type
			if expected != nil && len(expected.Fields) == 0 {
				rest = expected.Rest
			}
			c.widenRest(b, c.entryValue(entry, rest, "an entry"))
		default:
			name := entry.Key.Name
			if first, ok := b.written[name]; ok {
				c.add(source.Finding{Code: source.DuplicateKey, Span: entry.Key.Span, Message: fmt.Sprintf("the key %q is written twice", name),
					Help: "leave one out", Related: []source.Related{{Span: first, Text: "the first"}}})
				c.infer(entry.Value, nil)
				continue
			}
			b.written[name] = entry.Key.Span
			var field *Type
			if expected != nil {
				if declared, ok := expected.Field(name); ok {
					field = declared.Type
					c.warnDeprecated(declared, entry.Key.Span)
				} else if expected.Rest != nil {
					field = expected.Rest
				} else {
					c.unknownField(name, entry.Key.Span, want, expected)
					wrong = true
					if near, ok := source.Nearest(name, expected.FieldNames()); ok {
						meant = append(meant, near)
					}
				}
			}
			t := c.entryValue(entry, field, fmt.Sprintf("field %q", name))
			optional := entry.Optional
			if optional && field != nil {
				if declared, ok := expected.Field(name); ok && !declared.Optional && declared.Default == nil {
					c.report(source.WrongType, entry.Value.Place(), "leave out the ?, and give a value with ?? for null", "the field %q must not be absent", name)
				}
			}
			b.set(Field{Name: name, Type: t, Optional: optional, Span: entry.Key.Span})
		}
	}
	if expected != nil && !b.open && b.rest == nil {
		var missing []string
		for _, f := range expected.Fields {
			given, ok := b.get(f.Name)
			if slices.Contains(meant, f.Name) || f.Type.Kind == Invalid {
				continue
			}
			if !f.Optional && f.Default == nil && (!ok || given.Optional && b.written[f.Name] == (source.Span{})) {
				missing = append(missing, fmt.Sprintf("%q (%s)", f.Name, f.Type))
			}
		}
		if missing != nil {
			opening := e.Place()
			opening.End = opening.Start + 1
			plural := ""
			if len(missing) > 1 {
				plural = "s"
			}
			c.report(source.MissingField, opening, "add the field"+plural, "%s needs the field%s %s", Article(want), plural, strings.Join(missing, ", "))
			wrong = true
		}
	}
	if wrong {
		return InvalidType
	}
	if b.open {
		return c.universe.Record(b.fields, AnyType)
	}
	return c.universe.Record(b.fields, b.rest)
}

// warnDeprecated warns of the use of a field that is deprecated.
func (c *checker) warnDeprecated(f *Field, span source.Span) {
	if f.Deprecated == "" {
		return
	}
	c.add(source.Finding{Code: source.Deprecated, Severity: source.Warning, Span: span, Help: f.Deprecated, Related: fieldPlace(f),
		Message: fmt.Sprintf("%q is deprecated", f.Name)})
}

// memberFor returns the one record of a union whose literal fields, such as the kind by which its members are told apart, a
// record literal has; nil when that does not tell.
func (c *checker) memberFor(e *syntax.Record, union *Type) *Type {
	written := map[string]*Type{}
	for _, entry := range e.Entries {
		if !entry.Spread && entry.Key.Value == nil {
			if t, ok := c.literalOf(entry.Value); ok {
				written[entry.Key.Name] = t
			}
		}
	}
	var found *Type
	for _, part := range union.alternatives() {
		core := part.Core()
		if core.Kind != Record {
			continue
		}
		met, differs := 0, false
		for _, f := range core.Fields {
			if t, ok := written[f.Name]; ok && len(literalTexts(f.Type)) == len(f.Type.Parts()) {
				met++
				differs = differs || !Assignable(t, f.Type)
			}
		}
		if met == 0 || differs {
			continue
		}
		if found != nil {
			return nil
		}
		found = part
	}
	return found
}

func (c *checker) widenRest(b *builder, t *Type) {
	if b.rest == nil {
		b.rest = t
	} else {
		b.rest = c.universe.Union(b.rest, t)
	}
}

func (c *checker) unknownField(name string, span source.Span, want, record *Type) {
	c.report(source.UnknownField, span, fieldHelp(name, record), "%s has no field %q", Article(want), name)
}

// fieldHelp suggests the field that a wrong name was meant for.
func fieldHelp(name string, record *Type) string {
	if near, ok := source.Nearest(name, record.FieldNames()); ok {
		return fmt.Sprintf("did you mean %q?", near)
	}
	switch names := record.FieldNames(); {
	case len(names) == 0:
		return "it has no fields at all"
	case len(names) <= 12:
		return "its fields are " + strings.Join(names, ", ")
	}
	return ""
}

// spreadInto adds what `...value` brings into a record.
func (c *checker) spreadInto(b *builder, entry *syntax.Entry) {
	t := c.inferSpread(entry)
	core := t.Core()
	if core.Kind == Union && !slices.ContainsFunc(core.Parts(), func(p *Type) bool { return p.Kind != Record }) {
		parts := core.Parts()
		core = parts[0]
		for _, p := range parts[1:] {
			core = c.mergeBranches(core, p)
		}
	}
	switch core.Kind {
	case Invalid, Any:
		b.open = true
		return
	case Record:
	default:
		c.report(source.WrongType, entry.Value.Place(), strings.Replace(spreadHelp(t), "[]", "{}", 1), `"..." in a record brings in the entries of a record, not of %s`, describeType(t))
		b.open = true
		return
	}
	for _, f := range core.Fields {
		if first, ok := b.written[f.Name]; ok {
			c.add(source.Finding{
				Code: source.DuplicateKey, Span: entry.Span,
				Message: fmt.Sprintf("this brings in the key %q, which is written already", f.Name),
				Help:    "put the spread before the key, so that the key wins, or leave one out",
				Related: []source.Related{{Span: first, Text: "written here"}},
			})
			continue
		}
		if earlier, ok := b.get(f.Name); ok && f.Optional {
			f.Type = c.universe.Union(earlier.Type, f.Type)
			f.Optional = earlier.Optional
		}
		f.Default = nil
		b.set(f)
	}
	if core.Rest != nil {
		c.widenRest(b, core.Rest)
		for i := range b.fields {
			if _, ok := b.written[b.fields[i].Name]; !ok {
				b.fields[i].Type = c.universe.Union(b.fields[i].Type, core.Rest)
			}
		}
	}
}

func (c *checker) inferField(e *syntax.Field, absent bool) *Type {
	if _, ok := e.Of.(*syntax.Env); ok {
		return c.inferEnv(e)
	}
	if name, ok := e.Of.(*syntax.Name); ok {
		if t, done := c.inferMember(e, name); done {
			return t
		}
	}
	of := c.inferOperand(e.Of, e.Optional)
	if of.Kind == Invalid || of.Kind == Any {
		return of
	}
	if e.Optional {
		of = c.universe.WithoutNull(of)
	}
	if of.Kind == Never {
		return NullType
	}
	var results []*Type
	nullable := e.Optional
	for _, part := range of.Parts() {
		switch part.Kind {
		case Any:
			return AnyType
		case Invalid:
			return InvalidType
		case Null:
			c.report(source.MayBeNull, e.Of.Place(), fmt.Sprintf("write %s?.%s, or give a value for null with ??", c.text(e.Of), e.Name.Name), "this may be null, which has no field %q", e.Name.Name)
			return InvalidType
		case Instance:
			t := c.instanceField(e, part.Module)
			if t.Kind == Invalid {
				return t
			}
			nullable = nullable && c.inferredNull(e.Of)
			results = append(results, t)
			continue
		case Record:
		default:
			c.report(source.WrongType, e.Of.Place(), "", "%s has no fields, so there is no %q", describeType(of), e.Name.Name)
			return InvalidType
		}
		field, ok := part.Field(e.Name.Name)
		switch {
		case ok:
			c.warnDeprecated(field, e.Name.Span)
			if field.Optional && !absent && !e.Optional {
				help := fmt.Sprintf("write %s?.%s for null, or … ?? and a value for that case", c.text(e.Of), e.Name.Name)
				if t := c.narrowed(e, nil); t != nil {
					results = append(results, t)
					continue
				}
				c.add(source.Finding{Code: source.MayBeAbsent, Span: e.Name.Span, Message: fmt.Sprintf("the field %q may be absent", e.Name.Name), Help: help,
					Related: fieldPlace(field)})
				return InvalidType
			}
			nullable = nullable && field.Optional || field.Optional && absent || nullable && c.inferredNull(e.Of)
			results = append(results, field.Type)
		case part.Rest != nil:
			nullable = nullable || absent
			results = append(results, part.Rest)
		case e.Optional && slices.ContainsFunc(of.Parts(), func(p *Type) bool { return p.hasField(e.Name.Name) }):
			nullable = true // other members of the union have it
		default:
			c.report(source.UnknownField, e.Name.Span, fieldHelp(e.Name.Name, part), "%s has no field %q", Article(of), e.Name.Name)
			return InvalidType
		}
	}
	if nullable {
		results = append(results, NullType)
	}
	return c.narrowed(e, c.universe.Union(results...))
}

// inferredNull reports whether an operand that was inferred before may be null.
func (c *checker) inferredNull(e syntax.Expression) bool {
	t := c.module.Info.Types[e.ID()]
	return t != nil && t.MayBeNull()
}

// inferOperand finds the type of what stands before a field or index. In a chain that an earlier `?.` may end, null
// ends all of it.
func (c *checker) inferOperand(e syntax.Expression, optional bool) *Type {
	if optional {
		return c.inferAbsent(e)
	}
	t := c.infer(e, nil)
	if chained(e) && t.MayBeNull() && t.Kind != Any {
		return c.universe.WithoutNull(t)
	}
	return t
}

// chained reports whether an expression is a chain of steps of which one is optional.
func chained(e syntax.Expression) bool {
	switch e := e.(type) {
	case *syntax.Field:
		return e.Optional || chained(e.Of)
	case *syntax.Index:
		return e.Optional || chained(e.Of)
	}
	return false
}

func fieldPlace(f *Field) []source.Related {
	if !f.Span.IsValid() {
		return nil
	}
	text := "the field " + f.Name
	if f.Description != "" {
		text = fmt.Sprintf("%q", strings.SplitN(f.Description, "\n", 2)[0])
	}
	return []source.Related{{Span: f.Span, Text: text}}
}

func (c *checker) inferEnv(e *syntax.Field) *Type {
	c.owner.NeedsEnvironment = true
	switch e.Name.Name {
	case "name":
		if len(c.program.Environments) == 0 {
			return StringType
		}
		var names []*Type
		for _, name := range c.program.Environments {
			names = append(names, c.universe.Literal(name))
		}
		return c.narrowed(e, c.universe.Union(names...))
	case "tags":
		return c.universe.Set(StringType)
	}
	help := "it has name and tags"
	if near, ok := source.Nearest(e.Name.Name, []string{"name", "tags"}); ok {
		help = fmt.Sprintf("did you mean %q?", near)
	}
	c.report(source.UnknownField, e.Name.Span, help, "env has no field %q", e.Name.Name)
	return InvalidType
}

// inferMember finds the type of `name.member` where name is a module or a group of built-in functions; done is
// false when it is neither.
func (c *checker) inferMember(e *syntax.Field, name *syntax.Name) (t *Type, done bool) {
	// An input or a local name may be called like a group: it is meant where nothing is called.
	if _, declared := c.module.Objects[name.Name]; slices.Contains(c.program.Builtins.Groups(), name.Name) && !declared && !c.local(name.Name) {
		if c.builtin(name.Name, e.Name) != nil {
			c.report(source.WrongUse, e.Place(), fmt.Sprintf("call it: %s.%s(…)", name.Name, e.Name.Name), "%s.%s is a built-in function, not a value", name.Name, e.Name.Name)
		}
		return InvalidType, true
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
		c.report(source.WrongUse, e.Place(), "types stand behind a colon", "%s is a type, not a value", c.text(e))
		return InvalidType, true
	case ObjectLocal: // the mark of a member that was reported
		return InvalidType, true
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
	missing := &Object{Kind: ObjectLocal, Type: InvalidType, Invalid: true, Global: -1}
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
		help := ""
		if near, found := source.Nearest(e.Name.Name, candidates); found {
			help = fmt.Sprintf("did you mean %q?", near)
		}
		message := fmt.Sprintf("%s has no %q", module.Path, e.Name.Name)
		if ok && o.Private() {
			message, help = fmt.Sprintf("%q is private to %s", e.Name.Name, module.Path), "a name that begins with _ is used in its own file only"
		}
		c.add(source.Finding{Code: source.UnknownName, Span: e.Name.Span, Message: message, Help: help, Related: see(module.Objects[e.Name.Name])})
		return missing
	}
	if o.NeedsInput {
		c.needsInstance(e.Name, alias, o)
		return missing
	}
	c.use(o, e.Place())
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
		Message: fmt.Sprintf("%s.%s depends on the inputs of %s, which have no values here", alias.Name, o.Name, alias.Imported().Path),
	})
}

func (c *checker) inferIndex(e *syntax.Index, absent bool) *Type {
	of := c.inferOperand(e.Of, e.Optional)
	if e.Optional {
		of = c.universe.WithoutNull(of)
	}
	index := c.infer(e.Index, nil)
	if of.Kind == Invalid || index.Kind == Invalid {
		return InvalidType
	}
	var results []*Type
	if tuple := of.tuple(); tuple != nil {
		if t, done := c.tupleElement(e, tuple, index); done {
			return c.narrowed(e, t)
		}
	}
	for _, part := range of.Parts() {
		switch part.Kind {
		case Any:
			results = append(results, AnyType)
		case List:
			if !Assignable(index, IntType) {
				c.report(source.WrongType, e.Index.Place(), "", "the index of a list is an int, not %s", describeType(index))
				return InvalidType
			}
			results = append(results, part.Element)
		case Record:
			if !Assignable(index, StringType) {
				c.report(source.WrongType, e.Index.Place(), "", "the key of a record is a string, not %s", describeType(index))
				return InvalidType
			}
			t, ok := c.keyType(e, part, index, absent)
			if !ok {
				return InvalidType
			}
			results = append(results, t)
		case Null:
			c.report(source.MayBeNull, e.Of.Place(), "write ?[…], or give a value for null with ??", "this may be null, which has no elements")
			return InvalidType
		default:
			help := ""
			if part.Widen().Kind == String {
				help = "text.slice takes a part of a text"
			}
			c.report(source.WrongType, e.Of.Place(), help, "%s has no elements", describeType(of))
			return InvalidType
		}
	}
	if absent || e.Optional {
		results = append(results, NullType)
	}
	return c.narrowed(e, c.universe.Union(results...))
}

// tupleElement returns the type of an element of a tuple at a position that is written out; done is false when it is not.
func (c *checker) tupleElement(e *syntax.Index, tuple, index *Type) (t *Type, done bool) {
	at, ok := index.Literal.(int64)
	if index.Kind != Literal || !ok {
		return nil, false
	}
	n := int64(len(tuple.Parameters))
	if at < 0 {
		at += n
	}
	if at < 0 || at >= n {
		if e.Optional {
			return NullType, true
		}
		c.report(source.NoElement, e.Index.Place(), "", "%s has %s", tuple, count(int(n), "element"))
		return InvalidType, true
	}
	return tuple.Parameters[at], true
}

// keyType returns the type of r[key], reporting a key that is known not to be there.
func (c *checker) keyType(e *syntax.Index, record, index *Type, absent bool) (*Type, bool) {
	texts := literalTexts(index)
	known := len(texts) == len(index.Parts())
	var results []*Type
	for _, f := range record.Fields {
		if known && !slices.Contains(texts, f.Name) {
			continue
		}
		if known && f.Optional && !absent && !e.Optional {
			c.report(source.MayBeAbsent, e.Index.Place(), "write ?[…] for null, or … ?? and a value for that case", "the field %q may be absent", f.Name)
			return nil, false
		}
		results = append(results, f.Type)
	}
	if record.Rest != nil {
		results = append(results, record.Rest)
	} else if known && !absent && !e.Optional {
		for _, text := range texts {
			if _, ok := record.Field(text); !ok {
				c.report(source.UnknownField, e.Index.Place(), fieldHelp(text, record), "%s has no field %q", Article(record), text)
				return nil, false
			}
		}
	}
	return c.universe.Union(results...), true
}
