package place_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/place"
	"knothole/core/value"
)

func always([][]string) bool { return true }

// TestKeys holds by which field elements are known: the first that all have, and no two the same.
func TestKeys(t *testing.T) {
	object := func(kind, name string) value.Value {
		return record("kind", kind, "metadata", record("name", name))
	}
	for _, row := range []struct {
		elements []any
		want     []string
	}{
		{[]any{record("name", "a"), record("name", "b")}, []string{"a", "b"}},
		{[]any{record("name", "a"), record("name", "a")}, nil},
		{[]any{record("name", "a", "id", 1), record("name", "a", "id", 2)}, []string{"1", "2"}},
		{[]any{record("port", 80), record("port", "http")}, []string{"80", "http"}},
		{[]any{object("Service", "a"), object("Job", "b")}, []string{"a", "b"}},
		{[]any{object("Service", "a"), object("Job", "a")}, []string{"Service a", "Job a"}},
		{[]any{record("name", "a"), "b"}, nil},
		{[]any{record("x", "a")}, nil},
		{[]any{record("name", record("a", 1))}, nil},
	} {
		keys := place.Keys(always, list(row.elements...).Elements())
		if row.want == nil {
			require.Nil(t, keys)
			continue
		}
		require.Equal(t, [][]string{row.want}, keys)
		for i, e := range list(row.elements...).Elements() {
			require.True(t, place.IsKnownAs(e, row.want[i]))
			require.False(t, place.IsKnownAs(e, "other"))
		}
	}
}

// TestHiddenIsNoName checks that what is secret names nothing, since names are shown.
func TestHiddenIsNoName(t *testing.T) {
	hidden := value.StringOf("pin", 0).WithMark(value.Secret)
	require.Empty(t, place.Kind(record("kind", hidden)))
	require.Empty(t, place.Title(record("kind", "Service", "metadata", record("name", hidden))))
	require.Nil(t, place.Keys(always, list(record("name", hidden)).Elements()))
	require.False(t, place.IsKnownAs(record("name", hidden), "pin"))
}

// TestNamer holds how paths are shown in data: elements by what they are known by.
func TestNamer(t *testing.T) {
	data := record("list", list(record("name", "a", "n", list(1, 2)), record("name", "b")), "odd", list(record("x", 1)))
	var none *place.Path
	for want, path := range map[string]*place.Path{
		"list[b].name": none.Field("list").Index(1).Field("name"),
		"list[a].n[1]": none.Field("list").Index(0).Field("n").Index(1),
		"odd[0].x":     none.Field("odd").Index(0).Field("x"),
		"list[a]":      none.Field("list").Keyed("whatever", 0),
	} {
		require.Equal(t, want, new(place.Namer).Path(data, path).String())
	}
}
