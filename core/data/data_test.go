package data_test

import (
	"encoding/json"
	"fmt"
	"math/rand"
	"os/exec"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// nasty are texts that readers and writers of some format stumble over.
var nasty = []string{
	"", " ", "~", "null", "Null", "true", "no", "Off", "y", "1", "-1", "+1", "1_000", "0x1F", "0o7", "017", "1e3",
	".5", "5.", "1.0", ".inf", "-.INF", ".nan",
	"12:30:45", "1:30", "2026-01-01", "2026-01-01T10:00:00Z", "=", "<<", "- a", "-", "--", "---", "...", "? a", ":", ": a", "a:", "a: b", "a #b", "#a", "&a", "*a", "!a", "|", ">", "%a", "@a", "`a",
	"[a]", "{a}", "a, b", "'", "''", "\"", "\\", "\\n", "a'b", "a\"b", "line\n", "two\nlines", "two\nlines\n", "two\nlines\n\n", "\nfirst empty", "  indented\nlines", "trail \nspace", "tab\tinside", "\ttab first",
	"carriage\rreturn", "crlf\r\nend", "nul\x00", "bell\x07", "del\x7f", "next\u0085line", "nbsp\u00a0", "line\u2028sep", "bom\ufeff", "é", "日本", "🌊", "${x}", "$HOME", "a=b",
	"[abcdef", "]abcdef", "{abcdef", "|abcdef", "`abcdef", "abcdef: x", "abcdef:", "abcdef #x", "Infinity", "nullable", "_abcdef", "\\abcdef",
	strings.Repeat("long ", 60), strings.Repeat("x", 300),
}

func random(r *rand.Rand, depth int) value.Value {
	text := func() string {
		if r.Intn(3) == 0 {
			return nasty[r.Intn(len(nasty))] + nasty[r.Intn(len(nasty))]
		}
		return nasty[r.Intn(len(nasty))]
	}
	kind := r.Intn(8)
	if depth > 4 {
		kind = r.Intn(5)
	}
	switch kind {
	case 0:
		return value.BoolOf(r.Intn(2) == 0, 0)
	case 1:
		return value.IntOf(int64(r.Uint64()), 0)
	case 2:
		return value.FloatOf(r.NormFloat64()*float64(r.Intn(1_000_000)), 0)
	case 3, 4:
		return value.StringOf(text(), 0)
	case 5:
		elements := make([]value.Value, r.Intn(4))
		for i := range elements {
			elements[i] = random(r, depth+1)
		}
		return value.ListOf(elements, 0)
	}
	var b value.Builder
	for range r.Intn(5) {
		b.Set(text(), random(r, depth+1))
	}
	return b.Record(0)
}

func read(t *testing.T, text string, format data.Format) value.Value {
	t.Helper()
	f, err := source.NewSet().Add("file", []byte(text))
	require.NoError(t, err)
	v, findings := data.Read(f, format, data.Keys{})
	require.Empty(t, findings, "%q", text)
	return v
}

// plain turns a value into what other readers make of data.
func plain(v value.Value) any {
	switch v.Kind() {
	case value.List:
		list := []any{}
		for _, x := range v.Elements() {
			list = append(list, plain(x))
		}
		return list
	case value.Record:
		m := map[string]any{}
		for i, key := range v.Shape().Keys() {
			m[key] = plain(v.Values()[i])
		}
		return m
	case value.Bool:
		return v.Bool()
	case value.Int:
		return v.Int()
	case value.Float:
		return v.Float()
	case value.String:
		return v.Text()
	}
	return nil
}

// TestWrittenDataReadsBack writes random data in each format and reads it with our reader and with another one.
func TestWrittenDataReadsBack(t *testing.T) {
	r := rand.New(rand.NewSource(1))
	for i := range 600 {
		var b value.Builder
		b.Set("v", random(r, 0))
		v := b.Record(0)
		for _, format := range data.ReadableFormats() {
			require.Empty(t, data.Check(v, format))
			text, err := data.Write(v, format)
			require.NoError(t, err)
			again := read(t, string(text), format)
			require.True(t, value.Identical(v, again), "%s %d: %s became %s through\n%s", format, i, v.Show(2000), again.Show(2000), text)
			require.True(t, strings.HasSuffix(string(text), "\n"))

			var other any
			switch format {
			case data.YAML:
				var m map[string]any
				require.NoError(t, yaml.Unmarshal(text, &m))
				other = m
			case data.JSON:
				decoder := json.NewDecoder(strings.NewReader(string(text)))
				decoder.UseNumber()
				require.NoError(t, decoder.Decode(&other))
				continue // the numbers are texts; that it decodes is enough
			case data.TOML:
				var m map[string]any
				require.NoError(t, toml.Unmarshal(text, &m), "%s", text)
				other = m
			}
			require.Equal(t, fmt.Sprint(plain(v)), fmt.Sprint(normal(other)), "%s\n%s", format, text)
		}
	}
}

// normal makes the numbers and maps of other readers like those of plain.
func normal(x any) any {
	switch x := x.(type) {
	case map[string]any:
		for k := range x {
			x[k] = normal(x[k])
		}
	case []any:
		for i := range x {
			x[i] = normal(x[i])
		}
	case int:
		return int64(x)
	case []map[string]any:
		list := make([]any, len(x))
		for i := range x {
			list[i] = normal(x[i])
		}
		return list
	}
	return x
}

// TestEnvFileInShell lets a POSIX shell read an env file.
func TestEnvFileInShell(t *testing.T) {
	shell, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("no shell here")
	}
	for _, text := range nasty {
		if strings.Contains(text, "\x00") {
			continue // Check refuses it
		}
		var b value.Builder
		b.Set("V", value.StringOf(text, 0))
		v := b.Record(0)
		require.Empty(t, data.Check(v, data.Env))
		file, err := data.Write(v, data.Env)
		require.NoError(t, err)
		out, err := exec.Command(shell, "-c", string(file)+`printf '%s.' "$V"`).Output()
		require.NoError(t, err)
		require.Equal(t, text+".", string(out))
	}
}

