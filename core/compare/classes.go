package compare

import "knothole/core/value"

// Classes says which sides have the same at a place: those of one number have, and the numbers begin with 0 in the
// order of the sides. -1 is a side that has nothing there.
func (r *Row) Classes() []int {
	if r.Kind == Moved {
		return classes(len(r.Cells), func(i int) bool { return r.Node.At[i] >= 0 },
			func(i, j int) bool { return r.Node.At[i] == r.Node.At[j] && same(r.Cells[i], r.Cells[j]) })
	}
	if r.Whole() {
		return valueClasses(r.Cells)
	}
	return classes(len(r.Cells), func(i int) bool { return !r.Cells[i].IsAbsent() },
		func(i, j int) bool { return true })
}

// Whole reports whether a row tells all of its values: of what is not on all sides, and differs among those that have
// it, it tells only where it is, and rows of their own tell the rest.
func (r *Row) Whole() bool { return r.Node.Kids == nil || r.Kind != Added && r.Kind != Removed }

// Classes says which sides have the same document, as Row.Classes does of a place.
func (d *Document) Classes() []int {
	if d.Root == nil {
		return classes(len(d.On), func(i int) bool { return d.On[i] }, func(i, j int) bool { return true })
	}
	return valueClasses(d.Root.Cells)
}

func valueClasses(cells []value.Value) []int {
	return classes(len(cells), func(i int) bool { return !cells[i].IsAbsent() },
		func(i, j int) bool { return same(cells[i], cells[j]) })
}

func same(a, b value.Value) bool { return !differ([]value.Value{a, b}) }

func classes(n int, there func(i int) bool, alike func(i, j int) bool) []int {
	numbers, next := make([]int, n), 0
	for i := range n {
		numbers[i] = -1
		if !there(i) {
			continue
		}
		for j := 0; j < i && numbers[i] < 0; j++ {
			if numbers[j] >= 0 && alike(j, i) {
				numbers[i] = numbers[j]
			}
		}
		if numbers[i] < 0 {
			numbers[i] = next
			next++
		}
	}
	return numbers
}
