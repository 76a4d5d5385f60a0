package parallel_test

import (
	"context"
	"errors"
	"runtime"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/core/parallel"
)

func TestWaitPanicsWithWhatPanicked(t *testing.T) {
	var g parallel.Group
	g.Go(func() error { return nil })
	g.Go(func() error { panic("the first") })
	defer func() {
		caught := recover().(*parallel.Panic)
		require.Equal(t, "the first", caught.Value)
		frame, _ := runtime.CallersFrames(caught.Callers).Next()
		require.Contains(t, frame.Function, "parallel")
	}()
	_ = g.Wait()
}

func TestWaitReturnsTheError(t *testing.T) {
	var g parallel.Group
	failed := errors.New("failed")
	g.Go(func() error { return failed })
	require.ErrorIs(t, g.Wait(), failed)
}

// TestOrdered makes numbers in any order, and takes them in theirs, with no more than the limit at once.
func TestOrdered(t *testing.T) {
	const n, limit = 200, 3
	var alive, most atomic.Int32
	var taken []int
	err := parallel.Ordered(t.Context(), n, limit, func(i int) int {
		most.Store(max(most.Load(), alive.Add(1)))
		if i%7 == 0 {
			time.Sleep(time.Millisecond)
		}
		return 2 * i
	}, func(i, made int) error {
		taken = append(taken, made-i)
		alive.Add(-1)
		return nil
	})
	require.NoError(t, err)
	require.Len(t, taken, n)
	require.IsIncreasing(t, taken)
	require.LessOrEqual(t, most.Load(), int32(limit))
}

// TestOrderedStops stops at an error, a cancelled context and a panic, and waits for nobody.
func TestOrderedStops(t *testing.T) {
	failed := errors.New("failed")
	taken := 0
	err := parallel.Ordered(t.Context(), 100, 4, func(i int) int { return i }, func(i, _ int) error {
		if taken++; i == 3 {
			return failed
		}
		return nil
	})
	require.ErrorIs(t, err, failed)
	require.Equal(t, 4, taken)

	ctx, cancel := context.WithCancel(t.Context())
	err = parallel.Ordered(ctx, 100, 4, func(i int) int { return i }, func(i, _ int) error {
		if i == 5 {
			cancel()
			<-ctx.Done()
			time.Sleep(10 * time.Millisecond) // until the others know
		}
		return nil
	})
	require.ErrorIs(t, err, context.Canceled)

	require.Panics(t, func() {
		_ = parallel.Ordered(t.Context(), 100, 4, func(i int) int {
			if i == 2 {
				panic("made")
			}
			return i
		}, func(int, int) error { return nil })
	})
}
