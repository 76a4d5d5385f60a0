package explain_test

import (
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/explain"
	"knothole/core/project"
)

// TestLeaves holds on which inputs a value depends: those that it was computed from and those that chose it, and no
// others.
func TestLeaves(t *testing.T) {
	for expression, want := range map[string][]string{
		`1`:                               {},
		`n`:                               {"n"},
		`n + r.a`:                         {"n", "r.a"},
		`"${r.a}-${r."odd key"}"`:         {`r."odd key"`, "r.a"},
		`if c then 1 else 2`:              {"c"},
		`if c then n else 2`:              {"c", "n"}, // c is true
		`match n { 7 -> r.a, else -> 0 }`: {"n", "r.a"},
		`xs[0]`:                           {"xs"},
		`env.name`:                        {"env.name"},
		`o ?? n`:                          {"n", "o"},
		`if c then if n == 7 then 1 else 2 else 3`: {"c", "n"},
		`(fn(x: int) = x + 1)(n)`:                  {"n"},
		`{ a: 1, b: n }.b`:                         {"n"},
		`({ a: 1 } with { a: r.a }).a`:             {"r.a"},
		`list.sum(for x in xs where x > n -> x)`:   {"n", "xs"},
	} {
		p, err := project.Load(fstest.MapFS{
			project.FileName: {Data: []byte("[environments.bench]\nlayers = [\"l.yaml\"]\n")},
			"l.yaml":         {Data: []byte("n: 7\nc: true\nr: { a: 1, odd key: 2 }\nxs: [9, 10]\n")},
			"main.knot": {Data: []byte("input n: int\ninput c: bool\ninput r: { a: int, \"odd key\": int " +
				"}\ninput xs: [int]\ninput o: int? = null\noutput v = " + expression + "\n")},
		})
		require.NoError(t, err)
		require.False(t, p.Findings.HasErrors(), "%s: %v", expression, p.Findings)
		w := p.Run(p.Concrete()[0]).World(true)
		v, ok := w.Value(p.Unit().Module.Objects["v"])
		require.True(t, ok, "%s: %v", expression, w.Findings())
		names := []string{}
		for _, leaf := range explain.Leaves(w.Recorder(), v.Origin()) {
			if !slices.Contains(names, leaf.Name) && leaf.Name != "r" { // the record is gone through
				names = append(names, leaf.Name)
			}
		}
		slices.Sort(names)
		require.Equal(t, want, names, expression)
	}
}
