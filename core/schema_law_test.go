package core_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// schemaGenerator makes random schemas, and values that often are as they ask.
type schemaGenerator struct{ *rand.Rand }

func (g schemaGenerator) chance(percent int) bool { return g.IntN(100) < percent }

func (g schemaGenerator) name() string { return []string{"a", "b", "kind", "x-y"}[g.IntN(4)] }

func (g schemaGenerator) schema(depth int) map[string]any {
	s := map[string]any{}
	if g.chance(15) {
		s["description"] = "what it is"
	}
	kinds := 7
	if depth <= 0 {
		kinds = 5
	}
	switch g.IntN(kinds + 2) {
	case 0:
		s["type"] = "string"
		if g.chance(30) {
			s["maxLength"] = 1
		}
	case 1:
		s["type"] = "integer"
		if g.chance(30) {
			s["minimum"] = 0
		}
	case 2:
		s["type"] = []any{"number", "null"}
	case 3:
		s["enum"] = []any{"a", 1, true, nil}[:1+g.IntN(4)]
	case 4:
		s["type"] = []any{"string", "boolean"}
	case 5:
		s["type"] = "array"
		if g.chance(80) {
			s["items"] = g.schema(depth - 1)
		}
		if g.chance(20) {
			s["uniqueItems"] = true
		}
	case 6:
		g.record(s, depth)
	case 7:
		if depth > 0 {
			word := []string{"anyOf", "oneOf", "allOf"}[g.IntN(3)]
			all := []any{}
			for range 1 + g.IntN(3) {
				all = append(all, g.schema(depth-1))
			}
			s[word] = all
			if g.chance(30) {
				s["type"] = "object"
			}
		}
	case 8:
		s["$ref"] = "#/$defs/" + []string{"one", "two"}[g.IntN(2)]
	}
	if depth > 0 && g.chance(15) {
		g.aside(s, depth)
	}
	return s
}

// aside adds what a type cannot say.
func (g schemaGenerator) aside(s map[string]any, depth int) {
	switch g.IntN(9) {
	case 0:
		s["const"] = []any{"a", 1, nil}[g.IntN(3)]
	case 1:
		s["not"] = g.schema(0)
	case 2:
		s["if"], s["then"], s["else"] = g.schema(depth-1), g.schema(depth-1), g.schema(0)
	case 3:
		s["dependentRequired"] = map[string]any{"a": []any{"b"}}
	case 4:
		s["minItems"], s["maxLength"], s["maxProperties"] = 1, 3, 2
	case 5:
		s["prefixItems"] = []any{g.schema(depth - 1)}
	case 6:
		s["contains"] = g.schema(0)
	case 7:
		s["pattern"], s["propertyNames"] = "^a", map[string]any{"maxLength": 3}
	case 8:
		s["unevaluatedProperties"], s["dependentSchemas"] = false, map[string]any{"b": g.schema(depth - 1)}
	}
}

func (g schemaGenerator) record(s map[string]any, depth int) {
	if g.chance(85) {
		s["type"] = "object"
	}
	properties := map[string]any{}
	for range g.IntN(4) {
		properties[g.name()] = g.schema(depth - 1)
	}
	s["properties"] = properties
	if g.chance(40) {
		// Whoever asks for fields means a record: as a type, such a schema describes no other values.
		s["required"], s["type"] = []any{g.name()}, "object"
	}
	switch g.IntN(4) {
	case 0:
		s["additionalProperties"] = false
	case 1:
		s["additionalProperties"] = g.schema(depth - 1)
	case 2:
		s["patternProperties"] = map[string]any{"^x": g.schema(depth - 1)}
	}
}

func (g schemaGenerator) value(depth int) any {
	switch g.IntN(8) {
	case 0:
		return []string{"a", "b", "long"}[g.IntN(3)]
	case 1:
		return g.IntN(4) - 1
	case 2:
		return 0.5
	case 3:
		return g.chance(50)
	case 4:
		return nil
	case 5:
		all := []any{}
		for range g.IntN(3) {
			all = append(all, g.value(depth-1))
		}
		return all
	}
	all := map[string]any{}
	if depth > 0 {
		for range g.IntN(4) {
			all[g.name()] = g.value(depth - 1)
		}
	}
	return all
}

