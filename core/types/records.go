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
	*checker
	fields  []Field
	index   map[string]int         // positions in fields
	written map[string]source.Span // keys that were written, not spread
	maybe   map[string]bool        // those of them that are left out when they are null
	rest    *Type                  // of the fields that are not in fields
	loose   bool                   // the fields may stand in another order
}

func (c *checker) builder() *builder {
	return &builder{checker: c, index: map[string]int{}, written: map[string]source.Span{}, maybe: map[string]bool{}}
}

func (b *builder) set(f Field) {
	if i, ok := b.index[f.Name]; ok {
		b.loose = b.loose || b.fields[i].Optional
		b.fields[i] = f
		return
	}
	b.index[f.Name] = len(b.fields)
	b.fields = append(b.fields, f)
}

// get returns what is known of a field so far: one that was not written may be among the others, and is then optional.
func (b *builder) get(name string) (*Field, bool) {
	if i, ok := b.index[name]; ok {
		return &b.fields[i], true
	}
	if b.rest != nil {
		return &Field{Name: name, Type: b.rest, Optional: true}, true
	}
	return nil, false
}

// over sets a field that need not be there: else what was there before stays.
func (b *builder) over(f Field) {
	f.Optional = true
	if earlier, ok := b.get(f.Name); ok {
		f.Type, f.Optional = b.universe.Union(earlier.Type, f.Type), earlier.Optional
	}
	b.set(f)
}

// others notes that any field may be there with a type, but for those that were written: they must not be there twice.
func (b *builder) others(t *Type) { b.othersBut(t, nil) }

// othersBut is others for a record that has the fields named but, of which the type is known.
func (b *builder) othersBut(t *Type, but map[string]bool) {
	for i := range b.fields {
		if f := &b.fields[i]; !but[f.Name] && (b.written[f.Name] == (source.Span{}) || b.maybe[f.Name]) {
			f.Type = b.universe.Union(f.Type, t)
		}
	}
	if b.rest != nil {
		t = b.universe.Union(b.rest, t)
	}
	b.rest = t
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
	b := c.builder()
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
			b.others(c.entryValue(entry, rest, "an entry"))
		default:
			name := entry.Key.Name
			if first, ok := b.written[name]; ok {
				c.add(source.Finding{Code: source.DuplicateKey, Span: entry.Key.Span,
					Message: fmt.Sprintf("the key %q is written twice", name),
					Help:    "leave one out", Related: []source.Related{{Span: first, Text: "the first"}}})
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
					if near, ok := c.suggestions.Nearest(name, expected.FieldNames()); ok {
						meant = append(meant, near)
					}
				}
			}
			t := c.entryValue(entry, field, fmt.Sprintf("field %q", name))
			optional := entry.Optional
			if optional && field != nil {
				if declared, ok := expected.Field(name); ok && !declared.Optional && declared.Default == nil {
					c.report(source.WrongType, entry.Value.Place(),
						"leave out the ?, and give a value with ?? for null", "the field %q must not be absent", name)
				}
			}
			if optional {
				b.maybe[name] = true
				b.over(Field{Name: name, Type: t, Span: entry.Key.Span})
			} else {
				b.set(Field{Name: name, Type: t})
			}
		}
	}
	if expected != nil && b.rest == nil {
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
			c.report(source.MissingField, opening, "add the field"+plural, "%s needs the field%s %s", Article(want),
				plural, strings.Join(missing, ", "))
			wrong = true
		}
	}
	if wrong {
		return InvalidType
	}
	return c.universe.record(b.fields, b.rest, b.loose)
}

// warnDeprecated warns of the use of a field that is deprecated.
func (c *checker) warnDeprecated(f *Field, span source.Span) {
	if f.Deprecated == "" {
		return
	}
	c.add(source.Finding{Code: source.Deprecated, Severity: source.Warning, Span: span, Help: f.Deprecated,
		Related: fieldPlace(f),
		Message: fmt.Sprintf("%q is deprecated", f.Name)})
}

// memberFor returns the one record of a union whose literal fields, such as the kind by which its members are told
// apart, a record literal has; nil when that does not tell.
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
		if differs {
			continue
		}
		if met == 0 || found != nil { // it may be meant, too
			return nil
		}
		found = part
	}
	return found
}

func (c *checker) unknownField(name string, span source.Span, want, record *Type) {
	c.report(source.UnknownField, span, fieldHelp(name, record), "%s has no field %q", Article(want), name)
}

// readHelp is fieldHelp for a field that is read.
func (c *checker) readHelp(e *syntax.Field, record *Type) string {
	if help := c.subtractionHelp(e, record); help != "" {
		return help
	}
	return fieldHelp(e.Name.Name, record)
}

