package schema

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// Field is what a schema says of a field, or of the elements of a list.
type Field struct {
	Name        string // "[]" for the elements of a list, "*" for fields of any name
	Type        string // in words
	Required    bool
	Default     value.Value // Absent for none
	Values      []value.Value
	Description string
	Deprecated  bool
	Inner       []*Field
	// Deeper says that there is more inside, which was not asked for.
	Deeper bool

	schema *Schema
}

// Tree returns what a schema says, so many levels deep.
func (s *Schema) Tree(levels int) *Field { return s.field("", false, levels, nil) }

// Within returns the schema of a place in what a schema describes, by the names of fields, with [] for elements; nil
// when there is none, and why.
func (s *Schema) Within(path []string) (inner *Schema, why, help string) {
	at := s
	for i, name := range path {
		var next *Schema
		var names []string
		for _, f := range at.field("", false, 1, nil).Inner {
			names = append(names, f.Name)
			if f.Name == name || f.Name == "*" && next == nil {
				next = f.schema
			}
		}
		if next == nil {
			before := "it"
			if i > 0 {
				before = strings.Join(path[:i], ".")
			}
			why, help = fmt.Sprintf("there is no field %q in %s", name, before), "it has no fields"
			if len(names) > 0 {
				help = "it has " + someOf(names)
			}
			if near, ok := source.Nearest(name, names); ok {
				help = source.DidYouMean(near)
			}
			return nil, why, help
		}
		at = next
	}
	return at, "", ""
}

// field describes a schema. Around are the schemas that it is in.
func (s *Schema) field(name string, required bool, levels int, around []*Schema) *Field {
	r := s.told()
	f := &Field{Name: name, Required: required, schema: s, Default: r.fallback, Description: s.Description(),
		Deprecated: s.deprecated(), Values: r.enum}
	if !r.constant.IsAbsent() {
		f.Values = []value.Value{r.constant}
	}
	f.Type = s.typeText(3)
	parts := s.partsOf(nil)
	if len(parts) == 0 {
		return f
	}
	if levels <= 0 || slices.Contains(around, s) {
		f.Deeper = true
		return f
	}
	for _, p := range parts {
		f.Inner = append(f.Inner, p.schema.field(p.name, p.required, levels-1, append(slices.Clip(around), s)))
	}
	return f
}

// part is a field of a record, or the elements of a list.
type part struct {
	name     string
	required bool
	schema   *Schema
}

// partsOf returns what a schema, and those that must hold too, say of the parts of a value. Seen are those that were
// asked.
func (s *Schema) partsOf(seen []*Schema) []part {
	if slices.Contains(seen, s) {
		return nil
	}
	seen = append(slices.Clip(seen), s)
	r := s.compiled()
	var parts []part
	add := func(p part) {
		if at := slices.IndexFunc(parts, func(q part) bool { return q.name == p.name }); at >= 0 {
			parts[at].required = parts[at].required || p.required
			return
		}
		parts = append(parts, p)
	}
	for _, name := range r.names {
		add(part{name, slices.Contains(r.required, name), r.properties[name]})
	}
	if r.additional != nil && r.additional.raw.Kind() == value.Record {
		add(part{"*", false, r.additional})
	}
	if r.items != nil && r.items.raw.Kind() == value.Record {
		add(part{"[]", false, r.items})
	}
	also := slices.Clone(r.allOf)
	if r.ref != nil {
		also = append(also, r.ref)
	}
	for _, inner := range also {
		for _, p := range inner.partsOf(seen) {
			add(p)
		}
	}
	for _, forms := range [][]*Schema{r.anyOf, r.oneOf} {
		for _, inner := range forms {
			for _, p := range inner.partsOf(seen) {
				p.required = false
				add(p)
			}
		}
	}
	for i := range parts {
		parts[i].required = parts[i].required || slices.Contains(r.required, parts[i].name)
	}
	return parts
}

