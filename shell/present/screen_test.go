package present_test

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/shell/present"
)

// TestScreen checks that a terminal obeys nothing that is written to a screen, and that texts of all scripts stay what
// they are.
func TestScreen(t *testing.T) {
	for text, want := range map[string]string{
		"plain\ttext\n":                     "plain\ttext\n",
		"größe, 高さ, 🌊 é":                    "größe, 高さ, 🌊 é",
		"\x1b[31mred\x1b[0m":                `\u{1b}[31mred\u{1b}[0m`,
		"\x1b]0;title\x07":                  `\u{1b}]0;title\u{7}`,
		"\u009b31m":                         `\u{9b}31m`,
		"a\rb":                              `a\u{d}b`,
		"a\bb":                              `a\u{8}b`,
		"\u202egnp.exe":                     `\u{202e}gnp.exe`,
		"a\u200bb\u2066c\u2069\ufeff\u00ad": `a\u{200b}b\u{2066}c\u{2069}\u{feff}\u{ad}`,
		"a\u2028b\u2029c":                   `a\u{2028}b\u{2029}c`,
		"bytes \xc3\x28 \x80":               "bytes \\xc3( \\x80",
		"\xffx":                             "\\xffx",
		"\x00\x7f":                          `\u{0}\u{7f}`,
	} {
		var out bytes.Buffer
		n, err := present.NewScreen(&out).Write([]byte(text))
		require.NoError(t, err)
		require.Equal(t, len(text), n)
		require.Equal(t, want, out.String())
	}
}

// FuzzScreen: whatever is written, no character that a terminal obeys comes out.
func FuzzScreen(f *testing.F) {
	f.Add("a\x1b[0mb\u202e\xff0")
	f.Fuzz(func(t *testing.T, text string) {
		var out bytes.Buffer
		_, _ = present.NewScreen(&out).Write([]byte(strings.ReplaceAll(text, "\xff", "")))
		require.True(t, utf8.Valid(out.Bytes()))
		for _, r := range out.String() {
			require.False(t, r < ' ' && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0, "%q", r)
		}
	})
}

// TestNamesForgeNoFindings checks that a file whose name holds a line end and colours is shown on one line.
func TestNamesForgeNoFindings(t *testing.T) {
	set := source.NewSet()
	file, err := set.Add("a\nmain.knot:1:1: error: forged [syntax]\x1b[31m.knot", []byte("let a = 1\n"))
	require.NoError(t, err)
	var out bytes.Buffer
	p := &present.Presenter{Out: &out, Sources: set, Color: true}
	p.Findings(source.Findings{{Code: source.Syntax, Span: file.Span(4, 5), Message: "one\ntwo\x1b[2J"}})
	require.NotContains(t, out.String(), "\nmain.knot:1:1")
	require.NotContains(t, out.String(), "\x1b[2J")
	require.NotContains(t, out.String(), "\ntwo")
}
