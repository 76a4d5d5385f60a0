package eval

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// ruleOf returns the rule "r" of a module, as it is held.
func ruleOf(t *testing.T, text string) *Rule {
	t.Helper()
	set := source.NewSet()
	file, err := set.Add("main.knot", []byte(text))
	require.NoError(t, err)
	m := &check.Module{Path: "main.knot", Tree: syntax.Parse(file), Main: true}
	program := &check.Program{Sources: set, Store: check.NewStore(), Modules: []*check.Module{m}}
	require.Empty(t, m.Tree.Findings)
	require.Empty(t, check.Check(program))
	w := New(program, NewBuiltins(nil, nil), nil, nil).World(Environment{Name: "bench"})
	return w.Rule(m.Objects["r"])
}

// numbered returns documents { kind: "Gauge", n: … }.
func numbered(numbers ...int64) []Subject {
	shape := value.NewShape([]string{"kind", "n"})
	documents := make([]Subject, len(numbers))
	for i, n := range numbers {
		documents[i] = Subject{Path: "a.yaml",
			Data: value.RecordOf(shape, []value.Value{value.StringOf("Gauge", 0), value.IntOf(n, 0)}, 0)}
	}
	NumberKinds(documents)
	return documents
}

// TestStepsOfRules checks that how many documents there are is no fault of a rule, and that what it found in one is
// told when it goes too far in another.
func TestStepsOfRules(t *testing.T) {
	const text = `rule r on doc where doc.kind == "Gauge" {
  for i in 1..doc.n { require i < 4 else "${i}" }
}
`
	r := ruleOf(t, text)
	r.thread.steps = stepLimit
	met := r.Each(numbered(make([]int64, 1000)...), nil, func(i int, looked Outcome) {
		t.Fatalf("%d: %v", i, looked)
	})
	require.Equal(t, 1000, met)

	r = ruleOf(t, text)
	r.thread.steps = stepLimit
	told := map[int]Outcome{}
	documents := numbered(3, 4, 1_000_000, 5)
	met = r.Each(documents, nil, func(i int, looked Outcome) { told[i] = looked })
	require.Equal(t, 3, met)
	require.True(t, r.Spent())
	require.Len(t, told, 2)
	require.True(t, told[2].Failed)
	require.Equal(t, source.TooMuchWork, told[2].Failures[0].Code)
	looked := told[1]
	r.Places(&documents[1], &looked)
	require.Len(t, looked.Violations, 1)
	require.Equal(t, "4", looked.Violations[0].Message)
	require.True(t, r.Spent())
}

// TestKindsAreAskedOnce checks that a rule looks at the same documents, whether it asks for their kinds once or each
// time: a condition that fails, or that asks for more, is not taken as answered.
func TestKindsAreAskedOnce(t *testing.T) {
	for where, want := range map[string]int{
		`doc.kind == "Gauge"`:                         6,
		`doc.kind != "Gauge"`:                         0,
		`doc.kind == "Gauge" and doc.n > 3`:           3,
		`doc.n > 3 and doc.kind == "Gauge"`:           3,
		`doc.kind == "Gauge" or doc.n > 3`:            6,
		`doc.kind in ["Gauge", "Buoy"]`:               6,
		`if doc.n > 3 then doc.kind != "" else false`: 3,
		`1 / zero > 0 and doc.kind == "Gauge"`:        0,
		`doc.n / zero > 0 and doc.kind == "Buoy"`:     0,
	} {
		text := "let zero = 0\nrule r on doc where " + where + " { require zero == 0 }\n"
		failed := 0
		met := ruleOf(t, text).Each(numbered(1, 2, 3, 4, 5, 6), nil, func(int, Outcome) { failed++ })
		require.Equal(t, want, met, where)
		once := 0
		for _, d := range numbered(1, 2, 3, 4, 5, 6) {
			d.kind = 0
			looked := ruleOf(t, text).Document(&d)
			if looked.Met {
				once++
			}
			require.Equal(t, looked.Failed, failed > 0, where)
		}
		require.Equal(t, want, once, where)
	}
}
