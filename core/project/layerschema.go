package project

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// schemaDialect is the URI of the dialect of the schemas that are written (JSON Schema 2020-12, Core 8.1.1).
const schemaDialect = "https://json-schema.org/draft/2020-12/schema"

// SchemaObject is a schema, or a part of one, whose keys keep their order.
type SchemaObject []schemaMember

// schemaMember is one key of an SchemaObject.
type schemaMember struct {
	Key   string
	Value any
}

// MarshalJSON writes the members in their order.
func (o SchemaObject) MarshalJSON() ([]byte, error) {
	var b strings.Builder
	b.WriteByte('{')
	for i, m := range o {
		if i > 0 {
			b.WriteByte(',')
		}
		key, err := marshal(m.Key)
		if err != nil {
			return nil, err
		}
		v, err := marshal(m.Value)
		if err != nil {
			return nil, err
		}
		b.WriteString(key + ":" + v)
	}
	b.WriteByte('}')
	return []byte(b.String()), nil
}

// marshal writes JSON without escapes beyond RFC 8259.
func marshal(v any) (string, error) {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return strings.TrimSuffix(b.String(), "\n"), err
}

func (o SchemaObject) has(key string) bool {
	return slices.ContainsFunc(o, func(m schemaMember) bool { return m.Key == key })
}

func (o SchemaObject) with(key string, v any) SchemaObject { return append(o, schemaMember{key, v}) }

// exporter turns types into schemas; named types become definitions.
type exporter struct {
	program     *check.Program
	names       map[*types.Named]string
	definitions SchemaObject
	whole       bool // it is for data, which has secret fields too
}

// LayerSchema returns the schema of a layer for the inputs of a module. A layer need not give all of them, nor all
// fields of a record, since layers lie over each other; null leaves the value to an earlier one. Secrets are not in
// layers.
func (p *Project) LayerSchema(m *check.Module) SchemaObject {
	e := &exporter{program: p.checked, names: map[*types.Named]string{}}
	properties := SchemaObject{}
	for _, o := range m.Order {
		d, ok := o.Declaration.(*syntax.Input)
		if !ok || m.Objects[o.Name] != o || d.Secret || d.Broken {
			continue
		}
		s := e.layered(o.Type)
		if d.Description != "" {
			s = append(SchemaObject{{"description", d.Description}}, s...)
		}
		if d.Deprecated != "" {
			s = s.with("deprecated", true)
		}
		if v, ok := schemaLiteral(d.Default); ok {
			s = s.with("default", v)
		}
		if v, ok := schemaLiteral(d.Example); ok {
			s = s.with("examples", []any{v})
		}
		properties = properties.with(o.Name, s)
	}
	properties = properties.with("$schema", SchemaObject{{"type", "string"}})
	schema := SchemaObject{{"$schema", schemaDialect}, {"title", "Layer of " + m.Path}, {"type", "object"},
		{"properties", properties}, {"additionalProperties", false}}
	if len(e.definitions) > 0 {
		schema = schema.with("$defs", e.definitions)
	}
	return schema
}

// schemaLiteral returns the value of an expression that is a literal, for JSON.
func schemaLiteral(e syntax.Expression) (any, bool) {
	switch e := e.(type) {
	case *syntax.Null:
		return nil, true
	case *syntax.Bool:
		return e.Value, true
	case *syntax.Int:
		return e.Value, true
	case *syntax.Float:
		return e.Value, true
	case *syntax.String:
		return e.Plain()
	case *syntax.List:
		elements := []any{}
		for _, entry := range e.Elements {
			v, ok := schemaLiteral(entry.Value)
			if !ok || entry.Spread || entry.Optional {
				return nil, false
			}
			elements = append(elements, v)
		}
		return elements, true
	case *syntax.Record:
		o := SchemaObject{}
		for _, entry := range e.Entries {
			if entry.Key == nil || entry.Key.Value != nil || entry.Spread || entry.Optional {
				return nil, false
			}
			v, ok := schemaLiteral(entry.Value)
			if !ok {
				return nil, false
			}
			o = o.with(entry.Key.Name, v)
		}
		return o, true
	}
	return nil, false
}

