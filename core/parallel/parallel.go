// Package parallel runs functions at the same time. It exists so that an error in the program, which panics, reaches
// the one place that tells people of it, whichever goroutine it happens in.
package parallel

import (
	"sync"

	"golang.org/x/sync/errgroup"
)

// Group is an errgroup.Group of which Wait panics with what the first function that panicked did. The zero Group is
// ready for use.
type Group struct {
	errgroup.Group
	once    sync.Once
	problem any
}

// Go runs a function at the same time as others.
func (g *Group) Go(f func() error) {
	g.Group.Go(func() error {
		defer func() {
			if problem := recover(); problem != nil {
				g.once.Do(func() { g.problem = problem })
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
