package builtin

import (
	"slices"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/value"
)

var entryShape = value.NewShape([]string{"key", "value"})

var recordFunctions = []*Function{
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Counts: true,
		Signature: "length(r: { *: any }) -> int"},
		Description: "The number of entries.",
		Example:     `record.length({ high: 4, low: 1 })`, Result: `2`,
		call: func(c *eval.Call, a []value.Value) value.Value { return number(c, a[0].Len()) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Signature: "keys(r: { *: any }) -> [string]"},
		Description: "The keys in their order.",
		Example:     `record.keys({ high: 4, low: 1 })`, Result: `["high","low"]`,
		call: func(c *eval.Call, a []value.Value) value.Value { return texts(c, a[0].Shape().Keys()) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Signature: "values(r: { *: T }) -> [T]"},
		Description: "The values in their order.",
		Example:     `record.values({ high: 4, low: 1 })`, Result: `[4,1]`,
		call: func(c *eval.Call, a []value.Value) value.Value { return list(c, slices.Clone(a[0].Values())) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes,
		Signature: "entries(r: { *: T }) -> [{ key: string, value: T }]"},
		Description: "The entries as a list of records.",
		Example:     `record.entries({ high: 4 })`, Result: `[{"key":"high","value":4}]`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			elements := make([]value.Value, a[0].Len())
			for i, key := range a[0].Shape().Keys() {
				elements[i] = entry(c, entryShape, text(c, key), a[0].Values()[i])
			}
			return list(c, elements)
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes,
		Signature: "of_entries(xs: [{ key: string, value: T }]) -> { *: T }"},
		Description: "The record that has these entries.",
		Example:     `record.of_entries([{ key: "high", value: 4 }])`, Result: `{"high":4}`, Errors: "A key occurs twice.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			var b value.Builder
			for _, x := range a[0].Elements() {
				c.Spend(4)
				key := x.Get("key")
				if b.Index(c.Key(key)) >= 0 {
					c.Fail(0, "", "the key "+key.Show(40)+" occurs twice")
				}
				b.Set(key.Text(), x.Get("value"))
			}
			return b.Record(c.Origin())
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Counts: true,
		Signature: "has(r: { *: any }, key: string) -> bool"},
		Description: "Whether the record has the key.",
		Example:     `record.has({ high: 4 }, "low")`, Result: `false`,
		call: func(c *eval.Call, a []value.Value) value.Value { return truth(c, !a[0].Get(a[1].Text()).IsAbsent()) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Gives: check.OneEntry,
		Signature: "get(r: { *: T }, key: string, default: T? = null) -> T?"},
		Description: "The value of the key, or the default when there is none.",
		Example:     `record.get({ high: 4 }, "low", 0)`, Result: `0`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			if v := a[0].Get(a[1].Text()); !v.IsAbsent() {
				return v
			}
			return a[2]
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes,
		Signature: "follow(of: any, keys: [string]) -> any"},
		Description: "What keys lead to, one after the other: null where one of them is not there, or where what " +
			"should have it is not a record.",
		Example: `record.follow({ spec: { copies: 2 } }, ["spec", "copies"])`, Result: `2`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			v := a[0]
			for _, key := range a[1].Elements() {
				c.Spend(1)
				if v.Kind() != value.Record {
					return value.NullOf(c.Origin())
				}
				if v = v.Get(key.Text()); v.IsAbsent() {
					return value.NullOf(c.Origin())
				}
			}
			return v
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Gives: check.ListedEntries,
		Signature: "pick(r: { *: T }, keys: [string]) -> { *: T }"},
		Description: "The entries whose keys are in the list, in the order of the record.",
		Example:     `record.pick({ a: 1, b: 2, c: 3 }, ["c", "a"])`, Result: `{"a":1,"c":3}`,
		call: func(c *eval.Call, a []value.Value) value.Value { return selected(c, a, true) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Gives: check.OtherEntries,
		Signature: "omit(r: { *: T }, keys: [string]) -> { *: T }"},
		Description: "The entries whose keys are not in the list.",
		Example:     `record.omit({ a: 1, b: 2, c: 3 }, ["c", "a"])`, Result: `{"b":2}`,
		call: func(c *eval.Call, a []value.Value) value.Value { return selected(c, a, false) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes,
		Signature: "map_values(r: { *: A }, f: fn(A) -> B) -> { *: B }"},
		Description: "The record with the result of f for each value.",
		Example:     `record.map_values({ low: 1 }, fn(x) = x * 10)`, Result: `{"low":10}`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			values := make([]value.Value, a[0].Len())
			for i, x := range a[0].Values() {
				values[i] = c.Apply(a[1], x)
			}
			c.Spend(4 * len(values))
			return value.RecordOf(a[0].Shape(), values, c.Origin())
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes,
		Signature: "map_keys(r: { *: T }, f: fn(string) -> string) -> { *: T }"},
		Description: "The record with the result of f for each key.",
		Example:     `record.map_keys({ low: 1 }, fn(key) = "level_${key}")`, Result: `{"level_low":1}`,
		Errors: "f returns the same key twice.",
		call: func(c *eval.Call, a []value.Value) value.Value {
			var b value.Builder
			for i, key := range a[0].Shape().Keys() {
				c.Spend(4)
				made := c.Key(c.Apply(a[1], text(c, key)))
				if b.Index(made) >= 0 {
					c.Fail(1, "", "two keys become "+value.StringOf(made, 0).Show(40))
				}
				b.Set(made, a[0].Values()[i])
			}
			return b.Record(c.Origin())
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes,
		Signature: `flatten(r: { *: any }, separator: string = ".") -> { *: any }`},
		Description: "The record without records in it: the keys that lead to each value become one.",
		Example:     `record.flatten({ map: { host: "map.example", tls: { port: 443 } } })`,
		Result:      `{"map.host":"map.example","map.tls.port":443}`, Errors: "Two values come under one key.",
		call: flatten},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "filter(r: { *: T }, f: fn(string, T) -> bool) -> { *: T }"},
		Description: "The entries for which f(key, value) is true.",
		Example:     `record.filter({ low: 1, high: 4 }, fn(key, level) = level > 2)`, Result: `{"high":4}`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			var b value.Builder
			for i, key := range a[0].Shape().Keys() {
				c.Spend(4)
				if answer := c.Apply(a[1], text(c, key), a[0].Values()[i]); c.Truth(answer) {
					b.Set(key, c.Choose(a[0].Values()[i], answer))
				}
			}
			return b.Record(c.Origin())
		}},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Gives: check.MergedArguments,
		Signature: "merge(a: { *: any }, b: { *: any }) -> { *: any }"},
		Description: "The record b laid over a, as with does: records merge into records, anything else replaces.",
		Example:     `record.merge({ a: { x: 1 }, b: 2 }, { a: { y: 3 } })`, Result: `{"a":{"x":1,"y":3},"b":2}`,
		call: func(c *eval.Call, a []value.Value) value.Value { return c.Merge(a[0], a[1]).WithOrigin(c.Origin()) }},
	{Builtin: check.Builtin{Group: "record", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "sort(r: { *: T }) -> { *: T }"},
		Description: "The entries in the order of their keys.",
		Example:     `record.sort({ low: 1, high: 4 })`, Result: `{"high":4,"low":1}`,
		call: func(c *eval.Call, a []value.Value) value.Value {
			c.Spend(8 * a[0].Len())
			var b value.Builder
			for _, key := range slices.Sorted(slices.Values(a[0].Shape().Keys())) {
				b.Set(key, a[0].Get(key))
			}
			return b.Record(c.Origin())
		}},
}

