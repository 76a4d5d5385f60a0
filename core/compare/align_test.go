package compare

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestLikest checks that elements are paired with those that they are most alike, each once, and never with what is
// less alike than an element with changes is.
func TestLikest(t *testing.T) {
	shares := [][]float64{{0.7, 0.9, 0}, {0.8, 0.95, 0.5}, {0.59, 0.61, 0.59}}
	alike := func(i, j int) float64 { return shares[i][j] }
	all := []int{0, 1, 2}
	require.Equal(t, [][2]int{{1, 1}, {0, 0}}, likest(all, all, alike))
	require.Equal(t, [][2]int{{0, 1}}, likestInOrder(all[:1], all, alike))
	require.Empty(t, likest(all[2:], []int{0, 2}, alike))
	require.Empty(t, likestInOrder(all[2:], []int{0, 2}, alike))
}
