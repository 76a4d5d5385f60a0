package place_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/place"
)

func TestPath(t *testing.T) {
	var root *place.Path
	path := root.Field("spec").Field("containers").Keyed("bay-map", 2).Field("app.floodwatch.example/part").Index(0).Field("a~b/c")
	require.Equal(t, `spec.containers[bay-map]."app.floodwatch.example/part"[0]."a~b/c"`, path.String())
	require.Equal(t, "/spec/containers/2/app.floodwatch.example~1part/0/a~0b~1c", path.Pointer())
	require.Equal(t, "", root.String())
	require.Equal(t, "", root.Pointer())
}

func TestKey(t *testing.T) {
	for key, want := range map[string]string{
		"name": "name", "runs-on": "runs-on", "_x1": "_x1", "": `""`, "-x": `"-x"`, "x-": `"x-"`, "1x": `"1x"`, "a b": `"a b"`, "a--b": `"a--b"`, "é": `"é"`,
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
