package data

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/value"
)

// ReadableFormats are the formats that can be read, for the tests of this package from outside of it.
func ReadableFormats() (all []Format) {
	for _, f := range formats {
		if f.read != nil {
			all = append(all, f.name)
		}
	}
	return all
}

// TestFormats asks of each format what all that handle formats need. It is what a new one has to pass: a row with all
// that there is to say of it, texts that are read back or have a form of lines, and a place in the manual.
func TestFormats(t *testing.T) {
	manual, err := os.ReadFile("../../docs/language.md")
	require.NoError(t, err)
	page, err := os.ReadFile("../source/pages/unknown-format.txtar")
	require.NoError(t, err)
	var known []string
	for _, f := range formats {
		require.NotEmpty(t, f.extensions, f.name)
		require.NotEmpty(t, f.called, f.name)
		require.NotNil(t, f.write, f.name)
		require.NotZero(t, f.lines, f.name)
		require.Equal(t, f.root == nil, f.is == "", "%s: what a document must be is said", f.name)
		require.Contains(t, f.extensions, string(f.name), "the language names a format by its extension")
		require.False(t, f.stream && f.read == nil, "%s: streams are read", f.name)
		require.Equal(t, f.lines == ReadLines, f.read != nil, "%s: lines are those of what is read back", f.name)
		for _, e := range f.extensions {
			require.NotContains(t, known, e)
			known = append(known, e)
			of, ok := FormatOf("a/b." + e)
			require.True(t, ok)
			require.Equal(t, f.name, of)
			require.Equal(t, f.read != nil, slices.Contains(ReadableExtensions(), "."+e))
			require.Contains(t, string(manual), e, "docs/language.md, under Formats")
			require.Contains(t, string(page), e, "the page of unknown-format")
		}
		set := source.NewSet()
		for _, v := range []value.Value{value.StringOf("a: b # c\n\"d\"\n", 0), record("a", value.IntOf(1, 0)),
			record("a", value.NullOf(0)), record("a", value.StringOf("x\ny", 0)), value.ListOf(nil, 0)} {
			problems := Check(v, f.name)
			if f.root != nil && !f.root(v.Kind()) {
				require.NotEmpty(t, problems, "%s: %s", f.name, v.Show(40))
			}
			if v.Kind() == value.Record && v.Values()[0].IsNull() && !f.null {
				require.NotEmpty(t, problems, "%s has no null", f.name)
			}
			if len(problems) > 0 {
				continue
			}
			text, err := Write(v, f.name)
			require.NoError(t, err)
			require.True(t, strings.HasSuffix(string(text), "\n"), "%s: %q", f.name, text)
			if f.comment != "" {
				text = append([]byte(f.comment+" a remark\n"), text...)
			}
			file, err := set.Add("x."+f.extensions[0], text)
			require.NoError(t, err)
			again, findings := Read(file, f.name, nil)
			require.Equal(t, f.read == nil, findings.HasErrors(), "%s: %v", f.name, findings)
			if f.read != nil {
				require.True(t, value.Identical(v, again), "%s: %s became %s", f.name, v.Show(40), again.Show(40))
			}
		}
	}
	require.Equal(t, Extensions(), known)
	require.Panics(t, func() { Format("properties").Readable() },
		"a format that is not in the table is an error in the program")
}

func record(key string, v value.Value) value.Value {
	return value.RecordOf(value.NewShape([]string{key}), []value.Value{v}, 0)
}
