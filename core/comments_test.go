package core_test

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCommentsGetPlainer counts words of comments that docs/words.md advises against. The numbers may only fall: a
// comment is written with the words of the trade, and one that is touched is put into them.
func TestCommentsGetPlainer(t *testing.T) {
	most := map[string]int{
		`\b[sS]tand(s|ing)?\b`:                          140,
		`\b([hH]eld|[hH]olds?)\b`:                       258,
		`\b([tT]old|[tT]ells?|[tT]ellers?)\b`:           138,
		`\b[bB]ehind\b`:                                 49,
		`\bin hand\b`:                                   6,
		`\b(is|are) no [a-z]`:                           62,
		`\b[fF]olders?\b`:                               4,
		`\b[pP]laces?\b`:                                310,
		`\b(come|comes|came|bring|brings) (forth|upon)`: 3,
		`\b[wW]hoever\b`:                                7,
	}
	found := map[string]int{}
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		switch name := entry.Name(); {
		case err != nil:
			return err
		case entry.IsDir() && (name == "testdata" || name == "bench" || path != ".." && name[0] == '.'):
			return fs.SkipDir
		case entry.IsDir() || filepath.Ext(name) != ".go" || strings.HasSuffix(name, "_test.go"):
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		for _, group := range file.Comments {
			for pattern := range most {
				found[pattern] += len(regexp.MustCompile(pattern).FindAllString(group.Text(), -1))
			}
		}
		return nil
	})
	require.NoError(t, err)
	for pattern, n := range found {
		require.LessOrEqual(t, n, most[pattern], "%s: write it in the words of docs/words.md", pattern)
		require.GreaterOrEqual(t, n, most[pattern], "%s: there are fewer now; lower the number here", pattern)
	}
}
