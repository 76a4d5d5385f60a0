package builtin

import (
	"fmt"
	"math"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"time"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/value"
)

var mathFunctions = []*Function{
	{Builtin: check.Builtin{Group: "math", NewNumbers: true,
		Signature: "abs(x: T) -> T"}, Description: "The absolute value.",
		Example: `math.abs(-4)`, Result: `4`, Errors: "x is not a number, or is the smallest int.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			x := numeric(c, a, 0)
			switch {
			case x.Kind() == value.Float:
				return value.FloatOf(math.Abs(x.Float()), c.Origin())
			case x.Int() == math.MinInt64:
				c.Fail(0, "", "the result does not fit into an int of 64 bits")
			case x.Int() < 0:
				return value.IntOf(-x.Int(), c.Origin())
			}
			return x
		}},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "min(a: T, b: T) -> T"},
		Description: "The smaller of two numbers, the first when they are equal.",
		Example:     `math.min(4.5, 2)`, Result: `2`, Errors: "One of them is not a number.",
		call: func(c *eval.Call, a []value.Value) value.Value { return choose(c, a, -1) }},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "max(a: T, b: T) -> T"},
		Description: "The larger of two numbers, the first when they are equal.",
		Example:     `math.max(4.5, 2)`, Result: `4.5`, Errors: "One of them is not a number.",
		call: func(c *eval.Call, a []value.Value) value.Value { return choose(c, a, 1) }},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "floor(x: int | float) -> int"},
		Description: "The largest whole number that is not larger.",
		Example:     `math.floor(-1.5)`, Result: `-2`, Errors: "The result does not fit into 64 bits.",
		call: whole(math.Floor)},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "ceil(x: int | float) -> int"},
		Description: "The smallest whole number that is not smaller.",
		Example:     `math.ceil(1.2)`, Result: `2`, Errors: "The result does not fit into 64 bits.",
		call: whole(math.Ceil)},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "round(x: int | float) -> int"},
		Description: "The nearest whole number; halves go away from zero.",
		Example:     `math.round(2.5)`, Result: `3`, Errors: "The result does not fit into 64 bits.",
		call: whole(math.Round)},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "clamp(x: T, low: T, high: T) -> T"},
		Description: "The number, or the limit that it lies beyond.",
		Example:     `math.clamp(12, 1, 9)`, Result: `9`,
		Errors: "One of them is not a number, or low is larger than high.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			for i := range a {
				numeric(c, a, i)
			}
			switch {
			case value.Compare(a[1], a[2]) > 0:
				c.Fail(1, "", "the lower limit "+a[1].Show(30)+" is larger than the upper one")
			case value.Compare(a[0], a[1]) < 0:
				return a[1]
			case value.Compare(a[0], a[2]) > 0:
				return a[2]
			}
			return a[0]
		}},
	{Builtin: check.Builtin{Group: "math", NewNumbers: true, Signature: "pow(base: T, exponent: int) -> T"},
		Description: "base raised to exponent; a negative exponent needs a float as base.",
		Example:     `math.pow(2, 10)`, Result: `1024`, Errors: "The base is not a number, or the result does not fit.",
		call: power},
}

// numeric returns an argument that must be a number.
func numeric(c *eval.Call, a []value.Value, i int) value.Value {
	if a[i].Kind() != value.Int && a[i].Kind() != value.Float {
		c.Fail(i, "", "takes numbers, not "+a[i].Show(40))
	}
	return a[i]
}

// choose returns the one of two numbers that is smaller (-1) or larger (1).
func choose(c *eval.Call, a []value.Value, sign int) value.Value {
	if value.Compare(numeric(c, a, 1), numeric(c, a, 0))*sign > 0 {
		return a[1]
	}
	return a[0]
}

// whole makes the body of a function that rounds.
func whole(f func(float64) float64) eval.Native {
	return func(c *eval.Call, a []value.Value) value.Value {
		if a[0].Kind() == value.Int {
			return a[0]
		}
		r := f(a[0].Float())
		// 2^63 is a float, the largest int is not.
		if r < -math.MaxInt64-1 || r >= math.MaxInt64 {
			c.Fail(0, "", a[0].Show(40)+" does not fit into an int of 64 bits")
		}
		return value.IntOf(int64(r), c.Origin())
	}
}

