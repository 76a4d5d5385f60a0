package core_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/syntax"
)

// dump writes a tree without its places, so that two trees can be compared.
func dump(v reflect.Value, b *strings.Builder) {
	if v.Type() == reflect.TypeFor[source.Pos]() {
		return
	}
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			b.WriteString("-")
			return
		}
		dump(v.Elem(), b)
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[source.Span]() {
			return
		}
		b.WriteString("(" + v.Type().Name())
		for i := range v.NumField() {
			if v.Type().Field(i).Name == "node" {
				continue
			}
			b.WriteByte(' ')
			dump(v.Field(i), b)
		}
		b.WriteByte(')')
	case reflect.Slice:
		b.WriteByte('[')
		for i := range v.Len() {
			dump(v.Index(i), b)
			b.WriteByte(' ')
		}
		b.WriteByte(']')
	default:
		fmt.Fprintf(b, "%#v", v)
	}
}

func tree(t *testing.T, text string) (string, bool) {
	t.Helper()
	file, err := source.NewSet().Add("x.knot", []byte(text))
	require.NoError(t, err)
	module := syntax.Parse(file)
	var b strings.Builder
	dump(reflect.ValueOf(module.Declarations), &b)
	return b.String(), len(module.Findings) == 0
}

func format(t *testing.T, text string) (string, bool) {
	t.Helper()
	file, err := source.NewSet().Add("x.knot", []byte(text))
	require.NoError(t, err)
	formatted, findings := syntax.Format(file)
	return formatted, len(findings) == 0
}

// checkFormat holds what formatting promises: it changes neither meaning nor comments, and a second time nothing.
func checkFormat(t *testing.T, text string) {
	t.Helper()
	before, ok := tree(t, text)
	formatted, done := format(t, text)
	require.Equal(t, ok, done, "exactly what has no mistakes is formatted")
	if !ok {
		return
	}
	after, ok := tree(t, formatted)
	require.True(t, ok, "formatted, it has mistakes:\n%s\n---\n%s", text, formatted)
	require.Equal(t, before, after, "the meaning changed:\n%s\n---\n%s", text, formatted)
	again, _ := format(t, formatted)
	require.Equal(t, formatted, again, "not the same a second time")
	if strings.Contains(text, "\n") && !strings.Contains(text, "\r") {
		returns, _ := format(t, strings.ReplaceAll(text, "\n", "\r\n"))
		require.Equal(t, strings.ReplaceAll(formatted, "\n", "\r\n"), returns, "the line endings are not those of the file")
	}
	for line := range strings.SplitSeq(formatted, "\n") {
		if strings.HasSuffix(line, "\r") && strings.Count(text, "\n") == strings.Count(text, "\r\n") {
			line = strings.TrimSuffix(line, "\r")
		}
		if !strings.Contains(formatted, `"""`) && !strings.Contains(formatted, "'''") {
			require.Equal(t, strings.TrimRight(line, " \t"), line, "white space at the end of a line")
		}
	}
}

func TestFormatKeepsMeaning(t *testing.T) {
	for _, f := range corpusModules(t) {
		t.Run(f.Name, func(t *testing.T) { checkFormat(t, string(f.Data)) })
	}
}

// TestDemoIsFormatted holds the projects that ship with the program to the canonical form.
func TestDemoIsFormatted(t *testing.T) {
	var files []string
	require.NoError(t, filepath.WalkDir("../demo", func(path string, entry os.DirEntry, err error) error {
		if strings.HasSuffix(path, ".knot") {
			files = append(files, path)
		}
		return err
	}))
	require.NotEmpty(t, files)
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		formatted, ok := format(t, string(text))
		require.True(t, ok, name)
		require.Equal(t, string(text), formatted, name)
	}
}

func TestFormat(t *testing.T) {
	formatted, ok := format(t,
		"\ufefflet   a=[1,2 ,3]   # one\r\nlet long_name = {x:1,runs-on:\"y\",  \"${ 1+2 }\" : 3}# two\n\n\n\n# "+
			"own\n   # more\n"+
			"fn f( a:int,b : int=- 2 )->int=a*-b+( a-b )\nlet m = match a {\n\n1|2 -> [\n 5,\n   -6 , # six\n  ]\n  "+
			"333->\"x\"\n else -> f (1 , b : 2)\n\n}\n"+
			"let c = a\n+ 1\nlet d: {*:int}? = {}\noutput e=xs[ 0 ] . y?.z ?? -1..3\ninput n:int=1\nwhere it>0 else "+
			"\"no\"\n")
	require.True(t, ok)
	require.Equal(t, `let a = [1, 2, 3]                                     # one
let long_name = { x: 1, runs-on: "y", "${ 1+2 }": 3 } # two

# own
# more
`, formatted[:strings.Index(formatted, "fn f")])
	require.Equal(t, `fn f(a: int, b: int = -2) -> int = a * -b + (a - b)
let m = match a {
  1 | 2 -> [
    5
    -6 # six
  ]
  333  -> "x"
  else -> f(1, b: 2)
}
let c = a
  + 1
let d: { *: int }? = {}
output e = xs[0].y?.z ?? -1..3
input n: int = 1
  where it > 0 else "no"
`, formatted[strings.Index(formatted, "fn f"):])
}

