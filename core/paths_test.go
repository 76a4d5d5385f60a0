package core_test

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
)

// pathNames are keys and names of elements, also such as mean something else in a path.
var pathNames = []string{"a", "runs-on", "odd key", "8080", "end", "it", "it.x", "x/y:1", `q"u`, "$x", "${x}", "", "[0]", "*",
	"Deployment map", "not it", "über", "a\u200bb", "tab\t", "line\nend", `back\slash`, "-", "a--b", "a-", "if", "let", "𝄞"}

// randomPath makes a path of some steps.
func randomPath(r *rand.Rand) *place.Path {
	var p *place.Path
	for range 1 + r.IntN(5) {
		name := pathNames[r.IntN(len(pathNames))]
		if r.IntN(3) == 0 { // of any characters
			alphabet := []rune(`a "'.[]{}$\#:/-@ 0é` + "\n\x01")
			runes := make([]rune, r.IntN(4))
			for i := range runes {
				runes[i] = alphabet[r.IntN(len(alphabet))]
			}
			name = string(runes)
		}
		switch r.IntN(3) {
		case 0:
			p = p.Index(r.IntN(12))
		case 1:
			if name != "*" { // which stands for an element whose name is not known
				p = p.Keyed(name, 0)
			}
		default:
			p = p.Field(name)
		}
	}
	return p
}

// checkPath checks that a path that is written is the same when it is read.
func checkPath(t *testing.T, p *place.Path) {
	t.Helper()
	text := p.String()
	if text == "" {
		return
	}
	file, err := source.NewSet().Add("path", []byte(text))
	require.NoError(t, err)
	m := syntax.ParsePath(file)
	require.Empty(t, m.Findings, text)
	steps := m.Declarations[0].(*syntax.Operation).Steps
	wanted := p.Steps()
	require.Len(t, steps, len(wanted), text)
	for i, s := range steps {
		switch wanted[i].Kind {
		case place.Field:
			require.Equal(t, syntax.KeyStep, s.Kind, text)
			require.Nil(t, s.Keys[0].Value, text)
			require.Equal(t, wanted[i].Name, s.Keys[0].Name, text)
		case place.Keyed:
			require.Equal(t, syntax.NamedStep, s.Kind, text)
			require.Equal(t, wanted[i].Name, s.Keys[0].Name, text)
		case place.Index:
			require.Equal(t, syntax.IndexStep, s.Kind, text)
			require.Equal(t, int64(wanted[i].Index), s.Index.(*syntax.Int).Value, text)
		}
	}
}

// TestPathsAreReadBack checks that every path reads as it is written: parse(text(p)) == p.
func TestPathsAreReadBack(t *testing.T) {
	for seed := range uint64(4000) {
		checkPath(t, randomPath(rand.New(rand.NewPCG(seed, 4))))
	}
}

func FuzzPath(f *testing.F) {
	for _, text := range []string{"a.b", "[0]", `["a b"].x`, "a[*].b", "a.**.b", "a[it.x == 1]", "a[* where it > 1]",
		".{a, b}", "a[end]", "a[not it.x]"} {
		f.Add(text, uint64(1))
	}
	f.Fuzz(func(t *testing.T, text string, seed uint64) {
		checkPath(t, randomPath(rand.New(rand.NewPCG(seed, 4))))
		file, err := source.NewSet().Add("path", []byte(text))
		require.NoError(t, err)
		m := syntax.ParsePath(file)
		require.Equal(t, len(m.Findings) == 0, len(m.Declarations) == 1, text)
		for _, finding := range m.Findings {
			require.True(t, finding.Span.IsValid(), text)
			require.LessOrEqual(t, file.Offset(finding.Span.Start), len(text))
		}
	})
}

// TestParsePath holds the forms of paths, and what is wrong with others.
func TestParsePath(t *testing.T) {
	for text, want := range map[string]string{
		"spec.replicas": "key key", ".spec": "key", "[2]": "index", "[-1].x": "index key", "a[*]": "key each",
		"a[* where it.n > 1].b": "key each key", "a[it.n == 1]": "key condition", "a.*": "key any", "a.**.b": "key deep key",
		"a[bay-map]": "key named", `a["8080"]`: "key named", "a[Deployment bay-map].b": "key named key",
		"a[x/y:1@2]": "key named", "a.{b, c}": "key choice", "a[not it.x]": "key condition", `"odd key"[0]`: "key index",
		"a..b": `expected a step that begins with "." or "[", found ".."`, "a.": "expected a key, found the end of the file",
		"a[": "expected a value, found the end of the file", "a b": `expected a step that begins with "." or "[", found "b"`,
		"a.**": `".**" does not say what is looked for`, "a[0": `"[" is not closed: expected "]" before the end of the file`,
		"a: 1": `expected a step that begins with "." or "[", found ":"`, "]": `expected a key, found "]"`,
	} {
		file, err := source.NewSet().Add("path", []byte(text))
		require.NoError(t, err)
		m := syntax.ParsePath(file)
		if len(m.Findings) > 0 {
			require.Equal(t, want, m.Findings[0].Message, text)
			continue
		}
		kinds := []string{"key", "choice", "any", "deep", "index", "end", "condition", "each", "named"}
		var steps []string
		for _, s := range m.Declarations[0].(*syntax.Operation).Steps {
			steps = append(steps, kinds[s.Kind])
		}
		require.Equal(t, want, strings.Join(steps, " "), text)
	}
}
