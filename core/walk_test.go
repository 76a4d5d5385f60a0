package core_test

import (
	"fmt"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/syntax"
)

// allNodes returns every node that can be reached from a value, whatever the way.
func allNodes(v reflect.Value, found map[syntax.Node]bool) {
	switch v.Kind() {
	case reflect.Interface, reflect.Pointer:
		if v.IsNil() {
			return
		}
		if n, ok := v.Interface().(syntax.Node); ok && v.Kind() == reflect.Pointer {
			found[n] = true
		}
		allNodes(v.Elem(), found)
	case reflect.Slice:
		for i := range v.Len() {
			allNodes(v.Index(i), found)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				allNodes(v.Field(i), found)
			}
		}
	}
}

// TestInspectReachesAll checks that Inspect visits every node of a tree once, and nothing else. What is not written of
// its own is left out: the record of named arguments, the loop of a block, and the operation that is the path of
// places.
func TestInspectReachesAll(t *testing.T) {
	kinds := map[string]bool{}
	for _, module := range corpusModules(t) {
		file, err := source.NewSet().Add(module.Name, module.Data)
		require.NoError(t, err)
		m := syntax.Parse(file)
		wanted := map[syntax.Node]bool{}
		allNodes(reflect.ValueOf(m.Declarations), wanted)
		for n := range wanted {
			switch n := n.(type) {
			case *syntax.Call:
				if n.Named != nil {
					delete(wanted, syntax.Node(n.Named))
				}
			case *syntax.ForBlock:
				delete(wanted, syntax.Node(n.Loop))
			case *syntax.Places:
				delete(wanted, syntax.Node(n.Path))
			case *syntax.Header:
				delete(wanted, n)
			}
		}
		visited := map[syntax.Node]bool{}
		for _, d := range m.Declarations {
			syntax.Inspect(d, func(n syntax.Node) bool {
				require.False(t, visited[n], "%T twice", n)
				visited[n] = true
				kinds[fmt.Sprintf("%T", n)] = true
				return true
			})
		}
		for n := range wanted {
			require.True(t, visited[n], "%T %q is not visited", n, m.File.Slice(n.Place()))
		}
		require.Len(t, visited, len(wanted))
	}
	for _, form := range slices.Concat(forms(t, "expression"), forms(t, "describesType"), declarations(t)) {
		require.True(t, kinds["*syntax."+form], "no program of core/testdata/corpus has a %s", form)
	}
}

var (
	formMethod  = regexp.MustCompile(`(?m)^func \(\*(\w+)\) (expression|describesType)\(\)`)
	declaration = regexp.MustCompile(`(\w+) struct \{\n\t\tHeader\n`)
)

// forms returns the names of the forms of expressions, or of types, which have a method that says so.
func forms(t *testing.T, method string) (names []string) {
	text, err := os.ReadFile("syntax/walk.go")
	require.NoError(t, err)
	for _, found := range formMethod.FindAllStringSubmatch(string(text), -1) {
		if found[2] == method {
			names = append(names, found[1])
		}
	}
	require.Greater(t, len(names), 10)
	return names
}

// declarations returns the names of the forms of declarations.
func declarations(t *testing.T) (names []string) {
	text, err := os.ReadFile("syntax/tree.go")
	require.NoError(t, err)
	for _, found := range declaration.FindAllStringSubmatch(string(text), -1) {
		names = append(names, found[1])
	}
	require.Greater(t, len(names), 10)
	return names
}

// TestProgramsHaveAllForms checks that the generator leaves out no form of expression but those that the naive
// evaluator does not know, so that a form that is added has to have the same meaning in both evaluators.
func TestProgramsHaveAllForms(t *testing.T) {
	found := map[string]bool{}
	for seed := range uint64(100) {
		g := newGenerator(seed)
		g.plain = true
		file, err := source.NewSet().Add("main.knot", []byte(g.program()))
		require.NoError(t, err)
		for _, d := range syntax.Parse(file).Declarations {
			syntax.Inspect(d, func(n syntax.Node) bool {
				found[strings.TrimPrefix(fmt.Sprintf("%T", n), "*syntax.")] = true
				return true
			})
		}
	}
	var missing []string
	for _, form := range forms(t, "expression") {
		if !found[form] {
			missing = append(missing, form)
		}
	}
	require.Equal(t, []string{"Bad", "Env", "Places", "Patch"}, missing,
		"each other form has to be generated, and known to the naive evaluator")
}
