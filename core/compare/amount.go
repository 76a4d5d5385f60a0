package compare

import (
	"math/big"
	"regexp"
	"strings"
)

// amountForm is a quantity: a number with a unit.
var amountForm = regexp.MustCompile(
	`^([+-]?(?:[0-9]+\.?[0-9]*|\.[0-9]+))([KMGTPE]i|[numkMGTPE]|[eE][+-]?[0-9]{1,3})?$`)

// amount returns what a quantity comes to, exactly.
func amount(text string) (*big.Rat, bool) {
	parts := amountForm.FindStringSubmatch(text)
	if parts == nil {
		return nil, false
	}
	number, unit := parts[1], parts[2]
	if strings.HasPrefix(unit, "e") || strings.HasPrefix(unit, "E") && len(unit) > 1 {
		number, unit = number+unit, ""
	}
	r, ok := new(big.Rat).SetString(number)
	if !ok {
		return nil, false
	}
	base, units := int64(1000), "kMGTPE"
	if strings.HasSuffix(unit, "i") {
		base, units = 1024, "KMGTPE"
	}
	if unit == "" {
		return r, true
	}
	power := strings.Index(units, unit[:1]) + 1
	if power == 0 {
		power = -map[string]int{"m": 1, "u": 2, "n": 3}[unit]
	}
	for ; power > 0; power-- {
		r.Mul(r, new(big.Rat).SetInt64(base))
	}
	for ; power < 0; power++ {
		r.Quo(r, new(big.Rat).SetInt64(base))
	}
	return r, true
}
