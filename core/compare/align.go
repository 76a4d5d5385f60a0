package compare

import (
	"slices"
	"sort"

	"knothole/core/place"
	"knothole/core/value"
)

// lists compares lists: their elements are put into slots, by their keys or by what they have in common, and each slot
// is compared.
func (n *Node) lists() {
	sides := make([][]value.Value, len(n.Cells))
	for i, v := range n.Cells {
		if !v.IsAbsent() {
			sides[i] = v.Elements()
		}
	}
	by, keys, numbers := n.knownBy(sides)
	if keys != nil {
		n.Slots = byKeys(keys)
		n.rename(sides)
	} else {
		n.Slots = inOrder(sides)
	}
	n.Slots = arranged(n.Slots, sides)
	for _, slot := range n.Slots {
		cells, step := make([]value.Value, len(sides)), place.Step{Kind: place.Index}
		for side, at := range slot {
			if at < 0 {
				continue
			}
			cells[side] = sides[side][at]
			step.Index = at
			if keys != nil && keys[side][at] != "" {
				step.Kind, step.Name, step.By = place.Keyed, keys[side][at], by
				step.Number = by != "" && numbers[side][at]
			}
		}
		kid := compareAt(step, slot, cells, n.known.element(cells))
		if kid == nil {
			continue
		}
		if step.Kind == place.Keyed {
			kid.Keys = make([]string, len(sides))
			for side, at := range slot {
				if at >= 0 {
					kid.Keys[side] = keys[side][at]
				}
			}
		}
		n.Kids = append(n.Kids, kid)
	}
	n.moves(sides, keys, by, numbers)
}

// knownBy finds out by what the elements of lists are known: the fields that the project names, the common ones, those
// that the schema names, or another that most have in common. Keys are nil when there is nothing.
func (n *Node) knownBy(sides [][]value.Value) (by string, keys [][]string, numbers [][]bool) {
	if by, keys, numbers = givenKeys(n.known.fields, sides); keys != nil {
		return by, keys, numbers
	}
	if keys = keysOf(sides); keys != nil {
		return "", keys, nil
	}
	records := func(list []value.Value) bool { return len(list) > 0 && list[0].Kind() == value.Record }
	if n.known.at != nil && slices.ContainsFunc(sides, records) {
		if by, keys, numbers = givenKeys(n.known.keys(), sides); keys != nil {
			return by, keys, numbers
		}
	}
	return uncommonKeys(sides)
}

// givenKeys returns the texts of the first of some fields that all elements of lists have and no two share, and which
// of these are numbers. It is empty when there is none.
func givenKeys(fields []string, sides [][]value.Value) (by string, keys [][]string, numbers [][]bool) {
fields:
	for _, field := range fields {
		keys, numbers = make([][]string, len(sides)), make([][]bool, len(sides))
		for i, list := range sides {
			if slices.ContainsFunc(list, func(x value.Value) bool { return x.Kind() != value.Record }) {
				return "", nil, nil
			}
			var ok bool
			if keys[i], numbers[i], ok = place.KeysBy(list, field); !ok && len(list) > 0 {
				continue fields
			}
		}
		if slices.ContainsFunc(sides, func(list []value.Value) bool { return len(list) > 0 }) {
			return field, keys, numbers
		}
	}
	return "", nil, nil
}

// keysOf returns the texts by which the elements of lists are known; nil when there are none. As many elements with
// other keys throughout have none: it is the key that differs.
func keysOf(sides [][]value.Value) [][]string {
	lists := slices.DeleteFunc(slices.Clone(sides), func(list []value.Value) bool { return len(list) == 0 })
	if len(lists) == 0 {
		return nil
	}
	accept := func(keys [][]string) bool {
		first := make(map[string]bool, len(keys[0]))
		for _, key := range keys[0] {
			first[key] = true
		}
		return !slices.ContainsFunc(keys[1:], func(other []string) bool {
			return len(other) == len(first) && !slices.ContainsFunc(other, func(key string) bool { return first[key] })
		})
	}
	found := place.Keys(accept, lists...)
	if found == nil {
		return nil
	}
	keys := make([][]string, len(sides))
	for i, list := range sides {
		if len(list) > 0 {
			keys[i], found = found[0], found[1:]
		}
	}
	return keys
}

