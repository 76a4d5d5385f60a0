package builtin

import (
	"encoding/base64"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"knothole/core/eval"
	"knothole/core/value"
)

var functions = []*Function{
	{Group: "text", Signature: "length(s: string) -> int", Description: "The number of code points.",
		Example: `text.length("tide")`, Result: `4`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			c.Spend(len(a[0].Text()) / 8)
			return number(c, utf8.RuneCountInString(a[0].Text()))
		}},
	{Group: "text", Signature: "upper(s: string) -> string", Description: "The text in upper case.",
		Example: `text.upper("pier")`, Result: `"PIER"`,
		call: func(c *eval.Call, a []value.Value) value.Value { return text(c, strings.ToUpper(a[0].Text())) }},
	{Group: "text", Signature: "lower(s: string) -> string", Description: "The text in lower case.",
		Example: `text.lower("PIER")`, Result: `"pier"`,
		call: func(c *eval.Call, a []value.Value) value.Value { return text(c, strings.ToLower(a[0].Text())) }},
	{Group: "text", Signature: "trim(s: string) -> string", Description: "The text without white space at both ends.",
		Example: `text.trim("  ebb ")`, Result: `"ebb"`,
		call: func(c *eval.Call, a []value.Value) value.Value { return text(c, strings.TrimSpace(a[0].Text())) }},
	{Group: "text", Signature: "split(s: string, separator: string) -> [string]", Description: "The parts of a text between separators.",
		Example: `text.split("north,south", ",")`, Result: `["north","south"]`, Errors: "The separator is empty.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[1].Text() == "" {
				c.Fail(1, `give the text between the parts, such as ","`, "the separator is empty")
			}
			return texts(c, strings.Split(a[0].Text(), a[1].Text()))
		}},
	{Group: "text", Signature: "join(xs: [string], separator: string) -> string", Description: "The texts behind each other, with the separator between them.",
		Example: `text.join(["north", "south"], ", ")`, Result: `"north, south"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			var b strings.Builder
			for i, x := range a[0].Elements() {
				if i > 0 {
					b.WriteString(a[1].Text())
				}
				c.Spend(1 + len(x.Text()) + len(a[1].Text()))
				b.WriteString(x.Text())
			}
			return value.StringOf(b.String(), c.Origin())
		}},
	{Group: "text", Signature: "replace(s: string, old: string, new: string) -> string", Description: "The text with every occurrence of old replaced by new.",
		Example: `text.replace("pier 4", " ", "-")`, Result: `"pier-4"`, Errors: "The old text is empty.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			s, old, new := a[0].Text(), a[1].Text(), a[2].Text()
			if old == "" {
				c.Fail(1, "give the text to be replaced", "the text to replace is empty")
			}
			c.Spend(len(s) + strings.Count(s, old)*len(new))
			return text(c, strings.ReplaceAll(s, old, new))
		}},
	{Group: "text", Signature: "starts(s: string, prefix: string) -> bool", Description: "Whether the text begins with the prefix.",
		Example: `text.starts("siren-router", "siren")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return truth(c, strings.HasPrefix(a[0].Text(), a[1].Text()))
		}},
	{Group: "text", Signature: "ends(s: string, suffix: string) -> bool", Description: "Whether the text ends with the suffix.",
		Example: `text.ends("map.example", ".example")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return truth(c, strings.HasSuffix(a[0].Text(), a[1].Text()))
		}},
	{Group: "text", Signature: "contains(s: string, part: string) -> bool", Description: "Whether the part occurs in the text.",
		Example: `text.contains("gauge-intake", "intake")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			c.Spend(len(a[0].Text()) / 8)
			return truth(c, strings.Contains(a[0].Text(), a[1].Text()))
		}},

	{Group: "list", Signature: "length(xs: [any]) -> int", Description: "The number of elements.",
		Example: `list.length([4, 7])`, Result: `2`,
		call: func(c *eval.Call, a []value.Value) value.Value { return number(c, a[0].Len()) }},
	{Group: "list", Signature: "map(xs: [A], f: fn(A) -> B) -> [B]", Description: "What f makes of each element.",
		Example: `list.map([1, 2], fn(x) = x * 10)`, Result: `[10,20]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := make([]value.Value, a[0].Len())
			for i, x := range a[0].Elements() {
				elements[i] = c.Apply(a[1], x)
			}
			return list(c, elements)
		}},
	{Group: "list", Signature: "filter(xs: [A], f: fn(A) -> bool) -> [A]", Description: "The elements for which f is true.",
		Example: `list.filter([1, 2, 3], fn(x) = x > 1)`, Result: `[2,3]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			var kept []value.Value
			for _, x := range a[0].Elements() {
				if c.Apply(a[1], x).Bool() {
					kept = append(kept, x)
				}
			}
			return list(c, kept)
		}},
	{Group: "list", Signature: "fold(xs: [A], start: B, f: fn(B, A) -> B) -> B", Description: "What f makes of all elements, one after the other: f(so_far, x).",
		Example: `list.fold([1, 2, 3], 0, fn(so_far, x) = so_far + x)`, Result: `6`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			result := a[1]
			for _, x := range a[0].Elements() {
				result = c.Apply(a[2], result, x)
			}
			return result
		}},
	{Group: "list", Signature: "sort(xs: [T], by: (fn(T) -> any)? = null) -> [T]", Description: "The elements in ascending order, or in that of what by makes of them: numbers by size, strings by code point. Equal ones keep their order.",
		Example: `list.sort(["south", "north"])`, Result: `["north","south"]`, Errors: "What is compared is neither all numbers nor all strings.",
		call: sortList},
	{Group: "list", Signature: "reverse(xs: [T]) -> [T]", Description: "The elements from last to first.",
		Example: `list.reverse([1, 2, 3])`, Result: `[3,2,1]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := slices.Clone(a[0].Elements())
			slices.Reverse(elements)
			return list(c, elements)
		}},
	{Group: "list", Signature: "distinct(xs: [T]) -> [T]", Description: "The elements without repetitions; the first of equal ones stays.",
		Example: `list.distinct([2, 1, 2])`, Result: `[2,1]`,
		call: distinct},
	{Group: "list", Signature: "contains(xs: [any], x: any) -> bool", Description: "Whether an element equals x.",
		Example: `list.contains(["north"], "north")`, Result: `true`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			for _, x := range a[0].Elements() {
				c.Spend(1)
				if value.Equal(x, a[1], c.Spend) {
					return truth(c, true)
				}
			}
			return truth(c, false)
		}},
	{Group: "list", Signature: "first(xs: [T]) -> T?", Description: "The first element; null when there is none.",
		Example: `list.first(["north", "south"])`, Result: `"north"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			if a[0].Len() == 0 {
				return value.NullOf(c.Origin())
			}
			return a[0].Elements()[0]
		}},

	{Group: "record", Signature: "keys(r: { *: any }) -> [string]", Description: "The keys in their order.",
		Example: `record.keys({ high: 4, low: 1 })`, Result: `["high","low"]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := make([]value.Value, a[0].Len())
			for i, key := range a[0].Shape().Keys() {
				elements[i] = value.StringOf(key, c.Origin())
			}
			return list(c, elements)
		}},
	{Group: "record", Signature: "values(r: { *: T }) -> [T]", Description: "The values in their order.",
		Example: `record.values({ high: 4, low: 1 })`, Result: `[4,1]`,
		call: func(c *eval.Call, a []value.Value) value.Value { return list(c, slices.Clone(a[0].Values())) }},
	{Group: "record", Signature: "has(r: { *: any }, key: string) -> bool", Description: "Whether the record has the key.",
		Example: `record.has({ high: 4 }, "low")`, Result: `false`,
		call: func(c *eval.Call, a []value.Value) value.Value { return truth(c, !a[0].Get(a[1].Text()).IsAbsent()) }},

	{Group: "math", Signature: "min(a: T, b: T) -> T", Description: "The smaller of two numbers, the first when they are equal.",
		Example: `math.min(4.5, 2)`, Result: `2`, Errors: "One of them is not a number.",
		call: func(c *eval.Call, a []value.Value) value.Value { return choose(c, a, -1) }},
	{Group: "math", Signature: "max(a: T, b: T) -> T", Description: "The larger of two numbers, the first when they are equal.",
		Example: `math.max(4.5, 2)`, Result: `4.5`, Errors: "One of them is not a number.",
		call: func(c *eval.Call, a []value.Value) value.Value { return choose(c, a, 1) }},

	{Group: "convert", Signature: "int(s: string) -> int", Description: "The whole number that a text is.",
		Example: `convert.int("41")`, Result: `41`, Errors: "The text is not a whole number of 64 bits.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			n, err := strconv.ParseInt(a[0].Text(), 10, 64)
			if err != nil {
				c.Fail(0, "digits, with a minus before them if need be", a[0].Show(40)+" is not a whole number of 64 bits")
			}
			return value.IntOf(n, c.Origin())
		}},
	{Group: "convert", Signature: "string(x: string | int | float | bool) -> string", Description: "A scalar as text.",
		Example: `convert.string(1.5)`, Result: `"1.5"`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			s, _ := a[0].Scalar()
			return text(c, s)
		}},

	{Group: "encode", Signature: "base64(s: string) -> string", Description: "The bytes of the text in base64 (RFC 4648 section 4).",
		Example: `encode.base64("tide")`, Result: `"dGlkZQ=="`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			return text(c, base64.StdEncoding.EncodeToString([]byte(a[0].Text())))
		}},
}

// choose returns the one of two numbers that is smaller (-1) or larger (1).
func choose(c *eval.Call, a []value.Value, sign int) value.Value {
	for i, x := range a {
		if x.Kind() != value.Int && x.Kind() != value.Float {
			c.Fail(i, "", "takes numbers, not "+x.Show(40))
		}
	}
	if value.Compare(a[1], a[0])*sign > 0 {
		return a[1]
	}
	return a[0]
}

func sortList(c *eval.Call, a []value.Value) value.Value {
	type pair struct{ element, key value.Value }
	pairs := make([]pair, a[0].Len())
	kind := func(v value.Value) value.Kind {
		if v.Kind() == value.Int {
			return value.Float
		}
		return v.Kind()
	}
	for i, x := range a[0].Elements() {
		pairs[i] = pair{x, keyOf(c, a[1], x)}
		first, key := pairs[0].key, pairs[i].key
		if kind(key) != kind(first) || kind(key) != value.Float && kind(key) != value.String {
			c.Fail(0, "", "only numbers or only strings can be sorted, but "+first.Show(40)+" and "+key.Show(40)+" are to be compared")
		}
	}
	c.Spend(len(pairs) * 8)
	slices.SortStableFunc(pairs, func(x, y pair) int { return value.Compare(x.key, y.key) })
	elements := make([]value.Value, len(pairs))
	for i, p := range pairs {
		elements[i] = p.element
	}
	return list(c, elements)
}

// keyOf is what a function makes of an element; without a function it is the element.
func keyOf(c *eval.Call, by, x value.Value) value.Value {
	if by.IsNull() {
		return x
	}
	return c.Apply(by, x)
}

func distinct(c *eval.Call, a []value.Value) value.Value {
	var kept []value.Value
	scalars := map[string]bool{}
	for _, x := range a[0].Elements() {
		c.Spend(1)
		if x.Kind() == value.String {
			if !scalars[x.Text()] {
				scalars[x.Text()] = true
				kept = append(kept, x)
			}
			continue
		}
		if !slices.ContainsFunc(kept, func(y value.Value) bool { c.Spend(1); return value.Equal(x, y, c.Spend) }) {
			kept = append(kept, x)
		}
	}
	return list(c, kept)
}
