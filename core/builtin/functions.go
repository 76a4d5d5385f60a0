package builtin

import (
	"slices"

	"knothole/core/eval"
	"knothole/core/value"
)

var functions = slices.Concat(textFunctions, listFunctions, recordFunctions, mathFunctions, convertFunctions,
	encodeFunctions, decodeFunctions, hashFunctions, netFunctions, versionFunctions, quantityFunctions, timeFunctions,
	pathFunctions)

// textual makes the body of a function from string to string.
func textual(f func(string) string) eval.Native {
	return func(c *eval.Call, a []value.Value) value.Value {
		c.Spend(len(a[0].Text()) / 4)
		return text(c, f(a[0].Text()))
	}
}

// asks makes the body of a function that asks something of two strings.
func asks(f func(a, b string) bool) eval.Native {
	return func(c *eval.Call, a []value.Value) value.Value {
		c.Spend((len(a[0].Text()) + len(a[1].Text())) / 8)
		return truth(c, f(a[0].Text(), a[1].Text()))
	}
}

// span turns positions of a slice, which may be negative and outside, into offsets of something with n elements.
func span(n int, start, stop value.Value) (from, to int) {
	at := func(i int64) int {
		if i < 0 {
			i += int64(n)
		}
		return int(max(0, min(i, int64(n))))
	}
	from, to = at(start.Int()), n
	if !stop.IsNull() {
		to = at(stop.Int())
	}
	return from, max(from, to)
}

// entry is a record with fixed keys.
func entry(c *eval.Call, shape *value.Shape, values ...value.Value) value.Value {
	c.Spend(4 * len(values))
	return value.RecordOf(shape, values, c.Origin())
}