// uncommonKeys returns the texts of another field by which the elements of lists are known, and which of these are
// numbers: one that all have, no two the same, and of whose texts more than two thirds are on both of two sides. It is
// empty when there is none.
func uncommonKeys(sides [][]value.Value) (by string, keys [][]string, numbers [][]bool) {
	if len(sides) < 2 || len(sides[0]) == 0 || sides[0][0].Kind() != value.Record {
		return "", nil, nil
	}
fields:
	for _, field := range sides[0][0].Shape().Keys() {
		all, whether := make([][]string, len(sides)), make([][]bool, len(sides))
		first := map[string]bool{}
		for i, list := range sides {
			if slices.ContainsFunc(list, func(x value.Value) bool { return x.Kind() != value.Record }) {
				return "", nil, nil
			}
			var ok bool
			if all[i], whether[i], ok = place.KeysBy(list, field); !ok {
				continue fields
			}
			shared := 0
			for _, key := range all[i] {
				if i == 0 {
					first[key] = true
				} else if first[key] {
					shared++
				}
			}
			if i > 0 && (shared < fewShared || 3*shared <= 2*max(len(list), len(first))) {
				continue fields
			}
		}
		return field, all, whether
	}
	return "", nil, nil
}

// fewShared is how many keys are on both sides at least for a field that is no common key to be one.
const fewShared = 3

// byKeys puts the elements with the same key into one slot. What the first side lacks comes after what it stands
// behind on its own.
func byKeys(keys [][]string) [][]int {
	var slots [][]int
	known := map[string]int{}
	for side, list := range keys {
		for at, key := range list {
			i, ok := known[key]
			if !ok {
				i = len(slots)
				known[key] = i
				slots = append(slots, nowhere(len(keys)))
			}
			slots[i][side] = at
		}
	}
	return slots
}

// arranged puts slots that the first side lacks after what they come after where they are.
func arranged(slots [][]int, sides [][]value.Value) [][]int {
	at := make([][]int, len(sides)) // the slot of each element
	for side, list := range sides {
		at[side] = make([]int, len(list))
	}
	for i, slot := range slots {
		for side, position := range slot {
			if position >= 0 {
				at[side][position] = i
			}
		}
	}
	behind := map[int][]int{} // -1 for those that stand first
	for i, slot := range slots {
		side := slices.IndexFunc(slot, func(position int) bool { return position >= 0 })
		before := -1
		if position := slot[side]; position > 0 {
			before = at[side][position-1]
		}
		behind[before] = append(behind[before], i)
	}
	all := make([][]int, 0, len(slots))
	stack := []int{-1}
	for len(stack) > 0 {
		i := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if i >= 0 {
			all = append(all, slots[i])
		}
		// What is on the first side too comes last, after what was brought in.
		next := behind[i]
		for _, j := range next {
			if slots[j][0] >= 0 {
				stack = append(stack, j)
			}
		}
		for _, j := range slices.Backward(next) {
			if slots[j][0] < 0 {
				stack = append(stack, j)
			}
		}
	}
	return all
}

func nowhere(sides int) []int {
	slot := make([]int, sides)
	for i := range slot {
		slot[i] = -1
	}
	return slot
}

// enough is how much of two elements must be equal for one to be the other with changes.
const enough = 0.6

// rename puts an element with another key into the slot of a similar element that was removed.
func (n *Node) rename(sides [][]value.Value) {
	for side := 1; side < len(sides); side++ {
		var gone, come []int // slots
		for i, slot := range n.Slots {
			switch {
			case slot[0] >= 0 && slot[side] < 0:
				gone = append(gone, i)
			case slot[side] >= 0 && !slices.ContainsFunc(slot[:side], func(at int) bool { return at >= 0 }):
				come = append(come, i)
			}
		}
		if len(gone)*len(come) > manyPairs {
			continue
		}
		for _, pair := range likest(gone, come, func(i, j int) float64 {
			return alike(sides[0][n.Slots[i][0]], sides[side][n.Slots[j][side]])
		}) {
			n.Slots[pair[0]][side] = n.Slots[pair[1]][side]
			n.Slots[pair[1]][side] = -1
		}
	}
	n.Slots = slices.DeleteFunc(n.Slots, func(slot []int) bool {
		return !slices.ContainsFunc(slot, func(at int) bool { return at >= 0 })
	})
}

// manyPairs is how many pairs of elements are compared to find out which are alike.
const manyPairs = 1 << 12

// likest pairs what is alike, the likest first.
func likest(left, right []int, alike func(i, j int) float64) (pairs [][2]int) {
	type candidate struct {
		i, j  int
		share float64
	}
	var all []candidate
	for _, i := range left {
		for _, j := range right {
			if share := alike(i, j); share >= enough {
				all = append(all, candidate{i, j, share})
			}
		}
	}
	sort.SliceStable(all, func(a, b int) bool { return all[a].share > all[b].share })
	taken := map[int]bool{}
	for _, c := range all {
		if !taken[c.i] && !taken[-1-c.j] {
			taken[c.i], taken[-1-c.j] = true, true
			pairs = append(pairs, [2]int{c.i, c.j})
		}
	}
	return pairs
}

