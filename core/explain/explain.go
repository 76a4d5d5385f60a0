// Package explain tells why a value is what it is, from an evaluation that was recorded. It exists so that every
// difference, and every value, can name the line and the inputs that decided it.
package explain

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Leaf is something outside of the templates that a value depends on: an input, or a part of one, or the environment.
type Leaf struct {
	*eval.InputPart
	Pos source.Pos // where the input got its value, or where env is read
}

// EnvironmentName is the name of the leaf that is the environment.
const EnvironmentName = "env.name"

// environment is what values depend on that read env. It is not an input and has no path.
var environment = &eval.InputPart{Name: EnvironmentName}

// Leaves returns what a value depends on, each once, in the order in which it is visited.
func Leaves(r *eval.Recorder, o value.Origin) []Leaf {
	c := newCollector(r)
	c.origin(o)
	return c.leaves
}

// deep returns what a value and all that it holds depend on.
func deep(r *eval.Recorder, v value.Value) []Leaf {
	c := newCollector(r)
	c.value(v)
	return c.leaves
}

// collector gathers leaves; it goes through each recorded step and each shared value once.
type collector struct {
	recorder *eval.Recorder
	seen     map[value.Origin]bool
	shared   map[uintptr]bool
	known    map[Leaf]bool
	leaves   []Leaf
}

func newCollector(r *eval.Recorder) *collector {
	return &collector{recorder: r, seen: map[value.Origin]bool{}, shared: map[uintptr]bool{}, known: map[Leaf]bool{}}
}

// origin gathers the leaves after an origin. It keeps its own stack, since a fold leaves a chain as long as its list.
func (c *collector) origin(o value.Origin) {
	stack := []value.Origin{o}
	for len(stack) > 0 {
		o := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		step, ok := c.recorder.Step(o)
		if !ok || c.seen[o] {
			continue
		}
		c.seen[o] = true
		leaf := Leaf{step.Input, step.Pos}
		if step.Environment {
			leaf.InputPart = environment
		}
		if leaf.InputPart != nil && !c.known[leaf] {
			c.known[leaf] = true
			c.leaves = append(c.leaves, leaf)
		}
		for _, operand := range slices.Backward(step.Operands) {
			stack = append(stack, operand)
		}
	}
}

// choices gathers what chose a value: it goes back to where the value was made, through what it was only passed by.
func (c *collector) choices(o value.Origin) {
	for {
		step, ok := c.recorder.Step(o)
		if !ok || step.Kind == eval.Computed || len(step.Operands) == 0 {
			return
		}
		if step.Kind == eval.Chosen {
			c.origin(step.Operands[len(step.Operands)-1])
			if len(step.Operands) == 1 {
				return
			}
		}
		o = step.Operands[0]
	}
}

// decided gathers what a list or record was computed from, where it was: how many elements it has, and which.
func (c *collector) decided(o value.Origin) {
	if step, ok := c.recorder.Step(o); ok && step.Kind == eval.Computed && step.Input == nil {
		c.origin(o)
	}
}

func (c *collector) value(v value.Value) {
	c.origin(v.Origin())
	if id := v.Identity(); id != 0 {
		if c.shared[id] {
			return
		}
		c.shared[id] = true
	}
	for _, x := range value.Parts(v) {
		c.value(x)
	}
}

// Side is one of the two values being compared.
type Side struct {
	Recorder *eval.Recorder
	Value    value.Value // Absent when the value is not there on this side
	// Around are the origins of the records and lists that hold the value, or would, innermost first. The first
	// explains what is on one side only; what chose any of them chose the value too.
	Around []value.Origin
	// Block is the origin of the path of the document, which knows what chose the block that it is in.
	Block value.Origin
}

// made returns what the value depends on, whatever it holds.
func (s Side) made() []Leaf {
	if !s.present() {
		return nil
	}
	return Leaves(s.Recorder, s.Value.Origin())
}

// holder returns what the record or list around the value depends on.
func (s Side) holder() []Leaf { return s.around(1) }

// holders returns what all that is around the value depends on.
func (s Side) holders() []Leaf { return s.around(len(s.Around)) }

func (s Side) around(levels int) []Leaf {
	if s.Recorder == nil {
		return nil
	}
	c := newCollector(s.Recorder)
	for _, o := range s.Around[:min(levels, len(s.Around))] {
		c.origin(o)
	}
	return c.leaves
}

// held returns what the value and all that it holds depend on.
func (s Side) held() []Leaf {
	if !s.present() {
		return nil
	}
	return deep(s.Recorder, s.Value)
}

// chosen returns what the choices of what is around the value depend on: it may have been chosen as a whole.
func (s Side) chosen() []Leaf {
	if s.Recorder == nil {
		return nil
	}
	c := newCollector(s.Recorder)
	for _, o := range append([]value.Origin{s.Block}, s.Around...) {
		c.choices(o)
	}
	return c.leaves
}

func (s Side) present() bool { return !s.Value.IsAbsent() }

