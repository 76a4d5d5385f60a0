package eval

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/value"
)

// TestPackedSteps checks that what is written down is read back, whatever the order, also over the ends of blocks and
// with more operands than a block holds.
func TestPackedSteps(t *testing.T) {
	for seed := range uint64(6) {
		random := rand.New(rand.NewPCG(seed, 7))
		r := &Recorder{}
		var wanted []RecordedStep
		var origins []value.Origin
		one := func() value.Origin { return origins[random.IntN(len(origins))] }
		for i := range 3 << stepBits {
			at := source.Pos(i + 1)
			step := RecordedStep{Pos: at}
			var o value.Origin
			kind := random.IntN(6)
			switch {
			case kind == 0 || i == 0:
				step.Environment = true
				o = r.environment(at)
			case kind == 1:
				step.Input = r.part(nil, "a")
				if name := []string{"", "b", "c"}[random.IntN(3)]; name != "" {
					step.Input = r.part(step.Input, name)
				}
				o = r.inputPart(step.Input, value.IntOf(1, value.From(at))).Origin()
			case kind == 2:
				step.Kind = Computed
				n := 1 + random.IntN(4)
				if i%5000 == 4999 {
					n = 1<<operandBits + 5
				}
				for range n {
					step.Operands = append(step.Operands, one())
				}
				o = r.computed(at, step.Operands...)
			case kind == 3:
				step.Kind, step.Operands = Placed, []value.Origin{one()}
				key := source.Span{Start: at, End: at + 1}
				o = r.placed(value.IntOf(1, step.Operands[0]), key, source.Span{}).Origin()
			case kind == 4:
				step.Kind, step.Operands = Patched, []value.Origin{one()}
				old := value.Value{}
				if random.IntN(2) == 0 {
					old = value.IntOf(int64(i), one())
					step.Replaced = &old
				}
				o = r.patched(value.IntOf(1, step.Operands[0]), old, at).Origin()
			default:
				by := one()
				step.Kind, step.Operands = Chosen, []value.Origin{by}
				step.Pos = 77
				o = r.chosen(value.IntOf(1, value.From(77)), by).Origin()
			}
			wanted, origins = append(wanted, step), append(origins, o)
		}
		for i, o := range origins {
			got, ok := r.Step(o)
			require.True(t, ok)
			require.Equal(t, wanted[i], got, "seed %d, step %d", seed, i)
		}
	}
}

// TestPlaces holds which place is reported for a value: the one where it was written, even after it was passed on, or
// the one where it was computed. The key of a chosen value is chosen too.
func TestPlaces(t *testing.T) {
	r := &Recorder{}
	written := r.input("n", value.IntOf(1, value.From(10)))
	passed := r.passed(r.passed(written, 20), 30)
	require.Equal(t, source.Pos(10), r.Pos(passed.Origin()))
	placed := r.placed(passed, source.Span{Start: 40, End: 41}, source.Span{})
	require.Equal(t, source.Pos(10), r.Pos(placed.Origin()))
	require.Equal(t, source.Pos(50), r.Pos(r.computed(50, placed.Origin())))

	by := r.input("c", value.BoolOf(true, value.From(60))).Origin()
	key, ok := r.Step(r.key(r.chosen(placed, by).Origin()))
	require.True(t, ok, "what chose it is known of the key")
	require.Equal(t, Chosen, key.Kind)
	require.Equal(t, source.Pos(40), key.Pos)
	require.Equal(t, []value.Origin{by}, key.Operands)
	require.Equal(t, value.From(40), r.key(placed.Origin()))
}

// TestNothingRecorded checks that without a recorder values stay as they are and come from where they are.
func TestNothingRecorded(t *testing.T) {
	var r *Recorder
	v := value.IntOf(1, value.From(5))
	require.Equal(t, v, r.placed(v, source.Span{Start: 9}, source.Span{}))
	require.Equal(t, v, r.passed(v, 9))
	require.Equal(t, v, r.chosen(v, value.From(9)))
	require.Equal(t, v, r.patched(v, value.Value{}, 9))
	require.Equal(t, v, r.input("a", v))
	require.Equal(t, value.From(9), r.computed(9, value.From(5)))
	require.Equal(t, value.From(9), r.environment(9))
	require.Equal(t, source.Pos(5), r.Pos(v.Origin()))
}
