package project

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/value"
)

// layered has an input whose type says of null all that a type can.
const layered = `
type Station = { name: string, tier?: string, note: string?, zone: string = "z", levels?: { *: int }, more: any }
input x: { *: Station | null, first: Station, open?: { *: { *: int? } } }
`

// drawLayer returns a layer with some of the fields of x, and null for others.
func drawLayer(random *rand.Rand, depth int) string {
	if depth == 3 || random.IntN(5) == 0 {
		return []string{"null", "1", "word", "{}"}[random.IntN(4)]
	}
	names := [][]string{{"first", "open", "north", "south"}, {"name", "tier", "note", "zone", "levels", "more"},
		{"a", "b", "c"}}[depth]
	var fields []string
	for _, name := range names {
		if random.IntN(2) == 0 {
			fields = append(fields, name+": "+drawLayer(random, depth+1))
		}
	}
	return "{ " + strings.Join(fields, ", ") + " }"
}

// givesAgain reports whether a layer has a record where a weaker one has something else.
func givesAgain(weak, strong value.Value) bool {
	if weak.IsAbsent() || strong.Kind() != value.Record {
		return false
	}
	if weak.Kind() != value.Record {
		return true
	}
	for i, key := range strong.Shape().Keys() {
		if givesAgain(weak.Get(key), strong.Values()[i]) {
			return true
		}
	}
	return false
}

// TestLayersOfLayers checks the law of layers: some of them can be made one, with the nulls that take something away,
// and that one does over weaker layers what they did. So a layer for a new environment gives what it was copied from.
func TestLayersOfLayers(t *testing.T) {
	judged, taken := 0, 0
	for seed := range uint64(1500) {
		random := rand.New(rand.NewPCG(seed, 3))
		files := fstest.MapFS{FileName: {Data: []byte(
			"[environments.e]\nlayers = [\"0.yaml\", \"1.yaml\", \"2.yaml\"]\n")},
			"main.knot": {Data: []byte(layered)}}
		text := ""
		for i := range 3 {
			layer := "x: " + drawLayer(random, 0) + "\n"
			files[fmt.Sprintf("%d.yaml", i)] = &fstest.MapFile{Data: []byte(layer)}
			text += layer
		}
		p, err := Load(files)
		require.NoError(t, err)
		require.NotNil(t, p.Unit().Module, "%v", p.Findings)
		o := p.Unit().Module.Objects["x"]
		all := p.RunNamed("e").AllLayers()
		if givesAgain(all[1].Root, all[2].Root) {
			continue // one layer cannot take something away and then give a record
		}
		judged++
		whole := all.Of(o, false)

		var b value.Builder
		if strong := all[1:].Of(o, true); !strong.IsAbsent() {
			b.Set("x", strong)
		}
		again := Layers{all[0], {Root: b.Record(0)}}.Of(o, false)
		require.Equal(t, whole.IsAbsent(), again.IsAbsent(), text)
		if !whole.IsAbsent() {
			require.True(t, value.Identical(whole, again), "%s%s\n%s", text, whole.Show(1000), again.Show(1000))
		}
		for _, path := range [][]string{{"x", "first", "tier"}, {"x", "north"}, {"x", "open", "a"}} {
			at := all.TakenAway(path)
			if !at.IsValid() {
				continue
			}
			taken++
			for l, v := range all.With(path) { // nothing that is as strong gives it
				require.True(t, v.IsNull() || l != all[2], text)
				break
			}
		}
	}
	require.Greater(t, judged, 500)
	require.Greater(t, taken, 200)
}
