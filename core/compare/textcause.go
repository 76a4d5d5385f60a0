package compare

import (
	"slices"
	"strings"

	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// ChangedLine is a line of a text that not both sides have.
type ChangedLine struct {
	Text   string
	Right  bool // it is on the second side
	Number int  // from 1, on its side
	// At is where the line is written or computed; no place in files.
	At source.Pos
	// Because names those causes of the whole text that the line depends on.
	Because []string
}

// addLines finds where the lines come from that make texts differ, once the causes of these are known.
func (c *Comparison) addLines(sides []Side, against int) {
	for i := range c.Documents {
		for j := range c.Documents[i].Rows {
			if row := &c.Documents[i].Rows[j]; row.Against == against {
				row.addLines(sides[0], sides[against], against)
			}
		}
	}
}

// addLines finds where the lines come from that make a text differ between two sides.
func (r *Row) addLines(a, b Side, against int) {
	left, right := r.Cells[0], r.Cells[against]
	if r.Kind != Text || left.Kind() != value.String || right.Kind() != value.String || left.Mark()|right.Mark() != 0 {
		return
	}
	var from [2][]render.TextLine
	for i, s := range []Side{a, b} {
		if s.unit != nil && s.recorder() != nil {
			from[i] = render.TextLines(s.recorder(), s.unit.Project.Sources, []value.Value{left, right}[i])
		}
	}
	leaves := [2]lineLeaves{{recorder: a.recorder()}, {recorder: b.recorder()}}
	r.Changed = ChangedLines(left, right)
	for i := range r.Changed {
		changed := &r.Changed[i]
		side := 0
		if changed.Right {
			side = 1
		}
		if lines := from[side]; changed.Number <= len(lines) {
			at := lines[changed.Number-1]
			changed.At = at.At
			changed.Because = namedIn(r.Cause, leaves[side].of(at.Origin))
		}
	}
}

// lineLeaves finds what lines depend on. What chose the whole text, and may depend on much, is gone through once.
type lineLeaves struct {
	recorder *eval.Recorder
	known    map[value.Origin][]explain.Leaf
}

func (l *lineLeaves) of(o value.Origin) []explain.Leaf {
	if all, ok := l.known[o]; ok {
		return all
	}
	var all []explain.Leaf
	if step, ok := l.recorder.Step(o); ok && step.Kind == eval.Chosen && len(step.Operands) == 2 {
		all = slices.Concat(l.of(step.Operands[0]), l.of(step.Operands[1]))
	} else {
		all = explain.Leaves(l.recorder, o)
	}
	if l.known == nil {
		l.known = map[value.Origin][]explain.Leaf{}
	}
	l.known[o] = all
	return all
}

// ChangedLines returns the lines that one of two texts has alone.
func ChangedLines(left, right value.Value) (all []ChangedLine) {
	for _, line := range Lines(left.Text(), right.Text()) {
		changed := ChangedLine{Text: strings.TrimSuffix(line.Text, "\n"), Number: max(line.Left, line.Right),
			Right: line.Left == 0}
		if line.Left == 0 || line.Right == 0 {
			all = append(all, changed)
		}
	}
	return all
}

// namedIn returns the names of what a cause names and something with these leaves depends on.
func namedIn(c explain.Cause, leaves []explain.Leaf) (names []string) {
	for _, reason := range c.Because {
		if slices.ContainsFunc(leaves, func(l explain.Leaf) bool { return partOf(l, reason) }) {
			names = append(names, reason.Name)
		}
	}
	return names
}

// partOf reports whether one of a leaf and a reason is a part of the other. Leaves do not distinguish the elements of a
// list.
func partOf(l explain.Leaf, r explain.Reason) bool {
	if l.Path == nil || r.Path == nil {
		return l.Name == r.Name
	}
	a, b := l.Path.Fields(), r.Path.Fields()
	n := min(len(a), len(b))
	return slices.Equal(a[:n], b[:n])
}
