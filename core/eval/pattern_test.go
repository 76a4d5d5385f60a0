package eval

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPatternRemembers checks that what a pattern remembers is what it finds out, for however many texts, long ones
// too, and for several goroutines.
func TestPatternRemembers(t *testing.T) {
	const text = `^[a-m]+-(1|3|5)+$`
	pattern, err := newPattern(text)
	require.NoError(t, err)
	plain := regexp.MustCompile(text)
	var all sync.WaitGroup
	for seed := range uint64(4) {
		all.Go(func() {
			random := rand.New(rand.NewPCG(seed, 2))
			for range 20_000 {
				one := fmt.Sprintf("%c%c-%d", 'a'+random.IntN(16), 'a'+random.IntN(16), random.IntN(40))
				if random.IntN(50) == 0 {
					one = strings.Repeat("a", 150+random.IntN(100)) + one
				}
				if pattern.MatchString(one) != plain.MatchString(one) {
					assert.Fail(t, "the pattern answers otherwise", one)
					return
				}
			}
		})
	}
	all.Wait()
}
