package schema_test

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

var update = flag.Bool("update", false, "write what is said of broken objects anew")

// broken returns an object in which one place has another value; Absent stands for none.
func broken(t *testing.T, v value.Value, path string, x value.Value) value.Value {
	step, rest, more := strings.Cut(strings.TrimPrefix(path, "."), ".")
	if at := strings.IndexByte(step, '['); at > 0 {
		step, rest, more = step[:at], strings.TrimPrefix(path, ".")[at:], true
	}
	if strings.HasPrefix(step, "[") {
		end := strings.IndexByte(step, ']')
		i, err := strconv.Atoi(step[1:end])
		require.NoError(t, err)
		elements := append([]value.Value(nil), v.Elements()...)
		if more {
			x = broken(t, elements[i], rest, x)
		}
		elements[i] = x
		return value.ListOf(elements, v.Origin())
	}
	require.Equal(t, value.Record, v.Kind(), path)
	if more {
		x = broken(t, v.Get(step), rest, x)
	}
	var b value.Builder
	for i, key := range v.Shape().Keys() {
		if key != step {
			b.Set(key, v.Values()[i])
		} else if !x.IsAbsent() {
			b.Set(key, x)
		}
	}
	if v.Get(step).IsAbsent() && !x.IsAbsent() {
		b.Set(step, x)
	}
	return b.Record(v.Origin())
}

// definition returns a catalogue with a definition in testdata, and the object beside it.
func definition(t *testing.T, name string) (c *schema.Catalogue, object value.Value) {
	t.Helper()
	c = schema.NewCatalogue(schema.NewStore(source.NewSet()))
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	file, err := c.Store.Sources.Add(name, text)
	require.NoError(t, err)
	documents, findings := data.ReadEach(file, nil, nil)
	require.Empty(t, findings)
	_, findings = c.Add(name, schema.Document{Root: documents[0]})
	require.Empty(t, findings)
	return c, documents[1]
}

