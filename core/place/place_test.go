package place_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/place"
	"knothole/core/value"
)

func TestPath(t *testing.T) {
	var root *place.Path
	path := root.Field("spec").Field("containers").Keyed("bay-map",
		2).Field("app.floodwatch.example/part").Index(0).Field("a~b/c")
	require.Equal(t, `spec.containers[bay-map]."app.floodwatch.example/part"[0]."a~b/c"`, path.String())
	require.Equal(t, "/spec/containers/2/app.floodwatch.example~1part/0/a~0b~1c", path.Pointer())
	require.Equal(t, "", root.String())
	require.Equal(t, "", root.Pointer())
}

func TestKey(t *testing.T) {
	for key, want := range map[string]string{
		"name": "name", "runs-on": "runs-on", "_x1": "_x1", "": `""`, "-x": `"-x"`, "x-": `"x-"`, "1x": `"1x"`,
		"a b": `"a b"`, "a--b": `"a--b"`, "é": `"é"`,
	} {
		require.Equal(t, want, place.Key(key))
	}
}

func TestMatch(t *testing.T) {
	for _, c := range []struct {
		pattern, path string
		want          bool
	}{
		{"k8s/*.yaml", "k8s/bay-map.yaml", true},
		{"k8s/*.yaml", "k8s/deep/bay-map.yaml", false},
		{"k8s/**", "k8s/deep/bay-map.yaml", true},
		{"k8s/**", "k8s", true}, // any number of directories, none too
		{"k8s/**", "k8sx", false},
		{"**/bay-map.yaml", "bay-map.yaml", true},
		{"**/bay-map.yaml", "a/b/bay-map.yaml", true},
		{"a/**/z", "a/z", true},
		{"a/**/z", "a/b/c/z", true},
		{"a/**/z", "a/b/c", false},
		{"?ay-*", "bay-map", true},
		{"?ay-*", "ay-map", false},
		{"*a*a*a*b", "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa", false},
		{"", "", true},
		{"*", "", true},
	} {
		require.Equal(t, c.want, place.Match(c.pattern, c.path), "%s on %s", c.pattern, c.path)
	}
}

func TestPointers(t *testing.T) {
	for text, want := range map[string][]string{"": nil, "/": {""}, "/a/b": {"a", "b"},
		"/a~1b/m~0n/0": {"a/b", "m~n", "0"}, "/~01": {"~1"}, "/a b/\"": {"a b", `"`}} {
		steps, err := place.ParsePointer(text)
		require.NoError(t, err)
		require.Equal(t, want, steps, text)
	}
	for _, text := range []string{"a", "a/b", "/a~", "/a~2", "#/a"} {
		_, err := place.ParsePointer(text)
		require.Error(t, err, text)
	}
	list := value.ListOf([]value.Value{value.IntOf(4, 0), value.IntOf(7, 0)}, 0)
	record := value.RecordOf(value.NewShape([]string{"0", "a"}), []value.Value{value.IntOf(1, 0), list}, 0)
	for step, ok := range map[string]bool{"0": true, "1": true, "2": false, "-1": false, "01": false, "+1": false,
		"-": false, "a": false} {
		_, found := place.Child(list, step)
		require.Equal(t, ok, found, step)
	}
	found, ok := place.Child(record, "0")
	require.True(t, ok)
	require.EqualValues(t, 1, found.Int())
	_, ok = place.Child(value.IntOf(4, 0), "0")
	require.False(t, ok)

	there, missing := place.Follow(record, []string{"a", "1"})
	require.Empty(t, missing)
	require.Equal(t, "a[1]", there.Path.String())
	require.EqualValues(t, 7, there.Value.Int())
	for want, pointer := range map[string][]string{"/a/2": {"a", "2", "x"}, "/m~1n": {"m/n"}, "/0/b": {"0", "b"}} {
		_, missing = place.Follow(record, pointer)
		require.Equal(t, want, missing)
	}
}

func TestFind(t *testing.T) {
	text := func(s string) value.Value { return value.StringOf(s, 0) }
	item := func(name string, n int64) value.Value {
		return value.RecordOf(value.NewShape([]string{"name", "n"}), []value.Value{text(name), value.IntOf(n, 0)}, 0)
	}
	data := value.RecordOf(value.NewShape([]string{"items", "n"}),
		[]value.Value{value.ListOf([]value.Value{item("a", 1), item("b", 2)}, 0), value.IntOf(3, 0)}, 0)
	holds := func(name string) func(value.Value) bool {
		return func(v value.Value) bool { return v.Get("name").Text() == name }
	}
	key := func(names ...string) place.PatternStep { return place.PatternStep{Kind: place.OneKey, Keys: names} }
	for want, pattern := range map[string]place.Pattern{
		"items[0].n items[1].n":   {key("items"), {Kind: place.AnyElement}, key("n")},
		"items[1].n":              {key("items"), {Kind: place.OneElement, Holds: holds("b")}, key("n")},
		"items[0].n items[1].n n": {{Kind: place.AnyDepth}, key("n")},
		"n":                       {key("n")},
		"items[0].name":           {key("items"), {Kind: place.OneIndex, Index: -2}, key("name")},
	} {
		found, miss := place.Find(data, pattern, func(int) {})
		require.Nil(t, miss)
		var paths []string
		for _, f := range found {
			paths = append(paths, f.Path.String())
		}
		require.Equal(t, want, strings.Join(paths, " "))
	}
	for _, pattern := range []place.Pattern{{key("nothing")},
		{key("items"), {Kind: place.OneElement, Holds: holds("c")}}, {key("n"), key("x")},
		{key("items"), {Kind: place.OneIndex, Index: 2}}} {
		found, miss := place.Find(data, pattern, func(int) {})
		require.Empty(t, found)
		require.NotNil(t, miss)
	}
}

// TestCommon checks that paths have whole steps in common.
func TestCommon(t *testing.T) {
	path := func(fields ...string) (p *place.Path) {
		for _, field := range fields {
			p = p.Field(field)
		}
		return p
	}
	for _, c := range [][3]*place.Path{
		{path("limits", "cpu"), path("limits", "memory"), path("limits")},
		{path("limits", "cpu"), path("limits", "cpus"), path("limits")},
		{path("limits", "cpu"), path("limits", "cpu"), path("limits", "cpu")},
		{path("limits", "cpu"), path("limits", "cpu", "quota"), path("limits", "cpu")},
		{path("limits"), path("levels"), nil},
		{path("ports", "a.b", "x"), path("ports", "a.c", "x"), path("ports")},
		{path("ports").Index(0).Field("x"), path("ports").Index(1).Field("x"), path("ports")},
	} {
		require.Equal(t, c[2], place.Common(c[0], c[1]), "%s, %s", c[0], c[1])
		require.Equal(t, c[2], place.Common(c[1], c[0]), "%s, %s", c[1], c[0])
	}
}

// TestPathParts checks the parts of a path.
func TestPathParts(t *testing.T) {
	p := (*place.Path)(nil).Field("zones").Index(2).Field("a.b").Keyed("map", 1)
	require.Equal(t, []string{"zones", "a.b"}, p.Fields())
	require.Equal(t, []string{"zones", "2", "a.b", "1"}, p.Tokens())
	require.Equal(t, "zones", p.First().Name)
	require.Empty(t, (*place.Path)(nil).Fields())
}
