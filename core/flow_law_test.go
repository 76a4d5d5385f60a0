package core_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/syntax"
)

// followed checks for a random program that the checker follows secrets to each place where evaluation finds that one
// decides something or would show. Left out is what only values tell: the choice of a member of a union, and of a
// branch of a match by the type.
func followed(t *testing.T, seed uint64) (found int) {
	t.Helper()
	program := newGenerator(seed).secretProgram()
	p := loadSecret(t, program)
	if p.Unit().Module == nil {
		return 0
	}
	run, unread := p.Run(p.Concrete()[0]).WithSecrets(
		secretTexts{"pin": "a", "num": "2", "pair.a": "kind", "pair.kind": "a"})
	require.False(t, unread.HasErrors(), program)
	w := run.World(false)
	for _, o := range p.Unit().Module.Order {
		if _, ok := o.Declaration.(*syntax.Output); ok {
			w.Value(o)
		}
	}
	byType := map[source.Pos]bool{}
	for _, d := range p.Unit().Module.Tree.Declarations {
		syntax.Inspect(d, func(n syntax.Node) bool {
			if m, ok := n.(*syntax.Match); ok {
				for _, arm := range m.Arms {
					for _, pattern := range arm.Patterns {
						if _, is := pattern.(*syntax.Is); is {
							byType[m.Subject.Place().Start] = true
						}
					}
				}
			}
			return true
		})
	}
	for _, f := range w.Findings() {
		decides := f.Code == source.HiddenDecision && !strings.Contains(f.Message, "which of ") && !byType[f.Span.Start]
		if decides || f.Code == source.SecretExposed {
			found++
			require.True(t, p.Tracked(f), "seed %d: %s: %s\n%s", seed, p.Sources.Locate(f.Span.Start), f.Message,
				program)
		}
	}
	return found
}

// FuzzFollowed: whatever the program, no secret gets to a place unseen.
func FuzzFollowed(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { followed(t, seed) })
}

// TestFollowed is a part of what FuzzFollowed tries.
func TestFollowed(t *testing.T) {
	seeds, found := uint64(200), 0
	if testing.Short() {
		seeds = 20
	}
	for seed := range seeds {
		found += followed(t, seed)
	}
	require.Greater(t, found, int(seeds)*10)
}