// Pos returns the line that decided the value, no place when it is not there.
func (s Side) Pos() source.Pos {
	if !s.present() {
		return source.NoPos
	}
	return s.Recorder.Pos(s.Value.Origin())
}

// Cause says why two values differ.
type Cause struct {
	// Left and Right are the lines that decided the values: of a layer, a data file or a template.
	Left, Right source.Pos
	// Because names the inputs, or the environment, on which the difference depends. It is empty when the lines say
	// it all, such as for two data files.
	Because []Reason
	// Tried says that the difference was seen to go when all that is named is made equal, and that it takes each of
	// them.
	Tried bool
}

// Reason is one thing that makes two values differ.
type Reason struct {
	Name        string
	Path        *place.Path // of an input; nil for the environment, its tags, and changed lines
	Left, Right source.Pos  // where it got its value on each side
	// Upstream is why the outputs of upstream environments differ that the values come from; nil when they come from
	// none.
	Upstream *UpstreamCause
}

// String tells all that a reason says, so that those that say the same are known by it.
func (r Reason) String() string {
	text := r.Name + " " + strconv.Itoa(int(r.Left)) + " " + strconv.Itoa(int(r.Right))
	if r.Upstream != nil {
		text += fmt.Sprintf(" (%v %v %v %v)", r.Upstream.By, r.Upstream.Cause.Left, r.Upstream.Cause.Right,
			r.Upstream.Cause.Because)
	}
	return text
}

// Whole returns the name of the input of which a reason names a part; anything else is named as it is.
func (r Reason) Whole() string {
	if r.Path == nil {
		return r.Name
	}
	return r.Path.First().Name
}

// UpstreamCause is why the outputs of two upstream environments differ.
type UpstreamCause struct {
	By    [2]string // the names of those that told each side
	Cause Cause
}

// Difference finds the cause of a difference. Differs reports whether an input has another value on the other side; nil
// says that all may have.
func Difference(left, right Side, differs Differing) Cause {
	c := Cause{Left: left.Pos(), Right: right.Pos()}
	ways := []func(Side) []Leaf{Side.held, Side.chosen, Side.holders}
	if !left.present() || !right.present() {
		// What is on one side only is there because of what chose it, whatever it holds, or was taken away on the
		// other.
		ways = slices.Insert(ways, 0, Side.made, Side.holder)
	}
	for _, way := range ways {
		if c.Because = reasons([2][]Leaf{way(left), way(right)}, differs); len(c.Because) > 0 {
			break
		}
	}
	return c
}

// reasons returns those of the leaves of two sides that make them differ.
func reasons(sides [2][]Leaf, differs Differing) (because []Reason) {
	// The part of an input says more than the whole, also where the part is the same on both sides: it was only gone
	// through.
	hasPart := map[string]bool{}
	for _, leaf := range slices.Concat(sides[0], sides[1]) {
		for outer := leaf.Outer; outer != nil; outer = outer.Outer {
			hasPart[outer.Name] = true
		}
	}
	for i, leaves := range sides {
		for _, leaf := range leaves {
			if leaf.Path != nil && (hasPart[leaf.Name] || differs != nil && !differs(leaf.InputPart)) {
				continue
			}
			at := slices.IndexFunc(because, func(r Reason) bool { return r.Name == leaf.Name })
			if at < 0 {
				at = len(because)
				because = append(because, Reason{Name: leaf.Name, Path: leaf.Path})
			}
			if r := &because[at]; i == 0 && !r.Left.IsValid() {
				r.Left = leaf.Pos
			} else if i == 1 && !r.Right.IsValid() {
				r.Right = leaf.Pos
			}
		}
	}
	// What got its value at one place for both sides cannot make them differ, unless nothing else does.
	telling := slices.DeleteFunc(slices.Clone(because),
		func(r Reason) bool { return r.Path != nil && r.Left == r.Right })
	if len(telling) > 0 {
		because = telling
	}
	because = gather(because)
	slices.SortFunc(because, func(a, b Reason) int { return strings.Compare(a.Name, b.Name) })
	return because
}

// few is how many parts of one input are named one by one.
const few = 2

// gather names, where many parts of one input make a difference, what these parts have in common instead.
func gather(reasons []Reason) []Reason {
	parts := map[string][]Reason{}
	for _, r := range reasons {
		parts[r.Whole()] = append(parts[r.Whole()], r)
	}
	var gathered []Reason
	for _, r := range reasons {
		of := parts[r.Whole()]
		if len(of) <= few {
			gathered = append(gathered, r)
			continue
		}
		if of[0].Name != r.Name {
			continue // the first stands for all
		}
		common := of[0]
		for _, other := range of[1:] {
			common.Path = place.Common(common.Path, other.Path)
			if !common.Left.IsValid() {
				common.Left = other.Left
			}
			if !common.Right.IsValid() {
				common.Right = other.Right
			}
		}
		common.Name = common.Path.String()
		gathered = append(gathered, common)
	}
	return gathered
}
