package schema_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/schema"
	"knothole/core/source"
)

// TestExamples: a document to fill in says all that must be there, so that what is wrong with it is only what was not
// filled in.
func TestExamples(t *testing.T) {
	c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
	for _, k := range c.Kinds() {
		text := k.Schema.Example(k)
		filled := strings.ReplaceAll(text, `: ""`, `: mudflat`)
		filled = strings.ReplaceAll(filled, "schedule: mudflat", "schedule: '@daily'")
		require.Empty(t, validated(t, c, filled), text)
		require.Contains(t, text, "kind: "+k.Name)
	}
	got := c.Find("policy/v1", "PodDisruptionBudget").Schema.Example(c.Find("policy/v1", "PodDisruptionBudget"))
	require.Equal(t, `apiVersion: policy/v1
kind: PodDisruptionBudget
metadata:
  name: ""   # a string: The name of an object, a DNS label or subdomain (RFC 1123)
# spec: {}
`, got)
}

// TestWithin holds how parts of a schema are found.
func TestWithin(t *testing.T) {
	c := schema.NewCatalogue(schema.NewStore(source.NewSet()))
	k := c.Find("apps/v1", "Deployment")
	inner, why, _ := k.Schema.Within(schema.ParsePath("spec.template.spec.containers[].env[].name"))
	require.Empty(t, why)
	require.Equal(t, "The name of the variable.", inner.Description())
	_, why, help := k.Schema.Within(schema.ParsePath("spec.templat"))
	require.Equal(t, `there is no field "templat" in spec`, why)
	require.Equal(t, `did you mean "template"?`, help)
	tree := k.Schema.Tree(2)
	require.Equal(t, "spec", tree.Inner[3].Name)
	require.True(t, tree.Inner[3].Required)
	replicas := tree.Inner[3].Inner[0]
	require.Equal(t, []any{"replicas", "an integer", int64(1), false},
		[]any{replicas.Name, replicas.Type, replicas.Default.Int(), replicas.Deeper})
	require.True(t, tree.Inner[3].Inner[2].Deeper)
}
