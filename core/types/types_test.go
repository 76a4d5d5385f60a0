package types_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/types"
)

// TestKinds holds what each kind of type is made of, what is underlying it, and how it is written.
func TestKinds(t *testing.T) {
	u := types.NewUniverse()
	limited := u.Limit(types.Int, []*types.Condition{{Number: 1, Text: "it > 0"}})
	named := u.Named("Port")
	named.Resolve(limited)
	for _, row := range []struct {
		of         types.Type
		underlying types.Type // nil for the type itself
		text       string
		parts      []string
	}{
		{types.Int, nil, "int", nil},
		{u.Literal("a"), nil, `"a"`, nil},
		{u.Literal(1.5), nil, "1.5", nil},
		{u.List(types.Int), nil, "[int]", []string{"int"}},
		{u.Set(types.Int), nil, "{int}", []string{"int"}},
		{u.Tuple(types.Int, types.String), nil, "[int, string]", []string{"int", "string"}},
		{u.Union(types.Int, types.Null), nil, "int?", []string{"int", "null"}},
		{u.Union(types.Int, u.Literal("a")), nil, `int | "a"`, []string{"int", `"a"`}},
		{u.Map(types.Bool), nil, "{ *: bool }", []string{"bool"}},
		{u.Record([]types.Field{{Name: "a", Type: types.Int, Optional: true}}, types.Any), nil, "{ a?: int, *: any }",
			[]string{"int", "any"}},
		{u.Function([]types.Type{types.Int}, 1, types.Bool), nil, "fn(int) -> bool", []string{"int", "bool"}},
		{u.Instance(3, "m.Instance"), nil, "m.Instance", nil},
		{limited, types.Int, "int", []string{"int"}},
		{named, types.Int, "Port", []string{"int"}},
		{u.Variable("T"), nil, "T", nil},
	} {
		underlying := row.underlying
		if underlying == nil {
			underlying = row.of
		}
		require.Equal(t, underlying, row.of.Underlying(), row.text)
		require.Equal(t, row.text, row.of.String())
		var parts []string
		types.Inspect(row.of, func(x types.Type) bool {
			if x != row.of {
				parts = append(parts, x.String())
			}
			return x == row.of
		})
		require.Equal(t, row.parts, parts, row.text)
	}
}

// TestSameTypeIsOne checks that equal types are one, and that names and instances of different modules are not.
func TestSameTypeIsOne(t *testing.T) {
	u := types.NewUniverse()
	made := func() []types.Type {
		return []types.Type{u.List(types.Int), u.Set(types.Int), u.Tuple(types.Int, types.Int), u.Literal("x"),
			u.Union(types.Int, types.String), u.Map(types.Int), u.Function(nil, 0, types.Int), u.Instance(1, "a"),
			u.Record([]types.Field{{Name: "a", Type: types.Int}}, nil), u.Variable("T")}
	}
	first := made()
	require.Equal(t, first, made())
	for i, a := range first {
		for j, b := range first {
			require.Equal(t, i == j, a == b, "%s and %s", a, b)
		}
	}
	require.NotSame(t, u.Named("A"), u.Named("A"))
	require.NotEqual(t, u.Instance(1, "a"), u.Instance(2, "a"))
	secret := []types.Field{{Name: "a", Type: types.Int, Secret: true}}
	require.NotEqual(t, first[8], u.Record(secret, nil))
	require.NotEqual(t, first[8], u.RecordOf([]types.Field{{Name: "a", Type: types.Int}}, nil, true), "a loose one")
}

