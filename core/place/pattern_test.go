package place_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/place"
	"knothole/core/value"
)

// record makes a record of keys and values by turns, in place of which texts and numbers stand for themselves.
func record(entries ...any) value.Value {
	var b value.Builder
	for i := 0; i < len(entries); i += 2 {
		b.Set(entries[i].(string), of(entries[i+1]))
	}
	return b.Record(0)
}

func list(elements ...any) value.Value {
	values := make([]value.Value, len(elements))
	for i, x := range elements {
		values[i] = of(x)
	}
	return value.ListOf(values, 0)
}

func of(x any) value.Value {
	switch x := x.(type) {
	case int:
		return value.IntOf(int64(x), 0)
	case string:
		return value.StringOf(x, 0)
	}
	return x.(value.Value)
}

func key(name string) place.PatternStep {
	return place.PatternStep{Kind: place.OneKey, Keys: []string{name}}
}

func index(i int64) place.PatternStep { return place.PatternStep{Kind: place.OneIndex, Index: i} }

func larger(kind place.PatternKind, than int64) place.PatternStep {
	return place.PatternStep{Kind: kind, Holds: func(v value.Value) bool { return v.Int() > than }}
}

// edit is a change that puts the text "new", and counts its work.
func edit(verb place.Verb, lenient bool, spent *int) *place.Edit {
	return &place.Edit{
		Verb: verb, Lenient: lenient, Spend: func(n int) { *spent += n },
		Value: func(value.Value) value.Value { return of("new") },
		Join: func(under, over value.Value) value.Value {
			return value.ListOf([]value.Value{under, over},
				0) // joining is for the caller; that it is asked is what counts
		},
	}
}

func TestChange(t *testing.T) {
	data := record("a", record("b", 1), "xs", list(1, 2, 3))
	for _, c := range []struct {
		name    string
		verb    place.Verb
		pattern place.Pattern
		want    value.Value
		places  int
	}{
		{"replace a field", place.Replace, place.Pattern{key("a"), key("b")},
			record("a", record("b", "new"), "xs", list(1, 2, 3)), 1},
		{"add a field behind the others", place.Add, place.Pattern{key("a"), key("c")},
			record("a", record("b", 1, "c", "new"), "xs", list(1, 2, 3)), 1},
		{"put one that is there", place.Put, place.Pattern{key("a")}, record("a", "new", "xs", list(1, 2, 3)), 1},
		{"remove a field", place.Remove, place.Pattern{key("a")}, record("xs", list(1, 2, 3)), 1},
		{"remove elements", place.Remove, place.Pattern{key("xs"), larger(place.SomeElements, 1)},
			record("a", record("b", 1), "xs", list(1)), 2},
		{"add before an element", place.Add, place.Pattern{key("xs"), index(-1)},
			record("a", record("b", 1), "xs", list(1, 2, "new", 3)), 1},
		{"add at the end", place.Add, place.Pattern{key("xs"), {Kind: place.End}},
			record("a", record("b", 1), "xs", list(1, 2, 3, "new")), 1},
		{"the only element", place.Replace, place.Pattern{key("xs"), larger(place.OneElement, 2)},
			record("a", record("b", 1), "xs", list(1, 2, "new")), 1},
		{"at any depth", place.Replace, place.Pattern{{Kind: place.AnyDepth}, key("b")},
			record("a", record("b", "new"), "xs", list(1, 2, 3)), 1},
		{"some of the keys", place.Replace, place.Pattern{{Kind: place.SomeKeys, Keys: []string{"zz", "a"}}},
			record("a", "new", "xs", list(1, 2, 3)), 1},
		{"every element", place.Replace, place.Pattern{key("xs"), {Kind: place.AnyElement}},
			record("a", record("b", 1), "xs", list("new", "new", "new")), 3},
		{"a record is joined", place.Merge, place.Pattern{key("a")},
			record("a", list(record("b", 1), "new"), "xs", list(1, 2, 3)), 1},
	} {
		spent := 0
		got, places, miss := place.Change(data, c.pattern, edit(c.verb, false, &spent))
		require.Nil(t, miss, c.name)
		require.Equal(t, c.places, places, c.name)
		require.True(t, value.Identical(c.want, got), "%s: %s", c.name, got.Show(200))
		require.Positive(t, spent, c.name)
	}
	require.True(t, value.Identical(record("a", record("b", 1), "xs", list(1, 2, 3)), data),
		"the data itself is as it was")
}

func TestChangeThatMisses(t *testing.T) {
	data := record("a", record("b", 1), "xs", list(1, 2, 3), "empty", list())
	for _, c := range []struct {
		name    string
		verb    place.Verb
		pattern place.Pattern
		reason  place.Reason
		step    int
		path    string
		lenient bool // also a miss when the edit is lenient
	}{
		{"no such field", place.Replace, place.Pattern{key("a"), key("z")}, place.Missing, 1, "a", false},
		{"the way is not there", place.Put, place.Pattern{key("z"), key("b")}, place.Missing, 0, "", false},
		{"something is there", place.Add, place.Pattern{key("a"), key("b")}, place.Taken, 2, "a.b", false},
		{"a list has no fields", place.Put, place.Pattern{key("xs"), key("b")}, place.NotRecord, 1, "xs", false},
		{"a record has no elements", place.Put, place.Pattern{key("a"), index(0)}, place.NotList, 1, "a", false},
		{"none holds", place.Replace, place.Pattern{key("xs"), larger(place.SomeElements, 9)}, place.NoneHolds, 1,
			"xs", false},
		{"several hold", place.Replace, place.Pattern{key("xs"), larger(place.OneElement, 1)}, place.Several, 1, "xs",
			true},
		{"no record to join", place.Merge, place.Pattern{key("xs")}, place.CannotJoin, 1, "xs", false},
		{"no element at all", place.Remove, place.Pattern{key("empty"), {Kind: place.AnyElement}}, place.Missing, 1,
			"empty", false},
		{"nowhere below", place.Replace, place.Pattern{{Kind: place.AnyDepth}, key("q")}, place.Missing, 0, "", false},
	} {
		spent := 0
		got, _, miss := place.Change(data, c.pattern, edit(c.verb, false, &spent))
		require.NotNil(t, miss, c.name)
		require.Equal(t, []any{c.reason, c.step, c.path}, []any{miss.Reason, miss.Step, miss.Path.String()}, c.name)
		require.True(t, value.Identical(data, got), c.name)
		got, _, miss = place.Change(data, c.pattern, edit(c.verb, true, &spent))
		require.Equal(t, c.lenient, miss != nil, c.name)
		require.True(t, value.Identical(data, got), c.name)
	}
}
