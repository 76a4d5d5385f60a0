package core_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/compare"
	"knothole/core/eval"
	"knothole/core/value"
)

// elementNames are what elements of lists are called, also such as could be taken for a position, a condition or the
// end.
var elementNames = []string{"bay-map", "a b", "8080", "end", "it", "it.x", "x/y:1", `q"u`, "$x", "", "[0]",
	"Deployment map"}

// randomData makes a tree of records and lists whose elements are known by a field.
func randomData(r *rand.Rand, depth int) value.Value {
	if depth == 0 {
		return value.IntOf(r.Int64N(3), 0)
	}
	var b value.Builder
	for _, key := range []string{"a", "x-y", "odd key", "spec"} {
		if r.IntN(3) > 0 {
			b.Set(key, randomData(r, depth-1))
		}
	}
	var elements []value.Value
	field := []string{"name", "id", "host"}[r.IntN(3)]
	for _, at := range r.Perm(len(elementNames))[:r.IntN(4)] {
		var e value.Builder
		e.Set(field, value.StringOf(elementNames[at], 0))
		e.Set("v", randomData(r, depth-1))
		elements = append(elements, e.Record(0))
	}
	b.Set("list", value.ListOf(elements, 0))
	return b.Record(0)
}

// TestShownPathsAreRead checks that each path that a comparison shows leads, read again, to the very value that it
// stands beside.
func TestShownPathsAreRead(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	read := 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 2))
		left, right := randomData(r, 3), randomData(r, 3)
		for _, row := range compare.Values(left, right) {
			if row.Path == nil || row.Kind == compare.Order || row.Kind == compare.Renamed {
				continue
			}
			for side, v := range []value.Value{left, right} {
				path := row.Paths[side]
				if path == nil {
					continue
				}
				places, err := eval.ParsePlaces(path.String(), builtin.Table)
				require.NoError(t, err, "seed %d: %s", seed, path)
				found, why := places.Find(v)
				require.Len(t, found, 1, "seed %d: %s: %s", seed, path, why)
				require.True(t, value.Identical(row.Cells[side], found[0].Value), "seed %d: %s leads to %s, not to %s", seed,
					path, found[0].Value.Show(60), row.Cells[side].Show(60))
				read++
			}
			if row.Paths[1] != nil {
				require.Equal(t, row.Paths[1].String(), row.Path.String(), "it is shown as it is on the last side")
			}
		}
	}
	require.Greater(t, read, 500)
}
