package data_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

func set(t *testing.T, format data.Format, text, path string, v value.Value) string {
	t.Helper()
	file, err := source.NewSet().Add("layer", []byte(text))
	require.NoError(t, err)
	result, err := data.Set(file, format, strings.Split(path, "."), v)
	if err != nil {
		return "error: " + err.Error()
	}
	return result
}

func TestSet(t *testing.T) {
	n, s := value.IntOf(6, 0), value.StringOf("north bay", 0)
	list := value.ListOf([]value.Value{value.StringOf("a", 0), value.StringOf("no", 0)}, 0)
	record := value.RecordOf(value.NewShape([]string{"a"}), []value.Value{n}, 0)
	for _, c := range []struct {
		name   string
		format data.Format
		before string
		path   string
		v      value.Value
		after  string
	}{
		{"plain", data.YAML, "# head\na: 1 # one\nb: 2\n", "a", n, "# head\na: 6 # one\nb: 2\n"},
		{"last line without end", data.YAML, "a: 1", "a", n, "a: 6"},
		{"single quotes stay", data.YAML, "a: 'x # y' # c\n", "a", s, "a: 'north bay' # c\n"},
		{"double quotes stay", data.YAML, "a: \"x\\\"y\"\n", "a", s, "a: \"north bay\"\n"},
		{"plain text", data.YAML, "a: two words  # c\n", "a", s, "a: north bay  # c\n"},
		{"plain becomes quoted where it must", data.YAML, "a: x\n", "a", value.StringOf("no", 0), "a: \"no\"\n"},
		{"inner", data.YAML, "r:\n  # c\n  a: 1\n  b: 2\n", "r.b", n, "r:\n  # c\n  a: 1\n  b: 6\n"},
		{"flow", data.YAML, "r: {a: 1, b: [2, 3]} # c\n", "r.a", n, "r: {a: 6, b: [2, 3]} # c\n"},
		{"list in flow", data.YAML, "r: {a: 1, b: [2, {x: ']'}]}\n", "r.b", list, "r: {a: 1, b: [a, \"no\"]}\n"},
		{"block list", data.YAML, "a:\n  - 1\n  - 2\n# of b\nb: 3\n", "a", list, "a: [a, \"no\"]\n# of b\nb: 3\n"},
		{"list at the edge", data.YAML, "a:\n- 1\n- 2\nb: 3\n", "b", n, "a:\n- 1\n- 2\nb: 6\n"},
		{"last list at the edge", data.YAML, "a:\n- 1 # one\n- 2\n# tail\n", "a", list, "a: [a, \"no\"]\n# tail\n"},
		{"list at the edge, a key behind", data.YAML, "a:\n- 1\n# of b\nb: 3\n", "a", list,
			"a: [a, \"no\"]\n# of b\nb: 3\n"},
		{"block record", data.YAML, "a:\n  x: 1\n\n  y: 2\nb: 3\n", "a", record, "a: { a: 6 }\nb: 3\n"},
		{"comment of the key", data.YAML, "a: # c\n  # in\n  x: 1\nb: 3\n", "a", record, "a: { a: 6 } # c\nb: 3\n"},
		{"quoted first key", data.YAML, "a:\n  \"x\": 1\n  z: 2\nb: 3\n", "a", record, "a: { a: 6 }\nb: 3\n"},
		{"plain text of several lines", data.YAML, "a: one\n  two\n\n  three # c\nb: 3\n", "a", s,
			"a: north bay # c\nb: 3\n"},
		{"flow of several lines", data.YAML, "r: {\n  a: 1, # one\n  b: 2 # two\n}\n", "r.c", n,
			"r: {\n  a: 1, # one\n  b: 2, # two\n  c: 6\n}\n"},
		{"nothing after the key but a comment", data.YAML, "no: 1\nr: # c\n", "r", n, "no: 1\nr: 6 # c\n"},
		{"literal text", data.YAML, "a: |\n  one\n\n  two\nb: 3\n", "a", s, "a: north bay\nb: 3\n"},
		{"several lines", data.YAML, "a: x\nb: 3\n", "a", value.StringOf("one\ntwo", 0), "a: \"one\\ntwo\"\nb: 3\n"},
		{"nothing behind the key", data.YAML, "a:\nb: 3\n", "a", n, "a: 6\nb: 3\n"},
		{"tilde", data.YAML, "a: ~\n", "a", n, "a: 6\n"},
		{"new", data.YAML, "# head\na: 1\n\n# tail\n", "b", n, "# head\na: 1\n\n# tail\nb: 6\n"},
		{"new inner", data.YAML, "r:\n  a: 1\n\n# of c\nc: 2\n", "r.b", n, "r:\n  a: 1\n  b: 6\n\n# of c\nc: 2\n"},
		{"new path", data.YAML, "a: 1\n", "r.x.y", n, "a: 1\nr:\n  x:\n    \"y\": 6\n"},
		{"new in flow", data.YAML, "r: { a: 1 }\n", "r.b.c", n, "r: { a: 1, b: { c: 6 } }\n"},
		{"new in empty flow", data.YAML, "r: {}\n", "r.b", n, "r: { b: 6 }\n"},
		{"empty file", data.YAML, "", "a", n, "a: 6\n"},
		{"only a comment", data.YAML, "# nothing yet\n", "a.b", n, "# nothing yet\na:\n  b: 6\n"},
		{"empty record", data.YAML, "{}\n", "a", n, "\na: 6\n"},
		{"scalar in the way", data.YAML, "a: 1\n", "a.b", n, "a: { b: 6 }\n"},
		{"odd key", data.YAML, "a: 1\n", "no", n, "a: 1\n\"no\": 6\n"},
		{"anchors", data.YAML, "a: &x 1\nb: *x\n", "b", n, "error: " + data.ErrCannotEdit.Error()},

		{"toml", data.TOML, "# head\na = 1 # one\n[t]\nb = 2\n", "a", n, "# head\na = 6 # one\n[t]\nb = 2\n"},
		{"toml quotes", data.TOML, "a = 'x' # c\nb = \"y\"\n", "a", s, "a = 'north bay' # c\nb = \"y\"\n"},
		{"toml table", data.TOML, "[t]\n# c\nb = 2\n", "t.b", n, "[t]\n# c\nb = 6\n"},
		{"toml dotted", data.TOML, "t.b = 2 # c\n", "t.b", n, "t.b = 6 # c\n"},
		{"toml inline", data.TOML, "t = { b = 2, c = [1, 2] } # c\n", "t.b", n, "t = { b = 6, c = [1, 2] } # c\n"},
		{"toml array", data.TOML, "a = [\n  1, # one\n  2,\n]\nb = 1\n", "a", list, "a = [\"a\", \"no\"]\nb = 1\n"},
		{"toml long text", data.TOML, "a = \"\"\"\none # two\n\"\"\"\nb = 1\n", "a", s, "a = \"north bay\"\nb = 1\n"},
		{"toml new", data.TOML, "# head\na = 1\n\n# of t\n[t]\nb = 2\n", "c", n,
			"# head\na = 1\nc = 6\n\n# of t\n[t]\nb = 2\n"},
		{"toml new before tables", data.TOML, "[t]\nb = 2\n", "c", n, "c = 6\n\n[t]\nb = 2\n"},
		{"toml new in table", data.TOML, "[t]\nb = 2\n\n# of u\n[u]\nx = 1\n", "t.c", n,
			"[t]\nb = 2\nc = 6\n\n# of u\n[u]\nx = 1\n"},
		{"toml new in an odd header", data.TOML, "[ t . \"u\" ] # c\nb = 2\n\n[v]\n", "t.u.w", n,
			"[ t . \"u\" ] # c\nb = 2\nw = 6\n\n[v]\n"},
		{"toml new in inline", data.TOML, "t = { b = 2 }\n", "t.c", n, "t = { b = 2, c = 6 }\n"},
		{"toml new in empty inline", data.TOML, "t = {}\n", "t.c", n, "t = { c = 6 }\n"},
		{"toml new table", data.TOML, "a = 1\n", "t.u.c", n, "a = 1\n\n[t.u]\nc = 6\n"},
		{"toml new beside dotted", data.TOML, "t.b = 2\na = 1\n", "t.c", n, "t.b = 2\na = 1\nt.c = 6\n"},
		{"toml empty", data.TOML, "", "a", n, "a = 6\n"},
		{"toml table as a whole", data.TOML, "[t]\nb = 2\n", "t", record, "error: " + data.ErrCannotEdit.Error()},
		{"toml element", data.TOML, "[[t]]\nb = 2\n", "c", n, "c = 6\n\n[[t]]\nb = 2\n"},

		{"json", data.JSON, "{\n  \"a\": 1,\n  \"b\": \"x\"\n}\n", "b", s,
			"{\n  \"a\": 1,\n  \"b\": \"north bay\"\n}\n"},
		{"json inner", data.JSON, `{"r": {"a": [1, {"x": "}"}], "b": 2}}`, "r.a", list,
			`{"r": {"a": ["a","no"], "b": 2}}`},
		{"json new", data.JSON, "{\n    \"a\": 1\n}\n", "b", n, "{\n    \"a\": 1,\n    \"b\": 6\n}\n"},
		{"json new on one line", data.JSON, `{"a": 1}`, "b.c", n, `{"a": 1, "b": {"c":6}}`},
		{"json empty", data.JSON, `{}`, "b", n, `{ "b": 6 }`},
		{"json list", data.JSON, `[1]`, "b", n, "error: it is a list, not a mapping of names to values"},
		{"broken", data.JSON, `{`, "b", n, "error: this is not JSON: unexpected end of JSON input"},
	} {
		t.Run(c.name, func(t *testing.T) { require.Equal(t, c.after, set(t, c.format, c.before, c.path, c.v)) })
	}
}

