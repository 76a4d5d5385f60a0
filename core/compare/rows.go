package compare

import (
	"slices"

	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/value"
)

// Row is one place at which the sides differ, with all that holds it.
type Row struct {
	// Path is the place as people write it, on the last of the sides that have it.
	Path *place.Path
	// Cells are the values on each side; Absent where there is none. Of another order they are the keys of what is on
	// all.
	Cells []value.Value
	Kind  ChangeKind
	// Paths are the places on each side; nil where it is not there.
	Paths []*place.Path
	Node  *Node
	Cause explain.Cause
	// Against is the side with which the first was compared for the cause.
	Against int
	// Changed are the lines of a text that the first side and that one have alone.
	Changed []ChangedLine

	around []*Node // what holds it, innermost first
}

// Left and Right are the values on the first two sides.
func (r *Row) Left() value.Value { return r.Cells[0] }

// Right returns the name of the second side.
func (r *Row) Right() value.Value { return r.Cells[1] }

// fewMoves is how many elements of a list that stand elsewhere are told one by one.
const fewMoves = 3

// Rows returns the places at which sides differ, in the order of the document.
func (n *Node) Rows() []Row {
	if n == nil {
		return nil
	}
	f := &flattening{paths: make([]*place.Path, len(n.Cells))}
	f.node(n, nil)
	return f.rows
}

type flattening struct {
	rows   []Row
	around []*Node
	paths  []*place.Path // of what is looked at, on each side
}

func (f *flattening) row(n *Node, path *place.Path, kind ChangeKind, cells []value.Value) {
	paths := slices.Clone(f.paths)
	for i, v := range n.Cells {
		if v.IsAbsent() {
			paths[i] = nil
		}
	}
	around := slices.Clone(f.around)
	slices.Reverse(around)
	f.rows = append(f.rows, Row{Path: path, Cells: cells, Kind: kind, Paths: paths, Node: n, around: around})
}

func (f *flattening) node(n *Node, path *place.Path) {
	renamed := n.renamed()
	switch {
	case renamed != nil:
		f.row(n, path, Renamed, renamed)
	case n.Change == Order:
		f.row(n, path, Order, n.order())
	case n.Kids != nil && len(f.around) > 0 && absentWith(n, f.around[len(f.around)-1]):
		// that what holds it is not there was told
	case n.Change != "":
		f.row(n, path, n.Change, n.Cells)
		if n.Kids == nil && n.Moves == nil {
			return
		}
	}
	f.around = append(f.around, n)
	defer func() { f.around = f.around[:len(f.around)-1] }()
	for _, kid := range n.Kids {
		if renamed != nil && kid.Step.Kind == place.Field && slices.EqualFunc(kid.Cells, renamed, sameText) {
			continue // it is the key
		}
		f.within(kid, func() { f.node(kid, extended(path, kid.Step)) })
	}
	if len(n.Moves) > fewMoves {
		f.row(n, path, Order, n.order())
		return
	}
	for _, moved := range n.Moves {
		f.within(moved, func() { f.row(moved, extended(path, moved.Step), Moved, moved.Cells) })
	}
}

// sameText reports whether a scalar is written as the key of an element is.
func sameText(v, key value.Value) bool {
	text, ok := v.Scalar()
	return ok && key.Kind() == value.String && text == key.Text() || v.IsAbsent() && key.IsAbsent()
}

// absentWith reports whether something is missing where what holds it is, and nowhere else.
func absentWith(n, holder *Node) bool {
	missing := false
	for i, v := range n.Cells {
		if v.IsAbsent() != holder.Cells[i].IsAbsent() {
			return false
		}
		missing = missing || v.IsAbsent()
	}
	return missing
}

// within goes to a part on each side.
func (f *flattening) within(kid *Node, visit func()) {
	outer := f.paths
	f.paths = make([]*place.Path, len(outer))
	for i := range outer {
		step := kid.Step
		if kid.At != nil {
			step.Index = kid.At[i]
			if kid.Keys != nil {
				step.Name = kid.Keys[i]
			}
		}
		f.paths[i] = extended(outer[i], step)
	}
	visit()
	f.paths = outer
}

func extended(path *place.Path, step place.Step) *place.Path {
	switch step.Kind {
	case place.Field:
		return path.Field(step.Name)
	case place.Keyed:
		return path.Step(step)
	}
	return path.Index(step.Index)
}

// renamed returns the keys of an element that has another on another side; nil when it has not.
func (n *Node) renamed() []value.Value {
	if n.Step.Kind != place.Keyed || n.Keys == nil || n.Change != "" {
		return nil
	}
	cells := make([]value.Value, len(n.Cells))
	other := false
	for i, key := range n.Keys {
		if n.At[i] >= 0 {
			cells[i] = value.StringOf(key, n.Cells[i].Origin())
			other = other || key != n.Step.Name
		}
	}
	if !other {
		return nil
	}
	return cells
}

