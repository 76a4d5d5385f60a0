package core_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
)

// TestExamples checks that the examples are clean, in their canonical form, and render the same twice.
func TestExamples(t *testing.T) {
	folders, err := filepath.Glob("../examples/*")
	require.NoError(t, err)
	require.NotEmpty(t, folders)
	for _, folder := range folders {
		t.Run(filepath.Base(folder), func(t *testing.T) {
			var texts [2]string
			for i := range texts {
				p, err := project.Load(os.DirFS(folder))
				require.NoError(t, err)
				results, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true})
				require.Empty(t, findings)
				var b strings.Builder
				for _, r := range results {
					require.NotEmpty(t, r.Documents)
					for _, d := range r.Documents {
						text, err := d.Text()
						require.NoError(t, err)
						b.Write(text)
					}
				}
				texts[i] = b.String()
			}
			require.Equal(t, texts[0], texts[1])
			sources, err := filepath.Glob(filepath.Join(folder, "*.knot"))
			require.NoError(t, err)
			for _, name := range sources {
				text, err := os.ReadFile(name)
				require.NoError(t, err)
				formatted, ok := format(t, string(text))
				require.True(t, ok)
				require.Equal(t, string(text), formatted, name)
			}
		})
	}
}
