package render_test

import (
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
)

// TestMissingSecrets checks that documents with secrets that were not read are found, and no others.
func TestMissingSecrets(t *testing.T) {
	p, err := project.Load(fstest.MapFS{
		"knothole.toml": {Data: []byte("[environments.north.secrets]\npin = { variable = \"KNOTHOLE_SECRET_PIN\" }\n")},
		"main.knot": {Data: []byte(`secret input pin: string
later input address: string as "<address>"
secret document "a.yaml" = { deep: [{ pin: "x${pin}" }] }
secret document "b.yaml" = { address: address }
document "c.yaml" = { n: 1 }
`)},
	})
	require.NoError(t, err)
	require.False(t, p.Findings.HasErrors(), "%v", p.Findings)
	result := render.Environment(p.Run(p.Environments[0]), render.Options{})
	require.Len(t, result.Documents, 3)
	found := result.MissingSecrets()
	require.Len(t, found, 1)
	require.Equal(t, source.SecretUnavailable, found[0].Code)
	require.Equal(t, "a.yaml depends on a secret that was not read", found[0].Message)
}