// Describes returns the schema of a field, or with [] of the elements; nil when it says nothing of them.
func (s *Schema) Describes(name string) (inner *Schema) {
	for _, p := range s.partsOf(nil) {
		if p.name == name || p.name == "*" && inner == nil && name != "[]" {
			inner = p.schema
		}
	}
	return inner
}

// ListKeys returns the fields by which the elements of a list are known, as custom resource definitions say; none for
// others.
func (s *Schema) ListKeys() []string { return s.listKeysOf(nil) }

func (s *Schema) listKeysOf(seen []*Schema) []string {
	r := s.compiled()
	switch {
	case slices.Contains(seen, s):
		return nil
	case r.extended != nil && len(r.listKeys) > 0:
		return r.listKeys
	}
	seen = append(slices.Clip(seen), s)
	also := slices.Clone(r.allOf)
	if r.ref != nil {
		also = append(also, r.ref)
	}
	for _, inner := range also {
		if keys := inner.listKeysOf(seen); keys != nil {
			return keys
		}
	}
	return nil
}

func (s *Schema) deprecated() bool {
	if s.raw.Kind() != value.Record {
		return false
	}
	v := s.raw.Get("deprecated")
	return v.Kind() == value.Bool && v.Bool()
}

// typeText says in words what a schema allows.
func (s *Schema) typeText(depth int) string {
	r := s.told()
	switch {
	case r.never:
		return "nothing"
	case len(r.enum) > 0 || !r.constant.IsAbsent():
		return "one of these"
	case r.types == anArray|aNull, r.types == anArray:
		text := "a list"
		if r.items != nil && depth > 0 {
			if inner := r.items.typeText(depth - 1); inner != "anything" {
				text += " of " + plural(inner)
			}
		}
		return text
	case r.types != 0:
		text := r.types.words()
		if r.format != nil {
			text, _, _ = strings.Cut(r.format.what, ", such as")
		}
		return text
	case r.properties != nil:
		return "a record"
	}
	var words []string
	for _, forms := range [][]*Schema{r.oneOf, r.anyOf, r.allOf} {
		for _, inner := range forms {
			if text := inner.typeText(depth - 1); depth > 0 && text != "anything" && !slices.Contains(words, text) {
				words = append(words, text)
			}
		}
		if words != nil {
			return either(words)
		}
	}
	return "anything"
}

// plural is the plural of a type in words.
func plural(words string) string {
	if noun, ok := strings.CutPrefix(words, "a "); ok && !strings.Contains(noun, " or ") {
		return strings.Replace(noun, "list of", "lists of", 1) + map[bool]string{true: "s"}[!strings.Contains(noun, " of ")]
	}
	if words == "an integer" {
		return "integers"
	}
	return words
}

// Example returns a document to fill in: what must be there, and as comments what may be. Kind is that of an object;
// nil for other data.
func (s *Schema) Example(kind *Kind) string {
	var b strings.Builder
	x := &example{b: &b}
	if kind != nil {
		fmt.Fprintf(&b, "apiVersion: %s\nkind: %s\n", kind.APIVersion, kind.Name)
		x.field(&Field{Name: "metadata", Required: true, schema: s.store.metadata()}, 0, []string{"name"})
		x.without = implied
	}
	x.fields(s, 0, nil)
	return b.String()
}

// example writes a document to fill in.
type example struct {
	b       *strings.Builder
	without []string // fields at the top that are written already
	around  []*Schema
}

// fields writes the fields of a record. Must are those that are to be filled in beside those that the schema requires.
func (x *example) fields(s *Schema, depth int, must []string) {
	if slices.Contains(x.around, s) {
		return
	}
	x.around = append(x.around, s)
	defer func() { x.around = x.around[:len(x.around)-1] }()
	parts := s.partsOf(nil)
	for _, wanted := range []bool{true, false} {
		for _, p := range parts {
			if p.name == "[]" || p.name == "*" || depth == 0 && slices.Contains(x.without, p.name) ||
				x.without != nil && p.name == "status" && depth == 0 {
				continue
			}
			required := p.required || slices.Contains(must, p.name)
			if required != wanted || must != nil && !required {
				continue
			}
			x.field(p.schema.field(p.name, required, 0, nil), depth, nil)
		}
	}
}

