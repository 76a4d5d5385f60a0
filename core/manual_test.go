package core_test

import (
	"os"
	"regexp"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
)

var manualExample = regexp.MustCompile("(?s)```knot\n(.*?)```\n```result\n(.*?)```")

// TestManual runs the examples of the manual and compares what they give with what the manual says.
func TestManual(t *testing.T) {
	text, err := os.ReadFile("../docs/language.md")
	require.NoError(t, err)
	examples := manualExample.FindAllStringSubmatch(string(text), -1)
	require.GreaterOrEqual(t, len(examples), 3)
	require.Len(t, regexp.MustCompile("```knot\n").FindAllString(string(text), -1), len(examples), "an example without a result")
	for _, example := range examples {
		require.Equal(t, example[2], runProgram(t, fstest.MapFS{"main.knot": {Data: []byte(example[1])}}))
	}
}