// alike returns which share of two values is equal. Scalars that are not equal are not alike at all.
func alike(a, b value.Value) float64 {
	switch {
	case a.IsAbsent() || b.IsAbsent() || a.Kind() != b.Kind():
		return 0
	case a.Kind() == value.Record:
		total, equal := 0, 0.0
		for i, key := range a.Shape().Keys() {
			total++
			equal += alike(a.Values()[i], b.Get(key))
		}
		for _, key := range b.Shape().Keys() {
			if a.Get(key).IsAbsent() {
				total++
			}
		}
		return equal / float64(max(1, total))
	case a.Kind() == value.List:
		total, equal := max(a.Len(), b.Len()), 0.0
		for i := range min(a.Len(), b.Len()) {
			equal += alike(a.Elements()[i], b.Elements()[i])
		}
		if total == 0 {
			return 1
		}
		return equal / float64(total)
	case value.Identical(a, b):
		return 1
	}
	return 0
}

// inOrder puts elements without keys into slots: those that are equal and are in the same order, then those between
// that are alike, then those that are equal elsewhere, then the others one by one.
func inOrder(sides [][]value.Value) [][]int {
	slots := make([][]int, len(sides[0]))
	for i := range slots {
		slots[i] = nowhere(len(sides))
		slots[i][0] = i
	}
	for side := 1; side < len(sides); side++ {
		slots = arranged(slots, sides)
		known := make([]value.Value, len(slots)) // of each slot an element that is there
		for i, slot := range slots {
			of := slices.IndexFunc(slot, func(at int) bool { return at >= 0 })
			known[i] = sides[of][slot[of]]
		}
		for at, i := range correspond(known, sides[side]) {
			if i >= 0 {
				slots[i][side] = at
				continue
			}
			slot := nowhere(len(sides))
			slot[side] = at
			slots = append(slots, slot)
		}
	}
	return slots
}

// correspond returns for each element of a list the position of the one in another that it is, -1 for none.
func correspond(left, right []value.Value) []int {
	from := make([]int, len(right))
	for j := range from {
		from[j] = -1
	}
	start := 0
	for start < len(left) && start < len(right) && value.Identical(left[start], right[start]) {
		from[start] = start
		start++
	}
	endLeft, endRight := len(left), len(right)
	for endLeft > start && endRight > start && value.Identical(left[endLeft-1], right[endRight-1]) {
		endLeft--
		endRight--
		from[endRight] = endLeft
	}
	i, j := start, start
	var looseLeft, looseRight []int // what is not paired yet
	gap := func(toLeft, toRight int) {
		a, b := positions(i, toLeft), positions(j, toRight)
		if len(a)*len(b) <= manyPairs {
			for _, pair := range likestInOrder(a, b, func(i, j int) float64 { return alike(left[i], right[j]) }) {
				from[pair[1]] = pair[0]
			}
		}
		paired := map[int]bool{}
		for _, y := range b {
			if from[y] >= 0 {
				paired[from[y]] = true
			}
		}
		// As many on both sides that are alike in nothing replace each other.
		a = slices.DeleteFunc(a, func(x int) bool { return paired[x] })
		b = slices.DeleteFunc(b, func(y int) bool { return from[y] >= 0 })
		looseLeft, looseRight = append(looseLeft, a...), append(looseRight, b...)
	}
	for _, pair := range commonPairs(left[start:endLeft], right[start:endRight]) {
		gap(start+pair[0], start+pair[1])
		i, j = start+pair[0]+1, start+pair[1]+1
		from[start+pair[1]] = start + pair[0]
	}
	gap(endLeft, endRight)
	looseLeft, looseRight = elsewhere(left, right, from, looseLeft, looseRight)
	replace(from, looseLeft, looseRight)
	return from
}

func positions(from, to int) (all []int) {
	for i := from; i < to; i++ {
		all = append(all, i)
	}
	return all
}

// elsewhere pairs what is equal, and no scalar that is there often, at whatever positions.
func elsewhere(left, right []value.Value, from, looseLeft, looseRight []int) (restLeft, restRight []int) {
	if len(looseLeft)*len(looseRight) > manyPairs {
		return looseLeft, looseRight
	}
	for _, j := range looseRight {
		at := slices.IndexFunc(looseLeft, func(i int) bool { return value.Identical(left[i], right[j]) })
		if at < 0 {
			restRight = append(restRight, j)
			continue
		}
		from[j] = looseLeft[at]
		looseLeft = slices.Delete(slices.Clone(looseLeft), at, at+1)
	}
	return looseLeft, restRight
}

