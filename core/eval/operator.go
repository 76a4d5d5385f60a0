package eval

import (
	"math"
	"math/bits"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// describeValue names a value in a message.
func describeValue(v value.Value) string {
	switch v.Kind() {
	case value.Null, value.Absent:
		return v.Show(20)
	case value.List, value.Record:
		return "the " + v.Kind().String() + " " + v.Show(60)
	}
	return "the " + v.Kind().String() + " " + v.Show(60)
}

// from returns the origin of a value computed at a place from operands.
func (f *frame) from(at source.Pos, operands ...value.Value) value.Origin {
	r := f.recorder
	if r == nil {
		return value.From(at)
	}
	origins := make([]value.Origin, len(operands))
	for i, v := range operands {
		origins[i] = v.Origin()
	}
	return r.computed(at, origins...)
}

// fromBoth is from for two operands, which is quick where nothing is recorded.
func (f *frame) fromBoth(at source.Pos, a, b value.Value) value.Origin {
	if f.recorder == nil {
		return value.From(at)
	}
	return f.from(at, a, b)
}

func (c *compiler) unary(e *syntax.Unary) code {
	operand, at, span := c.expression(e.Operand), e.Place().Start, e.Place()
	if e.Operator == syntax.Not {
		return func(f *frame) value.Value {
			v := operand(f)
			return derived(value.BoolOf(!v.Bool(), f.from(at, v)), v)
		}
	}
	return func(f *frame) value.Value {
		v := operand(f)
		switch {
		case v.Unknown():
			return derived(v.WithOrigin(f.from(at, v)), v)
		case v.Kind() == value.Int && v.Int() != math.MinInt64:
			return derived(value.IntOf(-v.Int(), f.from(at, v)), v)
		case v.Kind() == value.Float:
			return derived(value.FloatOf(-v.Float(), f.from(at, v)), v)
		case v.Kind() == value.Int:
			f.overflow(span)
		}
		f.failAt(source.WrongType, span, "", `"-" takes a number, not %s`, describeValue(v))
		return v
	}
}

func (f *frame) overflow(at source.Span) {
	f.failAt(source.BadNumber, at, "an int reaches from -9223372036854775808 to 9223372036854775807",
		"the result does not fit into an int of 64 bits")
}

func (c *compiler) binary(e *syntax.Binary) code {
	switch e.Operator {
	case syntax.And, syntax.Or:
		return c.logic(e)
	case syntax.Default:
		return c.orElse(e)
	case syntax.In, syntax.NotIn:
		return c.membership(e)
	case syntax.Matches, syntax.NotMatches:
		return c.matches(e)
	}
	left, right := c.expression(e.Left), c.expression(e.Right)
	at, span := e.Place().Start, e.Place()
	switch e.Operator {
	case syntax.Equal, syntax.NotEqual:
		l, r := c.typeOf(e.Left), c.typeOf(e.Right)
		wanted, same := e.Operator == syntax.Equal, c.equality(l, r, span)
		sets := l == nil || r == nil || types.HasSet(l) || types.HasSet(r) // which are equal in whatever order
		return func(f *frame) value.Value {
			a, b := left(f), right(f)
			if a.Kind() == b.Kind() && a.Mark()|b.Mark() == 0 { // as most are
				switch a.Kind() {
				case value.String:
					f.spend(2+len(a.Text())/value.CompareCost, span)
					return value.BoolOf(a.Text() == b.Text() == wanted, f.fromBoth(at, a, b))
				case value.Int:
					f.spend(2, span)
					return value.BoolOf(a.Int() == b.Int() == wanted, f.fromBoth(at, a, b))
				}
			}
			f.spend(1, span)
			equal := same(f, a, b)
			result := value.BoolOf(equal == wanted, f.fromBoth(at, a, b))
			if !sets && !equal && f.marks(a, b) != 0 && f.differ(a, b) {
				return result // whatever is hidden
			}
			return f.compared(result, a, b)
		}
	case syntax.Less, syntax.LessEqual, syntax.Greater, syntax.GreaterEqual:
		operator := e.Operator
		return func(f *frame) value.Value {
			a, b := left(f), right(f)
			order := 0
			if !a.Unknown() && !b.Unknown() {
				order = f.order(a, b, span)
			}
			var holds bool
			switch operator {
			case syntax.Less:
				holds = order < 0
			case syntax.LessEqual:
				holds = order <= 0
			case syntax.Greater:
				holds = order > 0
			default:
				holds = order >= 0
			}
			return derived(value.BoolOf(holds, f.fromBoth(at, a, b)), a, b)
		}
	case syntax.Range:
		return func(f *frame) value.Value {
			a, b := f.decide(left(f), "a range", span), f.decide(right(f), "a range", span)
			n := rangeLength(a.Int(), b.Int())
			f.spend(clampInt(n)*(1+elementCost), span)
			elements := make([]value.Value, n)
			o := f.from(at, a, b)
			for i := range elements {
				elements[i] = value.IntOf(a.Int()+int64(i), o)
			}
			return value.ListOf(elements, o)
		}
	case syntax.Add:
		return func(f *frame) value.Value {
			a, b := left(f), right(f)
			if a.Kind() == value.Int && b.Kind() == value.Int && a.Mark()|b.Mark() == 0 {
				sum := a.Int() + b.Int()
				if (sum > a.Int()) != (b.Int() > 0) && b.Int() != 0 {
					f.overflow(span)
				}
				return value.IntOf(sum, f.fromBoth(at, a, b))
			}
			return f.add(a, b, span)
		}
	}
	operator := e.Operator
	return func(f *frame) value.Value {
		a, b := left(f), right(f)
		if a.Kind() == value.Int && b.Kind() == value.Int && a.Mark()|b.Mark() == 0 {
			return value.IntOf(f.calculateInt(operator, a.Int(), b.Int(), span), f.fromBoth(at, a, b))
		}
		return f.calculate(operator, a, b, span)
	}
}

// equality compiles the comparison of values of two types, which may be nil. A set and a list compare without order.
func (c *compiler) equality(left, right types.Type, at source.Span) func(f *frame, a, b value.Value) bool {
	if left != nil && types.HasSet(left) || right != nil && types.HasSet(right) {
		return func(f *frame, a, b value.Value) bool { return f.equal(a, b, left, right, at) }
	}
	return func(f *frame, a, b value.Value) bool { return value.Equal(a, b, func(n int) { f.spend(n, at) }) }
}

// equal compares values along their static types, to tell which lists are sets.
func (f *frame) equal(a, b value.Value, left, right types.Type, at source.Span) bool {
	if left == nil {
		left = types.Any
	}
	if right == nil {
		right = types.Any
	}
	f.spend(1, at)
	switch {
	case a.Kind() == value.List && b.Kind() == value.List:
		if a.Len() != b.Len() {
			return false
		}
		x, y := types.ElementOf(left), types.ElementOf(right)
		if types.IsSet(left) || types.IsSet(right) {
			return f.equalUnordered(a, b, x, y, at)
		}
		for i, element := range a.Elements() {
			if !f.equal(element, b.Elements()[i], x, y, at) {
				return false
			}
		}
		return true
	case a.Kind() == value.Record && b.Kind() == value.Record:
		if a.Len() != b.Len() {
			return false
		}
		for i, key := range a.Shape().Keys() {
			other := b.Get(key)
			if other.IsAbsent() || !f.equal(a.Values()[i], other, types.FieldOf(left, key), types.FieldOf(right, key),
				at) {
				return false
			}
		}
		return true
	}
	return value.Equal(a, b, func(n int) { f.spend(n, at) })
}

// equalUnordered reports whether each element of a list equals another one of a list of the same length.
func (f *frame) equalUnordered(a, b value.Value, left, right types.Type, at source.Span) bool {
	taken := make([]bool, b.Len())
	for _, x := range a.Elements() {
		found := false
		for i, y := range b.Elements() {
			if found = !taken[i] && f.equal(x, y, left, right, at); found {
				taken[i] = true
				break
			}
		}
		if !found {
			return false
		}
	}
	return true
}

func rangeLength(low, high int64) uint64 {
	if high < low {
		return 0
	}
	n := uint64(high) - uint64(low) // which is right whatever their signs are
	if n == math.MaxUint64 {
		return n // one less than there are, and far more than anyone has steps for
	}
	return n + 1
}

func clampInt(n uint64) int {
	return int(min(n, stepLimit+1))
}

// order compares two numbers or two strings.
func (f *frame) order(a, b value.Value, at source.Span) int {
	number := func(v value.Value) bool { return v.Kind() == value.Int || v.Kind() == value.Float }
	if !(number(a) && number(b)) && !(a.Kind() == value.String && b.Kind() == value.String) {
		f.failAt(source.WrongType, at, "two numbers or two strings can be compared by size",
			"cannot compare %s with %s by size", describeValue(a), describeValue(b))
	}
	if a.Kind() == value.String {
		f.spend(1+min(len(a.Text()), len(b.Text()))/value.CompareCost, at)
	}
	return value.Compare(a, b)
}

// add joins strings and lists, and adds numbers that are not both ints.
func (f *frame) add(a, b value.Value, at source.Span) value.Value {
	switch {
	case a.Kind() == value.String && b.Kind() == value.String:
		f.spend(1+len(a.Text())+len(b.Text()), at)
		v := joined(value.StringOf(a.Text()+b.Text(), f.from(at.Start, a, b)), a, b)
		if severalLines(v) {
			f.textRecord().joined(v, at.Start, a, b)
		}
		return v
	case a.Kind() == value.List && b.Kind() == value.List:
		f.spend(1+(a.Len()+b.Len())*elementCost, at)
		elements := make([]value.Value, 0, a.Len()+b.Len())
		elements = append(append(elements, a.Elements()...), b.Elements()...)
		return value.ListOf(elements, f.from(at.Start, a, b))
	case (a.Unknown() || b.Unknown()) && a.Kind() != value.List && b.Kind() != value.List:
		// One of them is known to be a number; the other may be, and is not there.
	case a.Kind() == value.String || b.Kind() == value.String || a.Kind() == value.List || b.Kind() == value.List:
		f.failAt(source.WrongType, at, "two numbers, two strings or two lists can be added", "cannot add %s and %s",
			describeValue(a), describeValue(b))
	}
	return f.calculate(syntax.Add, a, b, at)
}

// calculate does arithmetic on two numbers.
func (f *frame) calculate(operator syntax.Operator, a, b value.Value, at source.Span) value.Value {
	if a.Unknown() || b.Unknown() {
		like := value.IntOf(0, f.from(at.Start, a, b))
		if a.Kind() == value.Float || b.Kind() == value.Float {
			like = value.FloatOf(0, like.Origin())
		}
		return derived(like, a, b)
	}
	for _, v := range []value.Value{a, b} {
		if v.Kind() != value.Int && v.Kind() != value.Float {
			f.failAt(source.WrongType, at, "", "%q takes numbers, not %s", operator, describeValue(v))
		}
	}
	o := f.from(at.Start, a, b)
	if a.Kind() == value.Int && b.Kind() == value.Int {
		return derived(value.IntOf(f.calculateInt(operator, a.Int(), b.Int(), at), o), a, b)
	}
	for _, v := range []value.Value{a, b} {
		if v.Kind() == value.Int && !isExact(v.Int()) {
			f.failAt(source.BadNumber, at, "nothing is rounded: keep both ints, or write it as a float",
				"no float is exactly the int %s, which %q would make one", v.Show(40), operator)
		}
	}
	x, y := a.Float(), b.Float()
	if y == 0 && (operator == syntax.Divide || operator == syntax.Remainder) {
		f.failAt(source.DivisionByZero, at, "", "division by zero")
	}
	var result float64
	switch operator {
	case syntax.Add:
		result = x + y
	case syntax.Subtract:
		result = x - y
	case syntax.Multiply:
		result = x * y
	case syntax.Divide:
		result = x / y
	default:
		result = math.Mod(x, y)
	}
	if math.IsInf(result, 0) || math.IsNaN(result) {
		f.failAt(source.BadNumber, at, "", "the result is too large for a float")
	}
	return derived(value.FloatOf(result, o), a, b)
}

// isExact reports whether an int is a float, too.
func isExact(i int64) bool {
	f := float64(i)
	return f < 1<<63 && int64(f) == i
}

func (f *frame) calculateInt(operator syntax.Operator, x, y int64, at source.Span) int64 {
	switch operator {
	case syntax.Add:
		if result := x + y; (result > x) == (y > 0) || y == 0 {
			return result
		}
	case syntax.Subtract:
		if result := x - y; (result < x) == (y > 0) || y == 0 {
			return result
		}
	case syntax.Multiply:
		high, low := bits.Mul64(magnitude(x), magnitude(y))
		negative := (x < 0) != (y < 0)
		if high == 0 && (low <= math.MaxInt64 || negative && low == 1<<63) {
			return x * y
		}
	default:
		if y == 0 {
			f.failAt(source.DivisionByZero, at, "", "division by zero")
		}
		if operator == syntax.Remainder {
			if y == -1 {
				return 0
			}
			return x % y
		}
		if x != math.MinInt64 || y != -1 {
			return x / y
		}
	}
	f.overflow(at)
	return 0
}

func magnitude(x int64) uint64 {
	if x < 0 {
		return -uint64(x)
	}
	return uint64(x)
}

func (c *compiler) logic(e *syntax.Binary) code {
	left, right, at := c.expression(e.Left), c.expression(e.Right), e.Place().Start
	stop := e.Operator == syntax.Or
	return func(f *frame) value.Value {
		a := left(f)
		if a.Bool() == stop && !a.Unknown() {
			return derived(value.BoolOf(stop, f.from(at, a)), a)
		}
		b := right(f)
		if a.Unknown() && !b.Unknown() && b.Bool() == stop {
			return value.BoolOf(stop, f.from(at, a, b)).WithMark((a.Mark() | b.Mark()) &^ value.Unknown)
		}
		return derived(value.BoolOf(b.Bool(), f.from(at, a, b)), a, b)
	}
}

// orElse is `??`: null or an absent field on the left gives the right side.
func (c *compiler) orElse(e *syntax.Binary) code {
	left, right := c.absent(e.Left), c.expression(e.Right)
	return func(f *frame) value.Value {
		v := left(f)
		if !v.IsAbsent() && !v.IsNull() {
			return v
		}
		return f.choose(right(f), v.Origin())
	}
}

func (c *compiler) membership(e *syntax.Binary) code {
	needle, wanted := c.expression(e.Left), e.Operator == syntax.In
	at, span := e.Place().Start, e.Place()
	if r, ok := syntax.Bare(e.Right).(*syntax.Binary); ok && r.Operator == syntax.Range {
		// A range is not made into a list only to look into it.
		low, high := c.expression(r.Left), c.expression(r.Right)
		return func(f *frame) value.Value {
			v, a, b := needle(f), low(f), high(f)
			inside := false
			switch v.Kind() {
			case value.Int:
				inside = v.Int() >= a.Int() && v.Int() <= b.Int()
			case value.Float:
				inside = v.Float() == math.Trunc(v.Float()) && v.Float() >= a.Float() && v.Float() <= b.Float()
			}
			return derived(value.BoolOf(inside == wanted, f.from(at, v, a, b)), v, a, b)
		}
	}
	container, elements := c.expression(e.Right), (types.Type)(nil)
	if in := c.typeOf(e.Right); in != nil {
		elements = types.ElementOf(in)
	}
	same := c.equality(c.typeOf(e.Left), elements, span)
	return func(f *frame) value.Value {
		v, in := needle(f), f.known(container(f), span)
		found := false
		switch in.Kind() {
		case value.List:
			f.spend(1+in.Len(), span)
			text := v.Kind() == value.String && v.Mark() == 0
			for _, x := range in.Elements() {
				if text && x.Kind() == value.String && x.Mark() == 0 {
					found = v.Text() == x.Text()
				} else {
					found = same(f, v, x)
				}
				if found {
					break
				}
			}
		case value.Record:
			if v.Kind() != value.String && !v.Unknown() {
				f.failAt(source.WrongType, span, "", `the keys of a record are strings: "in" cannot look for %s`,
					describeValue(v))
			}
			if v.Mark() != 0 {
				return derived(value.BoolOf(!in.Get(v.Text()).IsAbsent() == wanted, f.from(at, v, in)), v)
			}
			f.spend(1+len(v.Text())/value.CompareCost, span)
			found = !in.Get(v.Text()).IsAbsent()
		default:
			f.failAt(source.WrongType, span, "", `"in" looks in a list, a record or a range, not in %s`,
				describeValue(in))
		}
		result := value.BoolOf(found == wanted, f.from(at, v, in))
		if in.Kind() == value.List {
			result = f.compared(result, v, in)
		}
		return result
	}
}

// isA asks whether a value is of a type as it is.
// What was tested to find out is absent when nothing of it is hidden or open.
func (t *thread) isA(v value.Value, asked types.Type) (is bool, tested value.Value) {
	if is, told := plainly(v, asked); told {
		return is, value.Value{}
	}
	c := (&conversion{thread: t}).attempt(false)
	c.value(v, asked, nil)
	if c.fit() == never {
		return false, value.Value{}
	}
	return len(c.misfits) == 0, c.tested
}

func (c *compiler) is(e *syntax.Is) code {
	operand, asked, at := c.expression(e.Operand), c.module.Info.Asked[e.ID()], e.Place().Start
	// Marked values are scalars: that one is no record or list tells nothing of it.
	noScalar := !slices.ContainsFunc(types.Parts(asked), func(t types.Type) bool {
		return types.AsRecord(t) == nil && types.AsList(t) == nil
	})
	return func(f *frame) value.Value {
		v := operand(f)
		if noScalar && v.Mark() != 0 && v.Kind() != value.Record && v.Kind() != value.List {
			return value.BoolOf(false, f.from(at, v))
		}
		is, tested := f.isA(v, asked)
		return derived(value.BoolOf(is, f.from(at, v)), v, tested)
	}
}

func (c *compiler) as(e *syntax.As) code {
	operand, asked, at := c.expression(e.Operand), c.module.Info.Asked[e.ID()], e.Operand.Place()
	from := c.module.Info.Types[e.Operand.ID()]
	return func(f *frame) value.Value { return f.convert(operand(f), from, asked, passing{at: at}) }
}
