package compare

import (
	"slices"

	"knothole/core/place"
	"knothole/core/value"
)

// ChangeKind says in what way the sides differ at a place.
type ChangeKind string

// The kinds of changes.
const (
	Changed  ChangeKind = "changed"  // another value
	Retyped  ChangeKind = "retyped"  // a value of another type
	Added    ChangeKind = "added"    // not there on the first of the sides that differ
	Removed  ChangeKind = "removed"  // there on the first of the sides that differ, and not on another
	Moved    ChangeKind = "moved"    // an element at another position among those that were there
	Renamed  ChangeKind = "renamed"  // the key of an element that is much as before
	Order    ChangeKind = "order"    // the same elements, in another order
	Text     ChangeKind = "text"     // a text of several lines
	Embedded ChangeKind = "embedded" // data in a text
)

// Node is a place at which sides differ, and what differs in it. The nodes of a document are a tree, by which each of
// its sides can be made of the first.
type Node struct {
	Step  place.Step    // to it, from what holds it; on the last of the sides that have it
	At    []int         // its position in a list, on each side; -1 where it is not. Nil for what is in no list
	Keys  []string      // by which it is known in a list on each side; nil when it has none
	Cells []value.Value // on each side; Absent where it is not there
	// Change says how it differs itself; empty for what only holds what differs.
	Change ChangeKind
	Kids   []*Node
	// Slots are the elements of a list, also those that do not differ: the position of each on each side, -1 where it
	// is not.
	Slots [][]int
	// Moves are those of the slots that are at another position on the second side, among those that are on both.
	Moves []*Node
	// Inner is how the data in a text differs, read in a format.
	Inner  *Node
	Format string

	known matchKey
}

// Compare returns how the values of some sides differ; nil when they do not. A value that is not there is Absent.
func Compare(cells ...value.Value) *Node { return CompareBy(nil, cells...) }

// CompareBy compares as Compare does, with fields by which elements of lists are known where all have them and no two
// share them. These come before all that are found.
func CompareBy(fields []string, cells ...value.Value) *Node {
	return compareKnown(matchKey{fields: fields}, cells...)
}

func compareKnown(known matchKey, cells ...value.Value) *Node {
	return compareAt(place.Step{}, nil, cells, known)
}

// differ reports whether not all of some values are the same.
func differ(cells []value.Value) bool {
	first := cells[0]
	for _, v := range cells[1:] {
		if v.IsAbsent() || first.IsAbsent() {
			if v.IsAbsent() != first.IsAbsent() {
				return true
			}
			continue
		}
		if id := v.Identity(); id != 0 && id == first.Identity() && v.Kind() == first.Kind() && v.Len() == first.Len() {
			continue
		}
		if !value.Identical(first, v) {
			return true
		}
	}
	return false
}

func compareAt(step place.Step, at []int, cells []value.Value, known matchKey) *Node {
	n := &Node{Step: step, At: at, Cells: cells, known: known}
	kind, some, all := value.Absent, 0, true // of those that are there
	for _, v := range cells {
		switch {
		case v.IsAbsent():
			all = false
		case some == 0 || v.Kind() == kind:
			kind = v.Kind()
			some++
		default:
			kind = value.Null // several
			some++
		}
	}
	// What holds parts and is not there on some sides is told as a whole, unless others differ in it.
	expand := all || some > 1 && differ(slices.DeleteFunc(slices.Clone(cells), value.Value.IsAbsent))
	switch {
	case kind == value.Record && expand:
		n.records()
	case kind == value.List && expand:
		n.lists()
	case !differ(cells):
		return nil
	default:
		n.leaf()
		return n
	}
	if !all {
		n.Change = n.presence()
	}
	if n.Change == "" && n.Kids == nil && n.Moves == nil {
		return nil
	}
	return n
}

// presence says whether something came or went, by the first of the sides that differ.
func (n *Node) presence() ChangeKind {
	if n.Cells[0].IsAbsent() {
		return Added
	}
	return Removed
}

func (n *Node) leaf() {
	first := n.Cells[0]
	for _, v := range n.Cells[1:] {
		switch {
		case v.IsAbsent() != first.IsAbsent():
			n.Change = n.presence()
			return
		case !v.IsAbsent() && v.Kind() != first.Kind():
			n.Change = Retyped
			return
		}
	}
	n.Change = Changed
	if first.Kind() == value.String && !slices.ContainsFunc(n.Cells, func(v value.Value) bool { return v.Mark() != 0 }) {
		n.text()
	}
}

func (n *Node) records() {
	seen := map[string]bool{}
	for i, v := range n.Cells {
		if v.IsAbsent() {
			continue
		}
		for _, key := range v.Shape().Keys() {
			if seen[key] {
				continue
			}
			if i < len(n.Cells)-1 {
				seen[key] = true
			}
			cells := make([]value.Value, len(n.Cells))
			for j, other := range n.Cells {
				if !other.IsAbsent() {
					cells[j] = other.Get(key)
				}
			}
			step := place.Step{Kind: place.Field, Name: key}
			if kid := compareAt(step, nil, cells, n.known.within(key, cells)); kid != nil {
				n.Kids = append(n.Kids, kid)
			}
		}
	}
}

// Rebuild makes what is on a side of what is on the first, by what differs. A nil node changes nothing.
func (n *Node) Rebuild(first value.Value, side int) value.Value {
	switch {
	case n == nil:
		return first
	case n.Kids == nil && n.Slots == nil || n.Cells[side].IsAbsent() || first.IsAbsent():
		return n.Cells[side]
	case first.Kind() == value.List:
		return n.rebuildList(first, side)
	}
	var b value.Builder
	kids := map[string]*Node{}
	for _, kid := range n.Kids {
		kids[kid.Step.Name] = kid
	}
	for i, key := range first.Shape().Keys() {
		if v := kids[key].Rebuild(first.Values()[i], side); !v.IsAbsent() {
			b.Set(key, v)
		}
	}
	for _, kid := range n.Kids {
		if v := kid.Cells[side]; first.Get(kid.Step.Name).IsAbsent() && !v.IsAbsent() {
			b.Set(kid.Step.Name, v)
		}
	}
	return b.Record(first.Origin())
}

func (n *Node) rebuildList(first value.Value, side int) value.Value {
	elements := make([]value.Value, n.Cells[side].Len())
	kids := map[[2]int]*Node{}
	for _, kid := range n.Kids {
		kids[[2]int{kid.At[0], kid.At[side]}] = kid
	}
	for _, slot := range n.Slots {
		if slot[side] < 0 {
			continue
		}
		var v value.Value
		if slot[0] >= 0 {
			v = first.Elements()[slot[0]]
		}
		elements[slot[side]] = kids[[2]int{slot[0], slot[side]}].Rebuild(v, side)
	}
	return value.ListOf(elements, first.Origin())
}
