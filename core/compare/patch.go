package compare

import (
	"slices"

	"knothole/core/place"
	"knothole/core/value"
)

// Operation is one operation of a JSON Patch (RFC 6902).
type Operation struct {
	Op         string
	Path, From string      // JSON Pointers (RFC 6901)
	Value      value.Value // of add, replace and test
}

// Patch returns the operations that make the second side of the first (RFC 6902). Before something is replaced or
// removed it is tested that it is what it was.
func (n *Node) Patch() []Operation {
	if n == nil {
		return nil
	}
	p := &patching{}
	p.node(n, nil)
	return p.operations
}

type patching struct{ operations []Operation }

func (p *patching) add(op string, at, from *place.Path, v value.Value) {
	o := Operation{Op: op, Path: at.Pointer(), Value: v}
	if from != nil {
		o.From = from.Pointer()
	}
	p.operations = append(p.operations, o)
}

func (p *patching) node(n *Node, at *place.Path) {
	left, right := n.Cells[0], n.Cells[1]
	switch {
	case left.IsAbsent():
		p.add("add", at, nil, right)
	case right.IsAbsent():
		p.add("test", at, nil, left)
		p.add("remove", at, nil, value.Value{})
	case n.Slots != nil:
		p.list(n, at)
	case n.Kids == nil:
		p.add("test", at, nil, left)
		p.add("replace", at, nil, right)
	default:
		for _, kid := range n.Kids {
			p.node(kid, at.Field(kid.Step.Name))
		}
	}
}

// list removes what has gone, from the end, puts what has come or moved where it is to be, from the beginning, and
// then goes into what has changed.
func (p *patching) list(n *Node, at *place.Path) {
	left, right := n.Cells[0].Elements(), n.Cells[1].Elements()
	var stays []int // positions on the left of what is in the list now
	kept := map[int]bool{}
	to := make([]int, len(right)) // for each position on the right that on the left, -1 for what has come
	for _, slot := range n.Slots {
		if slot[1] >= 0 {
			to[slot[1]] = slot[0]
			kept[slot[0]] = true
		}
	}
	for i := range left {
		if kept[i] {
			stays = append(stays, i)
		}
	}
	for i := len(left) - 1; i >= 0; i-- {
		if !kept[i] {
			p.add("test", at.Index(i), nil, left[i])
			p.add("remove", at.Index(i), nil, value.Value{})
		}
	}
	for j, i := range to {
		if i < 0 {
			p.add("add", at.Index(j), nil, right[j])
			stays = slices.Insert(stays, j, -1)
			continue
		}
		if now := j + slices.Index(stays[j:], i); now != j {
			p.add("move", at.Index(j), at.Index(now), value.Value{})
			stays = slices.Insert(slices.Delete(stays, now, now+1), j, i)
		}
	}
	for _, kid := range n.Kids {
		if kid.At[0] >= 0 && kid.At[1] >= 0 {
			p.node(kid, at.Index(kid.At[1]))
		}
	}
}

// JSON returns the operation as a record, with the fields in the order of the standard.
func (o Operation) JSON() value.Value {
	var b value.Builder
	b.Set("op", value.StringOf(o.Op, 0))
	if o.Op == "move" {
		b.Set("from", value.StringOf(o.From, 0))
	}
	b.Set("path", value.StringOf(o.Path, 0))
	if !o.Value.IsAbsent() {
		b.Set("value", value.Shown(o.Value))
	}
	return b.Record(0)
}
