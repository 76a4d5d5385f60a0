package data_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/source"
)

// TestVersionsOfYAML checks that a file may say that it is YAML 1.x, in each of its documents, and that what looks like
// that elsewhere is text.
func TestVersionsOfYAML(t *testing.T) {
	for text, want := range map[string]string{
		"%YAML 1.2\n---\na: 1\n":                     `{"a":1}`,
		"# bay\n%YAML 1.1 # old\r\n---\na: no\n":     `{"a":"no"}`,
		"%TAG ! tag:x,2000:\n%YAML 1.2\n---\na: 1\n": `{"a":1}`,
		"a: |\n  %YAML 1.2\n  x\n":                   `{"a":"%YAML 1.2\nx\n"}`,
		"--- |\n%YAML 1.2\nx\n":                      `"%YAML 1.2\nx\n"`,
	} {
		file, err := source.NewSet().Add("a.yaml", []byte(text))
		require.NoError(t, err)
		v, findings := data.Read(file, data.YAML, nil)
		require.Empty(t, findings, text)
		require.Equal(t, want, data.CompactJSON(v), text)
	}
	file, err := source.NewSet().Add("a.yaml", []byte("%YAML 1.2\n---\na: 1\n...\n%YAML 1.2\n---\nb: [\n"))
	require.NoError(t, err)
	_, findings := data.Read(file, data.YAML, nil)
	require.Len(t, findings, 1)
	require.NotContains(t, findings[0].Message, "incompatible")
}
