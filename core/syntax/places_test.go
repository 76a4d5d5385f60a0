package syntax

import (
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"knothole/core/source"
)

// modules are those of the demo, of the standard rules and of the programs that the whole core evaluates, by name.
func modules(t *testing.T) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, pattern := range []string{"../../demo/project/*.knot", "../../demo/project/*/*.knot", "../standard/*.knot",
		"../testdata/corpus/*.txtar"} {
		names, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, names, pattern)
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			if filepath.Ext(name) == ".knot" {
				all[name] = string(text)
				continue
			}
			for _, f := range txtar.Parse(text).Files {
				if filepath.Ext(f.Name) == ".knot" {
					all[name+" "+f.Name] = string(f.Data)
				}
			}
		}
	}
	return all
}

func parsed(t *testing.T, text string) *Module {
	t.Helper()
	file, err := source.NewSet().Add("main.knot", []byte(text))
	require.NoError(t, err)
	return Parse(file)
}

// TestPlaces: what a node is made of is in it, in order, and does not overlap.
func TestPlaces(t *testing.T) {
	nodes := 0
	for name, text := range modules(t) {
		m := parsed(t, text)
		for _, d := range m.Declarations {
			Inspect(d, func(n Node) bool {
				nodes++
				outer, last := n.Place(), n.Place().Start
				for child := range Children(n) {
					at := child.Place()
					require.LessOrEqual(t, last, at.Start, "%s: %T %q in %T %q", name, child, m.File.Slice(at), n,
						m.File.Slice(outer))
					require.LessOrEqual(t, at.End, outer.End, "%s: %T %q in %T %q", name, child, m.File.Slice(at), n,
						m.File.Slice(outer))
					last = at.End
					if limited, is := child.(*LimitedType); is { // between the type and its limit is the default
						last = limited.Of.Place().End
					}
				}
				return true
			})
		}
	}
	require.Greater(t, nodes, 20_000)
}

// TestAlone: the text of an expression means the same alone, in parentheses. Left out are those that need what is
// around them: an if that has no else, after `...`; the question of a branch of a match; and what is broken.
func TestAlone(t *testing.T) {
	alone := 0
	for name, text := range modules(t) {
		m := parsed(t, text)
		if len(m.Findings) > 0 {
			continue
		}
		for _, d := range m.Declarations {
			Inspect(d, func(n Node) bool {
				e, ok := n.(Expression)
				if !ok {
					return true
				}
				switch e := e.(type) {
				case *If:
					if e.lacksElse() {
						return true
					}
				case *Is:
					if e.Operand == nil {
						return true
					}
				}
				slice := m.File.Slice(e.Place())
				again := parsed(t, "let x = ("+slice+"\n)\n")
				require.Empty(t, again.Findings, "%s: %q", name, slice)
				inner := again.Declarations[0].(*Let).Value.(*Paren).Inner
				require.True(t, same(reflect.ValueOf(e), reflect.ValueOf(inner)), "%s: %T %q", name, e, slice)
				alone++
				return true
			})
		}
	}
	require.Greater(t, alone, 10_000)
}
