package compare_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/place"
	"knothole/core/value"
)

// trees makes random data, and changes it.
type trees struct{ *rand.Rand }

func (g trees) chance(percent int) bool { return g.IntN(100) < percent }

func (g trees) word() string {
	return []string{"tern", "heron", "gull", "8080", "a\nb\nc\n", "a\nx\nc\nd\n", `{"a": 1}`, `{"a": 2}`, ""}[g.IntN(9)]
}

func (g trees) value(depth int) value.Value {
	kind := g.IntN(8)
	if depth <= 0 {
		kind = g.IntN(5)
	}
	switch kind {
	case 0:
		return value.NullOf(0)
	case 1:
		return value.BoolOf(g.chance(50), 0)
	case 2:
		return value.IntOf(g.Int64N(4), 0)
	case 3, 4:
		return value.StringOf(g.word(), 0)
	case 5:
		var elements []value.Value
		for range g.IntN(5) {
			elements = append(elements, g.value(depth-1))
		}
		return value.ListOf(elements, 0)
	case 6: // with a key
		var elements []value.Value
		field := []string{"name", "id", "port"}[g.IntN(3)]
		for i := range g.IntN(5) {
			var b value.Builder
			b.Set(field, value.StringOf([]string{"a", "b", "c", "d", "e"}[(i+g.IntN(2))%5], 0))
			b.Set("v", g.value(depth-1))
			b.Set("w", g.value(0))
			elements = append(elements, b.Record(0))
		}
		return value.ListOf(elements, 0)
	}
	var b value.Builder
	for range g.IntN(4) {
		b.Set([]string{"a", "b", "name", "x-y"}[g.IntN(4)], g.value(depth-1))
	}
	return b.Record(0)
}

// changed returns a value with some changes.
func (g trees) changed(v value.Value, depth int) value.Value {
	if g.chance(10) {
		return g.value(depth)
	}
	switch v.Kind() {
	case value.Record:
		var b value.Builder
		for i, key := range v.Shape().Keys() {
			if !g.chance(10) {
				b.Set(key, g.changed(v.Values()[i], depth-1))
			}
		}
		if g.chance(10) {
			b.Set("new", g.value(1))
		}
		return b.Record(0)
	case value.List:
		var elements []value.Value
		for _, x := range v.Elements() {
			switch {
			case g.chance(10):
			case g.chance(10):
				elements = append(elements, g.value(1), x)
			default:
				elements = append(elements, g.changed(x, depth-1))
			}
		}
		if g.chance(25) {
			g.Shuffle(len(elements), func(i, j int) { elements[i], elements[j] = elements[j], elements[i] })
		}
		return value.ListOf(elements, 0)
	}
	return v
}

// at follows a path in a value.
func at(v value.Value, path *place.Path) value.Value {
	for _, step := range path.Steps() {
		if step.Kind == place.Field {
			v = v.Get(step.Name)
		} else {
			v = v.Elements()[step.Index]
		}
	}
	return v
}

// rebuilt holds for random sides that each is made of the first by what differs, that each row is a difference at the
// places that it names, and that nothing is said where nothing differs.
func rebuilt(t *testing.T, seed uint64) (told int) {
	g := trees{rand.New(rand.NewPCG(seed, 3))}
	cells := []value.Value{g.value(4)}
	for range 1 + g.IntN(3) {
		cells = append(cells, g.changed(cells[0], 4))
	}
	n := compare.Compare(cells...)
	differ := false
	for side, v := range cells {
		differ = differ || !value.Identical(cells[0], v)
		require.True(t, value.Identical(v, n.Rebuild(cells[0], side)), "%s\n%s\n%s", cells[0].Show(1<<20), v.Show(1<<20),
			n.Rebuild(cells[0], side).Show(1<<20))
	}
	require.Equal(t, differ, n != nil)
	rows := n.Rows()
	require.Equal(t, differ, len(rows) > 0)
	shown := map[string]bool{}
	for _, r := range rows {
		label := r.Path.String() + " of " + cells[0].Show(1<<20) + " and " + cells[1].Show(1<<20)
		distinct := false
		for side, v := range r.Cells {
			distinct = distinct || v.IsAbsent() != r.Cells[0].IsAbsent() ||
				!v.IsAbsent() && !value.Identical(v, r.Cells[0])
			switch {
			case r.Kind == compare.Order || r.Kind == compare.Renamed:
			case r.Paths[side] == nil && r.Path != nil:
				require.True(t, v.IsAbsent(), label)
			case !v.IsAbsent():
				require.True(t, value.Identical(v, at(cells[side], r.Paths[side])), label)
			}
		}
		require.True(t, distinct || r.Kind == compare.Moved, label)
		if len(cells) == 2 {
			require.False(t, r.IsGone(cells[0], cells[1]), label)
			require.True(t, r.IsGone(cells[0], cells[0]), label)
			require.True(t, r.IsGone(cells[1], n.Rebuild(cells[0], 1)), label)
		}
		shown[string(r.Kind)+r.Path.Pointer()] = true
	}
	return len(rows)
}

// FuzzRebuilt: whatever the sides, each is made of the first by what is said to differ.
func FuzzRebuilt(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { rebuilt(t, seed) })
}

// TestRebuilt is a part of what FuzzRebuilt tries.
func TestRebuilt(t *testing.T) {
	told := 0
	for seed := range uint64(4000) {
		told += rebuilt(t, seed)
	}
	require.Greater(t, told, 4000)
}
