package compare_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/place"
	"knothole/core/value"
)

// secretsIn puts secrets that are not read in place of some scalars.
func (g trees) secretsIn(v value.Value) value.Value {
	switch v.Kind() {
	case value.Record:
		var b value.Builder
		for i, key := range v.Shape().Keys() {
			b.Set(key, g.secretsIn(v.Values()[i]))
		}
		return b.Record(0)
	case value.List:
		var elements []value.Value
		for _, x := range v.Elements() {
			elements = append(elements, g.secretsIn(x))
		}
		return value.ListOf(elements, 0)
	}
	if g.chance(20) {
		return value.StringOf("‹secret›", 0).WithMark(value.Secret | value.Unknown)
	}
	return v
}

// unreadPlaces are the pointers to the secrets in a value that are not read.
func unreadPlaces(v value.Value, at *place.Path) (all []string) {
	switch {
	case v.Secret() && v.Unknown():
		return []string{at.Pointer()}
	case v.Kind() == value.List:
		for i, x := range v.Elements() {
			all = append(all, unreadPlaces(x, at.Index(i))...)
		}
	case v.Kind() == value.Record:
		for i, key := range v.Shape().Keys() {
			all = append(all, unreadPlaces(v.Values()[i], at.Field(key))...)
		}
	}
	return all
}

// unreadTold holds for two random sides with secrets that are not read: what is the same and holds one is not said to
// be the same, all of its places are listed, and a place that is listed holds one.
func unreadTold(t *testing.T, seed uint64) (listed int) {
	g := trees{rand.New(rand.NewPCG(seed, 7))}
	left := g.secretsIn(g.value(4))
	right := g.changed(left, 4)
	if g.chance(30) {
		right = left
	}
	c, err := compare.Compared(t.Context(), []compare.Side{
		{Name: "left", Contents: map[string]*compare.Content{"a.yaml": {Value: left}}},
		{Name: "right", Contents: map[string]*compare.Content{"a.yaml": {Value: right}}}})
	require.NoError(t, err)
	d := c.Documents[0]
	held := unreadPlaces(left, nil)
	var told []string
	for _, u := range d.Unread {
		told = append(told, u.Path.Pointer())
		require.Contains(t, held, u.Path.Pointer())
		require.Len(t, u.From, 2)
	}
	require.Equal(t, len(d.Unread), c.Unread)
	if value.Identical(left, right) {
		slices.Sort(held)
		slices.Sort(told)
		require.Equal(t, held, told, left.Show(1<<20))
		require.Equal(t, len(held) == 0, d.Status == compare.Same)
	}
	require.False(t, d.Status == compare.Same && len(held) > 0, left.Show(1<<20)+" "+right.Show(1<<20))
	return len(told)
}

func TestUnread(t *testing.T) {
	listed := 0
	for seed := range uint64(4000) {
		listed += unreadTold(t, seed)
	}
	require.Greater(t, listed, 1000)
}

func FuzzUnread(f *testing.F) {
	f.Fuzz(func(t *testing.T, seed uint64) { unreadTold(t, seed) })
}
