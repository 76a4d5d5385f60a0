package project_test

import (
	"fmt"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/project"
)

// layered evaluates an input of one type that two layers give, weak and strong, in a format each; it returns the value
// as JSON, or the first finding.
func layered(t *testing.T, declaration, weakName, weak, strongName, strong string) string {
	t.Helper()
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte(fmt.Sprintf("[environments.a]\nlayers = [%q, %q]\n", weakName, strongName))},
		"main.knot":      {Data: []byte("input x: " + declaration + "\noutput y = x\n")},
		weakName:         {Data: []byte(weak)},
		strongName:       {Data: []byte(strong)},
	})
	require.NoError(t, err)
	require.Empty(t, p.Findings)
	e := p.Environment("a")
	if findings := p.CheckLayers(p.Runs(p.Concrete())); findings.HasErrors() {
		return findings[0].Message
	}
	w := p.Run(e).World(false)
	if len(w.Findings()) > 0 {
		return w.Findings()[0].Message
	}
	v, ok := w.Value(p.Unit().Module.Objects["y"])
	require.True(t, ok)
	return data.CompactJSON(v)
}

// TestMerging holds each row of the table of how layers are laid over each other.
func TestMerging(t *testing.T) {
	for _, c := range []struct{ name, declaration, weak, strong, want string }{
		{"record over record", "{ a: int, b: int }", "x: { a: 1, b: 2 }", "x: { b: 3 }", `{"a":1,"b":3}`},
		{"record over record, below null", "{ a: int, b: int }?", "x: { a: 1, b: 2 }", "x: { b: 3 }", `{"a":1,"b":3}`},
		{"record over record, deep", "{ a: { b: { c: int, d: int } } }", "x: { a: { b: { c: 1, d: 2 } } }",
			"x: { a: { b: { d: 3 } } }", `{"a":{"b":{"c":1,"d":3}}}`},
		{"map over map", "{ *: int }", "x: { a: 1 }", "x: { b: 2 }", `{"a":1,"b":2}`},
		{"any over any", "any", "x: { a: { b: 1 } }", "x: { a: { c: 2 } }", `{"a":{"b":1,"c":2}}`},
		{"record over null", "{ a: int }?", "x: null", "x: { a: 1 }", `{"a":1}`},
		{"other unions replace", "{ a: int } | { b: int }", "x: { a: 1 }", "x: { b: 2 }", `{"b":2}`},
		{"lists replace", "[int]", "x: [1, 2]", "x: [3]", `[3]`},
		{"scalars replace", "int", "x: 1", "x: 2", `2`},
		{"null where the type has null", "int?", "x: 1", "x: null", `null`},
		{"null for an entry of a map", "{ *: int }", "x: { a: 1, b: 2 }", "x: { a: null }", `{"b":2}`},
		{"null for an optional field", "{ a?: int, b: int }", "x: { a: 1, b: 2 }", "x: { a: null }", `{"b":2}`},
		{"null for an entry that may be null", "{ *: int? }", "x: { a: 1 }", "x: { a: null }", `{"a":null}`},
		{"null for another input", "int", "x: 1", "x: null", `1`},
		{"null for another input with a default", "int = 7", "{}", "x: null", `7`},
		{"null for a field with a default", "{ a: int = 7, b: int }", "x: { a: 1, b: 2 }", "x: { a: null }",
			`{"a":1,"b":2}`},
		{"default of a field", "{ a: int = 7, b: int }", "{}", "x: { b: 2 }", `{"a":7,"b":2}`},
		{"nothing at all", "int = 7", "{}", "{}", `7`},
		{"int for float", "float", "x: 1", "{}", `1.0`},
		{"missing", "int", "{}", "x: null", `the input "x" (int) has no value`},
		{"wrong kind over right", "int", "x: 1", "x: [1]", `input "x": expected an int, found the list [1]`},
		{"merged whole is checked", "{ a: int, b: int }", "x: { a: 1 }", "x: { c: 1 }",
			`input "x": the field "b" (int) is missing`},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.want, layered(t, c.declaration, "weak.yaml", c.weak, "strong.yaml", c.strong))
		})
	}
}

// TestFormatsOfLayers checks that layers of all formats can lie over each other.
func TestFormatsOfLayers(t *testing.T) {
	texts := map[string][2]string{
		"yaml": {"x:\n  a: 1\n  b: low\n", "x:\n  b: high\n"},
		"json": {`{"x": {"a": 1, "b": "low"}}`, `{"x": {"b": "high"}}`},
		"toml": {"[x]\na = 1\nb = \"low\"\n", "x.b = \"high\"\n"},
		"yml":  {"x: {a: 1, b: low}", "x: {b: high}"},
	}
	for weak, a := range texts {
		for strong, b := range texts {
			require.Equal(t, `{"a":1,"b":"high"}`,
				layered(t, "{ a: int, b: string }", "weak."+weak, a[0], "strong."+strong, b[1]), "%s under %s", weak,
				strong)
		}
	}
}

func TestPrecedenceOfExtendedEnvironments(t *testing.T) {
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte(`
[environments.base]
abstract = true
layers = ["1.yaml", "2.yaml"]
tags = ["all"]
[environments.live]
abstract = true
extends = "base"
layers = ["3.yaml"]
[environments.north]
extends = "live"
layers = ["4.yaml", "5.yaml"]
tags = ["siren"]
`)},
		"main.knot": {Data: []byte("input a: int\ninput b: int\ninput c: int\ninput d: int\ninput e: int\noutput " +
			"all = [a, b, c, d, e]\n")},
		"1.yaml": {Data: []byte("{a: 1, b: 1, c: 1, d: 1, e: 1}")},
		"2.yaml": {Data: []byte("{b: 2, c: 2, d: 2, e: 2}")},
		"3.yaml": {Data: []byte("{c: 3, d: 3, e: 3}")},
		"4.yaml": {Data: []byte("{d: 4, e: 4}")},
		"5.yaml": {Data: []byte("{e: 5}")},
	})
	require.NoError(t, err)
	require.Empty(t, p.Findings)
	e := p.Environment("north")
	v, ok := p.Run(e).World(false).Value(p.Unit().Module.Objects["all"])
	require.True(t, ok)
	require.Equal(t, "[1,2,3,4,5]", data.CompactJSON(v))
	require.Equal(t, []string{"all", "siren"}, e.Tags)
	require.Len(t, p.Concrete(), 1)
}

func TestNoProjectFile(t *testing.T) {
	_, err := project.Load(fstest.MapFS{})
	require.Error(t, err)
}
