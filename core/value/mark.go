package value

import (
	"slices"
	"unsafe"
)

// Mark says what may not be done with a scalar. Lists and records bear none: they hold values that do.
type Mark uint8

// The marks. A value that is Unknown has one of the other two, which says why.
const (
	// Secret values, and all that is computed from them, are shown nowhere and decide nothing.
	Secret Mark = 1 << iota
	// Later values are known only after deployment. They decide nothing either, known or not.
	Later
	// Unknown values stand for one that is not there: their kind is that of the value, their text a placeholder.
	Unknown
)

// Hidden is what stands for a secret wherever something is shown.
const Hidden = "‹secret›"

// Mark returns the marks of the value itself.
func (v Value) Mark() Mark { return Mark(v.tag >> 8) }

// Secret reports whether the value is secret, Unknown whether it is not there.
func (v Value) Secret() bool { return v.Mark()&Secret != 0 }

// Unknown reports whether the value only stands for one that is not there.
func (v Value) Unknown() bool { return v.Mark()&Unknown != 0 }

// WithMark returns a scalar with a mark besides those that it has. Lists, records and null have none.
func (v Value) WithMark(m Mark) Value {
	switch v.Kind() {
	case Bool, Int, Float, String:
		v.tag |= tag(m) << 8
	}
	return v
}

// placeholderOf is what an unknown bool or number refers to.
type placeholderOf struct{ text string }

// UnknownOf makes a value that is not there: of the kind of a scalar, with a mark that says why, and a text that
// stands for it.
func UnknownOf(k Kind, placeholder string, m Mark, o Origin) Value {
	v := StringOf(placeholder, o)
	if k != String {
		v = Value{tag: tag(k), origin: o, pointer: unsafe.Pointer(&placeholderOf{placeholder})}
	}
	v.tag |= tag(m|Unknown) << 8
	return v
}

// Placeholder returns the text that stands for an unknown value.
func (v Value) Placeholder() string {
	if v.Kind() == String {
		return v.Text()
	}
	return (*placeholderOf)(v.pointer).text
}

// MarkAll returns a value of which all scalars have a mark.
func MarkAll(v Value, m Mark) Value {
	return mapScalars(v, func(x Value) Value { return x.WithMark(m) })
}

// WithPlaceholders returns a value of which all that is not known is the text that stands for it.
func WithPlaceholders(v Value) Value {
	return mapScalars(v, func(x Value) Value {
		if x.Unknown() {
			return StringOf(x.Placeholder(), x.origin)
		}
		return x
	})
}

func mapScalars(v Value, f func(Value) Value) Value {
	m := &mapping{f: f, done: map[Value]Value{}}
	return m.value(v)
}

// mapping goes through values that may be shared many times over: each is gone through once.
type mapping struct {
	f    func(Value) Value
	done map[Value]Value
}

func (m *mapping) value(v Value) Value {
	if v.Kind() != List && v.Kind() != Record {
		return m.f(v)
	}
	if done, ok := m.done[v]; ok {
		return done
	}
	before := v.Elements()
	if v.Kind() == Record {
		before = v.Values()
	}
	var changed []Value
	for i, x := range before {
		y := m.value(x)
		if changed == nil && y != x {
			changed = append(make([]Value, 0, len(before)), before[:i]...)
		}
		if changed != nil {
			changed = append(changed, y)
		}
	}
	after := v
	if changed != nil && v.Kind() == List {
		after = ListOf(changed, v.origin)
	} else if changed != nil {
		after = RecordOf(v.Shape(), changed, v.origin)
	}
	m.done[v] = after
	return after
}

// Marks returns the marks of all that a value holds.
func Marks(values ...Value) Mark {
	var all Mark
	_ = Walk(values, func(v Value) bool {
		all |= v.Mark()
		return true
	})
	return all
}

// Parts returns the elements of a list or the values of a record; nil for others. They must not be changed.
func Parts(v Value) []Value {
	switch v.Kind() {
	case List:
		return v.Elements()
	case Record:
		return v.Values()
	}
	return nil
}

// MapParts returns a list or record with each of its parts changed; one in which nothing was is the same as before.
func MapParts(v Value, change func(i int, part Value) Value) Value {
	var changed []Value
	for i, part := range Parts(v) {
		if after := change(i, part); after != part {
			if changed == nil {
				changed = slices.Clone(Parts(v))
			}
			changed[i] = after
		}
	}
	switch {
	case changed == nil:
		return v
	case v.Kind() == List:
		return ListOf(changed, v.Origin())
	}
	return RecordOf(v.Shape(), changed, v.Origin())
}

// Walk visits values and all that they hold, what is shared once, until visit returns false. It returns whether it
// never did. It keeps its own stack, since values may nest deeper than calls.
func Walk(values []Value, visit func(Value) bool) bool {
	var seen map[uintptr]bool
	stack := make([]Value, 0, 16)
	for i := len(values) - 1; i >= 0; i-- {
		stack = append(stack, values[i])
	}
	for len(stack) > 0 {
		v := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if !visit(v) {
			return false
		}
		if v.Kind() != List && v.Kind() != Record || v.Len() == 0 {
			continue
		}
		if id := v.Identity(); seen[id] {
			continue
		} else if seen == nil {
			seen = map[uintptr]bool{id: true}
		} else {
			seen[id] = true
		}
		inner := Parts(v)
		for i := len(inner) - 1; i >= 0; i-- { // so that the first comes first
			stack = append(stack, inner[i])
		}
	}
	return true
}

// Size returns how many elements and entries a value holds, what is shared once; texts count as many as would take
// their room. It stops counting beyond a limit.
func Size(v Value, limit int) int {
	size, stack, seen := 0, []Value{v}, map[uintptr]bool{}
	for len(stack) > 0 && size <= limit {
		v := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if id := v.Identity(); id != 0 {
			if seen[id] {
				continue
			}
			seen[id] = true
		}
		inner := v.Elements()
		if v.Kind() == Record {
			inner = v.Values()
		}
		size += 1 + len(inner)
		for _, x := range inner {
			switch x.Kind() {
			case List, Record:
				stack = append(stack, x)
			case String:
				size += len(x.Text()) / int(unsafe.Sizeof(x))
			}
		}
	}
	return size
}

// Shown returns v with secrets replaced: secrets hidden, and what is not known as the text that stands for it.
func Shown(v Value) Value {
	return mapScalars(v, func(x Value) Value {
		switch {
		case x.Secret():
			return StringOf(Hidden, x.origin)
		case x.Unknown():
			return StringOf(x.Placeholder(), x.origin)
		}
		return x
	})
}
