package types_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/types"
)

// TestDescribed holds what types schemas describe.
func TestDescribed(t *testing.T) {
	for text, want := range map[string]string{
		`{ "type": "string", "minLength": 2 }`:                                `string`,
		`{ "type": ["integer", "null"] }`:                                     `int?`,
		`{ "type": "number" }`:                                                `int | float`,
		`{ "enum": ["a", 1, true, null] }`:                                    `"a" | 1 | true | null`,
		`{ "const": "a" }`:                                                    `"a"`,
		`{ "enum": [0.5] }`:                                                   `any`,
		`{ "type": "array", "items": { "type": "boolean" } }`:                 `[bool]`,
		`{ "type": "array" }`:                                                 `[any]`,
		`{ "type": "array", "prefixItems": [{ "type": "string" }] }`:          `[any]`,
		`{ "type": "object" }`:                                                `{ *: any }`,
		`{ "type": "object", "additionalProperties": { "type": "integer" } }`: `{ *: int }`,
		`{ "type": "object", "required": ["a"], "additionalProperties": false, "properties": { "a": { "type": "string" }, ` +
			`"b": { "type": "integer" } } }`: `{ a: string, b?: int }`,
		`{ "properties": { "a": { "type": "string" } }, "required": ["a"] }`: `{ a: string, *: any }`,
		`{ "properties": { "a": { "type": "string" } } }`:                    `any`,
		`{ "anyOf": [{ "type": "string" }, { "type": "integer" }] }`:         `string | int`,
		`{ "anyOf": [{ "type": "object" }, { "type": "array" }] }`:           `any`,
		`{ "anyOf": [{ "type": "string" }, { "minimum": 1 }] }`:              `any`,
		`{ "allOf": [{ "type": "string" }] }`:                                `string`,
		`{ "$ref": "#/$defs/a", "$defs": { "a": { "type": "boolean" } } }`:   `bool`,
		`{ "not": { "type": "string" } }`:                                    `any`,
		`false`:                                                              `nothing`,
		`true`:                                                               `any`,
	} {
		sources := source.NewSet()
		file, err := sources.Add("s.json", []byte(text))
		require.NoError(t, err)
		root, findings := data.Read(file, data.JSON, nil)
		require.Empty(t, findings, text)
		s := schema.NewStore(sources).Add(schema.FileURI("s.json"), schema.Document{Root: root})
		described := types.NewUniverse().Described("S", s)
		require.Equal(t, "S", described.String())
		require.Equal(t, want, described.Underlying().String(), text)
	}
}

// TestDescribedKind: the type of a kind knows its version and name, and is found out level by level.
func TestDescribedKind(t *testing.T) {
	u := types.NewUniverse()
	k := schema.NewCatalogue(schema.NewStore(source.NewSet())).Find("apps/v1", "Deployment")
	described := u.DescribedKind(k)
	require.Same(t, described, u.DescribedKind(k))
	record := types.AsRecord(described)
	field := func(r *types.Record, name string) types.Type {
		f, ok := r.Field(name)
		require.True(t, ok, name)
		return f.Type
	}
	require.Equal(t, `"apps/v1"`, field(record, "apiVersion").String())
	require.Equal(t, `"Deployment"`, field(record, "kind").String())
	spec := types.AsRecord(field(record, "spec"))
	require.Equal(t, "int", field(spec, "replicas").String())
	require.Nil(t, spec.Rest, "a field that is not named is dropped by a server")
	pods := types.AsRecord(field(types.AsRecord(field(spec, "template")), "spec"))
	require.Equal(t, `"Always" | "OnFailure" | "Never"`, field(pods, "restartPolicy").String())
}

// TestPartsAreNotWholes: a part of a schema that is asked for as a type of its own is validated, whether or not the
// whole was looked into before.
func TestPartsAreNotWholes(t *testing.T) {
	s := schemaOf(t, `{ "type": "object", "properties": { "a": { "type": "object", `+
		`"properties": { "b": { "type": "integer", "minimum": 1 } } } } }`)
	part, why, _ := s.Part("/properties/a")
	require.NotNil(t, part, why)
	u := types.NewUniverse()
	whole, ok := types.AsRecord(u.Described("S", s)).Field("a")
	require.True(t, ok)
	require.Nil(t, types.AsLimited(whole.Type), "the whole is validated, and its parts with it")
	require.NotNil(t, types.AsLimited(u.Described("A", part)))
}

// TestContainsItself: what contains itself is found out level by level, also where no record is between; what is
// itself without going into the value is any, for validating tells that error.
func TestContainsItself(t *testing.T) {
	u := types.NewUniverse()
	lists := u.Described("Lists", schemaOf(t, `{ "type": "array", "items": { "$ref": "#" } }`))
	require.NotNil(t, types.AsList(types.AsList(lists).Element))
	maps := u.Described("Maps", schemaOf(t, `{ "type": "object", "additionalProperties": { "anyOf": `+
		`[{ "type": "string" }, { "$ref": "#" }] } }`))
	inner := types.AsUnion(types.AsRecord(maps).Rest)
	require.NotNil(t, inner)
	require.NotNil(t, types.AsRecord(inner.Members[1]).Rest)
	for _, text := range []string{`{ "$ref": "#" }`, `{ "anyOf": [{ "type": "string" }, { "$ref": "#" }] }`} {
		require.Equal(t, types.Any, types.Core(u.Described("Itself", schemaOf(t, text))), text)
	}
}

func schemaOf(t *testing.T, text string) *schema.Schema {
	sources := source.NewSet()
	file, err := sources.Add("s.json", []byte(text))
	require.NoError(t, err)
	root, findings := data.Read(file, data.JSON, nil)
	require.Empty(t, findings)
	return schema.NewStore(sources).Add(schema.FileURI("s.json"), schema.Document{Root: root})
}