func power(c *eval.Call, a []value.Value) value.Value {
	base, exponent := numeric(c, a, 0), a[1].Int()
	if base.Kind() == value.Float {
		return float(c, math.Pow(base.Float(), float64(exponent)))
	}
	if exponent < 0 {
		c.Fail(1, "a float as base takes it", "an int cannot be raised to "+a[1].Show(20))
	}
	result, factor := big.NewInt(1), big.NewInt(base.Int())
	switch {
	case base.Int() == 0 || base.Int() == 1 || base.Int() == -1:
		exponent %= 2 // and 0 to the power of 0 is 1
		if base.Int() == 0 && a[1].Int() > 0 {
			exponent = 1
		}
	case exponent > 63:
		c.Fail(0, "", "the result does not fit into an int of 64 bits")
	}
	result.Exp(factor, big.NewInt(exponent), nil)
	if !result.IsInt64() {
		c.Fail(0, "", "the result does not fit into an int of 64 bits")
	}
	return value.IntOf(result.Int64(), c.Origin())
}

var convertFunctions = []*Function{
	{Builtin: check.Builtin{Group: "convert",
		Signature: "int(s: string) -> int"}, Description: "The whole number that a string is.",
		Example: `convert.int("41")`, Result: `41`, Errors: "The string is not a whole number of 64 bits.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			n, err := strconv.ParseInt(a[0].Text(), 10, 64)
			if err != nil {
				c.Fail(0, "digits, with a minus before them if need be",
					a[0].Show(40)+" is not a whole number of 64 bits")
			}
			return value.IntOf(n, c.Origin())
		}},
	{Builtin: check.Builtin{Group: "convert",
		Signature: "float(s: string) -> float"}, Description: "The number that a string is.",
		Example: `convert.float("1.5e3")`, Result: `1500.0`, Errors: "The string is not a number.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			f, err := strconv.ParseFloat(a[0].Text(), 64)
			if err != nil || strings.Trim(a[0].Text(), "0123456789+-.eE") != "" {
				c.Fail(0, "digits with a point, and an exponent if need be", a[0].Show(40)+" is not a number")
			}
			return float(c, f)
		}},
	{Builtin: check.Builtin{Group: "convert", Signature: "bool(s: string) -> bool"},
		Description: "The bool that a string is: true or false, nothing else.",
		Example:     `convert.bool("true")`, Result: `true`, Errors: "The string is another one.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			if s := a[0].Text(); s != "true" && s != "false" {
				c.Fail(0, `"true" or "false"`, a[0].Show(40)+" is not a bool")
			}
			return truth(c, a[0].Text() == "true")
		}},
	{Builtin: check.Builtin{Group: "convert", Signature: "decimal(x: int | float, digits: int? = null) -> string"},
		Description: "A number in decimals: with `digits` digits after the point, the last one rounded (halves away " +
			"from zero), or with as many as it has.",
		Example: `convert.decimal(1.5, 2)`, Result: `"1.50"`,
		Errors: "There are to be fewer than 0 or more than 100 digits.",
		call:   decimal},
	{Builtin: check.Builtin{Group: "convert",
		Signature: "string(x: string | int | float | bool) -> string"}, Description: "A scalar as a string.",
		Example: `convert.string(1.5)`, Result: `"1.5"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			s, _ := a[0].Scalar()
			return text(c, s)
		}},
}

var quantityFunctions = []*Function{
	{Builtin: check.Builtin{Group: "quantity", Signature: "bytes(s: string) -> int"},
		Description: "The number of bytes that a size is, such as 256Mi (powers of 1024) or 5M (powers of 1000).",
		Example:     `quantity.bytes("256Mi")`, Result: `268435456`,
		Errors: "The string is not a size, or not a whole number of bytes.",
		call:   func(c *eval.Call, a []value.Value) value.Value { return quantity(c, a[0], sizeUnits, "bytes") }},
	{Builtin: check.Builtin{Group: "quantity", Signature: "millicores(s: string) -> int"},
		Description: "The number of thousandths of a core, such as of 0.5 or 500m.",
		Example:     `quantity.millicores("0.5")`, Result: `500`,
		Errors: "The string is not a number of cores, or finer than a thousandth.",
		call:   func(c *eval.Call, a []value.Value) value.Value { return quantity(c, a[0], coreUnits, "millicores") }},
	{Builtin: check.Builtin{Group: "quantity", Signature: "format_bytes(n: int) -> string"},
		Description: "A size with the largest unit of powers of 1024 that leaves a whole number.",
		Example:     `quantity.format_bytes(268435456)`, Result: `"256Mi"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			n, units := a[0].Int(), []string{"", "Ki", "Mi", "Gi", "Ti", "Pi", "Ei"}
			i := 0
			for n != 0 && n%1024 == 0 && i < len(units)-1 {
				n, i = n/1024, i+1
			}
			return text(c, fmt.Sprintf("%d%s", n, units[i]))
		}},
	{Builtin: check.Builtin{Group: "quantity", Signature: "format_millicores(n: int) -> string"},
		Description: "A number of thousandths of a core: whole cores as such, others with m.",
		Example:     `quantity.format_millicores(1500)`, Result: `"1500m"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			if n := a[0].Int(); n%1000 == 0 {
				return text(c, strconv.FormatInt(n/1000, 10))
			}
			return text(c, fmt.Sprintf("%dm", a[0].Int()))
		}},
}

// unit is a suffix and by how much it multiplies, as a fraction.
type unit struct {
	suffix string
	factor *big.Rat
}

// sizeUnits are the longest suffixes first.
var sizeUnits = func() []unit {
	var units []unit
	for i, letter := range []string{"K", "M", "G", "T", "P", "E"} {
		units = append(units, unit{letter + "i", new(big.Rat).SetInt(new(big.Int).Lsh(big.NewInt(1), uint(10*(i+1))))})
	}
	for i, letter := range []string{"k", "M", "G", "T", "P", "E"} {
		units = append(units,
			unit{letter, new(big.Rat).SetInt(new(big.Int).Exp(big.NewInt(1000), big.NewInt(int64(i+1)), nil))})
	}
	return append(units, unit{"", big.NewRat(1, 1)})
}()

var coreUnits = []unit{{"m", big.NewRat(1, 1)}, {"", big.NewRat(1000, 1)}}

// quantity reads a decimal number with a unit.
func quantity(c *eval.Call, v value.Value, units []unit, what string) value.Value {
	s := v.Text()
	for _, u := range units {
		digits, ok := strings.CutSuffix(s, u.suffix)
		if !ok {
			continue
		}
		if digits == "" || len(digits) > 40 || strings.Trim(digits, "0123456789.") != "" ||
			strings.Count(digits, ".") > 1 || digits == "." {
			break
		}
		n, ok := new(big.Rat).SetString(digits)
		if !ok {
			break
		}
		n.Mul(n, u.factor)
		if !n.IsInt() || !n.Num().IsInt64() {
			c.Fail(0, "", v.Show(40)+" is not a whole number of "+what+" of 64 bits")
		}
		return value.IntOf(n.Num().Int64(), c.Origin())
	}
	c.Fail(0, "a number and a unit, such as "+map[string]string{"bytes": "256Mi", "millicores": "500m"}[what],
		v.Show(40)+" is not a quantity")
	return value.Value{}
}

// dateTime is a date and time as RFC 3339 section 5.6 has it; the library takes more.
var dateTime = regexp.MustCompile(`^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?(Z|[+-]([01]\d|2[0-3]):[0-5]\d)$`)

// wholeSeconds is a duration as time.format_duration writes it; the library takes more.
var wholeSeconds = regexp.MustCompile(`^-?(\d+h)?(\d+m)?(\d+s)?$`)

var timeFunctions = []*Function{
	{Builtin: check.Builtin{Group: "time", Signature: "parse(s: string) -> int"},
		Description: "The seconds since 1970 of a date and time (RFC 3339); fractions of a second are cut off.",
		Example:     `time.parse("2027-03-31T00:00:00Z")`, Result: `1806451200`, Errors: "The string is not a date and time.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			written := strings.ToUpper(a[0].Text())
			leap := strings.HasPrefix(written[min(len(written), 16):],
				":60") // a leap second is the one after the last
			if leap {
				written = written[:16] + ":59" + written[19:]
			}
			t, err := time.Parse(time.RFC3339, written)
			if err != nil || !dateTime.MatchString(written) {
				c.Fail(0, "such as 2027-03-31T06:00:00Z", a[0].Show(40)+" is not a date and time of RFC 3339")
			}
			if leap {
				t = t.Add(time.Second)
			}
			return value.IntOf(t.Unix(), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "time", Signature: "format(seconds: int) -> string"},
		Description: "The date and time, in UTC (RFC 3339), of a number of seconds after 1970.",
		Example:     `time.format(1806451200)`, Result: `"2027-03-31T00:00:00Z"`, Errors: "The year has not four digits.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			t := time.Unix(a[0].Int(), 0).UTC()
			if t.Year() < 0 || t.Year() > 9999 || a[0].Int() > 1<<40 || a[0].Int() < -1<<40 {
				c.Fail(0, "", "the year of "+a[0].Show(30)+" has not four digits")
			}
			return text(c, t.Format(time.RFC3339))
		}},
	{Builtin: check.Builtin{Group: "time", Signature: "seconds(s: string) -> int"},
		Description: "The seconds of a duration of hours, minutes and seconds in this order, such as 1h30m; with - " +
			"before it, negative.",
		Example: `time.seconds("1h30m")`, Result: `5400`, Errors: "The string is not a duration of whole seconds.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			d, err := time.ParseDuration(a[0].Text())
			if err != nil || !wholeSeconds.MatchString(a[0].Text()) {
				c.Fail(0, "such as 1h30m or 90s", a[0].Show(40)+" is not a duration of whole seconds")
			}
			return value.IntOf(int64(d/time.Second), c.Origin())
		}},
	{Builtin: check.Builtin{Group: "time", Signature: "format_duration(seconds: int) -> string"},
		Description: "A duration in hours, minutes and seconds, such as 1h30m; the opposite of time.seconds.",
		Example:     `time.format_duration(5400)`, Result: `"1h30m"`,
		call: func(c *eval.Call, a []value.Value) value.Value { return text(c, formatDuration(a[0].Int())) }},
}

// formatDuration writes seconds as time.seconds reads them; units of which there is none are left out.
func formatDuration(seconds int64) string {
	if seconds == 0 {
		return "0s"
	}
	rest, text := uint64(seconds), ""
	if seconds < 0 {
		rest, text = -rest, "-"
	}
	for _, unit := range []struct {
		length uint64
		name   string
	}{{3600, "h"}, {60, "m"}, {1, "s"}} {
		if n := rest / unit.length; n > 0 {
			text += strconv.FormatUint(n, 10) + unit.name
			rest %= unit.length
		}
	}
	return text
}

// decimal writes a number in decimals, exactly.
func decimal(c *eval.Call, a []value.Value) value.Value {
	exact := new(big.Rat)
	if a[0].Kind() == value.Int {
		exact.SetInt64(a[0].Int())
	} else {
		exact.SetString(strconv.FormatFloat(a[0].Float(), 'g', -1, 64)) // what is written, not what is stored
	}
	if a[1].IsNull() {
		if exact.IsInt() {
			return text(c, exact.Num().String())
		}
		return text(c, strconv.FormatFloat(a[0].Float(), 'f', -1, 64))
	}
	digits := a[1].Int()
	if digits < 0 || digits > 100 {
		c.Fail(1, "", "a number has from 0 to 100 digits after the point here, not "+a[1].Show(20))
	}
	return text(c, exact.FloatString(int(digits)))
}
