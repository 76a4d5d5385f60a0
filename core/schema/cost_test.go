package schema_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
)

// judged validates a JSON text against a schema and returns the codes of the findings.
func judged(t *testing.T, text, instance string) []source.Code {
	t.Helper()
	set := source.NewSet()
	store := schema.NewStore(set)
	file, err := set.Add("s.json", []byte(text))
	require.NoError(t, err)
	root := store.Add(schema.FileURI("s.json"), schema.ReadDocument(file))
	require.Empty(t, root.Mistakes(), text)
	other, err := set.Add("d.json", []byte(instance))
	require.NoError(t, err)
	v, findings := data.Read(other, data.JSON, nil)
	require.Empty(t, findings)
	result := root.Validate(v, nil)
	var codes []source.Code
	for _, f := range result.Schema {
		codes = append(codes, f.Code)
	}
	for range result.Problems {
		codes = append(codes, source.SchemaViolation)
	}
	return codes
}

// doubled returns a schema with a chain of definitions, each of which refers twice to the next.
func doubled(keyword string, steps int) string {
	var b strings.Builder
	b.WriteString(`{"$ref": "#/$defs/a0", "$defs": {`)
	for i := range steps {
		fmt.Fprintf(&b, `"a%d": {%q: [{"$ref": "#/$defs/a%d"}, {"$ref": "#/$defs/a%d"}]},`, i, keyword, i+1, i+1)
	}
	fmt.Fprintf(&b, `"a%d": {"type": "array", "items": {"type": "integer"}}}}`, steps)
	return b.String()
}

// TestWorkIsBounded checks that a schema which looks at a value again and again comes to an end: what is right is found
// to be right where the same question is asked twice, and what takes too much is said to.
func TestWorkIsBounded(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for _, keyword := range []string{"anyOf", "allOf"} {
		require.Empty(t, judged(t, doubled(keyword, 200), "[1, 2]"), keyword)
		require.Equal(t, []source.Code{source.TooMuchWork}, judged(t, doubled(keyword, 40), `["x"]`), keyword)
	}
	deep := func(n int) string { return strings.Repeat("[", n) + strings.Repeat("]", n) }
	tree := `{"anyOf": [{"items": {"$ref": "#"}}, {"items": {"$ref": "#"}}]}`
	require.Empty(t, judged(t, tree, deep(300)))
	either := `{"anyOf": [{"type": "array", "items": {"$ref": "#"}}, {"type": "array", "items": {"$ref": "#"},
		"minItems": 1}, {"type": "string"}]}`
	require.Equal(t, []source.Code{source.TooMuchWork},
		judged(t, either, strings.Repeat("[", 40)+"1"+strings.Repeat("]", 40)))
	require.Empty(t, judged(t, `{"enum": [1, 2, 3]}`, "2"))
	long := `"` + strings.Repeat("a", 2_000_000) + `"`
	require.Equal(t, []source.Code{source.TooMuchWork},
		judged(t, `{"pattern": "`+strings.Repeat("(.*)", 100)+`x$"}`, long))
	require.Empty(t, judged(t, `{"pattern": "^a+$"}`, long[:100_000]+`"`))

	// What is large is not for that reason too much.
	many := "[" + strings.Repeat(`{"name": "pier", "depth": 4, "tags": ["a", "b"]},`, 40_000) + `{"name": "x"}]`
	require.Empty(t, judged(t, `{"items": {"anyOf": [{"required": ["none"]}, {"properties": {"name": {"type": "string",
		"pattern": "^[a-z]+$"}, "tags": {"items": {"enum": ["a", "b"]}}}}]}}`, many))
}