// selected returns the entries of a record whose keys are in a list, or are not.
func selected(c *eval.Call, a []value.Value, wanted bool) value.Value {
	listed := make(map[string]bool, a[1].Len())
	for _, key := range a[1].Elements() {
		listed[c.Key(key)] = true
	}
	c.Spend(4*a[0].Len() + a[1].Len())
	var b value.Builder
	for i, key := range a[0].Shape().Keys() {
		if listed[key] == wanted {
			b.Set(key, a[0].Values()[i])
		}
	}
	return b.Record(c.Origin())
}

// flatten brings the values of records in a record under one key each. A record without entries stays.
func flatten(c *eval.Call, a []value.Value) value.Value {
	var b value.Builder
	var add func(prefix string, r value.Value)
	add = func(prefix string, r value.Value) {
		c.Spend(1)
		for i, key := range r.Shape().Keys() {
			v := r.Values()[i]
			c.Spend(4 + len(prefix) + len(key))
			if v.Kind() == value.Record && v.Len() > 0 {
				c.Nest(func() { add(prefix+key+a[1].Text(), v) })
				continue
			}
			if b.Index(prefix+key) >= 0 {
				c.Fail(0, "give another separator", "two values come under the key "+value.StringOf(prefix+key,
					0).Show(60))
			}
			b.Set(prefix+key, v)
		}
	}
	add("", a[0])
	return b.Record(c.Origin())
}
