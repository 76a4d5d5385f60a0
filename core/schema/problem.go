package schema

import (
	"strings"

	"knothole/core/place"
	"knothole/core/source"
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
	BadSchema              // it cannot be said, since the schema has an error
)

// Problem is one way in which a value breaks a schema.
type Problem struct {
	Kind  ProblemKind
	Path  *place.Path // of Value
	Value value.Value // which is wrong; for a missing field the record that lacks it
	Field string      // that is missing or surplus
	// Holder is the record that a surplus field is in.
	Holder value.Value
	Meant  string // the field that a surplus one was probably meant for; may be empty
	// Message says what was expected and found, without the place; Help is the likely fix.
	Message, Help string
	// Warning says that the value is taken as it is, but hardly as it was meant.
	Warning     bool
	Schema      value.Origin // the place in the schema that asks for it
	Description string       // what the schema says of the value; may be empty
}

// sink takes problems. A nil sink is the first look, which asks only whether there are any.
type sink struct{ problems []Problem }

func (s *sink) add(p Problem) { s.problems = append(s.problems, p) }

// Places find where values come from.
type Places struct {
	// At returns the place of a value.
	At func(value.Origin) source.Pos
	// Key returns the place of a key in a record, under which a value is; no place when that is not known.
	Key func(record value.Value, name string, v value.Value) source.Pos
}

// Finding returns the problem as a finding about a document, which may have a name.
func (p Problem) Finding(document string, data value.Value, places Places) source.Finding {
	pos := places.At(p.Value.Origin())
	switch p.Kind {
	case Surplus:
		if k := places.Key(p.Holder, p.Field, p.Value); k.IsValid() {
			pos = k
		}
	case Missing:
		if k := places.Key(value.Value{}, "", p.Value); k.IsValid() {
			pos = k
		}
	}
	f := source.Finding{Code: source.SchemaViolation, Span: source.At(pos), Message: p.Message, Help: p.Help}
	if p.Warning {
		f.Severity = source.Warning
	}
	for _, where := range []string{new(place.Namer).Path(data, p.Path).String(), document} {
		if where != "" {
			f.Message = where + ": " + f.Message
		}
	}
	switch said := firstSentence(p.Description); {
	case p.Schema.Pos().IsValid() && said != "":
		f.Related = append(f.Related, source.Related{Span: source.At(p.Schema.Pos()), Text: said})
	case p.Schema.Pos().IsValid():
		f.Related = append(f.Related, source.Related{Span: source.At(p.Schema.Pos()), Text: "the schema asks for it here"})
	case said != "" && said != f.Help && p.Kind != Surplus:
		f.Related = append(f.Related, source.Related{Text: "the schema says: " + said})
	}
	return f
}

// firstSentence returns the beginning of a description, which may be long.
func firstSentence(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if sentence, _, ok := strings.Cut(text, ". "); ok {
		text = sentence
	}
	const most = 120
	if runes := []rune(text); len(runes) > most {
		text = string(runes[:most]) + "…"
	}
	return strings.TrimSuffix(text, ".")
}
