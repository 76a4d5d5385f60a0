package eval_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// documentsOf evaluates the documents of a module in a world, as JSON by path.
func documentsOf(w *eval.World, m *check.Module) map[string]string {
	all := map[string]string{}
	for _, o := range m.Order {
		if o.Kind == check.ObjectDocument || o.Kind == check.ObjectStatement {
			w.Visit(o, eval.Visitor{Document: func(d *eval.Document) {
				if d.Evaluate(); !d.Failed {
					all[d.Path] = data.CompactJSON(d.Value)
				}
			}})
		}
	}
	return all
}

// TestVariantShares counts how often a declaration is evaluated for a world and its variants: once, unless it depends
// on what differs, through others or alone.
func TestVariantShares(t *testing.T) {
	p, m, findings := checked(t, `
input depth: int
input gauge: int
fn raised(x: int) -> int = x + gauge
let deep = depth * 7
let level = raised(deep)
let here = "${env.name}!"
document "a.json" = { deep: deep, level: level, here: here }
`)
	require.Empty(t, findings)
	counts := map[string]int{}
	p.Observe(func(at source.Span, _ types.Type, _ value.Value) { counts[m.Tree.File.Slice(at)]++ })
	counted := func() []int { return []int{counts["depth * 7"], counts["raised(deep)"], counts[`"${env.name}!"`]} }
	base := p.World(eval.Environment{Name: "bench"})
	base.SetInput(m.Objects["depth"], value.IntOf(1, 0))
	base.SetInput(m.Objects["gauge"], value.IntOf(2, 0))
	require.Equal(t, `{"deep":7,"level":9,"here":"bench!"}`, documentsOf(base, m)["a.json"])
	require.Equal(t, []int{1, 1, 1}, counted())
	for i := range 3 {
		v := base.Variant(eval.Environment{Name: "bench"}, []*check.Object{m.Objects["gauge"]})
		require.True(t, v.Shares(m.Objects["depth"]))
		require.False(t, v.Shares(m.Objects["gauge"]))
		v.SetInput(m.Objects["gauge"], value.IntOf(int64(i), 0))
		require.Equal(t, []string{`{"deep":7,"level":7,"here":"bench!"}`, `{"deep":7,"level":8,"here":"bench!"}`,
			`{"deep":7,"level":9,"here":"bench!"}`}[i], documentsOf(v, m)["a.json"])
		require.Equal(t, []int{1, 2 + i, 1}, counted())
	}
	v := base.Variant(eval.Environment{Name: "other"}, nil)
	require.Equal(t, `{"deep":7,"level":9,"here":"other!"}`, documentsOf(v, m)["a.json"])
	require.Equal(t, []int{1, 4, 2}, counted())
}

// TestLoseParts checks what a document keeps when some of it cannot be evaluated: all that can be, if it is known where
// in the document the rest would be.
func TestLoseParts(t *testing.T) {
	p, m, findings := checked(t, `
input at: int
let names = ["tern", "heron"]
document "record.json" = { a: 1, b: names[at], c: { d: names[at], e: [2, names[at], 3] }, "${names[0]}": 4 }
document "list.json" = [1, names[at], 2]
document "optional.json" = { a: 1, b: (if 10 / (at - 7) > 0 then null else 5)? }
document "spread.json" = { a: 1, ...{ b: names[at] }, c: [1, ...[names[at]]] }
let rest = { b: names[at] }
document "entries.json" = { a: 1, ...rest }
let more = [names[at]]
document "elements.json" = [1, ...more]
document "key.json" = { a: 1, "${names[at]}": 2 }
`)
	require.Empty(t, findings)
	evaluated := func(at int64, loses bool) map[string]string {
		w := p.World(eval.Environment{})
		w.SetInput(m.Objects["at"], value.IntOf(at, 0))
		if loses {
			w.LoseParts()
		}
		return documentsOf(w, m)
	}
	require.Len(t, evaluated(1, false), 7)
	require.Equal(t, evaluated(1, false), evaluated(1, true))
	require.Empty(t, evaluated(7, false))
	require.Equal(t, map[string]string{
		"record.json":   `{"a":1,"b":"‹lost›","c":{"d":"‹lost›","e":[2,"‹lost›",3]},"tern":4}`,
		"list.json":     `[1,"‹lost›",2]`,
		"optional.json": `{"a":1,"b":"‹lost›"}`,
		"spread.json":   `{"a":1,"b":"‹lost›","c":[1,"‹lost›"]}`,
	}, evaluated(7, true))
}