// TypeSchema returns the schema of a type of the main module, or of one that it uses: name, or module.name. Fields that
// are secret are in it: it is for data, not for layers.
func (p *Project) TypeSchema(name string) (SchemaObject, error) {
	o, err := p.TypeNamed(name)
	if err != nil {
		return nil, err
	}
	e := &exporter{program: p.checked, names: map[*types.Named]string{}, whole: true}
	s := SchemaObject{{"$schema", schemaDialect}, {"title", name}}
	if o.Description() != "" {
		s = s.with("description", o.Description())
	}
	s = append(s, e.schema(o.Type)...)
	if len(e.definitions) > 0 {
		s = s.with("$defs", e.definitions)
	}
	return s, nil
}

// TypeNamed returns a type of the main module, or of one that it uses: name, or module.name.
func (p *Project) TypeNamed(name string) (*check.Object, error) {
	m, last := p.Unit().Module, name
	if first, rest, ok := strings.Cut(name, "."); ok {
		used := m.Objects[first]
		if used == nil || used.Kind != check.ObjectModule {
			return nil, fmt.Errorf("%s does not use a module %q", m.Path, first)
		}
		m, last = m.Imports[used.Declaration.(*syntax.Use)].Module, rest
	}
	o := m.Objects[last]
	var names []string
	for _, other := range m.Order {
		if other.Kind == check.ObjectType {
			names = append(names, other.Name)
		}
	}
	if o == nil || o.Kind != check.ObjectType {
		help := "it has no types"
		if len(names) > 0 {
			help = source.Suggest(last, names, "its types are "+strings.Join(names, ", "))
		}
		return nil, fmt.Errorf("%s has no type %q\n  %s", m.Path, last, help)
	}
	return o, nil
}

// layered is the schema of something in a layer that weaker layers may complete.
func (e *exporter) layered(t types.Type) SchemaObject {
	if parts := types.Parts(t); len(parts) == 2 && parts[1] == types.Null {
		if record := types.AsRecord(parts[0]); record != nil {
			return SchemaObject{{"anyOf",
				[]any{e.record(record, true), SchemaObject{{"type", "null"}}}}} // records merge below T? too
		}
	}
	_, limited := t.(*types.Limited)
	if record := types.AsRecord(t); record != nil && !limited {
		return e.record(record, true)
	}
	return orNull(e.schema(t))
}

// orNull also takes null, which leaves the value to a weaker layer.
func orNull(s SchemaObject) SchemaObject {
	for i, m := range s {
		if m.Key != "type" {
			continue
		}
		switch kind := m.Value.(type) {
		case string:
			if slices.ContainsFunc(s, func(m schemaMember) bool { return m.Key == "enum" || m.Key == "const" }) ||
				kind == "null" {
				break
			}
			s = slices.Clone(s)
			s[i].Value = []string{kind, "null"}
			return s
		case []string:
			return s
		}
	}
	if len(s) == 0 {
		return s
	}
	if len(s) == 1 && s[0].Key == "anyOf" {
		all := s[0].Value.([]any)
		for _, one := range all {
			if o, ok := one.(SchemaObject); ok && len(o) == 1 && o[0] == (schemaMember{"type", "null"}) {
				return s
			}
		}
		return SchemaObject{{"anyOf", append(slices.Clip(all), SchemaObject{{"type", "null"}})}}
	}
	return SchemaObject{{"anyOf", []any{s, SchemaObject{{"type", "null"}}}}}
}

// schema is the schema of a type.
func (e *exporter) schema(t types.Type) SchemaObject {
	switch t := t.(type) {
	case *types.Named:
		return e.named(t)
	case *types.Limited:
		return e.limited(e.schema(t.Base), t)
	case *types.Basic:
		if name := basicNames[t]; name != "" {
			return SchemaObject{{"type", name}}
		}
	case *types.Literal:
		return SchemaObject{{"const", t.Value}}
	case *types.List:
		return SchemaObject{{"type", "array"}, {"items", e.schema(t.Element)}}
	case *types.Set:
		return SchemaObject{{"type", "array"}, {"items", e.schema(t.Element)}, {"uniqueItems", true}}
	case *types.Tuple:
		items := []any{}
		for _, p := range t.Elements {
			items = append(items, e.schema(p))
		}
		return SchemaObject{{"type", "array"}, {"prefixItems", items}, {"items", false}, {"minItems", len(items)}}
	case *types.Record:
		return e.record(t, false)
	case *types.Union:
		return e.union(t)
	}
	return SchemaObject{} // any
}

