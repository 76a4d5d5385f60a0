package compare_test

import (
	"math/rand/v2"
	"slices"
	"strconv"
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

// fields returns some fields by which elements of lists are to be known.
func (g trees) fields() []string {
	if g.chance(50) {
		return nil
	}
	return []string{[]string{"v", "w", "id"}[g.IntN(3)], []string{"name", "w", "a"}[g.IntN(3)]}
}

// compared compares with all that may say by what elements of lists are known.
func (g trees) compared(cells ...value.Value) *compare.Node {
	fields, schema := g.fields(), g.fields()
	if schema == nil {
		return compare.CompareBy(fields, cells...)
	}
	at := func(path []string) []string { return schema[len(path)%2:] }
	return compare.CompareAs(fields, at, g.chance(20), cells...)
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
	n := g.compared(cells...)
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

// applied applies a JSON Patch (RFC 6902), as the standard has it.
func applied(t *testing.T, v value.Value, operations []compare.Operation) value.Value {
	for _, o := range operations {
		steps, err := place.ParsePointer(o.Path)
		require.NoError(t, err)
		switch o.Op {
		case "test":
			found, missing := place.Follow(v, steps)
			require.Empty(t, missing)
			require.True(t, value.Identical(o.Value, found.Value))
		case "add":
			v = edited(t, v, steps, o.Value, true)
		case "replace":
			v = edited(t, edited(t, v, steps, value.Value{}, false), steps, o.Value, true)
		case "remove":
			v = edited(t, v, steps, value.Value{}, false)
		case "move":
			from, err := place.ParsePointer(o.From)
			require.NoError(t, err)
			found, missing := place.Follow(v, from)
			require.Empty(t, missing)
			v = edited(t, edited(t, v, from, value.Value{}, false), steps, found.Value, true)
		default:
			t.Fatal(o.Op)
		}
	}
	return v
}

// edited adds a value at a place, or removes the one that is there.
func edited(t *testing.T, v value.Value, steps []string, x value.Value, add bool) value.Value {
	if len(steps) == 0 {
		return x
	}
	if v.Kind() == value.List {
		at, err := strconv.Atoi(steps[0])
		require.NoError(t, err)
		elements := slices.Clone(v.Elements())
		switch {
		case len(steps) > 1:
			elements[at] = edited(t, elements[at], steps[1:], x, add)
		case add:
			elements = slices.Insert(elements, at, x)
		default:
			elements = slices.Delete(elements, at, at+1)
		}
		return value.ListOf(elements, 0)
	}
	require.Equal(t, value.Record, v.Kind())
	var b value.Builder
	for i, key := range v.Shape().Keys() {
		switch {
		case key != steps[0]:
			b.Set(key, v.Values()[i])
		case len(steps) > 1:
			b.Set(key, edited(t, v.Values()[i], steps[1:], x, add))
		}
	}
	if len(steps) == 1 && add {
		b.Set(steps[0], x)
	}
	return b.Record(0)
}

// TestPatches checks that the patch of two sides, applied to the first, gives the second.
func TestPatches(t *testing.T) {
	moves := 0
	for seed := range uint64(4000) {
		g := trees{rand.New(rand.NewPCG(seed, 5))}
		left := g.value(4)
		right := g.changed(left, 4)
		operations := g.compared(left, right).Patch()
		require.True(t, value.Identical(right, applied(t, left, operations)), "%s\n%s\n%v", left.Show(1<<20),
			right.Show(1<<20), operations)
		for _, o := range operations {
			if o.Op == "move" {
				moves++
			}
		}
	}
	require.Greater(t, moves, 100)
}