func TestPositions(t *testing.T) {
	for format, text := range map[data.Format]string{
		data.YAML: "é: [1,\n  {b: xx}]\n",
		data.JSON: "{\"é\": [1,\n  {\"b\": \"xx\"}]}",
		data.TOML: "\"é\" = [1,\n  {b = \"xx\"}]\n",
	} {
		set := source.NewSet()
		f, err := set.Add("f", []byte(text))
		require.NoError(t, err)
		keys := data.Keys{}
		v, findings := data.Read(f, format, keys)
		require.Empty(t, findings)
		inner := v.Get("é").Elements()[1].Get("b")
		at := func(p source.Pos) string { l := set.Locate(p); return fmt.Sprintf("%d:%d", l.Line, l.Column) }
		want := map[data.Format][3]string{data.YAML: {"2:7", "2:4", "1:1"}, data.JSON: {"2:9", "2:4", "1:2"}, data.TOML: {"2:8", "2:4", "1:1"}}[format]
		require.Equal(t, want, [3]string{at(inner.Origin().Pos()), at(keys[inner.Origin().Pos()]), at(keys[v.Get("é").Origin().Pos()])}, "%s", format)
	}
}

func TestLongLinesAreReadInTimeThatGrowsWithThem(t *testing.T) {
	// One line with 200,000 entries: a reader that counts columns from its start for each would never end.
	var b strings.Builder
	b.WriteString("x: [")
	for i := range 200_000 {
		fmt.Fprintf(&b, "e%d, ", i)
	}
	b.WriteString("end]\n")
	v := read(t, b.String(), data.YAML)
	last := v.Get("x").Elements()[200_000]
	require.Equal(t, "end", last.Text())
}

func TestCheckFindsEveryProblem(t *testing.T) {
	v := read(t, "a: null\nb: {c: [1, null]}\nd-e: 1\n", data.YAML)
	require.Empty(t, data.Check(v, data.YAML))
	require.Empty(t, data.Check(v, data.JSON))
	require.Len(t, data.Check(v, data.TOML), 2)
	require.Len(t, data.Check(v, data.Env), 3)
	require.Len(t, data.Check(v, data.Text), 1)
}

func TestFormatOf(t *testing.T) {
	for path, want := range map[string]data.Format{"a.yaml": data.YAML, "b/c.yml": data.YAML, "x.json": data.JSON, ".env": data.Env, "env": data.Env, "a.b/txt": data.Text, "x.knot": "", "yaml.d/": ""} {
		format, ok := data.FormatOf(path)
		require.Equal(t, want, format, path)
		require.Equal(t, want != "", ok)
	}
}

// TestReadEach: a document that cannot be read does not keep the others from being read, and all are where they do.
func TestReadEach(t *testing.T) {
	set := source.NewSet()
	file, err := set.Add("piers.yaml", []byte("a: 1\n---\nb: [\n---\n# nothing\n--- {c: 12345678901234567890123}\n---\nd: x: y\n"))
	require.NoError(t, err)
	numbers := data.Numbers{}
	documents, findings := data.ReadEach(file, nil, numbers)
	require.Len(t, documents, 2)
	require.Len(t, findings, 2)
	lines := func(p source.Pos) int { return set.Locate(p).Line }
	require.Equal(t, 1, lines(documents[0].Get("a").Origin().Pos()))
	number := documents[1].Get("c").Origin().Pos()
	require.Equal(t, 6, lines(number))
	require.Equal(t, "12345678901234567890123/1", numbers[number].String())
	require.Equal(t, 8, lines(findings[1].Span.Start))
}
