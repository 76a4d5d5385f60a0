package render_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// TestContent checks that what is written in another way has another content.
func TestContent(t *testing.T) {
	var values []value.Value
	for _, text := range []string{
		`null`, `true`, `false`, `0`, `1`, `-1`, `1.0`, `1.5`, `""`, `"1"`, `"true"`, `"null"`, `[]`, `{}`, `[[]]`,
		`[null]`, `[{}]`, `["a","b"]`,
		`["ab",""]`, `["a,b"]`, `[["a"],"b"]`, `[["a","b"]]`, `{"a":"b"}`, `{"a":{"b":"c"}}`, `{"a":{},"b":"c"}`,
		`{"b":"c","a":{}}`, `["a",{"b":"c"}]`,
		`{"ab":""}`, `{"a":"b","c":"d"}`, `{"a":["b","c"],"d":1}`, `{"a":["b","c","d",1]}`, `"\u0000"`,
		`"\u0000\u0000"`, `9223372036854775807`,
	} {
		file, err := source.NewSet().Add("x.json", []byte(text))
		require.NoError(t, err)
		v, findings := data.Read(file, data.JSON, data.Keys{})
		require.Empty(t, findings)
		values = append(values, v)
	}
	seen := map[[32]byte]string{}
	add := func(what string, d render.Document, header string) {
		content := d.Content(header)
		require.Equal(t, content, d.Content(header))
		require.Empty(t, seen[content], "%s has the content of it", what)
		seen[content] = what
	}
	for _, v := range values {
		for _, format := range []data.Format{data.JSON, data.YAML, data.TOML} {
			add(data.CompactJSON(v)+" as "+string(format), document(format, v), "")
			add(data.CompactJSON(v)+" as "+string(format)+" with a header", document(format, v),
				"# a\n")
		}
		stream := document(data.YAML, v)
		stream.Stream = true
		add(data.CompactJSON(v)+" as a stream", stream, "")
	}
	a, b := document(data.JSON, values[3]), document(data.JSON, values[3])
	a.Path, b.Path = "a", "b"
	require.Equal(t, a.Content(""), b.Content(""), "where it stands does not matter")
}