// like makes a value that often is as a schema asks.
func (g schemaGenerator) like(s map[string]any, definitions map[string]any, depth int) any {
	if depth < 0 || g.chance(8) {
		return g.value(1)
	}
	if ref, ok := s["$ref"].(string); ok && depth > 0 {
		return g.like(definitions[ref[len("#/$defs/"):]].(map[string]any), definitions, depth-1)
	}
	if values, ok := s["enum"].([]any); ok {
		return values[g.IntN(len(values))]
	}
	for _, word := range []string{"anyOf", "oneOf", "allOf"} {
		if all, ok := s[word].([]any); ok {
			return g.like(all[g.IntN(len(all))].(map[string]any), definitions, depth-1)
		}
	}
	switch kind := s["type"].(type) {
	case []any:
		return map[any]any{"number": 1.5, "string": "a"}[kind[0]]
	case string:
		switch kind {
		case "string":
			return "a"
		case "integer":
			return g.IntN(3)
		case "array":
			all := []any{}
			items, _ := s["items"].(map[string]any)
			for range g.IntN(3) {
				all = append(all, g.like(items, definitions, depth-1))
			}
			return all
		}
	}
	properties, ok := s["properties"].(map[string]any)
	if !ok {
		return g.value(1)
	}
	all := map[string]any{}
	for _, name := range []string{"a", "b", "kind", "x-y"} {
		if inner, ok := properties[name].(map[string]any); ok && g.chance(80) {
			all[name] = g.like(inner, definitions, depth-1)
		} else if g.chance(10) {
			all[name] = g.value(1)
		}
	}
	return all
}

// typesAreSchemas holds for one random schema that a value passes into the type that it describes exactly when it is
// valid, and that what passes stays as it is.
func typesAreSchemas(t *testing.T, seed uint64) (valid bool) {
	g := schemaGenerator{rand.New(rand.NewPCG(seed, 41))}
	s := g.schema(3)
	definitions := map[string]any{"one": g.schema(2), "two": map[string]any{"type": "object",
		"properties": map[string]any{"a": map[string]any{"$ref": "#/$defs/two"}, "b": g.schema(0)}}}
	v := g.like(s, definitions, 4)
	s["$defs"] = definitions
	schemaText, err := json.Marshal(s)
	require.NoError(t, err)
	dataText, err := json.Marshal(v)
	require.NoError(t, err)
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench]\n")},
		"s.json":         {Data: schemaText}, "d.json": {Data: dataText},
		"main.knot": {Data: []byte("use \"./d.json\" as d\ninput open: any = 1\noutput before = d\n" +
			"output after = (if open == 1 then d else open) as (schema \"./s.json\")\n")}})
	require.NoError(t, err)
	if p.Findings.HasErrors() { // the only error that is made here
		for _, f := range p.Findings {
			require.Equal(t, source.BadSchema, f.Code, "%v\n%s", p.Findings, schemaText)
			require.Contains(t, f.Message, "leads back to itself", schemaText)
		}
		return false
	}
	w := p.RunNamed("bench").World(false)
	before, ok := w.Value(p.Unit().Module.Objects["before"])
	require.True(t, ok)
	found, why, _ := p.SchemaAt("main.knot", "./s.json")
	require.NotNil(t, found, why)
	result := found.Validate(before, nil)
	require.Empty(t, result.Schema)
	after, ok := w.Value(p.Unit().Module.Objects["after"])
	label := fmt.Sprintf("%s\n%s\n%v\n%v", schemaText, dataText, result.Problems, w.Findings())
	require.Equal(t, len(result.Problems) == 0, ok, label)
	if ok {
		require.Equal(t, before.Show(1<<20), after.Show(1<<20), label)
	}
	// What is written out is held against the schema by the checker, or when it is tried: as often.
	written, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench]\n")}, "s.json": {Data: schemaText},
		"main.knot": {Data: fmt.Appendf(nil, "let v: schema \"./s.json\" = %s\noutput a = v\n", dataText)}})
	require.NoError(t, err)
	_, findings, _ := render.All(written, written.Runs(written.Concrete()), render.Options{Everything: true})
	require.Equal(t, ok, !findings.HasErrors(), "%s\n%v", label, findings)
	g.passages(t, s, schemaText, dataText)
	return ok
}

