package value_test

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"

	"knothole/core/value"
)

// TestLookup checks that a Lookup finds what Get finds, in records of however many shapes, for several goroutines.
func TestLookup(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 1))
	shapes := make([]*value.Shape, 100)
	for i := range shapes {
		var keys []string
		for key := range 1 + random.IntN(12) {
			if random.IntN(2) == 0 {
				keys = append(keys, fmt.Sprintf("k%d", key))
			}
		}
		shapes[i] = value.NewShape(keys)
	}
	records := []value.Value{value.NullOf(0), value.IntOf(4, 0)} // which have no entries
	for range 5000 {
		// At first few shapes, as where all records are made at one place.
		shape := shapes[random.IntN(1+len(records)*len(shapes)/5000)]
		values := make([]value.Value, len(shape.Keys()))
		for i := range values {
			values[i] = value.IntOf(random.Int64(), 0)
		}
		v := value.RecordOf(shape, values, 0)
		if random.IntN(10) == 0 {
			v = value.Put(v, []string{"k3"}, value.IntOf(3, 0))
		}
		records = append(records, v)
	}
	lookup := value.NewLookup("k3")
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for i, v := range records {
				if got, want := lookup.Get(v), v.Get("k3"); got != want {
					assert.Equal(t, want, got, "record %d", i)
					return
				}
			}
		})
	}
	all.Wait()
}
