package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMutantsApply holds that each mutant still breaks something in the function that it names: one that does not is
// out of date, and has to move with the code.
func TestMutantsApply(t *testing.T) {
	numbers := map[int]bool{}
	for i := range mutants {
		m := &mutants[i]
		require.False(t, numbers[m.number], "two mutants have the number %d", m.number)
		numbers[m.number] = true
		require.NotEqual(t, m.old, m.new)
		_, err := m.apply("../..")
		require.NoError(t, err)
	}
	require.Len(t, mutants, 50)
}
