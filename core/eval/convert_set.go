package eval

import (
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// set converts a list into a set: a sorted list without repetitions.
func (c *conversion) set(v value.Value, to *types.Set, path *place.Path) value.Value {
	before := len(c.misfits)
	v = c.value(v, to.List(), path)
	if len(c.misfits) > before || v.Kind() != value.List {
		return v
	}
	c.spend(8*v.Len(), source.At(c.recorder.Pos(v.Origin())))
	if m := c.marks(v); m != 0 {
		c.misfit(path, v, source.HiddenDecision, "use a list",
			"the elements of a set are put in order, and some are %s", adjective(m))
		return v
	}
	elements := slices.Clone(v.Elements())
	keys := make(map[value.Value]string, len(elements))
	for _, x := range elements {
		if x.Kind() == value.List || x.Kind() == value.Record {
			for _, problem := range data.Check(x, data.JSON) {
				c.misfit(path, v, source.TooMuchWork, problem.Help, "an element of a set is too large: %s",
					problem.Message)
				return v
			}
			keys[x] = data.CompactJSON(sortedKeys(x))
			c.spend(len(keys[x]), source.At(c.recorder.Pos(x.Origin())))
		}
	}
	slices.SortStableFunc(elements, func(a, b value.Value) int { return setOrder(a, b, keys) })
	for i := 1; i < len(elements); i++ {
		if setOrder(elements[i-1], elements[i], keys) == 0 {
			c.misfit(path, elements[i], source.Repetition, "remove one of the two", "%s occurs twice in a set",
				elements[i].Show(60))
		}
	}
	return value.ListOf(elements, v.Origin())
}

// sortedKeys returns a value with the entries of all records in the order of their keys, which means nothing to
// equality.
func sortedKeys(v value.Value) value.Value {
	switch v.Kind() {
	case value.List:
		elements := make([]value.Value, v.Len())
		for i, x := range v.Elements() {
			elements[i] = sortedKeys(x)
		}
		return value.ListOf(elements, v.Origin())
	case value.Record:
		var b value.Builder
		for _, key := range slices.Sorted(slices.Values(v.Shape().Keys())) {
			b.Set(key, sortedKeys(v.Get(key)))
		}
		return b.Record(v.Origin())
	}
	return v
}

// setOrder orders the elements of a set: by their kinds, numbers by size, strings by code point, others by their JSON.
func setOrder(a, b value.Value, keys map[value.Value]string) int {
	rank := func(v value.Value) int {
		if v.Kind() == value.Int {
			return int(value.Float)
		}
		return int(v.Kind())
	}
	switch {
	case rank(a) != rank(b):
		return rank(a) - rank(b)
	case a.Kind() == value.List || a.Kind() == value.Record:
		return strings.Compare(keys[a], keys[b])
	case a.Kind() == value.Bool:
		return value.Compare(value.IntOf(boolNumber(a), 0), value.IntOf(boolNumber(b), 0))
	case a.Kind() == value.Null:
		return 0
	}
	return value.Compare(a, b)
}

func boolNumber(v value.Value) int64 {
	if v.Bool() {
		return 1
	}
	return 0
}