// replace pairs what is left over where as much is paired before it on both sides.
func replace(from, looseLeft, looseRight []int) {
	var pairedLeft, pairedRight []int
	for j, i := range from {
		if i >= 0 {
			pairedLeft, pairedRight = append(pairedLeft, i), append(pairedRight, j)
		}
	}
	slices.Sort(pairedLeft)
	for len(looseLeft) > 0 && len(looseRight) > 0 {
		i, j := looseLeft[0], looseRight[0]
		a, b := sort.SearchInts(pairedLeft, i), sort.SearchInts(pairedRight, j)
		if a == b {
			from[j] = i
		}
		if a <= b {
			looseLeft = looseLeft[1:]
		}
		if a >= b {
			looseRight = looseRight[1:]
		}
	}
}

// likestInOrder pairs what is alike without crossing, so that together they are as alike as can be.
func likestInOrder(left, right []int, alike func(i, j int) float64) (pairs [][2]int) {
	n, m := len(left), len(right)
	if n == 0 || m == 0 {
		return nil
	}
	best := make([][]float64, n+1)
	share := make([][]float64, n)
	for i := range best {
		best[i] = make([]float64, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		share[i] = make([]float64, m)
		for j := m - 1; j >= 0; j-- {
			if share[i][j] = alike(left[i], right[j]); share[i][j] < enough {
				share[i][j] = 0
			}
			best[i][j] = max(best[i+1][j], best[i][j+1])
			if share[i][j] > 0 {
				best[i][j] = max(best[i][j], best[i+1][j+1]+share[i][j])
			}
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case share[i][j] > 0 && best[i][j] == best[i+1][j+1]+share[i][j]:
			pairs = append(pairs, [2]int{left[i], right[j]})
			i++
			j++
		case best[i][j] == best[i+1][j]:
			i++
		default:
			j++
		}
	}
	return pairs
}

// moves finds the elements that are at another position on the second side, among those that are on both: as few as
// can be. Of more sides it is only told that the order is another.
func (n *Node) moves(sides [][]value.Value, keys [][]string, by string, numbers [][]bool) {
	if len(sides) != 2 {
		if !inSameOrder(n.Slots) {
			n.Change = Order
		}
		return
	}
	var both [][]int
	for _, slot := range n.Slots {
		if slot[0] >= 0 && slot[1] >= 0 {
			both = append(both, slot)
		}
	}
	slices.SortFunc(both, func(a, b []int) int { return a[0] - b[0] })
	if slices.IsSortedFunc(both, func(a, b []int) int { return a[1] - b[1] }) {
		return
	}
	stays := longestRising(both)
	for i, slot := range both {
		if stays[i] {
			continue
		}
		step := place.Step{Kind: place.Index, Index: slot[1]}
		if keys != nil {
			step.Kind, step.Name, step.By = place.Keyed, keys[1][slot[1]], by
			step.Number = by != "" && numbers[1][slot[1]]
		}
		n.Moves = append(n.Moves, &Node{Step: step, At: slot, Change: Moved, known: n.known,
			Cells: []value.Value{sides[0][slot[0]], sides[1][slot[1]]}})
	}
}

// inSameOrder reports whether what is on the first and on another side is in the same order on both.
func inSameOrder(slots [][]int) bool {
	slots = slices.DeleteFunc(slices.Clone(slots), func(slot []int) bool { return slot[0] < 0 })
	slices.SortFunc(slots, func(a, b []int) int { return a[0] - b[0] })
	for side := 1; len(slots) > 0 && side < len(slots[0]); side++ {
		last := -1
		for _, slot := range slots {
			if slot[side] >= 0 && slot[side] < last {
				return false
			}
			last = max(last, slot[side])
		}
	}
	return true
}

// longestRising returns which of some slots are in a longest part that is in the same order on both sides.
func longestRising(slots [][]int) []bool {
	var tails []int // the last of the best parts of each length
	before := make([]int, len(slots))
	for i, slot := range slots {
		at := sort.Search(len(tails), func(k int) bool { return slots[tails[k]][1] >= slot[1] })
		before[i] = -1
		if at > 0 {
			before[i] = tails[at-1]
		}
		if at == len(tails) {
			tails = append(tails, i)
		} else {
			tails[at] = i
		}
	}
	stays := make([]bool, len(slots))
	for i := tails[len(tails)-1]; i >= 0; i = before[i] {
		stays[i] = true
	}
	return stays
}
