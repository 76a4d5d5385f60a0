package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestGrowthPrograms holds that each program whose growth is measured does its work.
func TestGrowthPrograms(t *testing.T) {
	for _, g := range growth {
		_, err := g.run(g.sizes[0] / 10)
		require.NoError(t, err, g.name)
	}
}
