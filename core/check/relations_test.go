package check_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// universe is types by their texts. The declarations of all come before them.
type universe struct {
	*testing.T
	checked map[string]types.Type
	program *check.Program
}

func newUniverse(t *testing.T, declarations string, texts ...string) *universe {
	t.Helper()
	var b strings.Builder
	b.WriteString(declarations + "\n")
	for i, text := range texts {
		b.WriteString("type _X" + string(rune('A'+i/26)) + string(rune('A'+i%26)) + " = " + text + "\n")
	}
	set := source.NewSet()
	file, err := set.Add("types.knot", []byte(b.String()))
	require.NoError(t, err)
	m := &check.Module{Path: "types.knot", Tree: syntax.Parse(file)}
	require.Empty(t, m.Tree.Findings, b.String())
	u := &universe{T: t, checked: map[string]types.Type{}, program: &check.Program{Sources: set,
		Store: check.NewStore(), Modules: []*check.Module{m}}}
	require.False(t, check.Check(u.program).HasErrors())
	for i, text := range texts {
		u.checked[text] = m.Objects["_X"+string(rune('A'+i/26))+string(rune('A'+i%26))].Type.(*types.Named).Base()
	}
	return u
}

// relations is what is declared for the table of relations.
const relations = `
type A = { n: A?, v: int }
type B = { n: B?, v: string }
type C = { n: B?, v: int }
type Port = int where it in 1..100
type Site = { name: string, port: int = 80 }
type Tree = { v: int, kids: [Tree] }
type Wood = { v: float, kids: [Wood] }
`

// TestRelations holds for pairs of types whether one may be where the other is expected (assignable), whether its
// values then change or are tested (converts), whether all of them are of the other as they are (fits), and whether
// some value is of both.
func TestRelations(t *testing.T) {
	rows := []struct {
		from, to                            string
		assignable, converts, fits, overlap bool
	}{
		{"int", "int", true, false, true, true},
		{"int", "float", true, true, false, true},
		{"float", "int", false, false, false, true},
		{`"a"`, "string", true, false, true, true},
		{`"a"`, `"a" | "b"`, true, false, true, true},
		{"string", `"a" | "b"`, false, false, false, true},
		{"bool", "true | false", true, true, true, true},
		{"int", "Port", true, true, false, true},
		{"Port", "int", true, false, true, true},
		{"Port", "Port", true, false, true, true},
		{"any", "[int]", true, true, false, true},
		{"[int]", "any", true, false, true, true},
		{"[int]", "{int}", true, true, false, true},
		{"{int}", "[int]", true, false, true, true},
		{"{int}", "{int}", true, false, true, true},
		{"[int, string]", "[int | string]", true, false, true, true},
		{"[int | string]", "[int, string]", false, false, false, true},
		{"[int, int]", "[int, float]", true, true, false, true},
		{"{ name: string }", "Site", true, true, false, true},
		{"{ name: string, port: int }", "Site", true, false, true, true},
		{"{ port: int, name: string }", "Site", true, true, true, true},
		{"{ name: string, size: int }", "Site", false, false, false, true},
		{"{ name?: string, port: int }", "Site", false, false, false, true},
		{"{ name: string, port?: int }", "Site", true, true, false, true},
		{"{ a: int }", "{ *: int }", true, false, true, true},
		{"{ a: string }", "{ *: int }", false, false, false, true},
		{"{ *: int }", "{ a?: int, *: int }", true, true, true, true},
		{"{ *: int }", "{ a: int, *: int }", false, false, false, true},
		{"{ *: any }", "{ a: int }", true, true, false, true},
		{"{ *: int }", "{ a?: int }", false, false, false, true}, // other keys would not be of it
		{"{ *: int }", "{ *: string }", false, false, false, true},
		{"{ *: any }", "{ *: int }", true, true, false, true},
		{"int?", "int", false, false, false, true},
		{"int", "int?", true, false, true, true},
		{"null", "int?", true, false, true, true},
		{"string", "int", false, false, false, false},
		{"[int]", "{ *: int }", false, false, false, false},
		{"A", "A", true, false, true, true},
		{"A", "B | C", false, false, false, true}, // not even when it is asked for its parts
		{"A", "C", false, false, false, true},
		{"Tree", "Wood", true, true, false, true},
		{"fn(int) -> int", "fn(int) -> int", true, false, true, true},
		{"fn(Port) -> int", "fn(int) -> int", true, true, false, true},
		{"fn(any) -> int", "fn(int) -> int", true, false, true, true},
		{"fn(int) -> any", "fn(int) -> int", true, true, false, true},
		{"fn(int) -> int", "fn(int) -> float", true, true, false, true},
		{"fn(int, int) -> int", "fn(int) -> int", false, false, false, true},
		{"fn(string) -> int", "fn(int) -> int", false, false, false, true},
		{"fn(int) -> int", "any", false, false, false, true},
	}
	var texts []string
	for _, r := range rows {
		texts = append(texts, r.from, r.to)
	}
	u := newUniverse(t, relations, texts...)
	for _, r := range rows {
		from, to := u.checked[r.from], u.checked[r.to]
		require.Equal(t, r.assignable, types.Assignable(from, to), "assignable: %s to %s", r.from, r.to)
		require.Equal(t, r.fits, types.Fits(from, to), "fits: %s into %s", r.from, r.to)
		require.Equal(t, r.overlap, types.Overlap(from, to), "overlap: %s and %s", r.from, r.to)
		if r.assignable {
			require.Equal(t, r.converts, types.Converts(from, to), "converts: %s to %s", r.from, r.to)
		}
	}
}

