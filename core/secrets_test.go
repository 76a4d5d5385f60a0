package core_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/syntax"
)

// observers writes what a program could find out of a value: what it is, how much of it there is, and of which types.
func (g *generator) observers(v variable) []string {
	found := []string{v.name, v.name + " == null"}
	of := v.of
	for of.kind == "named" {
		of = g.types[of.named].is
	}
	switch of.kind {
	case "list", "set", "tuple":
		found = append(found, "list.length("+v.name+")", "list.map("+v.name+", fn(x) = 1)")
	case "map", "record":
		found = append(found, "record.keys("+v.name+")", `"a" in `+v.name)
	}
	for range 3 {
		asked := "(" + g.text(g.related(v.of)) + ")"
		found = append(found, v.name+" is "+asked, "match "+v.name+" { is "+asked+" -> 1, else -> 2 }")
	}
	return found
}

// secretUnion writes a union whose members differ in what they say of the same fields and in their defaults, a value
// with secrets in these fields, and what could be seen of the member that was taken.
func (g *generator) secretUnion(b *strings.Builder) {
	choose := func(of ...string) string { return of[g.IntN(len(of))] }
	member := func() string {
		fields := "a: " + choose("string", `"a"`, `"a" | "b"`, "(string where it matches '^a')", "any",
			"(string where text.length(it) > 1)", "string?")
		if g.chance(50) {
			fields += ", n: " + choose("int", "2", "float", "(int where it > 0)", "(int where it > 0) | float")
		}
		if g.chance(60) {
			fields += choose(", no: int = 1", ", b?: int", ", a_more: string = \"x\"", ", kind: \"x\" = \"x\"")
		}
		record := "{ " + fields + " }"
		if g.chance(20) {
			record = "(" + record + " where it.a == \"a\")"
		}
		return record
	}
	union := member() + " | " + member()
	if g.chance(30) {
		union += " | " + member()
	}
	fields := "a: " + choose("pin", "pair.a", "pair.kind", `"a"`, `"${pin}"`)
	if g.chance(50) {
		fields += ", n: " + choose("num", "2", "num + 1")
	}
	if g.chance(20) {
		fields += ", b: 3"
	}
	name, u := g.name("U"), g.name("u")
	wrap := choose("%s", "%s", "[%s]", "{ *: %s }", "{ x: %s }")
	values := map[string]string{"%s": "{ %s }", "[%s]": "[{ %s }]", "{ *: %s }": "{ x: { %s } }",
		"{ x: %s }": "{ x: { %s } }"}
	inner := map[string]string{"%s": u, "[%s]": u + "[0]", "{ *: %s }": u + ".x", "{ x: %s }": u + ".x"}[wrap]
	fmt.Fprintf(b, "type %s = %s\nlet %s: %s = %s\n", name, union, u, fmt.Sprintf(wrap, name),
		fmt.Sprintf(values[wrap], fields))
	for _, e := range []string{"record.length(" + inner + ")", "record.keys(" + inner + ")", `"no" in ` + inner,
		inner + " is (" + member() + ")", "match " + inner + " { is (" + member() + ") -> 1, else -> 2 }",
		"[for k, _ in " + inner + " -> k]", "(" + inner + " as (any)) == { a: 1 }", inner + ".no ?? 0"} {
		fmt.Fprintf(b, "output %s = %s\n", g.name("s"), e)
	}
}

// secretProgram writes a module with secret inputs, and outputs that try to find something out of all that is made of
// them.
func (g *generator) secretProgram() string {
	text := "secret input pin: string\nsecret input num: int\nsecret input pair: { a: string, kind: \"a\" | \"b\" }\n"
	text += g.module(func(*strings.Builder) {
		pair := shape{kind: "record", fields: []fieldShape{{name: "a", of: shape{kind: "string"}},
			{name: "kind", of: shape{kind: "text", texts: []string{"a", "b"}}}}}
		for range 3 { // so that they are taken often
			g.scope = append(g.scope, variable{"pin", shape{kind: "string"}}, variable{"num", shape{kind: "int"}},
				variable{"pair", pair}, variable{"pair.kind", shape{kind: "text", texts: []string{"a", "b"}}})
		}
	})
	var b strings.Builder
	b.WriteString(text)
	for range 1 + g.IntN(3) {
		g.secretUnion(&b)
	}
	seen := map[string]bool{}
	for _, v := range g.scope {
		if seen[v.name] {
			continue
		}
		seen[v.name] = true
		for _, e := range g.observers(v) {
			fmt.Fprintf(&b, "output %s = %s\n", g.name("s"), e)
		}
	}
	return b.String()
}