// FuzzSet changes any file at any place. Set itself reads back what it has written, so that here only that it returns
// is looked at.
func FuzzSet(f *testing.F) {
	f.Add("a: 1 # one\nr:\n  - x # two\n  - {y: 2}\n# three\n", "r", "new", uint8(0))
	f.Add("{\"a\": [1, {\"b\": \"}\"}]}", "a.b", "x", uint8(1))
	f.Add("# one\na = 'x' # two\n[t.u]\nb = \"\"\"\n# no comment\n\"\"\"\n", "t.u.c", "x", uint8(2))
	f.Fuzz(func(t *testing.T, text, path, to string, which uint8) {
		format := []data.Format{data.YAML, data.JSON, data.TOML}[which%3]
		file, err := source.NewSet().Add("layer", []byte(text))
		if err != nil {
			return
		}
		_, _ = data.Set(file, format, strings.Split(path, "."), value.StringOf(to, 0))
	})
}

func remove(t *testing.T, format data.Format, text, path string) string {
	t.Helper()
	file, err := source.NewSet().Add("layer", []byte(text))
	require.NoError(t, err)
	result, err := data.Remove(file, format, strings.Split(path, "."))
	if err != nil {
		return "error: " + err.Error()
	}
	return result
}

func TestRemove(t *testing.T) {
	for _, c := range []struct {
		name   string
		format data.Format
		before string
		path   string
		after  string
	}{
		{"first", data.YAML, "# head\na: 1 # one\nb: 2\n", "a", "# head\nb: 2\n"},
		{"byte order mark", data.YAML, "\ufeffa: 1\nb: 2\n", "a", "\ufeffb: 2\n"},
		{"all behind a mark", data.YAML, "\ufeffa: 1\n", "a", "\ufeff"},
		{"mark of TOML", data.TOML, "\ufeffa = 1\nb = 2\n", "a", "\ufeffb = 2\n"},
		{"last", data.YAML, "a: 1\n# of b\nb: 2 # two\n", "b", "a: 1\n# of b\n"},
		{"last without end", data.YAML, "a: 1\nb: 2", "b", "a: 1\n"},
		{"all", data.YAML, "# head\na: 1\n", "a", "# head\n"},
		{"inner", data.YAML, "r:\n  a: 1\n  b: 2\nc: 3\n", "r.a", "r:\n  b: 2\nc: 3\n"},
		{"the only inner", data.YAML, "r:\n  a: 1\nc: 3\n", "r.a", "c: 3\n"},
		{"the only one of several", data.YAML, "r:\n  s:\n    a: 1\nc: 3\n", "r.s.a", "c: 3\n"},
		{"block list", data.YAML, "a:\n  - 1\n  - 2\n# of b\nb: 3\n", "a", "# of b\nb: 3\n"},
		{"list at the edge", data.YAML, "a:\n- 1\n- 2\nb: 3\n", "a", "b: 3\n"},
		{"block record", data.YAML, "a:\n  x: 1\n\n  y: 2\nb: 3\n", "a", "b: 3\n"},
		{"literal text", data.YAML, "a: |\n  one\n\n  two\nb: 3\n", "a", "b: 3\n"},
		{"nothing behind the key", data.YAML, "a:\nb: 3\n", "a", "b: 3\n"},
		{"flow", data.YAML, "r: {a: 1, b: [2, 3]} # c\n", "r.a", "r: {b: [2, 3]} # c\n"},
		{"end of flow", data.YAML, "r: {a: 1, b: [2, 3]} # c\n", "r.b", "r: {a: 1} # c\n"},
		{"all of flow", data.YAML, "r: { a: 1 } # c\n", "r.a", "r: { } # c\n"},
		{"not there", data.YAML, "a: 1\n", "b", "error: there is no value"},
		{"anchors", data.YAML, "a: &x 1\nb: *x\n", "a",
			"error: this value cannot be changed without touching what is around it: change it by hand"},
		{"json", data.JSON, "{\n  \"a\": 1,\n  \"b\": 2\n}\n", "a", "{\n  \"b\": 2\n}\n"},
		{"json last", data.JSON, "{\n  \"a\": 1,\n  \"b\": 2\n}\n", "b", "{\n  \"a\": 1\n}\n"},
		{"json only", data.JSON, "{\n  \"a\": 1\n}\n", "a", "{\n}\n"},
		{"json inner", data.JSON, `{"r": {"a": [1, {"x": "}"}], "b": 2}}`, "r.a", `{"r": {"b": 2}}`},
		{"toml", data.TOML, "# head\na = 1 # one\nb = 2\n[t]\nc = 3\n", "a", "# head\nb = 2\n[t]\nc = 3\n"},
		{"toml in a table", data.TOML, "[t]\nb = 2\nc = 3\n", "t.b", "[t]\nc = 3\n"},
		{"toml only in a table", data.TOML, "[t]\nb = 2\n\n[u]\nc = 3\n", "t.b", "[t]\n\n[u]\nc = 3\n"},
		{"toml dotted", data.TOML, "t.b = 2\nt.c = 3\n", "t.b", "t.c = 3\n"},
		{"toml inline", data.TOML, "t = { b = 2, c = 3 }\n", "t.b", "t = { c = 3 }\n"},
		{"toml array", data.TOML, "a = [\n  1, # one\n  2,\n]\nb = 1\n", "a", "b = 1\n"},
		{"toml table", data.TOML, "a = 1\n\n[t]\nb = 2\n\n[u]\nc = 3\n", "t", "a = 1\n\n[u]\nc = 3\n"},
		{"toml long text", data.TOML, "a = \"\"\"\none # two\n\"\"\"\nb = 1\n", "a", "b = 1\n"},
	} {
		t.Run(c.name, func(t *testing.T) { require.Equal(t, c.after, remove(t, c.format, c.before, c.path)) })
	}
}