// passages holds for a value that passes into several types of one schema, wholes and parts, one after the other and
// side by side: it arrives exactly when it is valid for each of them, and as it was.
func (g schemaGenerator) passages(t *testing.T, s map[string]any, schemaText, dataText []byte) {
	places := []string{"", "#/$defs/one", "#/$defs/two"}
	if properties, ok := s["properties"].(map[string]any); ok {
		for _, name := range slices.Sorted(maps.Keys(properties)) {
			places = append(places, "#/properties/"+name)
		}
	}
	for _, word := range []string{"anyOf", "oneOf", "allOf"} {
		if _, ok := s[word]; ok {
			places = append(places, "#/"+word+"/0")
		}
	}
	program := "use \"./d.json\" as d\ninput open: any = 1\nlet v = if open == 1 then d else open\noutput before = d\n"
	chosen := []string{}
	for i := range 2 + g.IntN(2) {
		place := places[g.IntN(len(places))]
		chosen = append(chosen, place)
		program += fmt.Sprintf("type T%d = schema \"./s.json%s\"\n", i, place)
	}
	last := len(chosen) - 1
	chain := "v"
	for i := range chosen {
		chain = fmt.Sprintf("(%s as T%d)", chain, i)
	}
	ways := []string{
		"output after = " + chain,
		"output after = { a: v, b: [v] } as ({ a: T0, b: [T1] })",
		fmt.Sprintf("fn f(x: T%d) = x as T0\noutput after = f(v) as T1", last),
		fmt.Sprintf("let x: T0 = v\nlet y = [x, x] as ([T1])\noutput after = y[1] as T%d", last),
		"fn same(x: T0 | [T1]) = x\noutput after = same([v])",
	}
	way := g.IntN(len(ways))
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench]\n")}, "s.json": {Data: schemaText},
		"d.json": {Data: dataText}, "main.knot": {Data: []byte(program + ways[way] + "\n")}})
	require.NoError(t, err)
	w := p.RunNamed("bench").World(false)
	before, ok := w.Value(p.Unit().Module.Objects["before"])
	require.True(t, ok)
	valid := func(place string, v value.Value) bool {
		found, why, _ := p.SchemaAt("main.knot", "./s.json"+place)
		require.NotNil(t, found, why)
		return len(found.Validate(v, nil).Problems) == 0
	}
	label := fmt.Sprintf("%s\n%s\n%s%s\n", schemaText, dataText, program, ways[way])
	all := valid(chosen[0], before) && valid(chosen[1], before)
	switch way {
	case 0, 3:
		all = all && valid(chosen[last], before)
	case 2:
		all = all && valid(chosen[last], before)
	case 4:
		list := value.ListOf([]value.Value{before}, before.Origin())
		all = valid(chosen[0], list) || valid(chosen[1], before)
	}
	if p.Findings.HasErrors() {
		require.False(t, all, "%s%v", label, p.Findings)
		return
	}
	after, ok := w.Value(p.Unit().Module.Objects["after"])
	require.Equal(t, all, ok, "%s%v", label, w.Findings())
	if ok && way != 1 && way != 4 {
		require.Equal(t, before.Show(1<<20), after.Show(1<<20), label)
	}
}

// FuzzTypesAreSchemas: whatever the schema, it describes the same values as a type and as a schema.
func FuzzTypesAreSchemas(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { typesAreSchemas(t, seed) })
}

// TestTypesAreSchemas is a part of what FuzzTypesAreSchemas tries.
func TestTypesAreSchemas(t *testing.T) {
	valid := 0
	for seed := range uint64(200) {
		if typesAreSchemas(t, seed) {
			valid++
		}
	}
	require.Greater(t, valid, 75)
	require.Less(t, valid, 250)
}
