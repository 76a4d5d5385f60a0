package data_test

import (
	"math/rand/v2"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// oldInt are the ints of YAML 1.1 (type repository, int) but for those to the base of 60.
var oldInt = regexp.MustCompile(`^[-+]?(0b[01_]+|0[0-7_]+|0|[1-9][0-9_]*|0x[0-9a-fA-F_]+)$`)

// TestReadOtherwise checks that no scalar is read silently for another number than the library takes it for, which
// knows the ints of YAML 1.1.
func TestReadOtherwise(t *testing.T) {
	const letters = "0012789__bx-+"
	random := rand.New(rand.NewPCG(11, 12))
	warned := 0
	for range 20_000 {
		text := make([]byte, 1+random.IntN(6))
		for i := range text {
			text[i] = letters[random.IntN(len(letters))]
		}
		if !oldInt.Match(text) {
			continue // the library takes more for ints
		}
		var other any
		if yaml.Unmarshal([]byte("a: "+string(text)+"\n"), &other) != nil {
			continue
		}
		n, isInt := other.(map[string]any)["a"].(int)
		file, err := source.NewSet().Add("a.yaml", []byte("a: "+string(text)+"\n"))
		require.NoError(t, err)
		v, findings := data.Read(file, data.YAML, data.Keys{})
		if findings.HasErrors() {
			continue
		}
		warned += len(findings)
		if got := v.Get("a"); isInt && (got.Kind() != value.Int || got.Int() != int64(n)) {
			require.NotEmpty(t, findings, "%s is %d for others, and %s here", text, n, got.Show(20))
		}
	}
	require.Greater(t, warned, 500)
}