// FuzzRemove takes any place out of any file. Remove reads back what it has written; here the lines that stay are
// held: each is one that was there, in its order, but for one that was in brackets.
func FuzzRemove(f *testing.F) {
	f.Add("a: 1 # one\nr:\n  - x # two\n  - {y: 2}\n# three\n", "r", uint8(0))
	f.Add("\ufeffa: 1\nb: 2\n", "a", uint8(0))
	f.Add("a: 1\nr:\n  b:\n    c: |\n      x\n  d: {e: 1, f: 2}\n", "r.d.e", uint8(0))
	f.Add("{\"a\": [1, {\"b\": \"}\"}], \"c\": {\"d\": 1}}", "c.d", uint8(1))
	f.Add("# one\na = 'x' # two\n[t.u]\nb = \"\"\"\n# no comment\n\"\"\"\nc = 1\n", "t.u.b", uint8(2))
	f.Fuzz(func(t *testing.T, text, path string, which uint8) {
		format := []data.Format{data.YAML, data.JSON, data.TOML}[which%3]
		file, err := source.NewSet().Add("layer", []byte(text))
		if err != nil {
			return
		}
		after, err := data.Remove(file, format, strings.Split(path, "."))
		if err != nil {
			return
		}
		require.Less(t, len(after), len(text))
		require.Equal(t, strings.HasPrefix(text, "\ufeff"), strings.HasPrefix(after, "\ufeff"))
		before, changed := strings.Split(text, "\n"), 0
		for line := range strings.SplitSeq(after, "\n") {
			at := slices.Index(before, line)
			if at < 0 {
				changed++
				continue
			}
			before = before[at+1:]
		}
		require.LessOrEqual(t, changed, 1)
	})
}

