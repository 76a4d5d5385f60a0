package explain_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/explain"
	"knothole/core/project"
)

// scribe writes random expressions over some inputs. What is not recorded is left out: what leaves out an element of a
// list, the elements that are compared with a whole list or are looked for in one, and the answers for the elements
// that a function passes over.
type scribe struct {
	*rand.Rand
	locals []string // numbers
}

const givenInputs = "input a: int\ninput b: int\ninput c: bool\ninput d: bool\ninput s: string\ninput xs: [int]\n" +
	"input r: { x: int, y: int, z: { w: int, t: string } }\n" +
	"fn pick(c: bool, x: int, y: int) -> int = if c then x else y\nfn twice(x: int) -> int = x * 2\n"

func (g *scribe) one(options ...string) string { return options[g.IntN(len(options))] }

// enter makes a local name known, until leave.
func (g *scribe) enter() string {
	local := fmt.Sprintf("v%d", len(g.locals))
	g.locals = append(g.locals, local)
	return local
}

func (g *scribe) leave() { g.locals = g.locals[:len(g.locals)-1] }

func (g *scribe) number(depth int) string {
	if depth == 0 {
		return g.one(append([]string{"a", "b", "r.x", "r.y", "r.z.w", "1", "2"}, g.locals...)...)
	}
	sub := func() string { return g.number(depth - 1) }
	switch g.IntN(12) {
	case 0, 1:
		return fmt.Sprintf("(%s %s %s)", sub(), g.one("+", "-", "*"), sub())
	case 2, 3:
		return fmt.Sprintf("(if %s then %s else %s)", g.truth(depth-1), sub(), sub())
	case 4:
		return fmt.Sprintf("(match %s { 1 -> %s, 2 -> %s, else -> %s })", sub(), sub(), sub(), sub())
	case 5:
		return fmt.Sprintf("pick(%s, %s, %s)", g.truth(depth-1), sub(), sub())
	case 6:
		return fmt.Sprintf("({ p: %s, q: %s } with { p: %s }).%s", sub(), sub(), sub(), g.one("p", "q"))
	case 7:
		return fmt.Sprintf("list.sum(%s)", g.list(depth-1))
	case 8:
		return fmt.Sprintf("(list.first(%s) ?? %s)", g.list(depth-1), sub())
	}
	return fmt.Sprintf("twice(%s)", sub())
}

func (g *scribe) truth(depth int) string {
	if depth <= 0 {
		return g.one("c", "d", "true")
	}
	switch g.IntN(4) {
	case 0:
		return fmt.Sprintf("(%s %s %s)", g.truth(depth-1), g.one("and", "or"), g.truth(depth-1))
	case 1:
		return fmt.Sprintf("(%s in %s..9)", g.number(depth-1), g.number(depth-1))
	case 2:
		return fmt.Sprintf("(not %s)", g.truth(depth-1))
	}
	return fmt.Sprintf("(%s %s %s)", g.number(depth-1), g.one("<", "==", ">="), g.number(depth-1))
}

func (g *scribe) list(depth int) string {
	if depth <= 0 {
		return g.one("xs", "[a, b]", "[1]")
	}
	switch g.IntN(4) {
	case 0:
		of, local := g.list(depth-1), g.enter()
		body := g.number(depth - 1)
		g.leave()
		return fmt.Sprintf("(for %s in %s -> %s + %s)", local, of, local, body)
	case 1:
		return fmt.Sprintf("[%s, ...if %s then [%s] else [%s]]", g.number(depth-1), g.truth(depth-1), g.number(depth-1),
			g.number(depth-1))
	case 2:
		return fmt.Sprintf("list.sort(%s)", g.list(depth-1))
	}
	return fmt.Sprintf("(%s + %s)", g.list(depth-1), g.list(depth-1))
}

// layer writes values for the inputs, those of another layer for the names that are kept.
func (g *scribe) layer(kept map[string]string) map[string]string {
	values := map[string]string{}
	for name, one := range map[string]func() string{
		"a": g.digit, "b": g.digit, "c": g.either, "d": g.either, "r.x": g.digit, "r.y": g.digit, "r.z.w": g.digit,
		"s": g.digit, "r.z.t": g.digit, "xs": func() string { return "[" + g.digit() + ", " + g.digit() + "]" },
	} {
		if values[name] = one(); kept[name] != "" {
			values[name] = kept[name]
		}
	}
	return values
}

func (g *scribe) digit() string  { return fmt.Sprint(g.IntN(4)) }
func (g *scribe) either() string { return g.one("true", "false") }

func layerText(v map[string]string) []byte {
	return fmt.Appendf(nil, "a: %s\nb: %s\nc: %s\nd: %s\ns: t%s\nxs: %s\nr: { x: %s, y: %s, z: { w: %s, t: t%s } }\n",
		v["a"], v["b"], v["c"], v["d"], v["s"], v["xs"], v["r.x"], v["r.y"], v["r.z.w"], v["r.z.t"])
}

// leavesAreAll checks for a random expression that inputs which are not among the leaves of its value can change
// without changing the value or its leaves.
func leavesAreAll(t *testing.T, seed uint64) (changed int) {
	t.Helper()
	g := &scribe{Rand: rand.New(rand.NewPCG(seed, 27))}
	program := givenInputs + "output v = " + g.number(4) + "\n"
	evaluated := func(values map[string]string) (text string, leaves []string, ok bool) {
		p, err := project.Load(fstest.MapFS{
			project.FileName: {Data: []byte("[environments.bench]\nlayers = [\"l.yaml\"]\n")},
			"l.yaml":         {Data: layerText(values)}, "main.knot": {Data: []byte(program)},
		})
		require.NoError(t, err)
		if p.Findings.HasErrors() {
			return "", nil, false // such as a branch that nothing reaches
		}
		w := p.Run(p.Concrete()[0]).World(true)
		v, ok := w.Value(p.Unit().Module.Objects["v"])
		require.True(t, ok, "%s: %v", program, w.Findings())
		for _, leaf := range explain.Leaves(w.Recorder(), v.Origin()) {
			leaves = append(leaves, leaf.Name)
		}
		return data.CompactJSON(v), leaves, true
	}
	first := g.layer(nil)
	text, leaves, ok := evaluated(first)
	for range 3 {
		if !ok {
			return changed
		}
		kept := map[string]string{}
		for name, value := range first {
			if slices.ContainsFunc(leaves, func(leaf string) bool {
				return leaf == name || strings.HasPrefix(name, leaf+".") && !slices.ContainsFunc(leaves,
					func(inner string) bool { return strings.HasPrefix(inner, leaf+".") })
			}) {
				kept[name] = value
			}
		}
		if len(kept) == len(first) {
			return changed
		}
		again, same, _ := evaluated(g.layer(kept))
		require.Equal(t, text, again, "seed %d: %s depends on %v\n%s", seed, program, leaves, kept)
		require.Equal(t, leaves, same, "seed %d: %s\n%s", seed, program, kept)
		changed++
	}
	return changed
}

// FuzzLeaves: whatever the expression, its leaves are all that its value depends on.
func FuzzLeaves(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { leavesAreAll(t, seed) })
}

// TestLeavesAreAll is a part of what FuzzLeaves tries.
func TestLeavesAreAll(t *testing.T) {
	changed := 0
	for seed := range uint64(300) {
		changed += leavesAreAll(t, seed)
	}
	require.Greater(t, changed, 500)
}