// basicNames are the names that JSON Schema has for types (Validation 6.1.1). Any has none.
var basicNames = map[types.Type]string{types.Null: "null", types.Bool: "boolean", types.Int: "integer",
	types.Float: "number", types.String: "string"}

// named makes a definition of a type that has a name. It is entered before its inside is known, since that may refer
// to it.
func (e *exporter) named(t *types.Named) SchemaObject {
	name, ok := e.names[t]
	if !ok {
		name = t.Name
		for n := 2; slices.ContainsFunc(e.definitions, func(m schemaMember) bool { return m.Key == name }); n++ {
			name = t.Name + strconv.Itoa(n)
		}
		e.names[t] = name
		at := len(e.definitions)
		e.definitions = e.definitions.with(name, nil)
		e.definitions[at].Value = e.schema(t.Base())
	}
	return SchemaObject{{"$ref", "#/$defs/" + name}}
}

func (e *exporter) record(t *types.Record, layered bool) SchemaObject {
	properties, required := SchemaObject{}, []string{}
	for _, f := range t.Fields {
		if f.Secret && !e.whole {
			continue
		}
		var s SchemaObject
		if layered {
			s = e.layered(f.Type)
		} else {
			s = e.schema(f.Type)
		}
		if f.Description != "" {
			s = append(SchemaObject{{"description", f.Description}}, s...)
		}
		if f.Deprecated != "" {
			s = s.with("deprecated", true)
		}
		if f.Default != nil {
			if v, ok := schemaLiteral(e.program.Default(f.Default).Expression); ok {
				s = s.with("default", v)
			}
		} else if !f.Optional {
			required = append(required, f.Name)
		}
		properties = properties.with(f.Name, s)
	}
	s := SchemaObject{{"type", "object"}, {"properties", properties}}
	if len(required) > 0 && !layered {
		s = s.with("required", required)
	}
	if t.Rest == nil {
		return s.with("additionalProperties", false)
	}
	if layered {
		return s.with("additionalProperties", e.layered(t.Rest))
	}
	return s.with("additionalProperties", e.schema(t.Rest))
}

// union is an enumeration when its members are literals, else one schema for each member.
func (e *exporter) union(t *types.Union) SchemaObject {
	values := []any{}
	for _, m := range t.Members {
		if literal := types.LiteralValue(m); literal != nil || m == types.Null {
			values = append(values, literal)
			continue
		}
		all := []any{}
		for _, m := range t.Members {
			all = append(all, e.schema(m))
		}
		return SchemaObject{{"anyOf", all}}
	}
	return SchemaObject{{"enum", values}}
}

// limited adds what JSON Schema can say of the limits of a type; the rest is in a comment.
func (e *exporter) limited(s SchemaObject, t *types.Limited) SchemaObject {
	s = slices.Clone(s)
	var rest []string
	for _, c := range t.Conditions {
		if c.Schema != nil {
			rest = append(rest, "its schema allows it")
			continue
		}
		declared := e.program.Condition(c)
		for _, test := range conjuncts(declared.Tree.Test) {
			members := schemaLimits(test)
			if members == nil || slices.ContainsFunc(members, func(m schemaMember) bool { return s.has(m.Key) }) {
				// A schema says each only once.
				rest = append(rest, strings.Join(strings.Fields(declared.Module.Tree.File.Slice(test.Place())), " "))
				continue
			}
			s = append(s, members...)
		}
	}
	if len(rest) > 0 {
		s = s.with("$comment", fmt.Sprintf("where %s", strings.Join(rest, " where ")))
	}
	return s
}

