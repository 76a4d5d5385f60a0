package schema

import (
	"math/big"
	"strconv"

	"knothole/core/data"
	"knothole/core/value"
)

// exact returns a number as it is written, not as 64 bits hold it: 0.3 is three tenths.
func exact(v value.Value, numbers ...data.Numbers) *big.Rat {
	for _, known := range numbers {
		if len(known) > 0 {
			if n, ok := known[v.Origin().Pos()]; ok {
				return n
			}
		}
	}
	if v.Kind() == value.Int {
		return new(big.Rat).SetInt64(v.Int())
	}
	n, _ := new(big.Rat).SetString(strconv.FormatFloat(v.Float(), 'g', -1, 64))
	return n
}

// limit is a number that a schema compares with.
type limit struct {
	exact *big.Rat
	// whole is the number when it is an int of 64 bits, which most are.
	whole   int64
	isWhole bool
	text    string
}

func newLimit(v value.Value, numbers data.Numbers) *limit {
	l := &limit{exact: exact(v, numbers)}
	if l.exact.IsInt() && l.exact.Num().IsInt64() {
		l.whole, l.isWhole = l.exact.Num().Int64(), true
	}
	l.text = numberText(l.exact)
	return l
}

// numberText writes a number as people do.
func numberText(n *big.Rat) string {
	if n.IsInt() {
		return n.Num().String()
	}
	f, _ := n.Float64()
	return value.FormatFloat(f)
}

// compare returns -1, 0 or 1 as a number is below, at or above the limit.
func (l *limit) compare(v value.Value, numbers data.Numbers) int {
	if v.Kind() == value.Int && l.isWhole {
		switch n := v.Int(); {
		case n < l.whole:
			return -1
		case n > l.whole:
			return 1
		}
		return 0
	}
	return exact(v, numbers).Cmp(l.exact)
}

// divides reports whether a number is a multiple of the limit, exactly.
func (l *limit) divides(v value.Value, numbers data.Numbers) bool {
	if v.Kind() == value.Int && l.isWhole && l.whole != 0 {
		return v.Int()%l.whole == 0
	}
	return new(big.Rat).Quo(exact(v, numbers), l.exact).IsInt()
}

// isNumber reports whether a value is a number, isInteger whether it is one without a fraction.
func isNumber(v value.Value) bool { return v.Kind() == value.Int || v.Kind() == value.Float }

func isInteger(v value.Value, numbers data.Numbers) bool {
	return v.Kind() == value.Int || v.Kind() == value.Float && exact(v, numbers).IsInt()
}
