package types_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/types"
)

// TestAssignable holds what may be where something else is expected, for the corners of records, functions and
// types that contain themselves.
func TestAssignable(t *testing.T) {
	u := types.NewUniverse()
	field := func(name string, of types.Type) types.Field { return types.Field{Name: name, Type: of} }
	optional := func(name string, of types.Type) types.Field {
		return types.Field{Name: name, Type: of, Optional: true}
	}
	record := func(rest types.Type, fields ...types.Field) types.Type { return u.Record(fields, rest) }
	function := func(required int, result types.Type, parameters ...types.Type) types.Type {
		return u.Function(parameters, required, result)
	}
	// Two types that contain themselves and differ at the end, and one that is like the second.
	chain := func(name string, end, next types.Type) *types.Named {
		n := u.Named(name)
		if next == nil {
			next = n
		}
		n.Resolve(record(nil, field("n", u.Union(next, types.Null)), field("v", end)))
		return n
	}
	a, b := chain("A", types.Int, nil), chain("B", types.String, nil)
	c := chain("C", types.Int, b)
	for _, row := range []struct {
		from, to types.Type
		want     bool
	}{
		{record(nil, optional("a", types.Int)), record(nil, field("a", types.Int)), false},
		{record(nil, optional("a", types.Int)), record(nil, optional("a", types.Int)), true},
		{record(nil, field("a", types.Int)), record(nil, optional("a", types.Int)), true},
		{record(nil), record(nil, field("a", types.Int)), false},
		{record(nil), record(nil, optional("a", types.Int)), true},
		// The other keys of an open record may be those that a field has elsewhere.
		{record(types.Int), record(types.Int, optional("a", types.Int)), true},
		{record(types.Int), record(types.Int, optional("a", types.String)), false},
		{record(types.Int), record(types.Int, field("a", types.Int)), false},
		{record(types.Int), record(types.String), false},
		{record(types.Int), record(nil, optional("a", types.Int)), false},
		{record(nil, field("a", types.Int)), record(types.Int), true},
		{record(nil, field("a", types.String)), record(types.Int), false},
		// A function that needs more than it is called with cannot be called.
		{function(2, types.Int, types.Int, types.Int), function(1, types.Int, types.Int), false},
		{function(1, types.Int, types.Int, types.Int), function(1, types.Int, types.Int), true},
		{function(1, types.Int, types.Int), function(2, types.Int, types.Int, types.Int), false},
		{function(1, types.Int, types.Float), function(1, types.Int, types.Int), true},
		{function(1, types.String, types.Int), function(1, types.Int, types.Int), false},
		{a, a, true}, {a, b, false}, {b, a, false}, {a, c, false}, {c, a, false},
		{u.Union(a, b), u.Union(b, a), true}, {a, u.Union(b, c), false},
	} {
		require.Equal(t, row.want, types.Assignable(row.from, row.to), "%s to %s", row.from, row.to)
		if !row.want {
			require.True(t, types.Converts(row.from, row.to), "%s to %s must be checked", row.from, row.to)
		}
		require.Equal(t, row.want, types.Assignable(row.from, row.to), "%s to %s, asked again", row.from, row.to)
	}
}
