package syntax

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
)

func scanText(t *testing.T, text string) *scanner {
	t.Helper()
	file, err := source.NewSet().Add("main.knot", []byte(text))
	require.NoError(t, err)
	return scan(file)
}

func TestScan(t *testing.T) {
	texts := func(text string) []string {
		s := scanText(t, text)
		var all []string
		for _, token := range s.tokens {
			all = append(all, s.text[token.start:token.end])
		}
		return all
	}
	require.Equal(t, []string{"a", "..", "b", "...", "c", "?.", "d", "?[", "0", "]", ""}, texts("a..b ...c?.d?[0]"))
	require.Equal(t, []string{"1.5", "..", "2", "1", ".", "name", "0x1f", "6e-3", ""}, texts("1.5..2 1.name 0x1f 6e-3"))
	require.Equal(t, []string{`"`, "a", "${", "b", "}", "c", `"`, "'$x'", ""}, texts(`"a${b}c" '$x'`))
	require.Equal(t, []string{"x", "!=", "y", "->", "z", "??", "w", "?:", ""}, texts("x != y -> z ?? w ?:"))
}

// FuzzScan: whatever the text, the tokens are in order, and between them is nothing but white space and comments.
func FuzzScan(f *testing.F) {
	for _, text := range []string{
		"let a = 1 # one\n", `"a${b + "c${d}"}e"`, "@\"\"\"\n  @{x} @@{\n  \"\"\"", "'''\n a\n '''", "a\r\n\tb",
		"\uFEFFlet", "“x”", "1..2 1e5 0x", `"${`, "x?[0]?.y ?: -> !",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			t.Skip() // which Parse reports before it scans
		}
		s := scanText(t, text)
		comments := map[int]int{}
		for _, c := range s.comments {
			comments[c.start] = c.end
		}
		at := len(text) - len(strings.TrimPrefix(text, "\uFEFF"))
		for i, token := range s.tokens {
			if token.start < at || token.end < token.start || token.end > len(text) {
				t.Fatalf("token %d stands at %d to %d behind %d", i, token.start, token.end, at)
			}
			for at < token.start {
				if end, ok := comments[at]; ok {
					at = end
					continue
				}
				if !strings.ContainsRune(" \t\r\n", rune(text[at])) && len(s.findings) == 0 {
					t.Fatalf("%q at %d belongs to no token", text[at], at)
				}
				at++
			}
			at = token.end
		}
		if last := s.tokens[len(s.tokens)-1]; last.kind != tokenEnd || last.end != len(text) {
			t.Fatalf("the end stands at %d of %d", last.end, len(text))
		}
	})
}