// field writes one field with what is in it.
func (x *example) field(f *Field, depth int, must []string) {
	indent := strings.Repeat("  ", depth)
	key := data.Literal(value.StringOf(f.Name, 0), data.YAML)
	r := f.schema.told()
	said := f.Type
	if f.schema.isRecord() || f.Type == "" {
		said = ""
	}
	if description := firstSentence(f.Description); description != "" && must == nil {
		said = strings.TrimPrefix(said+": "+description, ": ")
	}
	if values := r.enumText(); len(r.enum) > 0 && f.Default.IsAbsent() {
		said = strings.TrimSuffix(values+": "+firstSentence(f.Description), ": ")
	}
	if said != "" {
		said = "   # " + said
	}
	if !f.Required {
		fmt.Fprintf(x.b, "%s# %s: %s%s\n", indent, key, f.filler(), said)
		return
	}
	inner := f.schema.partsOf(nil)
	switch {
	case f.schema.isRecord() && slices.ContainsFunc(inner, func(p part) bool { return p.name != "*" }) &&
		!slices.Contains(x.around, f.schema):
		fmt.Fprintf(x.b, "%s%s:%s\n", indent, key, said)
		before := x.b.Len()
		x.fields(f.schema, depth+1, must)
		if !hasLine(x.b.String()[before:]) { // comments alone would make it null
			text := x.b.String()[:before]
			x.b.Reset()
			x.b.WriteString(strings.TrimSuffix(text, key+":"+said+"\n"))
			fmt.Fprintf(x.b, "%s: {}%s\n", key, said)
		}
	case r.types == anArray && r.items != nil && r.items.isRecord() && !slices.Contains(x.around, r.items):
		fmt.Fprintf(x.b, "%s%s:%s\n", indent, key, said)
		var inner strings.Builder
		(&example{b: &inner, around: x.around}).fields(r.items, depth+2, nil)
		text := inner.String()
		if !hasLine(text) {
			fmt.Fprintf(x.b, "%s  - {}\n", indent)
			return
		}
		x.b.WriteString(indent + "  - " + strings.TrimPrefix(text, indent+"    "))
	default:
		fmt.Fprintf(x.b, "%s%s: %s%s\n", indent, key, f.filler(), said)
	}
}

// hasLine reports whether a text has a line that is no comment.
func hasLine(text string) bool {
	for line := range strings.Lines(text) {
		if line = strings.TrimSpace(line); line != "" && line[0] != '#' {
			return true
		}
	}
	return false
}

func (s *Schema) isRecord() bool {
	r := s.told()
	return r.types == anObject || r.types == 0 && r.properties != nil
}

// filler is a value that a field may have, or one that is easily seen to be filled in.
func (f *Field) filler() string {
	r := f.schema.told()
	v := r.fallback
	switch {
	case !v.IsAbsent():
	case len(r.enum) > 0:
		v = r.enum[0]
	case !r.constant.IsAbsent():
		v = r.constant
	case r.types&anObject != 0 || r.properties != nil:
		return "{}"
	case r.types&anArray != 0:
		return "[]"
	case r.types&(anInteger|aNumber) != 0:
		if r.minimum != nil {
			return r.minimum.text
		}
		return "0"
	case r.types&aBoolean != 0:
		return "false"
	case r.types&aString != 0, r.types == 0:
		return `""`
	default:
		return "null"
	}
	if v.Kind() == value.List || v.Kind() == value.Record {
		return data.JSONText(v, 0)
	}
	return data.Literal(v, data.YAML)
}

// ParsePath takes a path in a schema apart: fields with points between them, [] for elements.
func ParsePath(text string) []string {
	var steps []string
	for _, field := range strings.Split(strings.ReplaceAll(text, "[]", ".[]"), ".") {
		if field != "" {
			steps = append(steps, strings.Trim(field, `"`))
		}
	}
	return steps
}
