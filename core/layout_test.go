package core_test

import (
	"go/build"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// order is the way of a value through the core, as the architecture has it: a package imports only packages that
// stand before it. Values and places know nothing of the language, so that its types may speak of places.
var order = []string{
	"core/parallel", "core/source", "core/syntax", "core/value", "core/place", "core/data", "core/schema",
	"core/expression", "core/types", "core/check", "core/expected", "core/flow", "core/eval", "core/builtin",
	"core/standard", "core/project", "core/render", "core/rule", "core/explain", "core/compare", "core/verify",
	"core/lift", "core/packages",
}

// TestLayout keeps the architecture: the core knows neither the shell nor the outside, and its arrows point one way.
func TestLayout(t *testing.T) {
	folders := 0
	err := filepath.WalkDir("..", func(path string, entry os.DirEntry, err error) error {
		if err != nil || !entry.IsDir() {
			return err
		}
		name := filepath.ToSlash(strings.TrimPrefix(path, "../"))
		pkg, err := build.ImportDir(path, 0)
		if _, none := err.(*build.NoGoError); none || strings.HasPrefix(name, "bench") { // which is a module of its own
			return nil
		}
		require.NoError(t, err, name)
		folders++
		top, _, _ := strings.Cut(name, "/")
		for _, imported := range slices.Concat(pkg.Imports, pkg.TestImports, pkg.XTestImports) {
			imported, ours := strings.CutPrefix(imported, "knothole/")
			if !ours {
				continue
			}
			to, _, _ := strings.Cut(imported, "/")
			switch top {
			case "core":
				require.Equal(t, "core", to, "%s imports %s", name, imported)
				if name == "core" { // the tests of the whole core
					continue
				}
				from, at := slices.Index(order, name), slices.Index(order, imported)
				// A test from outside of its package, or one of schemas that needs what they know by an interface.
				if imported == name || imported == "core/expected" ||
					name == "core/schema" && imported == "core/expression" {
					continue
				}
				require.GreaterOrEqual(t, from, 0, "%s has no place in the order", name)
				require.Less(t, at, from, "%s imports %s, which stands behind it", name, imported)
			case "outside":
				require.NotEqual(t, "shell", to, "%s imports %s", name, imported)
			}
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, folders, 10)
}
