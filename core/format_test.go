package core_test

import (
	"fmt"
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
	for line := range strings.SplitSeq(formatted, "\n") {
		if !strings.Contains(formatted, `"""`) && !strings.Contains(formatted, "'''") {
			require.Equal(t, strings.TrimRight(line, " \t"), line, "white space at the end of a line")
		}
	}
}

func TestFormatKeepsMeaning(t *testing.T) {
	archives, err := filepath.Glob("testdata/corpus/*.txtar")
	require.NoError(t, err)
	for _, name := range archives {
		archive, err := txtar.ParseFile(name)
		require.NoError(t, err)
		for _, f := range archive.Files {
			if strings.HasSuffix(f.Name, ".knot") {
				t.Run(f.Name, func(t *testing.T) { checkFormat(t, string(f.Data)) })
			}
		}
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
	formatted, ok := format(t, "\ufefflet   a=[1,2 ,3]   # one\r\nlet long_name = {x:1,runs-on:\"y\",  \"${ 1+2 }\" : 3}# two\n\n\n\n# own\n   # more\n"+
		"fn f( a:int,b : int=- 2 )->int=a*-b+( a-b )\nlet m = match a {\n\n1|2 -> [\n 5,\n   -6 , # six\n  ]\n  333->\"x\"\n else -> f (1 , b : 2)\n\n}\n"+
		"let c = a\n+ 1\nlet d: {*:int}? = {}\noutput e=xs[ 0 ] . y?.z ?? -1..3\ninput n:int=1\nwhere it>0 else \"no\"\n")
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