// FuzzSetAndRemove checks that what is put into a file and taken out again leaves what was there: the same data, and
// each of its comments.
func FuzzSetAndRemove(f *testing.F) {
	f.Add("a: 1 # one\nr:\n  - x # two\n  - {y: 2}\n# three\n", "new", uint8(0))
	f.Add("a: 1\nr:\n  b: 2 # two\n# of c\nc: 3\n", "r.new", uint8(0))
	f.Add("{\"a\": [1, {\"b\": \"}\"}], \"c\": {\"d\": 1}}", "c.new", uint8(1))
	f.Add("# one\na = 'x' # two\n[t.u]\nb = 2 # three\n\n# of v\n[v]\n", "t.u.new", uint8(2))
	f.Fuzz(func(t *testing.T, text, path string, which uint8) {
		format := []data.Format{data.YAML, data.JSON, data.TOML}[which%3]
		read := func(text string) value.Value {
			file, err := source.NewSet().Add("layer", []byte(text))
			if err != nil {
				return value.Value{}
			}
			v, findings := data.Read(file, format, nil)
			if findings.HasErrors() {
				return value.Value{}
			}
			return v
		}
		before := read(text)
		file, err := source.NewSet().Add("layer", []byte(text))
		if err != nil || before.Kind() != value.Record || before.Len() == 0 {
			return
		}
		keys := strings.Split(path, ".")
		holder := before // which is there, and not empty: else it would be taken away again
		for _, key := range keys[:len(keys)-1] {
			if holder.Kind() != value.Record {
				return
			}
			holder = holder.Get(key)
		}
		last := keys[len(keys)-1]
		if holder.Kind() != value.Record || holder.Len() == 0 || !holder.Get(last).IsAbsent() {
			return
		}
		with, err := data.Set(file, format, keys, value.StringOf("a value", 0))
		if err != nil {
			return
		}
		file, err = source.NewSet().Add("layer", []byte(with))
		require.NoError(t, err)
		after, err := data.Remove(file, format, keys)
		if err != nil {
			require.ErrorIs(t, err, data.ErrCannotEdit)
			return
		}
		require.True(t, value.Identical(before, read(after)), "%q\n%q\n%q", text, with, after)
		for line := range strings.Lines(text) {
			if strings.HasPrefix(strings.TrimSpace(line), "#") {
				require.Contains(t, after, strings.TrimSpace(line), "%q\n%q", text, with)
			}
		}
	})
}
