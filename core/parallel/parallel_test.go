package parallel_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/parallel"
)

func TestWaitPanicsWithWhatPanicked(t *testing.T) {
	var g parallel.Group
	g.Go(func() error { return nil })
	g.Go(func() error { panic("the first") })
	require.PanicsWithValue(t, "the first", func() { _ = g.Wait() })
}

func TestWaitReturnsTheError(t *testing.T) {
	var g parallel.Group
	failed := errors.New("failed")
	g.Go(func() error { return failed })
	require.ErrorIs(t, g.Wait(), failed)
}
