package explain

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
)

// TestChoices checks that a value which was chosen as a whole depends on each choice that it went through, and on
// nothing that is in it.
func TestChoices(t *testing.T) {
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench]\nlayers = [\"l.yaml\"]\n")},
		"l.yaml":         {Data: []byte("n: 7\nc: true\nr: { a: 1 }\n")},
		"main.knot": {Data: []byte("input n: int\ninput c: bool\ninput r: { a: int }\n" +
			"output v = if c then if n == 7 then r else { a: 2 } else { a: 3 }\n")},
	})
	require.NoError(t, err)
	require.False(t, p.Findings.HasErrors())
	w := p.Run(p.Concrete()[0]).World(true)
	v, ok := w.Value(p.Unit().Module.Objects["v"])
	require.True(t, ok)
	names := map[string]bool{}
	for _, leaf := range (Side{Recorder: w.Recorder(), Value: v.Get("a"), Block: v.Origin()}).chosen() {
		names[leaf.Name] = true
	}
	require.Equal(t, map[string]bool{"c": true, "n": true}, names)
}

// TestReasons holds which leaves tell two sides apart: each at the first place on each side, a part of an input rather
// than the whole, and none that is given at one place for both, unless there are no others.
func TestReasons(t *testing.T) {
	all := func(string) bool { return true }
	for _, c := range []struct {
		left, right []Leaf
		want        []Reason
	}{
		{[]Leaf{{"n", 10}, {"n", 20}}, []Leaf{{"n", 30}, {"n", 40}}, []Reason{{Name: "n", Left: 10, Right: 30}}},
		{[]Leaf{{"n", 10}, {"m", 20}}, []Leaf{{"m", 21}, {"n", 10}}, []Reason{{Name: "m", Left: 20, Right: 21}}},
		{[]Leaf{{"n", 10}}, []Leaf{{"n", 10}}, []Reason{{Name: "n", Left: 10, Right: 10}}},
		{[]Leaf{{"r", 10}, {"r.a", 11}}, []Leaf{{"r", 20}}, []Reason{{Name: "r.a", Left: 11}}},
		{[]Leaf{{EnvironmentName, 5}, {"n", 10}}, []Leaf{{"n", 10}, {EnvironmentName, 5}},
			[]Reason{{Name: EnvironmentName, Left: 5, Right: 5}}},
	} {
		require.Equal(t, c.want, reasons([2][]Leaf{c.left, c.right}, all))
	}
}

// TestCommonPath checks that paths have whole fields in common: no half names, and no half of a key in quotes.
func TestCommonPath(t *testing.T) {
	for _, c := range [][3]string{
		{"limits.cpu", "limits.memory", "limits"},
		{"limits.cpu", "limits.cpus", "limits"},
		{"limits.cpu", "limits.cpu", "limits.cpu"},
		{"limits.cpu", "limits.cpu.quota", "limits.cpu"},
		{"limits", "levels", ""},
		{`ports."a.b".x`, `ports."a.c".x`, "ports"},
		{`ports."a.b".x`, `ports."a.b".y`, `ports."a.b"`},
		{`ports."a\".b".x`, `ports."a\".c".x`, "ports"},
	} {
		require.Equal(t, c[2], commonPath(c[0], c[1]), "%s, %s", c[0], c[1])
		require.Equal(t, c[2], commonPath(c[1], c[0]), "%s, %s", c[1], c[0])
	}
}
