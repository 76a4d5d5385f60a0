package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
)

// avoided is a pattern of words that are not written, and what matches it and is written all the same.
type avoided struct {
	not    *regexp.Regexp
	except []*regexp.Regexp
}

// in returns the first thing in the text that is not to be written, "" when there is none.
func (a avoided) in(text string) string {
	if !a.not.MatchString(text) {
		return ""
	}
	for _, allowed := range a.except {
		text = allowed.ReplaceAllString(text, "·")
	}
	at := a.not.FindStringIndex(text)
	if at == nil {
		return ""
	}
	return text[max(0, at[0]-30):min(len(text), at[1]+30)]
}

// history matches the lines of the change log that name what things were called before.
var history = regexp.MustCompile("(?m)^\\| `.*$|\\(before: .*\\)")

var codeSpan = regexp.MustCompile("`([^`]+)`")

// readWords reads the tables of docs/words.md by the titles of their columns.
func readWords(t *testing.T) []avoided {
	text, err := os.ReadFile("../docs/words.md")
	require.NoError(t, err)
	var list []avoided
	column := map[string]int{}
	patterns := func(cells []string, name string) (all []*regexp.Regexp) {
		at, has := column[name]
		if !has {
			return nil
		}
		for _, span := range codeSpan.FindAllStringSubmatch(cells[at], -1) {
			all = append(all, regexp.MustCompile(span[1]))
		}
		return all
	}
	const bar = "\x00"
	for line := range strings.Lines(strings.ReplaceAll(string(text), `\|`, bar)) {
		cells := strings.Split(strings.TrimSpace(line), "|")
		switch {
		case len(cells) < 3 || strings.HasPrefix(cells[1], "-"):
			continue
		case strings.TrimSpace(cells[1]) == "Write":
			clear(column)
			for i, cell := range cells {
				column[strings.TrimSpace(cell)] = i
			}
			continue
		}
		for i := range cells {
			cells[i] = strings.ReplaceAll(cells[i], bar, "|")
		}
		nots := patterns(cells, "Not")
		require.NotEmpty(t, nots, line)
		for _, not := range nots {
			list = append(list, avoided{not, patterns(cells, "Except")})
		}
	}
	return list
}

// TestWords holds the list of words over all that a user reads: the strings of the program, the pages of codes, the
// manual.
func TestWords(t *testing.T) {
	words := readWords(t)
	require.Greater(t, len(words), 20)
	check := func(where, text string) {
		for _, word := range words {
			if found := word.in(text); found != "" {
				t.Errorf("%s: docs/words.md has other words for %q in %q", where, word.not, found)
			}
		}
	}
	texts, literals := 0, 0
	err := filepath.WalkDir("..", func(path string, entry fs.DirEntry, err error) error {
		switch name := entry.Name(); {
		case err != nil:
			return err
		case entry.IsDir() && (name == "bench" || name == "testdata" || path != ".." && name[0] == '.'):
			return fs.SkipDir
		case entry.IsDir() || strings.HasSuffix(name, "_test.go") || name == "words.md":
			return nil
		case filepath.Ext(name) == ".go":
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(node ast.Node) bool {
				if _, is := node.(*ast.ImportSpec); is {
					return false
				}
				if literal, is := node.(*ast.BasicLit); is && literal.Kind == token.STRING {
					text, err := strconv.Unquote(literal.Value)
					require.NoError(t, err)
					if _, old := source.Renamed(source.Code(text)); old {
						return true
					}
					check(set.Position(literal.Pos()).String(), text)
					literals++
				}
				return true
			})
		case filepath.Ext(name) == ".md" || filepath.Base(filepath.Dir(path)) == "pages":
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			if name == "CHANGELOG.md" {
				text = history.ReplaceAll(text, nil)
			}
			check(path, string(text))
			texts++
		}
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, literals, 2000)
	require.Greater(t, texts, 50)
}
