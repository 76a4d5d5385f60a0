// Package schema speaks JSON Schema. It exists so that what the language knows of data can be used by other programs,
// and what they know by the language.
package schema

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/syntax"
	"knothole/core/types"
)

// Dialect is the URI of the dialect of the schemas that are written (JSON Schema 2020-12, Core 8.1.1).
const Dialect = "https://json-schema.org/draft/2020-12/schema"

// Object is a schema, or a part of one, whose keys keep their order.
type Object []Member

// Member is one key of an Object.
type Member struct {
	Key   string
	Value any
}

// MarshalJSON writes the members in their order.
func (o Object) MarshalJSON() ([]byte, error) {
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

func (o Object) has(key string) bool {
	return slices.ContainsFunc(o, func(m Member) bool { return m.Key == key })
}

func (o Object) with(key string, v any) Object { return append(o, Member{key, v}) }

// exporter turns types into schemas; named types become definitions.
type exporter struct {
	names       map[*types.Type]string
	definitions Object
}

// Layer returns the schema of a layer for the inputs of a module. A layer need not give all of them, nor all fields
// of a record, since layers lie over each other; null leaves what it stands for to a weaker one. Secrets do not stand
// in layers.
func Layer(m *types.Module) Object {
	e := &exporter{names: map[*types.Type]string{}}
	properties := Object{}
	for _, o := range m.Order {
		d, ok := o.Declaration.(*syntax.Input)
		if !ok || m.Objects[o.Name] != o || d.Secret || d.Broken {
			continue
		}
		s := e.layered(o.Type)
		if d.Description != "" {
			s = append(Object{{"description", d.Description}}, s...)
		}
		if d.Deprecated != "" {
			s = s.with("deprecated", true)
		}
		if v, ok := literal(d.Default); ok {
			s = s.with("default", v)
		}
		if v, ok := literal(d.Example); ok {
			s = s.with("examples", []any{v})
		}
		properties = properties.with(o.Name, s)
	}
	properties = properties.with("$schema", Object{{"type", "string"}})
	schema := Object{{"$schema", Dialect}, {"title", "Layer of " + m.Path}, {"type", "object"},
		{"properties", properties}, {"additionalProperties", false}}
	if len(e.definitions) > 0 {
		schema = schema.with("$defs", e.definitions)
	}
	return schema
}

// literal returns the value of an expression that is a literal, for JSON.
func literal(e syntax.Expression) (any, bool) {
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
			v, ok := literal(entry.Value)
			if !ok || entry.Spread || entry.Optional {
				return nil, false
			}
			elements = append(elements, v)
		}
		return elements, true
	case *syntax.Record:
		o := Object{}
		for _, entry := range e.Entries {
			if entry.Key == nil || entry.Key.Value != nil || entry.Spread || entry.Optional {
				return nil, false
			}
			v, ok := literal(entry.Value)
			if !ok {
				return nil, false
			}
			o = o.with(entry.Key.Name, v)
		}
		return o, true
	}
	return nil, false
}

// layered is the schema of something in a layer that weaker layers may complete.
func (e *exporter) layered(t *types.Type) Object {
	core := t.Core()
	if parts := t.Parts(); len(parts) == 2 && parts[0].Kind == types.Record && parts[1].Kind == types.Null {
		return Object{{"anyOf",
			[]any{e.record(parts[0], true), Object{{"type", "null"}}}}} // records merge below T? too
	}
	if core.Kind == types.Record && t.Kind != types.Limited {
		return e.record(core, true)
	}
	return orNull(e.schema(t))
}

// orNull also takes null, which leaves the value to a weaker layer.
func orNull(s Object) Object {
	for i, m := range s {
		if m.Key != "type" {
			continue
		}
		switch kind := m.Value.(type) {
		case string:
			if slices.ContainsFunc(s, func(m Member) bool { return m.Key == "enum" || m.Key == "const" }) ||
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
			if o, ok := one.(Object); ok && len(o) == 1 && o[0] == (Member{"type", "null"}) {
				return s
			}
		}
		return Object{{"anyOf", append(slices.Clip(all), Object{{"type", "null"}})}}
	}
	return Object{{"anyOf", []any{s, Object{{"type", "null"}}}}}
}