// FuzzFormat: whatever the text, formatting keeps its promises.
func FuzzFormat(f *testing.F) {
	addCorpus(f, ".knot")
	f.Fuzz(func(t *testing.T, text string) { checkFormat(t, text) })
}

func TestFormatTellsSetsFromRecords(t *testing.T) {
	formatted, ok := format(t, "let a: { string } = []\nlet b: {n:int} = {n:1}\nlet c: {*:{ {n:int} }} = {}\n")
	require.True(t, ok)
	require.Equal(t, "let a: {string} = []\nlet b: { n: int } = { n: 1 }\nlet c: { *: {{ n: int }} } = {}\n", formatted)
}

// damaged breaks lines and puts comments between the words of a program, at random. What comes out need not be a
// program.
func damaged(r *rand.Rand, text string) string {
	var b strings.Builder
	n := 0
	for i := 0; i < len(text); i++ {
		c := text[i]
		b.WriteByte(c)
		if !strings.ContainsRune(",[{( \n", rune(c)) || r.IntN(25) > 0 {
			continue
		}
		n++
		b.WriteString([]string{"\n", fmt.Sprintf(" # c%d\n", n), fmt.Sprintf("\n  # c%d\n", n), "\n\n",
			fmt.Sprintf("\n## d%d\n", n), "  ", "\r\n"}[r.IntN(7)])
	}
	damaged := b.String()
	if r.IntN(3) == 0 { // commas at the ends of lines, and at their beginnings
		damaged = strings.ReplaceAll(damaged, ",", []string{",\n", "\n,", " ,\n\n"}[r.IntN(3)])
	}
	return damaged
}

// formatDamaged holds the promises of formatting for one random program and for random damage to it.
func formatDamaged(t *testing.T, seed uint64, sources []string) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 3))
	text := newGenerator(seed).program()
	if r.IntN(2) == 0 {
		text = sources[r.IntN(len(sources))]
	}
	checkFormat(t, damaged(r, text))
}

// corpusModules returns all modules of the corpus.
func corpusModules(t testing.TB) []txtar.File {
	archives, err := filepath.Glob("testdata/corpus/*.txtar")
	require.NoError(t, err)
	var modules []txtar.File
	for _, name := range archives {
		archive, err := txtar.ParseFile(name)
		require.NoError(t, err)
		for _, f := range archive.Files {
			if strings.HasSuffix(f.Name, ".knot") {
				modules = append(modules, f)
			}
		}
	}
	require.NotEmpty(t, modules)
	return modules
}

// corpusSources returns the modules of the corpus that are short enough to be damaged often.
func corpusSources(t testing.TB) []string {
	var sources []string
	for _, f := range corpusModules(t) {
		if len(f.Data) < 5000 {
			sources = append(sources, string(f.Data))
		}
	}
	return sources
}

// FuzzFormatDamaged: whatever the damage, what is still a program keeps its meaning and every comment.
func FuzzFormatDamaged(f *testing.F) {
	sources := corpusSources(f)
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { formatDamaged(t, seed, sources) })
}

// TestFormatOfDamagedPrograms is a part of what FuzzFormatDamaged tries.
func TestFormatOfDamagedPrograms(t *testing.T) {
	sources := corpusSources(t)
	for seed := range uint64(300) {
		formatDamaged(t, seed, sources)
	}
}

// TestFormatKeepsSeparatorsThatMatter holds commas that a line end cannot stand for.
func TestFormatKeepsSeparatorsThatMatter(t *testing.T) {
	for text, want := range map[string]string{
		"let x = for k,\n  v in r -> v\n":               "let x = for k,\n  v in r -> v\n",
		"type T = [string,\n  | int]\n":                 "type T = [string,\n  | int]\n",
		"let v = let a = 1,\n    b = 2\n  then a + b\n": "let v = let a = 1\n  b = 2\n  then a + b\n",
		"let v = [ # b\n  1 # d\n  , # e\n  2\n]\n":     "let v = [ # b\n  1 # d\n  # e\n  2\n]\n",
		"type T = {\n  name: string\n  ## d\n  , size: int\n}\n": "type T = {\n  name: string\n  ## d\n    , size: " +
			"int\n}\n",
		"output a = r.\"runs-on\" - r.\"odd key\"\n": "output a = r.runs-on - r.\"odd key\"\n",
	} {
		formatted, ok := format(t, text)
		require.True(t, ok, text)
		require.Equal(t, want, formatted)
		checkFormat(t, text)
	}
}