// TestRelationsAgree holds laws between the relations, for all pairs: what fits is assignable, what is assignable and
// does not convert fits, what is not assignable converts, each type fits itself, and what fits overlaps.
func TestRelationsAgree(t *testing.T) {
	texts := []string{"int", "float", "string", "bool", "null", "any", `"a"`, `"a" | "b"`, "1", "int?", "[int]",
		"[float]", "{int}", "{string}", "[int, string]",
		"{ a: int }", "{ a?: int }", "{ a: int = 1 }", "{ *: int }", "{ a: int, *: any }", "{ b: int, a: int }", "A",
		"B", "C", "Port", "Site", "Tree", "Wood", "int | [int]",
		"{ a: int } | { b: int }", "[int]?", "{ a: {int} }", "{ a: [int] }", "{ a: float }", "fn(int) -> int",
		"fn(Port) -> any", "(fn(int) -> int)?"}
	u := newUniverse(t, relations, texts...)
	for _, a := range texts {
		for _, b := range texts {
			from, to := u.checked[a], u.checked[b]
			if types.Fits(from, to) {
				require.True(t, types.Assignable(from, to), "%s fits %s", a, b)
				require.True(t, types.Overlap(from, to), "%s fits %s", a, b)
			}
			if types.Assignable(from, to) && !types.Converts(from, to) {
				require.True(t, types.Fits(from, to), "%s is assignable to %s and does not convert", a, b)
			}
			if !types.Assignable(from, to) {
				require.True(t, types.Converts(from, to), "%s is not assignable to %s: as must check it", a, b)
			}
			require.Equal(t, types.Overlap(from, to), types.Overlap(to, from), "%s and %s", a, b)
		}
		require.True(t, types.Fits(u.checked[a], u.checked[a]), a)
	}
}

