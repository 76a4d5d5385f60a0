// Package builtin is the table of built-in functions. It exists so that signature, description, example and body of
// a function stand in one place, from which the checker, evaluation and the manual take what they need.
package builtin

import (
	"slices"

	"knothole/core/eval"
	"knothole/core/value"
)

// Function is one built-in function.
type Function struct {
	Group string
	// Signature is the name, parameters and result as the language writes them; a capital letter is a type variable.
	Signature   string
	Description string
	// Example is an expression, Result what it evaluates to, as JSON.
	Example, Result string
	// Errors says when a call fails; empty when it cannot.
	Errors string

	// Handling says what the function does with values that are secret or not known.
	Handling eval.Handling

	call eval.Native
}

// Name returns the name without the group.
func (f *Function) Name() string {
	for i, r := range f.Signature {
		if r == '(' {
			return f.Signature[:i]
		}
	}
	return f.Signature
}

// Table is all built-in functions. The zero Table is complete.
type Table struct{}

// All returns the functions, group by group in the order of the manual.
func (Table) All() []*Function { return functions }

var byName = func() map[[2]string]*Function {
	m := make(map[[2]string]*Function, len(functions))
	for _, f := range functions {
		m[[2]string{f.Group, f.Name()}] = f
	}
	return m
}()

var groups = func() []string {
	var names []string
	for _, f := range functions {
		if !slices.Contains(names, f.Group) {
			names = append(names, f.Group)
		}
	}
	return names
}()

// Groups returns the names of the groups.
func (Table) Groups() []string { return slices.Clip(groups) }

// Names returns the names of the functions of a group.
func (Table) Names(group string) []string {
	var names []string
	for _, f := range functions {
		if f.Group == group {
			names = append(names, f.Name())
		}
	}
	return names
}

// Find returns a function; nil when there is none.
func (Table) Find(group, name string) *Function { return byName[[2]string{group, name}] }

// Signature returns the signature of a function.
func (t Table) Signature(group, name string) (string, bool) {
	if f := t.Find(group, name); f != nil {
		return f.Signature, true
	}
	return "", false
}

// Handling returns what a function does with values that are secret or not known.
func (t Table) Handling(group, name string) eval.Handling { return t.Find(group, name).Handling }

// Passes reports whether a function passes on what it is given, and computes nothing from it.
func (t Table) Passes(group, name string) bool { return t.Find(group, name).Handling == eval.Passes }

// Native returns the body of a function.
func (t Table) Native(group, name string) eval.Native { return t.Find(group, name).call }

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
