package explain

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/eval"
	"knothole/core/place"
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
	part := func(outer *eval.InputPart, name string) *eval.InputPart {
		if outer == nil {
			return &eval.InputPart{Path: (*place.Path)(nil).Field(name), Name: name}
		}
		return &eval.InputPart{Outer: outer, Path: outer.Path.Field(name), Name: outer.Name + "." + name}
	}
	n, m, r := part(nil, "n"), part(nil, "m"), part(nil, "r")
	a, b, c := part(r, "a"), part(part(r, "b"), "c"), part(part(r, "b"), "d")
	for _, of := range []struct {
		left, right []Leaf
		want        []Reason
	}{
		{[]Leaf{{n, 10}, {n, 20}}, []Leaf{{n, 30}, {n, 40}}, []Reason{{Name: "n", Path: n.Path, Left: 10, Right: 30}}},
		{[]Leaf{{n, 10}, {m, 20}}, []Leaf{{m, 21}, {n, 10}}, []Reason{{Name: "m", Path: m.Path, Left: 20, Right: 21}}},
		{[]Leaf{{n, 10}}, []Leaf{{n, 10}}, []Reason{{Name: "n", Path: n.Path, Left: 10, Right: 10}}},
		{[]Leaf{{r, 10}, {a, 11}}, []Leaf{{r, 20}}, []Reason{{Name: "r.a", Path: a.Path, Left: 11}}},
		{[]Leaf{{environment, 5}, {n, 10}}, []Leaf{{n, 10}, {environment, 5}},
			[]Reason{{Name: EnvironmentName, Left: 5, Right: 5}}},
		{[]Leaf{{b, 10}, {c, 11}}, nil,
			[]Reason{{Name: "r.b.c", Path: b.Path, Left: 10}, {Name: "r.b.d", Path: c.Path, Left: 11}}},
		{[]Leaf{{a, 10}, {b, 11}, {c, 12}}, nil, []Reason{{Name: "r", Path: r.Path, Left: 10}}},
	} {
		require.Equal(t, of.want, reasons([2][]Leaf{of.left, of.right}, nil))
	}
}
