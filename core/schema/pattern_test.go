package schema

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestPatterns holds what patterns of ECMA-262 mean, where RE2 would take them for something else.
func TestPatterns(t *testing.T) {
	for pattern, texts := range map[string][2]string{ // what matches, and what does not
		`^\s$`:               {"\u00a0", "a"},
		`^\S$`:               {"a", "\ufeff"},
		`^\cJ$`:              {"\n", "J"},
		`^\u0041\x42$`:       {"AB", "ab"},
		`^\ud83d\ude00$`:     {"😀", "a"},
		`^\u{1f600}$`:        {"😀", "a"},
		`^.$`:                {"a", "\u2028"},
		`^[^]$`:              {"\n", "ab"},
		`^a[]?$`:             {"a", "ab"},
		`^[\d-x]$`:           {"-", "a"},
		`^[\b]$`:             {"\b", "b"},
		`^a{2,1500}$`:        {strings.Repeat("a", 1400), strings.Repeat("a", 1501)},
		`^(?<year>\d{4})-x$`: {"2026-x", "26-x"},
		`^\p{Letter}+$`:      {"äß", "1"},
		`^\p{Script=Greek}$`: {"λ", "l"},
		`^\/\-\.$`:           {"/-.", "a"},
		`^[a-z&&[b]]$`:       {"z]", "z"},
		`^{a}$`:              {"{a}", "a"},
		`^x$`:                {"x", "x\n"},
		`^\0$`:               {"\x00", "0"},
	} {
		compiled, err := compilePattern(pattern)
		require.NoError(t, err, pattern)
		require.True(t, compiled.MatchString(texts[0]), "%s: %q", pattern, texts[0])
		require.False(t, compiled.MatchString(texts[1]), "%s: %q", pattern, texts[1])
	}
	for _, pattern := range []string{`a(`, `a)`, `[`, `*a`, `a**`, `\`, `\a`, `\c1`, `\xZZ`, `\u{110000}`, `a{2,1}`, `[z-a]`, `(?`,
		`\p{`, `^*`, `(?<a>x)(?<a>y)`, `\01`} {
		_, err := compilePattern(pattern)
		require.True(t, isInvalid(err), "%s: %v", pattern, err)
	}
	for _, pattern := range []string{`a(?=b)`, `a(?!b)`, `(?<=a)b`, `(a)\1`, `\k<a>`, `a{1000000}`, `\p{Nonsense}`} {
		_, err := compilePattern(pattern)
		require.Error(t, err, pattern)
		require.False(t, isInvalid(err), "%s: %v", pattern, err)
	}
}

// FuzzPatterns: what can be translated compiles, and what RE2 and ECMA-262 have in common means the same.
func FuzzPatterns(f *testing.F) {
	f.Add(`^[a-z]+(b|c)*$`, "abc")
	f.Fuzz(func(t *testing.T, pattern, text string) {
		compiled, err := compilePattern(pattern)
		if err != nil || !common.MatchString(pattern) || !common.MatchString(text) {
			return
		}
		plain, err := regexp.Compile(pattern)
		if err == nil {
			require.Equal(t, plain.MatchString(text), compiled.MatchString(text), "%q %q", pattern, text)
		}
	})
}

// common are the characters of patterns that mean the same to both.
var common = regexp.MustCompile(`^[a-zA-Z0-9 ()|*+?^$_%:;,]*$`)
