package core_test

import (
	"os"
	"regexp"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
)

// manualExample is an example and its result; other files that it needs, such as "```yaml vendor.yaml", stand before
// it.
var (
	manualExample = regexp.MustCompile("(?s)((?:```[a-z]+ [a-z.]+\n[^`]*```\n)*)```knot\n(.*?)```\n```result\n(.*?)```")
	manualFile    = regexp.MustCompile("(?s)```[a-z]+ ([a-z.]+)\n(.*?)```\n")
)

// TestManual runs the examples of the manual and compares what they give with what the manual says.
func TestManual(t *testing.T) {
	text, err := os.ReadFile("../docs/language.md")
	require.NoError(t, err)
	examples := manualExample.FindAllStringSubmatch(string(text), -1)
	require.GreaterOrEqual(t, len(examples), 3)
	require.Len(t, regexp.MustCompile("```knot\n").FindAllString(string(text), -1), len(examples), "an example without a result")
	for _, example := range examples {
		files := fstest.MapFS{"main.knot": {Data: []byte(example[2])}}
		for _, file := range manualFile.FindAllStringSubmatch(example[1], -1) {
			files[file[1]] = &fstest.MapFile{Data: []byte(file[2])}
		}
		require.Equal(t, example[3], runProgram(t, files))
	}
}
