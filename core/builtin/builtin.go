// Package builtin is the table of built-in functions. It exists so that signature, description, example and body of
// a function are in one place, from which the checker, evaluation and the manual take what they need.
package builtin

import (
	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/value"
)

// Function is one built-in function.
type Function struct {
	check.Builtin
	Description string
	// Example is an expression, Result what it evaluates to, as JSON.
	Example, Result string
	// Errors says when a call fails; empty when it cannot.
	Errors string

	call eval.Native
}

// All returns the functions, group by group in the order of the manual.
func All() []*Function { return functions }

// Table is all built-in functions, as the checker and evaluation need them.
var Table = func() *eval.Builtins {
	declared := make([]*check.Builtin, len(functions))
	bodies := make(map[*check.Builtin]eval.Native, len(functions))
	for i, f := range functions {
		declared[i], bodies[&f.Builtin] = &f.Builtin, f.call
	}
	return eval.NewBuiltins(declared, bodies)
}()

// text makes a string out of a call.
func text(c *eval.Call, s string) value.Value {
	c.Spend(1 + len(s))
	return value.StringOf(s, c.Origin())
}

// list makes a list out of a call.
func list(c *eval.Call, elements []value.Value) value.Value {
	c.Spend(1 + 4*len(elements))
	return value.ListOf(elements, c.Origin())
}

func texts(c *eval.Call, parts []string) value.Value {
	elements := make([]value.Value, len(parts))
	for i, s := range parts {
		elements[i] = text(c, s)
	}
	return list(c, elements)
}

func number(c *eval.Call, n int) value.Value { return value.IntOf(int64(n), c.Origin()) }

func truth(c *eval.Call, b bool) value.Value { return value.BoolOf(b, c.Origin()) }