// order returns the keys of what all sides have, or the elements themselves, in the order of each side.
func (n *Node) order() []value.Value {
	cells := make([]value.Value, len(n.Cells))
	for side, list := range n.Cells {
		var all [][]int
		for _, slot := range n.Slots {
			if slot[side] >= 0 {
				all = append(all, slot)
			}
		}
		if len(n.Cells) == 2 { // what is on one side only is told by itself
			all = slices.DeleteFunc(all, func(slot []int) bool { return slices.Contains(slot, -1) })
		}
		slices.SortFunc(all, func(a, b []int) int { return a[side] - b[side] })
		keys := make([]value.Value, len(all))
		_, names, _ := givenKeys(n.known.fields, [][]value.Value{list.Elements()})
		if names == nil {
			names = place.Keys(func([][]string) bool { return true }, list.Elements())
		}
		if names == nil {
			_, names, _ = givenKeys(n.known.keys(), [][]value.Value{list.Elements()})
		}
		for i, slot := range all {
			keys[i] = list.Elements()[slot[side]]
			if names != nil {
				keys[i] = value.StringOf(names[0][slot[side]], keys[i].Origin())
			}
		}
		cells[side] = value.ListOf(keys, list.Origin())
	}
	return cells
}

// IsGone reports whether two values that are compared again do not differ any more where a row says that they did. An
// element of a list is the one that is known by the same key; of those without keys, what differs is found anew.
func (r *Row) IsGone(left, right value.Value) bool { return r.isGone(new(again), left, right) }

// again compares values again. It remembers what it found, since a list may hold many places that are asked for.
type again struct {
	place.Finder
	// compared are known by the values themselves, which stay as long as what was found of them: what is known by
	// where it is in memory would be mistaken for what comes there later.
	compared map[[2]value.Value][]Row
}

// rows returns where two values differ.
func (a *again) rows(known matchKey, left, right value.Value) []Row {
	key := [2]value.Value{left, right}
	if rows, ok := a.compared[key]; ok {
		return rows
	}
	rows := compareKnown(known, left, right).Rows()
	if left.Identity() != 0 && right.Identity() != 0 {
		if a.compared == nil {
			a.compared = map[[2]value.Value][]Row{}
		}
		a.compared[key] = rows
	}
	return rows
}

func (r *Row) isGone(a *again, left, right value.Value) bool {
	steps := r.Path.Steps()
	if r.Kind == Moved {
		steps = steps[:len(steps)-1]
	}
	for ; len(steps) > 0; steps = steps[1:] {
		if left.IsAbsent() || right.IsAbsent() {
			return left.IsAbsent() && right.IsAbsent()
		}
		holder := value.List
		if steps[0].Kind == place.Field {
			holder = value.Record
		}
		if left.Kind() != holder || right.Kind() != holder {
			return value.Identical(left, right)
		}
		switch step := steps[0]; step.Kind {
		case place.Field:
			left, right = left.Get(step.Name), right.Get(step.Name)
		case place.Keyed:
			x, y := a.Find(left, step), a.Find(right, step)
			if len(x) > 1 || len(y) > 1 {
				return false
			}
			left, right = value.Value{}, value.Value{}
			for _, v := range x {
				left = v
			}
			for _, v := range y {
				right = v
			}
		default:
			known := r.around[len(steps)-1].known
			return !slices.ContainsFunc(a.rows(known, left, right), func(other Row) bool {
				return overlap(steps, other.Path.Steps())
			})
		}
	}
	if left.IsAbsent() || right.IsAbsent() {
		return left.IsAbsent() && right.IsAbsent()
	}
	switch r.Kind {
	case Moved:
		last := r.Path.Steps()[len(r.Path.Steps())-1:]
		return !slices.ContainsFunc(a.rows(r.Node.known, left, right), func(other Row) bool {
			return other.Path == nil || other.Kind == Moved && overlap(last, other.Path.Steps())
		})
	case Order:
		return !slices.ContainsFunc(a.rows(r.Node.known, left, right), func(other Row) bool {
			return other.Path == nil || other.Kind == Moved && len(other.Path.Steps()) == 1
		})
	}
	return value.Identical(left, right)
}

// overlap reports whether two paths lead to the same place, or one to what contains that of the other.
func overlap(a, b []place.Step) bool {
	n := min(len(a), len(b))
	return place.Text(a[:n]) == place.Text(b[:n])
}