// schema is the schema of a type.
func (e *exporter) schema(t *types.Type) Object {
	switch t.Kind {
	case types.Named:
		return e.named(t)
	case types.Limited:
		return limited(e.schema(t.Base), t)
	case types.Null:
		return Object{{"type", "null"}}
	case types.Bool:
		return Object{{"type", "boolean"}}
	case types.Int:
		return Object{{"type", "integer"}}
	case types.Float:
		return Object{{"type", "number"}}
	case types.String:
		return Object{{"type", "string"}}
	case types.Literal:
		return Object{{"const", t.Literal}}
	case types.List:
		return Object{{"type", "array"}, {"items", e.schema(t.Element)}}
	case types.Set:
		return Object{{"type", "array"}, {"items", e.schema(t.Base.Element)}, {"uniqueItems", true}}
	case types.Tuple:
		items := []any{}
		for _, p := range t.Parameters {
			items = append(items, e.schema(p))
		}
		return Object{{"type", "array"}, {"prefixItems", items}, {"items", false}, {"minItems", len(items)}}
	case types.Record:
		return e.record(t, false)
	case types.Union:
		return e.union(t)
	}
	return Object{} // any
}

// named makes a definition of a type that has a name. It is entered before its inside is known, since that may refer
// to it.
func (e *exporter) named(t *types.Type) Object {
	name, ok := e.names[t]
	if !ok {
		name = t.Name
		for n := 2; slices.ContainsFunc(e.definitions, func(m Member) bool { return m.Key == name }); n++ {
			name = t.Name + strconv.Itoa(n)
		}
		e.names[t] = name
		at := len(e.definitions)
		e.definitions = e.definitions.with(name, nil)
		e.definitions[at].Value = e.schema(t.Base)
	}
	return Object{{"$ref", "#/$defs/" + name}}
}

func (e *exporter) record(t *types.Type, layered bool) Object {
	properties, required := Object{}, []string{}
	for _, f := range t.Fields {
		if f.Secret {
			continue
		}
		var s Object
		if layered {
			s = e.layered(f.Type)
		} else {
			s = e.schema(f.Type)
		}
		if f.Description != "" {
			s = append(Object{{"description", f.Description}}, s...)
		}
		if f.Deprecated != "" {
			s = s.with("deprecated", true)
		}
		if f.Default != nil {
			if v, ok := literal(f.Default.Expression); ok {
				s = s.with("default", v)
			}
		} else if !f.Optional {
			required = append(required, f.Name)
		}
		properties = properties.with(f.Name, s)
	}
	s := Object{{"type", "object"}, {"properties", properties}}
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
func (e *exporter) union(t *types.Type) Object {
	values := []any{}
	for _, m := range t.Members {
		switch m.Kind {
		case types.Literal:
			values = append(values, m.Literal)
			continue
		case types.Null:
			values = append(values, nil)
			continue
		}
		all := []any{}
		for _, m := range t.Members {
			all = append(all, e.schema(m))
		}
		return Object{{"anyOf", all}}
	}
	return Object{{"enum", values}}
}

// limited adds what JSON Schema can say of the limits of a type; the rest stands in a comment.
func limited(s Object, t *types.Type) Object {
	s = slices.Clone(s)
	var rest []string
	for _, c := range t.Conditions {
		for _, test := range conjuncts(c.Tree.Test) {
			members := limits(test)
			if members == nil || slices.ContainsFunc(members, func(m Member) bool { return s.has(m.Key) }) {
				// A schema says each only once.
				rest = append(rest, strings.Join(strings.Fields(c.Module.Tree.File.Slice(test.Place())), " "))
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

// limits says a condition on `it` in the words of JSON Schema; nil when they cannot.
func limits(e syntax.Expression) []Member {
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
		return []Member{{"pattern", text}}
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
		return []Member{{from, low}, {to, high}}
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
		return []Member{{low, bound}}
	case syntax.LessEqual:
		return []Member{{high, bound}}
	case syntax.Greater:
		if isIt(left) {
			return []Member{{"exclusiveMinimum", bound}}
		}
	case syntax.Less:
		if isIt(left) {
			return []Member{{"exclusiveMaximum", bound}}
		}
	case syntax.Equal:
		if !isIt(left) { // a length
			return []Member{{low, bound}, {high, bound}}
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
