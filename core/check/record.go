package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// builder puts together the type of a record literal.
type builder struct {
	*checker
	fields  []types.Field
	index   map[string]int         // positions in fields
	written map[string]source.Span // keys that were written, not spread
	maybe   map[string]bool        // those of them that are left out when they are null
	rest    types.Type             // of the fields that are not in fields
	loose   bool                   // the fields may be in another order
}

func (c *checker) builder() *builder {
	return &builder{checker: c, index: map[string]int{}, written: map[string]source.Span{}, maybe: map[string]bool{}}
}

func (b *builder) set(f types.Field) {
	if i, ok := b.index[f.Name]; ok {
		b.loose = b.loose || b.fields[i].Optional
		b.fields[i] = f
		return
	}
	b.index[f.Name] = len(b.fields)
	b.fields = append(b.fields, f)
}

// get returns what is known of a field so far: one that was not written may be among the others, and is then optional.
func (b *builder) get(name string) (*types.Field, bool) {
	if i, ok := b.index[name]; ok {
		return &b.fields[i], true
	}
	if b.rest != nil {
		return &types.Field{Name: name, Type: b.rest, Optional: true}, true
	}
	return nil, false
}

// over sets a field that need not be there: else what was there before stays.
func (b *builder) over(f types.Field) {
	f.Optional = true
	if earlier, ok := b.get(f.Name); ok {
		f.Type, f.Optional = b.universe.Union(earlier.Type, f.Type), earlier.Optional
	}
	b.set(f)
}

// others notes that any field may be there with a type, but for those that were written: they must not be there twice.
func (b *builder) others(t types.Type) { b.othersBut(t, nil) }