// conjuncts are the conditions that `and` joins.
func conjuncts(e syntax.Expression) []syntax.Expression {
	switch e := e.(type) {
	case *syntax.Paren:
		return conjuncts(e.Inner)
	case *syntax.Binary:
		if e.Operator == syntax.And {
			return append(conjuncts(e.Left), conjuncts(e.Right)...)
		}
	}
	return []syntax.Expression{e}
}

// schemaLimits says a condition on `it` in the words of JSON Schema; nil when they cannot.
func schemaLimits(e syntax.Expression) []schemaMember {
	b, ok := e.(*syntax.Binary)
	if !ok {
		return nil
	}
	left, right, operator := syntax.Bare(b.Left), syntax.Bare(b.Right), b.Operator
	if operator == syntax.Matches {
		pattern, ok := right.(*syntax.String)
		if !ok || !isIt(left) {
			return nil
		}
		text, plain := pattern.Plain()
		if !plain || strings.Contains(text, "(?") {
			return nil
		}
		return []schemaMember{{"pattern", text}}
	}
	if operator == syntax.In {
		bounds, ok := right.(*syntax.Binary)
		if !ok || bounds.Operator != syntax.Range {
			return nil
		}
		low, isLow := numeral(bounds.Left)
		high, isHigh := numeral(bounds.Right)
		from, to := limitKeys(left)
		if !isLow || !isHigh || from == "" {
			return nil
		}
		return []schemaMember{{from, low}, {to, high}}
	}
	if mirrored, ok := mirror[operator]; ok && isNumeral(left) { // 1 <= it
		left, right, operator = right, left, mirrored
	}
	bound, ok := numeral(right)
	low, high := limitKeys(left)
	if !ok || low == "" {
		return nil
	}
	switch operator {
	case syntax.GreaterEqual:
		return []schemaMember{{low, bound}}
	case syntax.LessEqual:
		return []schemaMember{{high, bound}}
	case syntax.Greater:
		if isIt(left) {
			return []schemaMember{{"exclusiveMinimum", bound}}
		}
	case syntax.Less:
		if isIt(left) {
			return []schemaMember{{"exclusiveMaximum", bound}}
		}
	case syntax.Equal:
		if !isIt(left) { // a length
			return []schemaMember{{low, bound}, {high, bound}}
		}
	}
	return nil
}

// mirror maps comparisons to what they are with their sides exchanged.
var mirror = map[syntax.Operator]syntax.Operator{syntax.Less: syntax.Greater, syntax.Greater: syntax.Less,
	syntax.LessEqual: syntax.GreaterEqual, syntax.GreaterEqual: syntax.LessEqual, syntax.Equal: syntax.Equal}

// limitKeys are the keywords for the least and the most that something may be: `it`, or its length.
func limitKeys(e syntax.Expression) (low, high string) {
	if isIt(e) {
		return "minimum", "maximum"
	}
	call, ok := e.(*syntax.Call)
	if !ok || len(call.Arguments) != 1 || !isIt(syntax.Bare(call.Arguments[0].Value)) {
		return "", ""
	}
	function, ok := call.Function.(*syntax.Field)
	if !ok || function.Name.Name != "length" {
		return "", ""
	}
	group, ok := function.Of.(*syntax.Name)
	if !ok {
		return "", ""
	}
	switch group.Name {
	case "text":
		return "minLength", "maxLength"
	case "list":
		return "minItems", "maxItems"
	case "record":
		return "minProperties", "maxProperties"
	}
	return "", ""
}

func isIt(e syntax.Expression) bool {
	_, ok := e.(*syntax.It)
	return ok
}

func isNumeral(e syntax.Expression) bool {
	_, ok := numeral(e)
	return ok
}

// numeral is a number that is written out.
func numeral(e syntax.Expression) (json.Number, bool) {
	switch e := syntax.Bare(e).(type) {
	case *syntax.Int:
		return json.Number(strconv.FormatInt(e.Value, 10)), true
	case *syntax.Float:
		return json.Number(strconv.FormatFloat(e.Value, 'f', -1, 64)), true
	}
	return "", false
}
