package schema

import (
	"math"
	"slices"
	"strconv"

	"knothole/core/data"
	"knothole/core/value"
)

// appendKey writes a value so that equal values are written in the same way, and others are not: numbers by what they
// are (1 and 1.0 are equal), records whatever the order of their entries.
func appendKey(b []byte, v value.Value, numbers data.Numbers) []byte {
	switch v.Kind() {
	case value.Null:
		return append(b, 'n')
	case value.Bool:
		return strconv.AppendBool(b, v.Bool())
	case value.Int:
		return strconv.AppendInt(append(b, '#'), v.Int(), 10)
	case value.Float:
		if f := v.Float(); f == math.Trunc(f) && math.Abs(f) < 1<<53 {
			return strconv.AppendInt(append(b, '#'), int64(f), 10)
		}
		n := exact(v, numbers)
		if n.IsInt() {
			return n.Num().Append(append(b, '#'), 10)
		}
		return append(append(b, '#'), n.String()...)
	case value.String:
		return appendText(append(b, 's'), v.Text())
	case value.List:
		b = strconv.AppendInt(append(b, '['), int64(v.Len()), 10)
		for _, x := range v.Elements() {
			b = appendKey(append(b, ','), x, numbers)
		}
		return b
	case value.Record:
		b = strconv.AppendInt(append(b, '{'), int64(v.Len()), 10)
		keys := v.Shape().Keys()
		if !slices.IsSorted(keys) {
			keys = slices.Sorted(slices.Values(keys))
		}
		for _, key := range keys {
			b = appendKey(appendText(append(b, ','), key), v.Get(key), numbers)
		}
		return b
	}
	return b
}

func appendText(b []byte, text string) []byte {
	b = strconv.AppendInt(b, int64(len(text)), 10)
	return append(append(b, ':'), text...)
}

func keyOf(v value.Value, numbers data.Numbers) string { return string(appendKey(nil, v, numbers)) }

// repeated returns the positions of the first element that occurs twice, and of its first occurrence. Of elements that
// are known by keys these count alone.
func (c *visit) repeated(elements []value.Value, keys ...string) (first, second int, ok bool) {
	if len(elements) < 2 {
		return 0, 0, false
	}
	seen := make(map[string]int, len(elements))
	var b []byte
	open := value.Marks(c.value)&value.Unknown != 0
	for i, x := range elements {
		if open && value.Marks(x)&value.Unknown != 0 {
			continue
		}
		b = b[:0]
		if keys == nil {
			b = appendKey(b, x, c.numbers)
		} else if x.Kind() != value.Record {
			continue
		}
		for _, key := range keys {
			b = appendKey(append(b, ','), x.Get(key), c.numbers)
		}
		if at, twice := seen[string(b)]; twice {
			return at, i, true
		}
		seen[string(b)] = i
	}
	return 0, 0, false
}
