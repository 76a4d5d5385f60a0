package core_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/syntax"
)

// variant is an input, and values that one environment or the other may have.
type variant struct {
	name, of string
	shapes   []variable // what of it programs use
	values   []string
}

// variants are inputs of many shapes.
var variants = [...]variant{
	{"qs", "string", []variable{{"qs", shape{kind: "string"}}}, []string{`a`, `b`, `"1"`}},
	{"qn", "int", []variable{{"qn", shape{kind: "int"}}}, []string{`1`, `2`, `7`}},
	{"qb", "bool", []variable{{"qb", shape{kind: "bool"}}}, []string{`true`, `false`}},
	{"qr", `{ a: string, b: int, c: { a: string } }`,
		[]variable{{"qr.a", shape{kind: "string"}}, {"qr.b", shape{kind: "int"}}, {"qr.c.a", shape{kind: "string"}}},
		[]string{`{ a: x, b: 1, c: { a: z } }`, `{ a: x, b: 2, c: { a: z } }`, `{ a: y, b: 1, c: { a: "" } }`}},
	{"ql", `[{ a: string, b: int }]`,
		[]variable{{"(for l in ql -> l.a)", shape{kind: "list", of: []shape{{kind: "string"}}}},
			{"(for l in ql where l.b > 1 -> l.a)", shape{kind: "list", of: []shape{{kind: "string"}}}},
			{"list.length(ql)", shape{kind: "int"}}, {"(ql?[0]?.a ?? \"none\")", shape{kind: "string"}}},
		[]string{`[]`, `[{ a: x, b: 1 }]`, `[{ a: x, b: 2 }, { a: y, b: 1 }]`, `[{ a: y, b: 1 }, { a: x, b: 2 }]`}},
	{"qm", `{ *: int }`,
		[]variable{{"record.keys(qm)", shape{kind: "list", of: []shape{{kind: "string"}}}},
			{"(qm.a ?? 0)", shape{kind: "int"}}, {"(\"b\" in qm)", shape{kind: "bool"}}},
		[]string{`{}`, `{ a: 1 }`, `{ a: 2, b: 1 }`, `{ b: 1 }`}},
}

// causes holds for one random project of two environments that each difference has a cause: an input is named whose
// values differ. It returns how many differences there were.
func causes(t *testing.T, seed uint64) (differences int) {
	g := newGenerator(seed)
	var west, east [len(variants)]string // the values
	var inputs strings.Builder
	for i, v := range variants {
		fmt.Fprintf(&inputs, "input %s: %s\n", v.name, v.of)
		west[i] = v.values[g.IntN(len(v.values))]
		east[i] = west[i]
		if g.chance(60) {
			east[i] = v.values[g.IntN(len(v.values))]
		}
	}
	program := inputs.String() + g.module(func(*strings.Builder) {
		for _, v := range variants {
			g.scope = append(g.scope, v.shapes...)
		}
	})
	layer := func(values [len(variants)]string) string {
		var b strings.Builder
		for i, v := range variants {
			fmt.Fprintf(&b, "%s: %s\n", v.name, values[i])
		}
		return b.String()
	}
	load := func(program string, west [len(variants)]string) *project.Project {
		p, err := project.Load(fstest.MapFS{
			project.FileName: {Data: []byte("[environments.west]\nlayers = [\"west.yaml\"]\n" +
				"[environments.east]\nlayers = [\"east.yaml\"]\n")},
			"west.yaml": {Data: []byte(layer(west))}, "east.yaml": {Data: []byte(layer(east))},
			"main.knot": {Data: []byte(program)}})
		require.NoError(t, err)
		return p
	}
	// What has mistakes and what cannot be evaluated is left out. Each declaration is a line.
	p := load(program, west)
	for p.Findings.HasErrors() {
		lines := strings.Split(program, "\n")
		for _, f := range p.Findings {
			if at := p.Sources.Locate(f.Span.Start); f.Severity == source.Error && at.File.Path == p.Main {
				lines[at.Line-1] = ""
			}
		}
		program = strings.Join(lines, "\n")
		p = load(program, west)
	}
	var documents strings.Builder
	one, other := p.World(p.Environment("west"), false), p.World(p.Environment("east"), false)
	for _, o := range p.Module.Order {
		if _, is := o.Declaration.(*syntax.Output); is {
			_, left := one.Value(o)
			if _, right := other.Value(o); left && right {
				fmt.Fprintf(&documents, "document \"%s.json\" = { v: %s }\n", o.Name, o.Name)
			}
		}
	}
	program += documents.String()
	p = load(program, west)
	c, findings := compare.Environments(p, p.Environment("west"), p.Environment("east"))
	if findings.HasErrors() {
		return 0
	}
	for _, d := range c.Documents {
		for _, row := range d.Rows {
			differences++
			require.NotEmpty(t, row.Cause.Because, "%s %s: %s and %s\n%s\n%s---\n%s", d.Path, row.Path, row.Left.Show(60),
				row.Right.Show(60), program, layer(west), layer(east))
			for _, reason := range row.Cause.Because {
				name, _, _ := strings.Cut(reason.Name, ".")
				at := slices.IndexFunc(variants[:], func(v variant) bool { return v.name == name })
				require.NotEqual(t, west[at], east[at], reason.Name)
			}
		}
	}
	return differences
}

// FuzzCauses: whatever the program, a difference has a cause.
func FuzzCauses(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { causes(t, seed) })
}

// TestDifferencesHaveCauses is a part of what FuzzCauses tries.
func TestDifferencesHaveCauses(t *testing.T) {
	differences := 0
	for seed := range uint64(200) {
		differences += causes(t, seed)
	}
	require.Greater(t, differences, 500)
}
