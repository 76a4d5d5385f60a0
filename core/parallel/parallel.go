// Package parallel runs functions at the same time. It exists so that an error in the program, which panics, reaches
// the one place that tells people of it, whichever goroutine it happens in.
package parallel

import (
	"context"
	"fmt"
	"runtime"
	"sync"

	"golang.org/x/sync/errgroup"
)

// Group is an errgroup.Group of which Wait panics when a function did: with a *Panic, for the first. The zero Group is
// ready for use.
type Group struct {
	errgroup.Group
	once    sync.Once
	problem *Panic
}

// Panic is what a function panicked with in another goroutine.
type Panic struct {
	Value   any
	Callers []uintptr // of the function that panicked, innermost first (see runtime.Callers)
}

// Error returns what the function panicked with, which the runtime shows of a panic that nothing catches.
func (p *Panic) Error() string { return fmt.Sprint(p.Value) }

// mostCallers is how many callers of a function that panicked are kept.
const mostCallers = 64

// Caught returns a panic with a value that was just recovered, by the function that calls it. A *Panic stays as it is.
func Caught(value any) *Panic {
	if p, is := value.(*Panic); is {
		return p
	}
	callers := make([]uintptr, mostCallers)
	return &Panic{value, callers[:runtime.Callers(2, callers)]}
}

// Go runs a function at the same time as others.
func (g *Group) Go(f func() error) {
	g.Group.Go(func() error {
		defer func() {
			if problem := recover(); problem != nil {
				caught := Caught(problem)
				g.once.Do(func() { g.problem = caught })
			}
		}()
		return f()
	})
}

// Wait waits for all functions and returns the first error.
func (g *Group) Wait() error {
	err := g.Group.Wait()
	if g.problem != nil {
		panic(g.problem)
	}
	return err
}

// Ordered calls make with the numbers below n, at most limit at once, and take with what each call returned: in the
// order of the numbers, one at a time. No more than limit results exist at once. The error is the first of take, or
// that of the context; nothing is made or taken after it.
func Ordered[T any](ctx context.Context, n, limit int, make func(i int) T, take func(i int, made T) error) error {
	var (
		group   Group
		mu      sync.Mutex
		changed = sync.NewCond(&mu)
		next    int // the number to make
		turn    int // the number to take
		failed  error
		stopped bool
	)
	stop := func(err error) {
		mu.Lock()
		defer mu.Unlock()
		if !stopped {
			stopped, failed = true, err
		}
		changed.Broadcast()
	}
	defer context.AfterFunc(ctx, func() { stop(context.Cause(ctx)) })()
	begin := func() (i int, ok bool) {
		mu.Lock()
		defer mu.Unlock()
		if stopped || next == n {
			return 0, false
		}
		next++
		return next - 1, true
	}
	wait := func(i int) bool {
		mu.Lock()
		defer mu.Unlock()
		for turn != i && !stopped {
			changed.Wait()
		}
		return !stopped
	}
	for range min(n, limit) {
		group.Go(func() error {
			done := false
			defer func() {
				if !done { // it panics, and nobody's turn comes any more
					stop(nil)
				}
			}()
			for {
				i, ok := begin()
				if !ok {
					break
				}
				made := make(i)
				if !wait(i) {
					break
				}
				if err := take(i, made); err != nil {
					stop(err)
					break
				}
				mu.Lock()
				turn++
				changed.Broadcast()
				mu.Unlock()
			}
			done = true
			return nil
		})
	}
	_ = group.Wait() // the error is kept above
	return failed
}
