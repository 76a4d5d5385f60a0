package check_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
)

// TestNarrowing holds what a condition says of a name in its branches: what is right for all values is accepted, and
// what is wrong for some is not.
func TestNarrowing(t *testing.T) {
	const declarations = `
input i: int | float = 1
input x: int | string | bool = 1
input m: string? = null
input kinds: { kind?: "a", n: int } | { kind: "b", s: string } = { n: 1 }
input parts: { a: int } | { b: string } | { a: int, c: int } = { a: 1 }
input on: bool = true
input n: int = 0
let probes = [{ kind: "a", a: 1 }, { kind: "b", b: 1 }, { kind: "c", c: 1 }, { kind: "d", d: 1 }, { kind: "e", e: 1 },
  { kind: "f", f: 1 }, { kind: "g", g: 1 }, { kind: "h", h: 1 }, { kind: "i", i: 1 }]
let probe = probes[n]
output used = [n, probe]
`
	for line, accepted := range map[string]bool{
		// Equal numbers need not be of one kind.
		`output o: int = if i == 1 then i else 0`:         false,
		`output o: int | float = if i == 1 then i else 0`: true,
		`output o: int = if i is (int) then i else 0`:     true,
		// is converts nothing: an int is no float.
		`output o = match i { is (float) -> 1 }`:                false,
		`output o = match i { is (float) -> 1, is (int) -> 2 }`: true,
		`output o: float = if i is (float) then i else 1.5`:     true,
		`output o: int = if i is (float) then 1 else i`:         true,
		// Either side of or may be why it holds; neither side of and may be why it does not.
		`output o: int = if x is (int) or x is (string) then x else 0`:          false,
		`output o: int | string = if x is (int) or x is (string) then x else 0`: true,
		`output o: bool = if x is (int) or x is (string) then on else x`:        true,
		`output o: int = if x is (int) or on then x else 0`:                     false,
		`output o: int = if x is (int) and on then x else 0`:                    true,
		`output o: bool | string = if x is (int) and on then "" else x`:         false,
		`output o: string = if m == null or on then "" else m`:                  true,
		`output o: string = if m != null or on then m else ""`:                  false,
		`output o: int = if not (x is (int) or x is (string)) then 0 else x`:    false,
		// A field that may be absent tells no members of a union apart when it is not there.
		`output o: string = if kinds?.kind != "a" then kinds.s else ""`: false,
		`output o: int = if kinds?.kind == "a" then kinds.n else 0`:     true,
		// A key is in those members that have it.
		`output o: int = if "a" in parts then parts.a else 0`:           true,
		`output o: string = if "a" in parts then "" else parts.b`:       true,
		`output o: int = if "c" in parts then parts.c + parts.a else 0`: true,
		`output o: int = if "c" in parts then 0 else parts.a`:           false,
		// The members of a union stay apart when each is written out, however many they are.
		`output o: int = match probe.kind { "a" -> probe.a, "i" -> probe.i, else -> 0 }`: true,
		`output o: int = match probe.kind { "a" -> probe.b, else -> 0 }`:                 false,
	} {
		set := source.NewSet()
		file, err := set.Add("main.knot", []byte(declarations+line+"\n"))
		require.NoError(t, err)
		m := &check.Module{Path: "main.knot", Tree: syntax.Parse(file)}
		require.Empty(t, m.Tree.Findings, line)
		findings := check.Check(&check.Program{Sources: set, Store: check.NewStore(), Modules: []*check.Module{m}})
		require.Equal(t, accepted, !findings.HasErrors(), "%s: %v", line, findings)
	}
}