// secretTexts are what a store says, by the name of the secret.
type secretTexts map[string]string

func (s secretTexts) Read(r *project.Reference) ([]byte, error) { return []byte(s[r.Name()]), nil }

// decided returns the findings that a secret may decide about, and undecided all others, sorted.
func decided(findings map[string]string) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(findings)),
		func(text string) bool { return !decidedBySecrets[source.Code(findings[text])] })
}

func undecided(findings map[string]string) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(findings)),
		func(text string) bool { return decidedBySecrets[source.Code(findings[text])] })
}

// decidedBySecrets are the codes of findings that a secret may decide about: conditions and types may test it, and
// what is behind `secret and …` is only looked at when the secret is true.
var decidedBySecrets = map[source.Code]bool{source.Limit: true, source.WrongType: true, source.Requirement: true,
	source.HiddenDecision: true}

// loadSecret loads a program whose inputs are secrets.
func loadSecret(t *testing.T, program string) *project.Project {
	t.Helper()
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench.secrets]\npin = { variable = \"PIN\" }\n" +
			"num = { variable = \"NUM\" }\n[environments.bench.secrets.pair]\na = { variable = \"A\" }\n" +
			"kind = { variable = \"KIND\" }\n")},
		"main.knot": {Data: []byte(program)},
	})
	require.NoError(t, err)
	return p
}

// shown evaluates a program with some secrets: what each output came to, and what was found.
func shown(t *testing.T, program string, secrets secretTexts) (outputs, findings map[string]string) {
	t.Helper()
	p := loadSecret(t, program)
	outputs, findings = map[string]string{}, map[string]string{}
	if p.Unit().Module == nil {
		return outputs, findings
	}
	run, unread := p.Run(p.Concrete()[0]).WithSecrets(secrets)
	require.False(t, unread.HasErrors(), program)
	w := run.World(false)
	for _, o := range p.Unit().Module.Order {
		if d, ok := o.Declaration.(*syntax.Output); ok && !d.Secret {
			if v, ok := w.Value(o); ok {
				outputs[o.Name] = data.CompactJSON(v)
			}
		}
	}
	for _, f := range append(w.Findings(), p.Program.Constants()...) {
		findings[fmt.Sprintf("%s: %s [%s] %s", p.Sources.Locate(f.Span.Start), f.Message, f.Code, f.Help)] =
			string(f.Code)
	}
	return outputs, findings
}

// nothingShows holds for one random program that what is shown does not depend on what is secret.
func nothingShows(t *testing.T, seed uint64) (compared int) {
	t.Helper()
	program := newGenerator(seed).secretProgram()
	first, firstFound := shown(t, program, secretTexts{"pin": "a", "num": "2", "pair.a": "kind", "pair.kind": "a"})
	for _, secrets := range []secretTexts{
		{"pin": "zz", "num": "2", "pair.a": "kind", "pair.kind": "a"},
		{"pin": "b", "num": "-9", "pair.a": "", "pair.kind": "b"},
	} {
		second, found := shown(t, program, secrets)
		for name, text := range first {
			if other, ok := second[name]; ok {
				require.Equal(t, text, other, "seed %d, output %s: a secret shows\n%s", seed, name, program)
				compared++
			}
		}
		if slices.Equal(decided(firstFound), decided(found)) {
			require.Equal(t, undecided(firstFound), undecided(found), "seed %d\n%s", seed, program)
		}
	}
	return compared
}

// FuzzNothingShows: whatever the program, what is shown is the same for all secrets.
func FuzzNothingShows(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { nothingShows(t, seed) })
}

// TestNothingShowsOfSecrets is a part of what FuzzNothingShows tries.
func TestNothingShowsOfSecrets(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	compared := 0
	for seed := range uint64(130) {
		compared += nothingShows(t, seed)
	}
	require.Greater(t, compared, 1_600)
}
