package core_test

import (
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/eval"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/value"
)

// variantIsWorld checks for a random project that a variant of an environment, with some inputs and perhaps the name
// and the tags of another, renders to what a new world with the same values does. It returns how many declarations
// were shared.
func variantIsWorld(t *testing.T, seed uint64) (shared int) {
	t.Helper()
	g := rand.New(rand.NewPCG(seed, 28))
	c := newCoasts(t, seed)
	p := c.load(t, c.written)
	runs := [2]*project.Run{p.RunNamed("west"), p.RunNamed("east")}
	given := [2][]project.Assignment{runs[0].Assignments(), runs[1].Assignments()}
	environment := func(side int) eval.Environment {
		return eval.Environment{Name: runs[side].Name, Tags: runs[side].Tags}
	}
	base := p.WorldOf(environment(0), given[0], false)
	for range 4 {
		mixed, others := slices.Clone(given[0]), make([]bool, len(given[0]))
		for i := range mixed {
			if g.IntN(4) == 0 {
				mixed[i], others[i] = given[1][i], true
			}
		}
		of := environment(g.IntN(2))
		v := project.Variant(base, of, mixed, func(input int) bool { return others[input] })
		for _, o := range p.Unit().Module.Order {
			if o.Global >= 0 && v.Shares(o) {
				shared++
			}
		}
		again, anew := render.World(runs[0], v, render.Options{}),
			render.World(runs[0], p.WorldOf(of, mixed, false), render.Options{})
		require.Equal(t, anew.Remarks, again.Remarks, "seed %d: %s", seed, c.program)
		require.Len(t, again.Documents, len(anew.Documents), "seed %d: %s", seed, c.program)
		for i, d := range anew.Documents {
			require.Equal(t, d.Path, again.Documents[i].Path)
			require.True(t, value.Identical(d.Value, again.Documents[i].Value), "seed %d: %s: %s\nnot %s\n%s", seed,
				d.Path, again.Documents[i].Value.Show(1000), d.Value.Show(1000), c.program)
		}
	}
	return shared
}

// FuzzVariant: whatever the project, what a variant shares is what it would have.
func FuzzVariant(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { variantIsWorld(t, seed) })
}

// TestVariantIsWorld is a part of what FuzzVariant tries.
func TestVariantIsWorld(t *testing.T) {
	seeds, shared := uint64(30), 0
	if testing.Short() {
		seeds = 10
	}
	for seed := range seeds {
		shared += variantIsWorld(t, seed)
	}
	require.Greater(t, shared, int(seeds)*10)
}
