package schema_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
)

// TestUnevaluated holds what counts as looked at (JSON Schema 2020-12, section 11): what a schema beside that holds
// has looked at, and nothing of one that does not; and that nothing is said of it where one beside failed.
func TestUnevaluated(t *testing.T) {
	one := []source.Code{source.SchemaViolation}
	for _, row := range []struct {
		schema, instance string
		want             []source.Code
	}{
		{`{"anyOf": [{"properties": {"a": true}}, {"properties": {"b": true}}], "unevaluatedProperties": false}`,
			`{"a": 1, "b": 1}`, nil},
		{`{"anyOf": [{"properties": {"a": true}, "required": ["b"]}, {}], "unevaluatedProperties": false}`, `{"a": 1}`,
			one},
		{`{"anyOf": [{"properties": {"a": true}, "required": ["b"]}, {}], "unevaluatedProperties": false}`,
			`{"a": 1, "b": 1}`, one},
		{`{"anyOf": [{"properties": {"a": true, "b": false}}, {"properties": {"b": true}}],
			"unevaluatedProperties": false}`, `{"a": 1, "b": 1}`, one},
		{`{"anyOf": [{"prefixItems": [true, false]}, {}],
			"unevaluatedItems": false}`, `[1, 2]`, slices.Repeat(one, 2)},
		{`{"if": {"properties": {"a": true, "b": false}}, "else": {"properties": {"b": true}},
			"unevaluatedProperties": false}`, `{"a": 1, "b": 1}`, one},
		{`{"anyOf": [{"prefixItems": [true], "minItems": 2}, {}], "unevaluatedItems": false}`, `[1]`, one},
		// The one error is that of the schema beside: what it would have looked at is not known.
		{`{"allOf": [{"properties": {"a": {"type": "string"}}}], "unevaluatedProperties": false}`, `{"a": 1}`, one},
		{`{"$ref": "#/$defs/x", "unevaluatedProperties": false, "$defs": {"x": {"properties": {"a": {"type": "string"},
			"b": true}, "required": ["c"]}}}`, `{"a": "x", "b": 1}`, one},
	} {
		require.Equal(t, row.want, judged(t, row.schema, row.instance), "%s of %s", row.schema, row.instance)
	}
}