// subtractionHelp says how a subtraction is written when a name with hyphens is no field of a record, but its parts
// are something.
func (c *checker) subtractionHelp(e *syntax.Field, record *Type) string {
	first, rest, found := strings.Cut(e.Name.Name, "-")
	if !found || !record.hasField(first) {
		return ""
	}
	return fmt.Sprintf("a subtraction is written with spaces: %s.%s - %s", c.text(e.Of), first, rest)
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
	t := c.inferSpread(entry, nil)
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
		b.others(AnyType)
		return
	case Union:
		if !slices.ContainsFunc(core.Parts(), func(p *Type) bool { return p.Kind != Any && p.Kind != Record }) {
			b.others(c.universe.anything(core.Parts()...).restOr(AnyType))
			return
		}
	case Record:
		c.spreadFields(b, core, entry)
		return
	}
	c.report(source.WrongType, entry.Value.Place(), strings.Replace(spreadHelp(t), "[]", "{}", 1),
		`"..." in a record brings in the entries of a record, not of %s`, describeType(t))
	b.others(AnyType)
}

// restOr returns the type of the fields of a map, and another one for what is no record.
func (t *Type) restOr(other *Type) *Type {
	if t.Kind == Record && t.Rest != nil {
		return t.Rest
	}
	return other
}

// spreadFields adds the fields of a record that is spread.
func (c *checker) spreadFields(b *builder, core *Type, entry *syntax.Entry) {
	b.loose = b.loose || core.Loose
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
		f.Default = nil
		if f.Optional {
			b.over(f)
		} else {
			b.set(f)
		}
	}
	if core.Rest != nil {
		brought := map[string]bool{}
		for _, f := range core.Fields {
			brought[f.Name] = true
		}
		b.othersBut(core.Rest, brought)
	}
}

// inferField finds the type of `x.name`.
func (c *checker) inferField(e *syntax.Field, absent bool) *Type {
	t, ended := c.fieldStep(e, absent)
	return c.ended(t, ended)
}

// inferIndex finds the type of `x[i]`.
func (c *checker) inferIndex(e *syntax.Index, absent bool) *Type {
	t, ended := c.indexStep(e, absent)
	return c.ended(t, ended)
}

// ended is the type of a chain of steps: null where one of them may end it.
func (c *checker) ended(t *Type, ended bool) *Type {
	if ended && t.Kind != Invalid {
		return c.universe.Optional(t)
	}
	return t
}

