package value

import (
	"cmp"
	"math"
	"strconv"
	"strings"
)

// Equal reports whether two values are equal: ints and floats by their number, lists element by element, records by
// their entries in whatever order. Each value that is visited is told to spend, which may stop the comparison by
// panicking.
func Equal(a, b Value, spend func(int)) bool { return equal(a, b, false, 0, spend) }

// Identical is Equal but for numbers: an int is not identical to a float.
func Identical(a, b Value) bool { return equal(a, b, true, 0, func(int) {}) }

// CompareCost is how many bytes of texts are compared in one step.
const CompareCost = 64

// equalDepth is how deep values are compared: deeper ones may be deeper than the stack of a goroutine, so that telling
// spend of more steps than anyone has ends the comparison.
const equalDepth = 100_000

func equal(a, b Value, strict bool, depth int, spend func(int)) bool {
	if depth > equalDepth {
		spend(math.MaxInt / 2)
	}
	if (a.Mark()|b.Mark())&Unknown != 0 {
		return a.Unknown() && b.Unknown() && a.Placeholder() == b.Placeholder()
	}
	if a.Kind() != b.Kind() {
		return !strict && (a.Kind() == Int && b.Kind() == Float || a.Kind() == Float && b.Kind() == Int) &&
			Compare(a, b) == 0
	}
	switch a.Kind() {
	case Absent, Null:
		return true
	case Bool, Int:
		return a.number == b.number
	case Float:
		return a.Float() == b.Float()
	case String:
		if len(a.Text()) != len(b.Text()) {
			return false
		}
		if n := len(a.Text()); n >= CompareCost {
			spend(n / CompareCost)
		}
		return a.Text() == b.Text()
	}
	if a.Len() != b.Len() {
		return false
	}
	if a.pointer == b.pointer || a.Kind() == Function {
		return a.pointer == b.pointer
	}
	spend(a.Len() + 1)
	if a.Kind() == List {
		for i, x := range a.Elements() {
			if !equal(x, b.Elements()[i], strict, depth+1, spend) {
				return false
			}
		}
		return true
	}
	for i, key := range a.Shape().Keys() {
		y := b.Get(key)
		if y.IsAbsent() || !equal(a.Values()[i], y, strict, depth+1, spend) {
			return false
		}
	}
	return true
}

// Compare orders two numbers or two strings (by code points).
func Compare(a, b Value) int {
	switch {
	case a.Kind() == String:
		return strings.Compare(a.Text(), b.Text())
	case a.Kind() == Int && b.Kind() == Int:
		return cmp.Compare(a.Int(), b.Int())
	case a.Kind() == Int && b.Kind() == Float:
		return compareMixed(a.Int(), b.Float())
	case a.Kind() == Float && b.Kind() == Int:
		return -compareMixed(b.Int(), a.Float())
	}
	return cmp.Compare(a.Float(), b.Float())
}

// compareMixed compares an int with a float exactly: not every int of 64 bits is a float.
func compareMixed(i int64, f float64) int {
	const limit = 1 << 63
	switch {
	case f >= limit:
		return -1
	case f < -limit:
		return 1
	}
	whole := math.Trunc(f)
	return cmp.Or(cmp.Compare(i, int64(whole)), cmp.Compare(0, f-whole))
}

// FormatFloat returns the shortest text that reads back as the same float and as no int.
func FormatFloat(f float64) string {
	abs := f
	if abs < 0 {
		abs = -abs
	}
	if abs != 0 && (abs < 1e-6 || abs >= 1e21) {
		s := strconv.FormatFloat(f, 'e', -1, 64)
		// 1e-07 is 1e-7 elsewhere; the mantissa keeps a point so that every reader of YAML sees a float.
		mantissa, exponent, _ := strings.Cut(s, "e")
		if !strings.Contains(mantissa, ".") {
			mantissa += ".0"
		}
		sign := exponent[:1]
		return mantissa + "e" + sign + strings.TrimLeft(exponent[1:], "0")
	}
	s := strconv.FormatFloat(f, 'f', -1, 64)
	if !strings.Contains(s, ".") {
		s += ".0"
	}
	return s
}

// Scalar returns a scalar as it is in a text, and whether it is one that may: null is not. What is not known is its
// placeholder.
func (v Value) Scalar() (string, bool) {
	if v.Unknown() {
		return v.Placeholder(), true
	}
	switch v.Kind() {
	case String:
		return v.Text(), true
	case Int:
		return strconv.FormatInt(v.Int(), 10), true
	case Float:
		return FormatFloat(v.Float()), true
	case Bool:
		return strconv.FormatBool(v.Bool()), true
	}
	return "", false
}

// Show returns a value on one line, as it is in messages, at most about limit bytes of it, secrets hidden.
func (v Value) Show(limit int) string {
	var b strings.Builder
	show(&b, v, limit)
	return b.String()
}

func show(b *strings.Builder, v Value, limit int) {
	if b.Len() >= limit {
		b.WriteString("…")
		return
	}
	if v.Secret() {
		b.WriteString(Hidden)
		return
	}
	switch v.Kind() {
	case Absent:
		b.WriteString("nothing")
	case Null:
		b.WriteString("null")
	case Function:
		b.WriteString("a function")
	case String:
		text := v.Text()
		if len(text) > limit {
			cut := limit
			for cut > 0 && text[cut]&0xC0 == 0x80 {
				cut--
			}
			b.WriteString(strconv.Quote(text[:cut]) + "…")
			return
		}
		b.WriteString(strconv.Quote(text))
	case List:
		b.WriteByte('[')
		for i, x := range v.Elements() {
			if i > 0 {
				b.WriteString(", ")
			}
			if b.Len() >= limit {
				b.WriteString("…")
				break
			}
			show(b, x, limit)
		}
		b.WriteByte(']')
	case Record:
		if v.Len() == 0 {
			b.WriteString("{}")
			return
		}
		b.WriteString("{ ")
		for i, key := range v.Shape().Keys() {
			if i > 0 {
				b.WriteString(", ")
			}
			if b.Len() >= limit {
				b.WriteString("…")
				break
			}
			b.WriteString(key + ": ")
			show(b, v.Values()[i], limit)
		}
		b.WriteString(" }")
	default:
		text, _ := v.Scalar()
		b.WriteString(text)
	}
}
