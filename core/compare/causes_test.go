package compare_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/value"
)

// TestCausesHoldBothWays checks that a cause makes a difference go from either side: what chose a value may be equal
// there, and what it would have been otherwise not.
func TestCausesHoldBothWays(t *testing.T) {
	for _, c := range [][2]string{{"a: y\nb: q\n", "a: x\nb: p\n"}, {"a: x\nb: p\n", "a: y\nb: q\n"}} {
		_, lines := compareProject(t, map[string]string{"a.yaml": c[0], "b.yaml": c[1],
			"main.knot": "input a: string\ninput b: string\ndocument \"d.yaml\" = { v: if a == \"x\" then \"L\" else b }\n"})
		require.Len(t, lines, 1)
		require.Contains(t, lines[0], "d.yaml v: a b ")
	}
}

// TestCausesOfAPath checks that a path has its own causes, even if one of them alone keeps something else in the
// document from being evaluated.
func TestCausesOfAPath(t *testing.T) {
	_, lines := compareProject(t, map[string]string{"a.yaml": "names: [x]\npick: 0\n",
		"b.yaml": "names: [x, y, z]\npick: 2\n", "main.knot": `
input names: [string]
input pick: int
document "d.yaml" = { twice: pick * 2, name: names[pick], l: [pick, names[pick]], s: (names[pick])?, k: 1 }
document "e.yaml" = { ...{ twice: pick * 2 }, name: names[pick] }
`})
	require.Len(t, lines, 7)
	for i, begin := range []string{"d.yaml twice: pick ", "d.yaml name: names pick ", "d.yaml l[0]: pick ",
		"d.yaml l[1]: names pick ", "d.yaml s: names pick ", "e.yaml twice: pick ", "e.yaml name: names pick "} {
		require.True(t, strings.HasPrefix(lines[i], begin), "%s, not %s", lines[i], begin)
	}
}

// TestOrderOfKeys checks that the same data in another order is found, however deep the keys are.
func TestOrderOfKeys(t *testing.T) {
	c, lines := compareProject(t, map[string]string{"a.yaml": "{}", "b.yaml": "{}", "main.knot": `
document "deep.yaml" = { l: [{ r: if env.name == "a" then { x: 1, y: 2 } else { y: 2, x: 1 } }] }
document "top.yaml" = if env.name == "a" then { x: 1, y: 2 } else { y: 2, x: 1 }
document "same.yaml" = { x: 1, y: 2 }
`})
	require.Empty(t, lines)
	reordered := map[string]bool{}
	for _, d := range c.Documents {
		reordered[d.Path] = d.Reordered
	}
	require.Equal(t, map[string]bool{"deep.yaml": true, "top.yaml": true, "same.yaml": false}, reordered)
}

// TestFirstThatDiffers contains that of three sides a row has the cause of the first that differs.
func TestFirstThatDiffers(t *testing.T) {
	p, err := project.Load(fstest.MapFS{project.FileName: {Data: []byte("[environments.a]\nlayers = [\"a.yaml\"]\n" +
		"[environments.b]\nlayers = [\"b.yaml\"]\n[environments.c]\nlayers = [\"c.yaml\"]\n")},
		"a.yaml": {Data: []byte("n: 1\nm: 1\n")}, "b.yaml": {Data: []byte("n: 2\nm: 1\n")},
		"c.yaml":    {Data: []byte("n: 3\nm: 3\n")},
		"main.knot": {Data: []byte("input n: int\ninput m: int\ndocument \"d.yaml\" = { n: n, m: m }\n")}})
	require.NoError(t, err)
	c, findings, _ := compare.Environments(p, p.Runs(p.Concrete()), compare.Options{})
	require.Empty(t, findings)
	against := map[string]int{}
	for _, r := range c.Documents[0].Rows {
		against[r.Path.String()] = r.Against
		require.Equal(t, []string{"", "b.yaml", "c.yaml"}[r.Against],
			p.Sources.Locate(r.Cause.Because[0].Right).File.Path)
	}
	require.Equal(t, map[string]int{"n": 1, "m": 2}, against)
}

// TestDriftStaysInNamespace checks that an object is compared with the one of its name in its own namespace.
func TestDriftStaysInNamespace(t *testing.T) {
	object := func(namespace, level string) value.Value {
		return read(t, "apiVersion: v1\nkind: ConfigMap\nmetadata: { name: map, namespace: "+namespace+" }\ndata: { level: "+
			level+" }\n")
	}
	side := compare.Side{Name: "north", Contents: map[string]*compare.Content{"a.yaml": {Value: object("bay", "high")}}}
	c, _ := compare.Drift(side, []value.Value{object("other", "low"), object("bay", "high")}, compare.DriftOptions{})
	require.True(t, c.Equal())
	c, _ = compare.Drift(side, []value.Value{object("other", "high")}, compare.DriftOptions{})
	require.Equal(t, 1, c.Count(compare.OnlyLeft))
}