// operand finds the type of what stands before a step. In a chain, what `?.` or `?[` meets null or nothing at ends
// all of it: ended says that this may have happened before, the type is what goes on otherwise.
func (c *checker) operand(e syntax.Expression, absent bool) (t *Type, ended bool) {
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
func (c *checker) narrowedStep(e syntax.Expression, t *Type, ended bool) (*Type, bool) {
	known := c.narrowed(e, nil)
	if known == nil {
		return t, ended
	}
	return known, ended && known.MayBeNull()
}

// fieldStep finds the type of a field. What may be absent gives null when that is allowed.
func (c *checker) fieldStep(e *syntax.Field, absent bool) (t *Type, ended bool) {
	if _, ok := e.Of.(*syntax.Env); ok {
		return c.inferEnv(e), false
	}
	if name, ok := e.Of.(*syntax.Name); ok {
		if t, done := c.inferMember(e, name); done {
			return t, false
		}
	}
	of, ended := c.operand(e.Of, e.Optional)
	if of.Kind == Invalid {
		return of, false
	}
	if of.Kind == Any {
		return c.narrowedStep(e, AnyType, ended || e.Optional)
	}
	if e.Optional {
		ended = ended || of.MayBeNull()
		of = c.universe.WithoutNull(of)
	}
	if of.Kind == Never {
		return NullType, false
	}
	var results []*Type
	for _, part := range of.Parts() {
		switch part.Kind {
		case Any:
			results = append(results, AnyType)
			continue
		case Invalid:
			return InvalidType, false
		case Null:
			c.report(source.MayBeNull, e.Of.Place(), fmt.Sprintf("write %s?.%s, or give a value for null with ??",
				c.text(e.Of), e.Name.Name), "this may be null, which has no field %q", e.Name.Name)
			return InvalidType, false
		case Instance:
			t := c.instanceField(e, part.Module)
			if t.Kind == Invalid {
				return t, false
			}
			results = append(results, t)
			continue
		case Record:
		default:
			c.report(source.WrongType, e.Of.Place(), c.asFunction(e, of), "%s has no fields, so there is no %q",
				describeType(of), e.Name.Name)
			return InvalidType, false
		}
		field, ok := part.Field(e.Name.Name)
		switch {
		case ok:
			c.warnDeprecated(field, e.Name.Span)
			if field.Optional && !absent && !e.Optional {
				help := fmt.Sprintf("write %s?.%s for null, or … ?? and a value for that case", c.text(e.Of),
					e.Name.Name)
				if t := c.narrowed(e, nil); t != nil {
					results = append(results, t)
					continue
				}
				c.add(source.Finding{Code: source.MayBeAbsent, Span: e.Name.Span,
					Message: fmt.Sprintf("the field %q may be absent", e.Name.Name), Help: help,
					Related: fieldPlace(field)})
				return InvalidType, false
			}
			ended = ended || field.Optional
			results = append(results, field.Type)
		case part.Rest != nil:
			ended = ended || absent || e.Optional
			results = append(results, part.Rest)
		case e.Optional && slices.ContainsFunc(of.Parts(), func(p *Type) bool { return p.hasField(e.Name.Name) }):
			ended = true // other members of the union have it
		default:
			c.report(source.UnknownField, e.Name.Span, c.readHelp(e, part), "%s has no field %q", Article(of),
				e.Name.Name)
			return InvalidType, false
		}
	}
	return c.narrowedStep(e, c.universe.Union(results...), ended)
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
	if near, ok := c.suggestions.Nearest(e.Name.Name, []string{"name", "tags"}); ok {
		help = fmt.Sprintf("did you mean %q?", near)
	}
	c.report(source.UnknownField, e.Name.Span, help, "env has no field %q", e.Name.Name)
	return InvalidType
}

// inferMember finds the type of `name.member` where name is a module or a group of built-in functions; done is
// false when it is neither.
func (c *checker) inferMember(e *syntax.Field, name *syntax.Name) (t *Type, done bool) {
	// An input or a local name may be called like a group: it is meant where nothing is called.
	if _, declared := c.module.Objects[name.Name]; slices.Contains(c.program.Builtins.Groups(), name.Name) &&
		!declared && !c.local(name.Name) {
		if c.builtin(name.Name, e.Name) != nil {
			c.report(source.WrongUse, e.Place(), fmt.Sprintf("call it: %s.%s(…)", name.Name, e.Name.Name),
				"%s.%s is a built-in function, not a value", name.Name, e.Name.Name)
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
		if near, found := c.suggestions.Nearest(e.Name.Name, candidates); found {
			help = fmt.Sprintf("did you mean %q?", near)
		}
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
		Message: fmt.Sprintf("%s.%s depends on the inputs of %s, which have no values here", alias.Name, o.Name,
			alias.Imported().Path),
	})
}

// indexStep finds the type of an element or of the entry of a key. What may be absent gives null when that is allowed.
func (c *checker) indexStep(e *syntax.Index, absent bool) (t *Type, ended bool) {
	of, ended := c.operand(e.Of, e.Optional)
	if e.Optional {
		ended = ended || of.MayBeNull()
		of = c.universe.WithoutNull(of)
	}
	index := c.infer(e.Index, nil)
	if of.Kind == Invalid || index.Kind == Invalid {
		return InvalidType, false
	}
	if of.Kind == Never {
		return NullType, false
	}
	if tuple := of.tuple(); tuple != nil {
		if t, done := c.tupleElement(e, tuple, index, absent); done {
			return c.narrowedStep(e, t, ended)
		}
	}
	var results []*Type
	for _, part := range of.Parts() {
		switch part.Kind {
		case Any:
			results = append(results, AnyType)
		case List:
			if !Assignable(index, IntType) {
				c.report(source.WrongType, e.Index.Place(), "", "the index of a list is an int, not %s",
					describeType(index))
				return InvalidType, false
			}
			results = append(results, part.Element)
		case Record:
			if !Assignable(index, StringType) {
				c.report(source.WrongType, e.Index.Place(), "", "the key of a record is a string, not %s",
					describeType(index))
				return InvalidType, false
			}
			t, ok := c.keyType(e, part, index, absent)
			if !ok {
				return InvalidType, false
			}
			results = append(results, t)
		case Null:
			c.report(source.MayBeNull, e.Of.Place(), "write ?[…], or give a value for null with ??",
				"this may be null, which has no elements")
			return InvalidType, false
		default:
			help := ""
			if part.Widen().Kind == String {
				help = "text.slice takes a part of a text"
			}
			c.report(source.WrongType, e.Of.Place(), help, "%s has no elements", describeType(of))
			return InvalidType, false
		}
	}
	return c.narrowedStep(e, c.universe.Union(results...), ended || absent || e.Optional)
}

// tupleElement returns the type of an element of a tuple at a position that is written out; done is false when it is
// not.
func (c *checker) tupleElement(e *syntax.Index, tuple, index *Type, absent bool) (t *Type, done bool) {
	at, ok := index.Literal.(int64)
	if index.Kind != Literal || !ok {
		return nil, false
	}
	n := int64(len(tuple.Parameters))
	if at < 0 {
		at += n
	}
	if at < 0 || at >= n {
		if e.Optional || absent {
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
		if known && f.Optional && !absent && !e.Optional && c.narrowed(e, nil) == nil {
			c.report(source.MayBeAbsent, e.Index.Place(), "write ?[…] for null, or … ?? and a value for that case",
				"the field %q may be absent", f.Name)
			return nil, false
		}
		results = append(results, f.Type)
	}
	if record.Rest != nil {
		results = append(results, record.Rest)
	} else if known && !absent && !e.Optional {
		for _, text := range texts {
			if _, ok := record.Field(text); !ok {
				c.report(source.UnknownField, e.Index.Place(), fieldHelp(text, record), "%s has no field %q",
					Article(record), text)
				return nil, false
			}
		}
	}
	return c.universe.Union(results...), true
}
