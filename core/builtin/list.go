package builtin

import (
	"math"
	"math/bits"
	"slices"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/value"
)

var listFunctions = []*Function{
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Counts: true,
		Signature: "length(xs: [T]) -> int"}, Description: "The number of elements.",
		Example: `list.length([4, 7])`, Result: `2`,
		call: func(c *eval.Call, a []value.Value) value.Value { return number(c, a[0].Len()) }},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "map(xs: [A], f: fn(A) -> B) -> [B]"},
		Description: "The results of f for each element.",
		Example:     `list.map([1, 2], fn(x) = x * 10)`, Result: `[10,20]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := make([]value.Value, a[0].Len())
			for i, x := range a[0].Elements() {
				elements[i] = c.Apply(a[1], x)
			}
			return list(c, elements)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "filter(xs: [A], f: fn(A) -> bool) -> [A]"},
		Description: "The elements for which f is true.",
		Example:     `list.filter([1, 2, 3], fn(x) = x > 1)`, Result: `[2,3]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			var kept []value.Value
			for _, x := range a[0].Elements() {
				if answer := c.Apply(a[1], x); c.Truth(answer) {
					kept = append(kept, c.Choose(x, answer))
				}
			}
			return list(c, kept)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes,
		Signature: "fold(xs: [A], start: B, f: fn(B, A) -> B) -> B"},
		Description: "The result of f(so_far, x), applied to one element after the other, beginning with start.",
		Example:     `list.fold([1, 2, 3], 0, fn(so_far, x) = so_far + x)`, Result: `6`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			result := a[1]
			for _, x := range a[0].Elements() {
				result = c.Apply(a[2], result, x)
			}
			return result
		}},
	{Builtin: check.Builtin{Group: "list", Orders: true, Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "sort(xs: [T], by: (fn(T) -> any)? = null) -> [T]"},
		Description: "The elements in ascending order, or ordered by the key that by returns: numbers by size, " +
			"strings by code point. Equal ones keep their order. A list of keys orders by its first, then by its " +
			"second, and so on.",
		Example: `list.sort(["south", "north"])`, Result: `["north","south"]`,
		Errors: "What is compared is neither all numbers nor all strings.",
		call:   sortList},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "reverse(xs: [T]) -> [T]"},
		Description: "The elements from last to first.",
		Example:     `list.reverse([1, 2, 3])`, Result: `[3,2,1]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := slices.Clone(a[0].Elements())
			slices.Reverse(elements)
			return list(c, elements)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "distinct(xs: [T], by: (fn(T) -> any)? = null) -> [T]"},
		Description: "The elements without repetitions, or one for each key that by returns; the first is kept.",
		Example:     `list.distinct([2, 1, 2])`, Result: `[2,1]`,
		call: distinct},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "union(xs: [T], ys: [T]) -> [T]"},
		Description: "The elements of both lists, each once, in the order in which they are first met.",
		Example:     `list.union([1, 2], [2, 3])`, Result: `[1,2,3]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return combined(c, func(value.Value) bool { return true }, a...)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "intersect(xs: [T], ys: [T]) -> [T]"},
		Description: "The elements of the first list that are in the second too, each once.",
		Example:     `list.intersect([1, 2, 3], [3, 2])`, Result: `[2,3]`,
		call: func(c *eval.Call, a []value.Value) value.Value { return combined(c, membersOf(c, a[1]).has, a[0]) }},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "difference(xs: [T], ys: [T]) -> [T]"},
		Description: "The elements of the first list that are not in the second, each once.",
		Example:     `list.difference(["north", "south"], ["south"])`, Result: `["north"]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			others := membersOf(c, a[1])
			return combined(c, func(x value.Value) bool { return !others.has(x) }, a[0])
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "flatten(xss: [[T]]) -> [T]"},
		Description: "The elements of all lists, one list after the other.",
		Example:     `list.flatten([[1], [2, 3]])`, Result: `[1,2,3]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			var elements []value.Value
			for _, xs := range a[0].Elements() {
				c.Spend(1 + 4*xs.Len())
				elements = append(elements, xs.Elements()...)
			}
			return value.ListOf(elements, c.Origin())
		}},
	{Builtin: check.Builtin{Group: "list", Contains: true,
		Signature: "contains(xs: [any], x: any) -> bool"}, Description: "Whether an element equals x.",
		Example: `list.contains(["north"], "north")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return truth(c, slices.ContainsFunc(a[0].Elements(), func(x value.Value) bool {
				c.Spend(1)
				return value.Equal(x, a[1], c.Spend)
			}))
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "any(xs: [A], f: fn(A) -> bool) -> bool"},
		Description: "Whether f is true for some element.",
		Example:     `list.any([1, 2], fn(x) = x > 1)`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return truth(c, slices.ContainsFunc(a[0].Elements(),
				func(x value.Value) bool { return c.Truth(c.Apply(a[1], x)) }))
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "all(xs: [A], f: fn(A) -> bool) -> bool"},
		Description: "Whether f is true for every element; true for an empty list.",
		Example:     `list.all([1, 2], fn(x) = x > 1)`, Result: `false`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return truth(c, !slices.ContainsFunc(a[0].Elements(),
				func(x value.Value) bool { return !c.Truth(c.Apply(a[1], x)) }))
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes,
		Signature: "count(xs: [A], f: fn(A) -> bool) -> int"},
		Description: "The number of elements for which f is true.",
		Example:     `list.count([1, 2, 3], fn(x) = x > 1)`, Result: `2`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			n := 0
			for _, x := range a[0].Elements() {
				if c.Truth(c.Apply(a[1], x)) {
					n++
				}
			}
			return number(c, n)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "find(xs: [T], f: fn(T) -> bool) -> T?"},
		Description: "The first element for which f is true; null when there is none.",
		Example:     `list.find([1, 2, 3], fn(x) = x > 1)`, Result: `2`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			for _, x := range a[0].Elements() {
				if answer := c.Apply(a[1], x); c.Truth(answer) {
					return c.Choose(x, answer)
				}
			}
			return value.NullOf(c.Origin())
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "first(xs: [T]) -> T?"},
		Description: "The first element; null when there is none.",
		Example:     `list.first(["north", "south"])`, Result: `"north"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[0].Len() == 0 {
				return value.NullOf(c.Origin())
			}
			return a[0].Elements()[0]
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "last(xs: [T]) -> T?"},
		Description: "The last element; null when there is none.",
		Example:     `list.last(["north", "south"])`, Result: `"south"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[0].Len() == 0 {
				return value.NullOf(c.Origin())
			}
			return a[0].Elements()[a[0].Len()-1]
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "slice(xs: [T], start: int, stop: int? = null) -> [T]"},
		Description: "The elements from start up to, not including, stop; negative positions count from the end.",
		Example:     `list.slice([1, 2, 3, 4], 1, -1)`, Result: `[2,3]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			from, to := span(a[0].Len(), a[1], a[2])
			return list(c, slices.Clone(a[0].Elements()[from:to]))
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "zip(xs: [A], ys: [B]) -> [[A, B]]"},
		Description: "The elements of both lists in pairs, as far as the shorter one reaches.",
		Example:     `list.zip(["north", "south"], [41, 17])`, Result: `[["north",41],["south",17]]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			pairs := make([]value.Value, min(a[0].Len(), a[1].Len()))
			for i := range pairs {
				pairs[i] = list(c, []value.Value{a[0].Elements()[i], a[1].Elements()[i]})
			}
			return list(c, pairs)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes,
		Signature: "group(xs: [T], by: fn(T) -> string) -> { *: [T] }"},
		Description: "The elements grouped by the key that by returns, in the order in which each key is first met.",
		Example:     `list.group(["a1", "b1", "a2"], fn(x) = text.slice(x, 0, 1))`, Result: `{"a":["a1","a2"],"b":["b1"]}`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			groups := map[string][]value.Value{}
			var b value.Builder
			for _, x := range a[0].Elements() {
				key := c.Key(c.Apply(a[1], x))
				c.Spend(4)
				groups[key] = append(groups[key], x)
				b.Set(key, value.ListOf(groups[key], c.Origin()))
			}
			return b.Record(c.Origin())
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes,
		Signature: "index(xs: [T], by: fn(T) -> string) -> { *: T }"},
		Description: "The elements by the key that by returns, which must differ.",
		Example:     `list.index([{ id: "x" }], fn(r) = r.id)`, Result: `{"x":{"id":"x"}}`,
		Errors: "Two elements have the same key.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			var b value.Builder
			for _, x := range a[0].Elements() {
				key := c.Apply(a[1], x)
				c.Spend(4)
				if b.Index(c.Key(key)) >= 0 {
					c.Fail(1, "list.group keeps all elements of a key", "two elements have the key "+key.Show(40))
				}
				b.Set(key.Text(), x)
			}
			return b.Record(c.Origin())
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "chunks(xs: [T], size: int) -> [[T]]"},
		Description: "The elements in lists of size, the last of which may be shorter.",
		Example:     `list.chunks([1, 2, 3], 2)`, Result: `[[1,2],[3]]`, Errors: "The size is not positive.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[1].Int() < 1 {
				c.Fail(1, "", "the size "+a[1].Show(20)+" is not positive")
			}
			var chunks []value.Value
			for part := range slices.Chunk(a[0].Elements(), int(min(a[1].Int(), math.MaxInt32))) {
				chunks = append(chunks, list(c, slices.Clone(part)))
			}
			return list(c, chunks)
		}},
	{Builtin: check.Builtin{Group: "list", Handling: check.Passes, Signature: "repeat(x: T, times: int) -> [T]"},
		Description: "A list of x repeated times times.",
		Example:     `list.repeat("ebb", 2)`, Result: `["ebb","ebb"]`, Errors: "The number is negative.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := make([]value.Value, times(c, a[1], 4))
			for i := range elements {
				elements[i] = a[0]
			}
			return value.ListOf(elements, c.Origin())
		}},
	{Builtin: check.Builtin{Group: "list", NewNumbers: true,
		Signature: "sum(xs: [T]) -> T"}, Description: "The sum of numbers; 0 when there is none, 0.0 for a list of floats.",
		Example: `list.sum([4, 3])`, Result: `7`, Errors: "An element is not a number, or the sum does not fit.",
		call: sum},
	{Builtin: check.Builtin{Group: "list", Orders: true, Handling: check.Passes,
		Signature: "min(xs: [T], by: (fn(T) -> any)? = null) -> T"},
		Description: "The smallest element, or that with the smallest key that by returns; the first of equal ones.",
		Example:     `list.min([4, 3])`, Result: `3`,
		Errors: "The list is empty, or what is compared is neither all numbers nor all strings.",
		call:   func(c *eval.Call, a []value.Value) value.Value { return extreme(c, a, -1) }},
	{Builtin: check.Builtin{Group: "list", Orders: true, Handling: check.Passes,
		Signature: "max(xs: [T], by: (fn(T) -> any)? = null) -> T"},
		Description: "The largest element, or that with the largest key that by returns; the first of equal ones.",
		Example:     `list.max([4, 3])`, Result: `4`,
		Errors: "The list is empty, or what is compared is neither all numbers nor all strings.",
		call:   func(c *eval.Call, a []value.Value) value.Value { return extreme(c, a, 1) }},
}

// keyed is an element with what it is compared by.
type keyed struct{ element, key value.Value }

// comparable returns the elements with what they are compared by, which must be all numbers, all strings, or all
// lists of these that are alike.
func comparable(c *eval.Call, a []value.Value) []keyed {
	pairs := make([]keyed, a[0].Len())
	for i, x := range a[0].Elements() {
		key := x
		if !a[1].IsNull() {
			key = c.Apply(a[1], x)
		}
		c.Plain(key)
		pairs[i] = keyed{x, key}
		c.Spend(8 + keyLength(key)*bits.Len(uint(len(pairs))))
		if first := pairs[0].key; !alike(key, first) {
			c.Fail(0, "", "only numbers, only strings, or lists of these that are alike can be compared by size, "+
				"not "+first.Show(40)+" and "+key.Show(40))
		}
	}
	return pairs
}

// alike reports whether two keys can be compared by size.
func alike(a, b value.Value) bool {
	number := func(v value.Value) bool { return v.Kind() == value.Int || v.Kind() == value.Float }
	switch {
	case number(a) && number(b), a.Kind() == value.String && b.Kind() == value.String:
		return true
	case a.Kind() != value.List || b.Kind() != value.List || a.Len() != b.Len():
		return false
	}
	for i, x := range a.Elements() {
		if !alike(x, b.Elements()[i]) {
			return false
		}
	}
	return true
}

// compareKeys orders two keys that are alike; a list by its first element, then by its second, and so on.
func compareKeys(a, b value.Value) int {
	if a.Kind() != value.List {
		return value.Compare(a, b)
	}
	for i, x := range a.Elements() {
		if order := compareKeys(x, b.Elements()[i]); order != 0 {
			return order
		}
	}
	return 0
}

// enough is more steps than a declaration may take.
const enough = 1 << 28

// keyLength is how much a comparison with a key looks at, at most; what is more than enough is not counted further.
func keyLength(key value.Value) int {
	n := 0
	var count func(v value.Value)
	count = func(v value.Value) {
		switch v.Kind() {
		case value.String:
			n += len(v.Text()) / value.CompareCost
		case value.List:
			n += v.Len()
			for _, x := range v.Elements() {
				if n > enough {
					return
				}
				count(x)
			}
		}
	}
	count(key)
	return n
}

func sortList(c *eval.Call, a []value.Value) value.Value {
	pairs := comparable(c, a)
	slices.SortStableFunc(pairs, func(x, y keyed) int { return compareKeys(x.key, y.key) })
	elements := make([]value.Value, len(pairs))
	for i, p := range pairs {
		elements[i] = p.element
	}
	return list(c, elements)
}

func extreme(c *eval.Call, a []value.Value, sign int) value.Value {
	pairs := comparable(c, a)
	if len(pairs) == 0 {
		c.Fail(0, "check list.length first, or add an element that is always there", "the list is empty")
	}
	best := pairs[0]
	for _, p := range pairs[1:] {
		if compareKeys(p.key, best.key)*sign > 0 {
			best = p
		}
	}
	return best.element
}

func distinct(c *eval.Call, a []value.Value) value.Value {
	var kept []value.Value
	seen := newMembers(c)
	for _, x := range a[0].Elements() {
		key := x
		if !a[1].IsNull() {
			key = c.Apply(a[1], x)
		}
		if seen.add(c.Plain(key)) {
			kept = append(kept, x)
		}
	}
	return list(c, kept)
}

// members are values of which each is there once: scalars are found by what they are, others by comparing.
type members struct {
	call    *eval.Call
	scalars map[any]bool
	others  []value.Value
}

func newMembers(c *eval.Call) *members { return &members{call: c, scalars: map[any]bool{}} }

// scalarKey returns what equal scalars have in common: an int and the float that equals it are one.
func scalarKey(v value.Value) (key any, ok bool) {
	switch v.Kind() {
	case value.Null:
		return nil, true
	case value.Bool:
		return v.Bool(), true
	case value.String:
		return v.Text(), true
	case value.Int:
		return v.Int(), true
	case value.Float:
		if whole := value.IntOf(int64(max(-1<<62, min(1<<62, v.Float()))), 0); value.Compare(whole, v) == 0 {
			return whole.Int(), true
		}
		return v.Float(), true
	}
	return nil, false
}

func (m *members) has(v value.Value) bool {
	if key, ok := scalarKey(v); ok {
		m.call.Spend(1 + keyLength(v))
		return m.scalars[key]
	}
	m.call.Spend(1)
	return slices.ContainsFunc(m.others, func(x value.Value) bool {
		m.call.Spend(1)
		return value.Equal(v, x,
			m.call.Spend)
	})
}

// add adds a value and reports whether it was not there.
func (m *members) add(v value.Value) bool {
	if m.has(v) {
		return false
	}
	if key, ok := scalarKey(v); ok {
		m.scalars[key] = true
	} else {
		m.others = append(m.others, v)
	}
	return true
}

// membersOf returns the elements of a list as members.
func membersOf(c *eval.Call, list value.Value) *members {
	m := newMembers(c)
	for _, x := range list.Elements() {
		m.add(c.Plain(x))
	}
	return m
}

// combined returns the elements of lists, each once, for which wanted holds.
func combined(c *eval.Call, wanted func(x value.Value) bool, lists ...value.Value) value.Value {
	var kept []value.Value
	seen := newMembers(c)
	for _, xs := range lists {
		for _, x := range xs.Elements() {
			if wanted(c.Plain(x)) && seen.add(x) {
				kept = append(kept, x)
			}
		}
	}
	return list(c, kept)
}

func sum(c *eval.Call, a []value.Value) value.Value {
	whole, fraction, floats := int64(0), 0.0, false
	for _, x := range a[0].Elements() {
		c.Spend(1)
		switch x.Kind() {
		case value.Int:
			next := whole + x.Int()
			if (next > whole) != (x.Int() > 0) && x.Int() != 0 {
				c.Fail(0, "", "the sum does not fit into an int of 64 bits")
			}
			whole = next
		case value.Float:
			fraction, floats = fraction+x.Float(), true
		default:
			c.Fail(0, "", "only numbers can be added up, not "+x.Show(40))
		}
	}
	if !floats {
		return value.IntOf(whole, c.Origin())
	}
	if f := float64(whole); f >= 1<<63 || int64(f) != whole {
		c.Fail(0, "", "no float is exactly the sum of the ints, and nothing is rounded")
	}
	return float(c, float64(whole)+fraction)
}

// float makes a float out of a call, unless it is none.
func float(c *eval.Call, f float64) value.Value {
	if math.IsInf(f, 0) || math.IsNaN(f) {
		c.Fail(0, "", "the result is not a number that can be computed with")
	}
	return value.FloatOf(f, c.Origin())
}
