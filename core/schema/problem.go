package schema

import (
	"knothole/core/place"
	"knothole/core/value"
)

// ProblemKind says in what way a value breaks a schema.
type ProblemKind uint8

// The ways in which a value breaks a schema.
const (
	WrongType  ProblemKind = iota
	NotOneOf               // of the values that are allowed
	Missing                // a field
	Surplus                // a field, or an element
	Limit                  // of a number, a length, a count
	Form                   // of a text: a pattern, a format
	Repetition             // of an element
	NoForm                 // none, or several, of the forms that are allowed
	Forbidden              // what must not be
	BadSchema              // it cannot be said, since the schema has a mistake
)

// Problem is one way in which a value breaks a schema.
type Problem struct {
	Kind  ProblemKind
	Path  *place.Path // of Value
	Value value.Value // which is wrong; for a missing field the record that lacks it
	Field string      // that is missing or surplus
	Meant string      // the field that a surplus one was probably meant for; may be empty
	// Message says what was expected and found, without the place; Help is the likely fix.
	Message, Help string
	Schema        value.Origin // the place in the schema that asks for it
	Description   string       // what the schema says of the value; may be empty
}

// sink takes problems. A nil sink is the first look, which asks only whether there are any.
type sink struct{ problems []Problem }

func (s *sink) add(p Problem) { s.problems = append(s.problems, p) }