// TestUnion holds what is left when types are united.
func TestUnion(t *testing.T) {
	texts := []string{"int", "string", `"a"`, `"b"`, "null", "any", "{ a: int }", "{ *: int }", "[int]",
		"fn(int) -> int"}
	u := newUniverse(t, "", texts...)
	of := u.program.Universe
	for _, row := range []struct {
		want  string
		parts []string
	}{
		{"int", []string{"int", "int"}},
		{"int | string", []string{"int", "string", "int"}},
		{"string", []string{`"a"`, "string", `"b"`}},
		{`"a" | "b"`, []string{`"a"`, `"b"`, `"a"`}},
		{"int?", []string{"int", "null"}},
		{"any", []string{"int", "any", "[int]"}},
		{"any | fn(int) -> int", []string{"any", "fn(int) -> int", "int"}},
	} {
		var parts []types.Type
		for _, p := range row.parts {
			parts = append(parts, u.checked[p])
		}
		require.Equal(t, row.want, of.Union(parts...).String(), row.parts)
	}
	empty, none := of.Record(nil, nil), of.List(types.Never)
	require.Equal(t, "{ *: int }", of.Union(u.checked["{ *: int }"], empty).String(), "an empty record is a map")
	require.Equal(t, "{ a: int } | {}", of.Union(u.checked["{ a: int }"], empty).String(), "but not one with fields")
	require.Equal(t, "[int]", of.Union(none, u.checked["[int]"]).String())
}

// TestLoose checks that what `is` says of a value changes when it passes on: sets and fields are not in their order
// yet.
func TestLoose(t *testing.T) {
	texts := []string{"int", "Port", "{int}", "Site", "{ *: int }", "Tree", `"a" | "b"`, "[{ a: {string} }]"}
	u := newUniverse(t, relations, texts...)
	for _, text := range texts {
		asked := u.checked[text]
		loose := u.program.Universe.Loose(asked)
		require.True(t, types.Assignable(loose, asked), text)
		changes := text != "int" && text != "Port" && text != "{ *: int }" && text != `"a" | "b"`
		require.Equal(t, changes, types.Converts(loose, asked), text)
	}
}

// TestOperatorsTakeUnions checks that an operator takes a union exactly when it takes each of its members, on either
// side.
func TestOperatorsTakeUnions(t *testing.T) {
	texts := []string{"int", "float", "string", "bool", "null", "[int]", "[string]", "{string}", "[int, int]",
		"{ a: int }", "{ b?: int }", "{ *: int }", `"a"`, "2"}
	accepted := func(left, operator, right string) bool {
		set := source.NewSet()
		file, err := set.Add("main.knot", []byte("input l: "+left+"\ninput r: "+right+"\noutput o = l "+operator+" r\n"))
		require.NoError(t, err)
		m := &check.Module{Path: "main.knot", Tree: syntax.Parse(file)}
		require.Empty(t, m.Tree.Findings)
		return !check.Check(&check.Program{Sources: set, Store: check.NewStore(),
			Modules: []*check.Module{m}}).HasErrors()
	}
	for _, operator := range []string{"+", "-", "*", "/", "%", "<", "in", "not in", "with", "..", "and"} {
		single := map[[2]string]bool{}
		for _, l := range texts {
			for _, r := range texts {
				single[[2]string{l, r}] = accepted(l, operator, r)
			}
		}
		some := 0
		for i, a := range texts {
			for _, b := range texts[i+1:] {
				for _, c := range texts {
					for side := range 2 {
						one, other, union := [2]string{a, c}, [2]string{b, c}, [2]string{a + " | " + b, c}
						if side == 1 {
							one, other, union = [2]string{c, a}, [2]string{c, b}, [2]string{c, a + " | " + b}
						}
						each := single[one] && single[other]
						if each {
							some++
						}
						if !each && strings.HasSuffix(operator, "in") {
							continue // a member that is never in a list may be one of several
						}
						require.Equal(t, each, accepted(union[0], operator, union[1]), "%s %s %s: of the members %v, %v",
							union[0], operator, union[1], single[one], single[other])
					}
				}
			}
		}
		require.True(t, some > 0 || operator == ".." || operator == "and" || operator == "with", operator)
	}
}
