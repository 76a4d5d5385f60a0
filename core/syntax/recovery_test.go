package syntax_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/syntax"
)

// outline writes the tree of a node: the kinds of its parts and the names in them.
func outline(n syntax.Node) string {
	name := strings.TrimPrefix(fmt.Sprintf("%T", n), "*syntax.")
	switch n := n.(type) {
	case *syntax.Name:
		return n.Name
	case *syntax.Int:
		return fmt.Sprint(n.Value)
	case *syntax.Bad:
		return "?"
	case *syntax.Field:
		return outline(n.Of) + "." + n.Name.Name
	case syntax.Declaration:
		name += " " + n.Declared().Name.Name
	}
	var parts []string
	for child := range syntax.Children(n) {
		parts = append(parts, outline(child))
	}
	return name + "(" + strings.Join(parts, " ") + ")"
}

// TestRecovery holds what is left of declarations that cannot be read to their ends: one error is reported of each,
// and all that could be read is in the tree.
func TestRecovery(t *testing.T) {
	for _, row := range []struct{ text, want string }{
		{"let b = x.\nlet c = 1\n", "Let b(x.) Let c(1)"},
		{"let b = x.y.\n", "Let b(x.y.)"},
		{"let b = f(x., 2)\nlet c = 1\n", "Let b(Call(f x. 2)) Let c(1)"},
		{"let b = [1, 2 3, 4]\n", "Let b(List(1 2 4))"},
		{"let b = [1, *, 4]\n", "Let b(List(1 Binary(? ?) 4))"},
		{"let b = { a: 1, b: , c: 3 }\n", "Let b(Record(1 ? 3))"},
		{"let b = {\n  a: 1\n  b\n  c: 3\n}\n", "Let b(Record(1 3))"},
		{"let b = 1 +\nlet c = 2\n", "Let b(Binary(1 ?)) Let c(2)"},
		{"let b =\nlet c = 2\n", "Let b(?) Let c(2)"},
		{"let b = f(g(h(x.)), 2)\n", "Let b(Call(f Call(g Call(h x.)) 2))"},
		{"let b = \"${x.}\"\nlet c = 2\n", "Let b(String(x.)) Let c(2)"},
		{"output b: int = list.\noutput c = 2\n", "Output b(NamedType() list.) Output c(2)"},
		{"fn f(a: int) -> int = a.\nlet c = 2\n", "Function f(NamedType() NamedType() a.) Let c(2)"},
		{"fn f(a: ) -> int = a\nlet c = 2\n", "Function f() Let c(2)"},
		{"for x in xs {\n  document \"a.yaml\" = 1 2\n  document \"b.yaml\" = 2\n}\n",
			"ForBlock (xs Document (String() 1) Document (String() 2))"},
		{"let b = (1\nlet c = 2\n", "Let b(?) Let c(2)"},
		{"let b = match x { 1 -> y., else -> 2 }\n", "Let b(Match(x 1 y. 2))"},
	} {
		file, err := source.NewSet().Add("main.knot", []byte(row.text))
		require.NoError(t, err)
		m := syntax.Parse(file)
		var all []string
		for _, d := range m.Declarations {
			all = append(all, outline(d))
		}
		require.Equal(t, row.want, strings.Join(all, " "), row.text)
		require.Len(t, m.Findings, 1, row.text)
		require.True(t, m.Declarations[0].Declared().Broken, row.text)
		for _, d := range m.Declarations[1:] {
			require.False(t, d.Declared().Broken, row.text)
		}
	}
}