// TestMapParts checks that changing nothing gives the same type, and that every part is reached.
func TestMapParts(t *testing.T) {
	u := types.NewUniverse()
	for _, of := range []types.Type{types.Int, u.List(types.Int), u.Set(types.Int), u.Tuple(types.Int, types.Int),
		u.Union(types.Int, types.Bool), u.Function([]types.Type{types.Int, types.Int}, 1, types.Int),
		u.RecordOf([]types.Field{{Name: "a", Type: types.Int, Optional: true}}, types.Int, true)} {
		require.Equal(t, of, u.MapParts(of, func(x types.Type) types.Type { return x }), of.String())
		changed := u.MapParts(of, func(x types.Type) types.Type {
			if x == types.Int {
				return types.String
			}
			return x
		})
		types.Inspect(changed, func(x types.Type) bool {
			require.False(t, x == types.Int && changed != of, changed.String())
			return true
		})
	}
}

// TestLazy checks that what a lazy name stands for is found when it is needed and not before, once, and that it may
// contain itself.
func TestLazy(t *testing.T) {
	u := types.NewUniverse()
	asked := 0
	var tree *types.Named
	tree = u.Lazy("Tree", func() types.Type {
		asked++
		return u.Record([]types.Field{{Name: "kids", Type: u.List(tree)}}, nil)
	})
	list := u.List(tree)
	require.Equal(t, "[Tree]", list.String())
	require.Zero(t, asked, "it is not needed to make or write types of it")
	require.NotNil(t, types.AsRecord(tree))
	require.True(t, types.IsData(list))
	require.True(t, types.Fits(list, list))
	require.Equal(t, 1, asked)
}

// chain makes a recursive type: a record with a value, and optionally another of its kind.
func chain(u *types.Universe, name string, of types.Type) *types.Named {
	t := u.Named(name)
	t.Resolve(u.Record([]types.Field{{Name: "next", Type: u.Optional(t)}, {Name: "value", Type: of}}, nil))
	return t
}

// TestRecursiveTypes checks that types that contain themselves fit by what they hold, in any order of asking: what was
// found while an answer was assumed does not stay when the assumption proves wrong.
func TestRecursiveTypes(t *testing.T) {
	for _, order := range [][]int{{0, 1, 2, 3}, {3, 2, 1, 0}, {2, 0, 3, 1}} {
		u := types.NewUniverse()
		a, b := chain(u, "A", types.Int), chain(u, "B", types.String)
		same := chain(u, "Same", types.Int)
		c := u.Named("C") // its first is as A is, those after it as B is
		c.Resolve(u.Record([]types.Field{{Name: "next", Type: u.Optional(b)}, {Name: "value", Type: types.Int}}, nil))
		questions := []struct {
			from, to types.Type
			want     bool
		}{{a, u.Union(b, c), false}, {a, c, false}, {a, same, true}, {a, u.Union(c, same), true}}
		for range 2 { // the second time from memory
			for _, i := range order {
				q := questions[i]
				require.Equal(t, q.want, types.Assignable(q.from, q.to), "%s to %s, order %v", q.from, q.to, order)
			}
		}
	}
}

// TestNothingIsRememberedTooEarly checks that what is asked of a name that is being resolved is asked again afterwards.
func TestNothingIsRememberedTooEarly(t *testing.T) {
	u := types.NewUniverse()
	named := u.Named("Later")
	list := u.List(named)
	records := u.List(u.Map(types.Int))
	require.True(t, types.Assignable(list, records), "nothing is known of it")
	named.Resolve(types.Int)
	require.False(t, types.Assignable(list, records))
	require.True(t, types.Assignable(list, u.List(types.Int)))
}

// BenchmarkRecursiveUnion asks whether unions of many records that contain one another fit.
func BenchmarkRecursiveUnion(b *testing.B) {
	for _, n := range []int{60, 120, 240} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				u := types.NewUniverse()
				union := func(name string) types.Type {
					whole := u.Named(name)
					members := make([]types.Type, n)
					for i := range members {
						members[i] = u.Record([]types.Field{{Name: "kind", Type: u.Literal(fmt.Sprint(i))},
							{Name: "of", Type: u.List(whole)}}, nil)
					}
					whole.Resolve(u.Union(members...))
					return whole
				}
				if !types.Assignable(union("A"), union("B")) {
					b.Fatal("they fit")
				}
			}
		})
	}
}