// othersBut is others for a record that has the fields named but, of which the type is known.
func (b *builder) othersBut(t types.Type, but map[string]bool) {
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

// recordLiteral is a record literal that is checked, against the record type that is expected, if one is.
type recordLiteral struct {
	*builder
	tree     *syntax.Record
	want     types.Type
	expected *types.Record // of want; nil when none is expected
	wrong    bool
	meant    []string // fields that unknown ones were probably meant for
}

// inferRecord finds the type of a record literal. With an expected record type its entries are checked one by one,
// and fields that are unknown or missing are reported.
func (c *checker) inferRecord(e *syntax.Record, want types.Type) types.Type {
	l := &recordLiteral{builder: c.builder(), tree: e, want: want}
	if want != nil {
		if l.expected = types.OnlyRecord(want); l.expected == nil {
			if member := c.memberFor(e, want); member != nil {
				l.want, l.expected = member, types.AsRecord(member)
			}
		}
	}
	for _, entry := range e.Entries {
		switch {
		case entry.Spread:
			c.spreadInto(l.builder, entry)
		case entry.Key.Value != nil:
			c.checkKey(entry.Key)
			var rest types.Type
			if l.expected != nil && len(l.expected.Fields) == 0 {
				rest = l.expected.Rest
			}
			l.others(c.entryValue(entry, rest, "an entry"))
		default:
			l.entry(entry)
		}
	}
	if l.expected != nil && l.rest == nil {
		l.checkMissing()
	}
	if l.wrong {
		return types.Invalid
	}
	return c.universe.RecordOf(l.fields, l.rest, l.loose)
}

// entry checks an entry with a name.
func (l *recordLiteral) entry(entry *syntax.Entry) {
	name := entry.Key.Name
	if first, ok := l.written[name]; ok {
		l.add(source.Finding{Code: source.DuplicateKey, Span: entry.Key.Span,
			Message: fmt.Sprintf("the key %q is written twice", name),
			Help:    "leave one out", Related: []source.Related{{Span: first, Text: "the first"}}})
		l.infer(entry.Value, nil)
		return
	}
	l.written[name] = entry.Key.Span
	declared := l.fieldFor(name, entry.Key.Span)
	var want types.Type
	if declared != nil {
		want = declared.Type
	}
	t := l.entryValue(entry, want, fmt.Sprintf("field %q", name))
	if !entry.Optional {
		l.set(types.Field{Name: name, Type: t})
		return
	}
	if declared != nil && !declared.Optional && declared.Default == nil {
		l.report(source.WrongType, entry.Value.Place(), "leave out the ?, and give a value with ?? for null",
			"the field %q must not be absent", name)
	}
	l.maybe[name] = true
	l.over(types.Field{Name: name, Type: t, Span: entry.Key.Span})
}

// fieldFor returns the field that is expected under a name, nil when nothing is. One that must not be there is
// reported.
func (l *recordLiteral) fieldFor(name string, span source.Span) *types.Field {
	if l.expected == nil {
		return nil
	}
	if declared, ok := l.expected.Field(name); ok {
		l.noteField(span, declared)
		l.warnDeprecated(declared, span)
		return declared
	}
	if l.expected.Rest != nil {
		return &types.Field{Name: name, Type: l.expected.Rest, Optional: true}
	}
	l.unknownField(name, span, l.want, l.expected)
	l.wrong = true
	if near, ok := l.suggestions.Nearest(name, l.expected.FieldNames()); ok {
		l.meant = append(l.meant, near)
	}
	return nil
}

// checkMissing reports the fields that must be there and are not.
func (l *recordLiteral) checkMissing() {
	var missing []string
	for _, f := range l.expected.Fields {
		given, ok := l.get(f.Name)
		if slices.Contains(l.meant, f.Name) || f.Type == types.Invalid {
			continue
		}
		if !f.Optional && f.Default == nil && (!ok || given.Optional && l.written[f.Name] == (source.Span{})) {
			missing = append(missing, fmt.Sprintf("%q (%s)", f.Name, f.Type))
		}
	}
	if missing == nil {
		return
	}
	opening := l.tree.Place()
	opening.End = opening.Start + 1
	plural := ""
	if len(missing) > 1 {
		plural = "s"
	}
	l.report(source.MissingField, opening, "add the field"+plural, "%s needs the field%s %s",
		types.Article(l.want), plural, strings.Join(missing, ", "))
	l.wrong = true
}

// warnDeprecated warns of the use of a field that is deprecated.
func (c *checker) warnDeprecated(f *types.Field, span source.Span) {
	if f.Deprecated == "" {
		return
	}
	finding := DeprecatedField(span, f)
	finding.Related = fieldPlace(f)
	c.add(finding)
}

// memberFor returns the one record of a union whose literal fields, such as the kind by which its members are told
// apart, a record literal has; nil when that does not tell.
func (c *checker) memberFor(e *syntax.Record, union types.Type) types.Type {
	written := map[string]types.Type{}
	for _, entry := range e.Entries {
		if !entry.Spread && entry.Key.Value == nil {
			if t, ok := c.literalOf(entry.Value); ok {
				written[entry.Key.Name] = t
			}
		}
	}
	var found types.Type
	for _, part := range types.Alternatives(union) {
		record := types.AsRecord(part)
		if types.Core(part) == types.Any { // with a condition, which it may meet
			return nil
		}
		if record == nil {
			continue
		}
		met, differs := 0, false
		for _, f := range record.Fields {
			if t, ok := written[f.Name]; ok && len(types.LiteralTexts(f.Type)) == len(types.Parts(f.Type)) {
				met++
				differs = differs || !types.Assignable(t, f.Type)
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

func (c *checker) unknownField(name string, span source.Span, want types.Type, record *types.Record) {
	c.report(source.UnknownField, span, fieldHelp(name, record), "%s has no field %q", types.Article(want), name)
}

// fieldHelp suggests the field that a wrong name was meant for.
func fieldHelp(name string, record *types.Record) string {
	if near, ok := source.Nearest(name, record.FieldNames()); ok {
		return source.DidYouMean(near)
	}
	switch names := record.FieldNames(); {
	case len(names) == 0:
		return "it has no fields at all"
	case len(names) <= 12:
		return "its fields are " + strings.Join(names, ", ")
	}
	return ""
}

func fieldPlace(f *types.Field) []source.Related {
	if !f.Span.IsValid() {
		return nil
	}
	text := "the field " + f.Name
	if f.Description != "" {
		text = fmt.Sprintf("%q", strings.SplitN(f.Description, "\n", 2)[0])
	}
	return []source.Related{{Span: f.Span, Text: text}}
}

// spreadInto adds what `...value` brings into a record.
func (c *checker) spreadInto(b *builder, entry *syntax.Entry) {
	t := c.inferSpread(entry, nil)
	parts := types.Parts(t)
	isRecord := func(p types.Type) bool { return types.AsRecord(p) != nil }
	isOther := func(p types.Type) bool { return p != types.Any && !isRecord(p) }
	switch core := types.Core(t); {
	case core == types.Invalid || core == types.Any:
		b.others(types.Any)
		return
	case !slices.ContainsFunc(parts, func(p types.Type) bool { return !isRecord(p) }):
		record := types.AsRecord(parts[0])
		for _, p := range parts[1:] {
			record = c.universe.EitherRecord(record, types.AsRecord(p))
		}
		c.spreadFields(b, record, entry)
		return
	case types.AsUnion(core) != nil && !slices.ContainsFunc(parts, isOther):
		held := types.Any
		if anything := types.AsRecord(c.universe.Anything(parts...)); anything != nil {
			held = anything.Rest
		}
		b.others(held)
		return
	}
	c.report(source.WrongType, entry.Value.Place(), strings.Replace(spreadHelp(t), "[]", "{}", 1),
		`"..." in a record adds the entries of a record, not of %s`, types.Describe(t))
	b.others(types.Any)
}

// spreadFields adds the fields of a record that is spread.
func (c *checker) spreadFields(b *builder, record *types.Record, entry *syntax.Entry) {
	b.loose = b.loose || record.Loose
	for _, f := range record.Fields {
		if first, ok := b.written[f.Name]; ok {
			finding := SpreadOver(entry.Span, f.Name)
			finding.Related = []source.Related{{Span: first, Text: "written here"}}
			c.add(finding)
			continue
		}
		f.Default = nil
		if f.Optional {
			b.over(f)
		} else {
			b.set(f)
		}
	}
	if record.Rest != nil {
		brought := map[string]bool{}
		for _, f := range record.Fields {
			brought[f.Name] = true
		}
		b.othersBut(record.Rest, brought)
	}
}