// definitions are the files of the definitions in testdata.
func definitions(t *testing.T) []string {
	t.Helper()
	names, err := filepath.Glob("testdata/definitions/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	return names
}

// TestDefinitions: the objects beside the definitions in testdata are right; broken at one place each, what is said of
// them is what is in the file .messages.
func TestDefinitions(t *testing.T) {
	for _, name := range definitions(t) {
		t.Run(filepath.Base(name), func(t *testing.T) {
			c, object := definition(t, name)
			for _, k := range c.Kinds() {
				require.Empty(t, k.Schema.Mistakes(), k.Key())
			}
			say := func(v value.Value) string {
				apiVersion, name := schema.KindOf(v)
				k := c.Find(apiVersion, name)
				require.NotNil(t, k)
				var lines []string
				if f, ok := k.Finding(source.Span{}); ok {
					lines = append(lines, f.Message)
				}
				result := k.Schema.ValidateObject(v, nil)
				require.Empty(t, result.Schema)
				for _, p := range result.Problems {
					line := fmt.Sprintf("  %s: %s", p.Path, p.Message)
					if p.Help != "" {
						line += " | " + p.Help
					}
					if p.Description != "" {
						line += " (" + p.Description + ")"
					}
					lines = append(lines, line)
				}
				return strings.Join(lines, "\n")
			}
			require.Empty(t, say(object))
			edits, err := os.ReadFile(strings.TrimSuffix(name, ".yaml") + ".broken")
			require.NoError(t, err)
			var got bytes.Buffer
			for line := range strings.Lines(string(edits)) {
				line = strings.TrimSpace(line)
				path, text, set := strings.Cut(line, " = ")
				x := value.Value{}
				if set {
					file, err := c.Store.Sources.Add(line, []byte(text))
					require.NoError(t, err)
					var findings source.Findings
					x, findings = data.Read(file, data.YAML, nil)
					require.Empty(t, findings, line)
				}
				said := say(broken(t, object, strings.TrimSuffix(path, " -"), x))
				require.NotEmpty(t, said, "nothing is wrong with %s", line)
				fmt.Fprintf(&got, "%s\n%s\n", line, said)
			}
			golden := strings.TrimSuffix(name, ".yaml") + ".messages"
			if *update {
				require.NoError(t, os.WriteFile(golden, got.Bytes(), 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err)
			require.Equal(t, string(want), got.String(), "go test ./core/schema -run Definitions -update")
		})
	}
}

// places returns the paths of all values in an object.
func places(v value.Value, path string) []string {
	all := []string{}
	if path != "" {
		all = append(all, path)
	}
	for i, x := range value.Parts(v) {
		if v.Kind() == value.List {
			all = append(all, places(x, fmt.Sprintf("%s[%d]", path, i))...)
		} else if key := v.Shape().Keys()[i]; !strings.ContainsAny(key, ".[/") {
			all = append(all, places(x, path+"."+key)...)
		}
	}
	return all
}

// oneMistake checks that one error is one finding: whatever is put in one place of a right object, there is at most
// one problem about that place, and none elsewhere but with what is around it.
func oneMistake(t *testing.T, s *schema.Schema, object value.Value, wrong []value.Value) (found int) {
	for _, path := range places(object, "") {
		for _, x := range append(wrong, value.Value{}) {
			result := s.ValidateObject(broken(t, object, path, x), nil)
			require.LessOrEqual(t, len(result.Problems), 1, "%s = %s: %v", path, x.Show(40), result.Problems)
			for _, p := range result.Problems {
				found++
				at := strings.TrimPrefix(path, ".")
				where := p.Path.String()
				require.True(t, strings.HasPrefix(at, where) || strings.HasPrefix(where, at), "%s = %s: told at %s: %s", path,
					x.Show(40), where, p.Message)
			}
		}
	}
	return found
}

// TestOneMistake tries one error at every place of the objects in testdata.
func TestOneMistake(t *testing.T) {
	found := 0
	for _, name := range definitions(t) {
		c, object := definition(t, name)
		apiVersion, kind := schema.KindOf(object)
		wrong := []value.Value{value.StringOf("?", 0), value.IntOf(-1, 0), value.FloatOf(0.5, 0), value.BoolOf(true, 0),
			value.ListOf(nil, 0)}
		found += oneMistake(t, c.Find(apiVersion, kind).Schema, object, wrong)
	}
	require.Greater(t, found, 800)
}

// TestNothingSecretShows: whatever is wrong with a secret, nothing that is said of it holds it.
func TestNothingSecretShows(t *testing.T) {
	secret := func(v value.Value) value.Value { return value.MarkAll(v, value.Secret) }
	hidden := []value.Value{secret(value.StringOf("tern48151623", 0)), secret(value.IntOf(48151623, 0)),
		secret(value.FloatOf(48151623.5, 0)), secret(value.StringOf("48151623", 0)),
		secret(value.ListOf([]value.Value{value.StringOf("48151623", 0), value.StringOf("48151623", 0)}, 0)),
		secret(value.RecordOf(value.NewShape([]string{"name"}), []value.Value{value.StringOf("48151623", 0)}, 0))}
	found := 0
	for _, name := range definitions(t) {
		c, object := definition(t, name)
		apiVersion, kind := schema.KindOf(object)
		s := c.Find(apiVersion, kind).Schema
		for _, path := range places(object, "") {
			for _, x := range hidden {
				v := broken(t, object, path, x)
				for _, result := range []*schema.Result{s.ValidateObject(v, nil), s.ValidateShaped(v, true)} {
					for _, p := range result.Problems {
						found++
						f := p.Finding("a.yaml", v, schema.Places{At: func(o value.Origin) source.Pos { return o.Pos() },
							Key: func(value.Value, string, value.Value) source.Pos { return source.NoPos }})
						require.NotContains(t, fmt.Sprint(f), "48151623", "%s = %s", path, x.Show(40))
					}
				}
			}
		}
	}
	require.Greater(t, found, 800)
}
