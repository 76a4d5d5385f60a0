package schema_test

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
)

// FuzzSchemas: whatever is in a schema or a definition, it is taken in, looked at and used without a panic and in a
// time that can be foreseen, and each finding has a place.
func FuzzSchemas(f *testing.F) {
	f.Add(`{ "type": "object", "properties": { "a": { "$ref": "#" }, "b": { "pattern": "^a+$" } }, "required": `+
		`["a"] }`, `{ "a": 1 }`)
	f.Add(`{ "$schema": "http://json-schema.org/draft-04/schema#", "anyOf": [{ "minimum": 1 }, { "items": [true] }] `+
		`}`, `[1, null]`)
	f.Add(`{ "$defs": { "a": { "$dynamicAnchor": "m" } }, "$dynamicRef": "#m", "unevaluatedProperties": false }`, `{}`)
	f.Add(`{ "apiVersion": "apiextensions.k8s.io/v1", "kind": "CustomResourceDefinition", "spec": { "group": "a", `+
		`"names": `+
		`{ "kind": "B" }, "versions": [{ "name": "v1", "schema": { "openAPIV3Schema": { "type": "object", `+
		`"properties": { "c": `+
		`{ "type": "integer", "default": 1 } }, "x-kubernetes-validations": [{ "rule": "self.c > 0" }] } } }] } }`, `{ `+
		`"c": -1 }`)
	f.Fuzz(useAll)
}

// useAll does all that can be done with a schema, and data.
func useAll(t *testing.T, schemaText, dataText string) {
	sources := source.NewSet()
	read := func(name, text string) (schema.Document, bool) {
		file, err := sources.Add(name, []byte(text))
		require.NoError(t, err)
		d := schema.Document{Numbers: data.Numbers{}}
		d.Root, d.Findings = data.ReadExact(file, data.JSON, nil, d.Numbers)
		return d, !d.Findings.HasErrors()
	}
	d, ok := read("s.json", schemaText)
	v, okData := read("d.json", dataText)
	if !ok || !okData {
		return
	}
	store := schema.NewStore(sources)
	c := schema.NewCatalogue(store)
	kinds, findings := c.Add("s.json", d)
	used := []*schema.Schema{store.Add(schema.FileURI("s.json"), d)}
	for _, k := range kinds {
		used = append(used, k.Schema)
	}
	for _, s := range used {
		findings = append(findings, s.Mistakes()...)
		_ = s.Tree(3)
		_ = s.Shape()
		_ = s.Example(nil)
		a, b := s.Validate(v.Root, v.Numbers), s.ValidateObject(v.Root, v.Numbers)
		findings = append(append(findings, a.Schema...), b.Schema...)
		again := s.Validate(v.Root, v.Numbers)
		require.Len(t, again.Problems, len(a.Problems))
		certain(t, s, v, false)
		certain(t, s, v, true)
	}
	for _, finding := range findings {
		require.True(t, finding.Span.IsValid(), finding.Message)
		require.NotEmpty(t, finding.Message)
	}
}

// certain checks that a value is right if it is certain that it is, and says whether that is so.
func certain(t *testing.T, s *schema.Schema, d schema.Document, object bool) bool {
	if !s.IsCertain(d.Root, d.Numbers, object) {
		return false
	}
	whole := s.ValidateWhole
	if object {
		whole = s.ValidateWholeObject
	}
	require.Equal(t, &schema.Result{}, whole(d.Root, d.Numbers))
	return true
}

// oddKeywords are keywords, for schemas in which anything may be under each.
var oddKeywords = strings.Fields("$ref $dynamicRef $recursiveRef $id id $anchor $dynamicAnchor $recursiveAnchor " +
	"$defs definitions " +
	"type enum const minimum maximum exclusiveMinimum multipleOf minLength pattern format items prefixItems " +
	"additionalItems " +
	"contains minContains maxContains uniqueItems properties patternProperties additionalProperties propertyNames " +
	"required " +
	"dependencies dependentRequired dependentSchemas allOf anyOf oneOf not if then else unevaluatedItems " +
	"unevaluatedProperties default title description nullable x-kubernetes-int-or-string x-kubernetes-list-type " +
	"x-kubernetes-list-map-keys x-kubernetes-embedded-resource x-kubernetes-preserve-unknown-fields " +
	"x-kubernetes-validations")

// odd makes data that looks like a schema.
func odd(g *rand.Rand, depth int) any {
	texts := []string{"#", "#/$defs/a", "#a", "a", "string", "object", "array", "^a", "(", "date", "map", "set", "self.a > 1",
		"http://json-schema.org/draft-07/schema#", "https://json-schema.org/draft/2019-09/schema"}
	switch n := g.IntN(12); {
	case n == 0:
		return texts[g.IntN(len(texts))]
	case n == 1:
		return g.IntN(5) - 1
	case n == 2:
		return g.IntN(2) == 0
	case n == 3:
		return nil
	case n == 4 || depth <= 0:
		return []any{texts[g.IntN(len(texts))]}
	case n < 7:
		all := []any{}
		for range g.IntN(3) {
			all = append(all, odd(g, depth-1))
		}
		return all
	}
	all := map[string]any{}
	if g.IntN(8) == 0 {
		all["$schema"] = schema.Dialects()[g.IntN(5)]
	}
	for range g.IntN(5) {
		key := oddKeywords[g.IntN(len(oddKeywords))]
		if g.IntN(5) == 0 {
			key = []string{"a", "b"}[g.IntN(2)]
		}
		all[key] = odd(g, depth-1)
		if _, plain := all[key].(map[string]any); !plain && g.IntN(3) == 0 {
			all[key] = texts[g.IntN(len(texts))]
		}
	}
	return all
}

// oddSchema uses one odd schema, as such and as a definition.
func oddSchema(t *testing.T, seed uint64) {
	g := rand.New(rand.NewPCG(seed, 7))
	s := odd(g, 5)
	if g.IntN(3) == 0 {
		s = map[string]any{"apiVersion": "apiextensions.k8s.io/v1", "kind": "CustomResourceDefinition", "spec": map[string]any{
			"group": "a", "names": map[string]any{"kind": "B"}, "versions": []any{map[string]any{"name": "v1",
				"schema": map[string]any{"openAPIV3Schema": s}}}}}
	}
	schemaText, err := json.Marshal(s)
	require.NoError(t, err)
	dataText, err := json.Marshal(odd(g, 3))
	require.NoError(t, err)
	useAll(t, string(schemaText), string(dataText))
}

// FuzzOddSchemas: what looks like a schema and is none is told, not stumbled over.
func FuzzOddSchemas(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(oddSchema)
}

// TestOddSchemas is a part of what FuzzOddSchemas tries.
func TestOddSchemas(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for seed := range uint64(800) {
		oddSchema(t, seed)
	}
}
