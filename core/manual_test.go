package core_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
)

// manualExample is an example and its result; other files that it needs, such as "```yaml vendor.yaml", are before
// it.
var (
	manualExample = regexp.MustCompile(
		"(?s)((?:```[a-z]+ [a-z./]+\n[^`]*```\n+)*)```knot\n(.*?)```\n```result\n(.*?)```")
	manualFile = regexp.MustCompile("(?s)```[a-z]+ ([a-z./]+)\n(.*?)```\n")
)

// TestManual runs the examples of the manual and compares what they give with what the manual says.
func TestManual(t *testing.T) {
	for name, least := range map[string]int{"../docs/language.md": 3, "../docs/hold-the-line.md": 1} {
		t.Run(filepath.Base(name), func(t *testing.T) { runManual(t, name, least) })
	}
}

// runManual runs the examples of a page, of which there are so many at least. With -update it writes their results.
func runManual(t *testing.T, name string, least int) {
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	examples := manualExample.FindAllStringSubmatch(string(text), -1)
	require.GreaterOrEqual(t, len(examples), least)
	require.Len(t, regexp.MustCompile("```knot\n").FindAllString(string(text), -1), len(examples), "an example without a result")
	for _, example := range examples {
		files := fstest.MapFS{"main.knot": {Data: []byte(example[2])}}
		for _, file := range manualFile.FindAllStringSubmatch(example[1], -1) {
			files[file[1]] = &fstest.MapFile{Data: []byte(file[2])}
		}
		got := runProgram(t, files)
		if *update {
			whole := strings.TrimSuffix(example[0], example[3]+"```")
			text = []byte(strings.Replace(string(text), example[0], whole+got+"```", 1))
			continue
		}
		require.Equal(t, example[3], got)
	}
	if *update {
		require.NoError(t, os.WriteFile(name, text, 0o644))
	}
}
