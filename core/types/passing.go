package types

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

// mismatch reports a wrong type, unless its parts were reported already.
func (c *checker) mismatch(e syntax.Expression, got, want *Type, what string) {
	span := e.Place()
	help := ""
	switch {
	case got == NullType:
		help = fmt.Sprintf("a type that takes null too is written %s?", want)
	case got.MayBeNull() && Assignable(c.universe.WithoutNull(got), want):
		help = "it may be null: give a value for that case with ??"
	case want.Core().Kind == String && Overlap(got, c.universe.Union(IntType, FloatType, BoolType)):
		help = "put it into a text: \"${…}\""
		if literal(e) {
			help = fmt.Sprintf("write it as a text: %q", c.text(e))
		}
	case got.Widen().Kind == String && got.Kind == Literal:
		text := got.Literal.(string)
		number, _ := regexp.MatchString(`^-?[0-9]+(\.[0-9]+)?$`, text)
		if number && Overlap(want, c.universe.Union(IntType, FloatType)) {
			help = "a number is written without quotes: " + text
		} else if want.Core().Kind == Int || want.Core().Kind == Float {
			help = "a number is written without quotes"
		} else if near, ok := c.suggestions.Nearest(text, literalTexts(want)); ok {
			help = fmt.Sprintf("did you mean %q?", near)
		} else if texts := literalTexts(want); len(texts) > 0 {
			help = "possible values: " + quotedList(texts)
		}
	case got.Core().Kind == Record && misspeltKind(got.Core(), want) != "":
		help = misspeltKind(got.Core(), want)
	case got.Core().Kind == Float && want.Core().Kind == Int:
		help = "an int has no fraction"
	}
	where := ""
	if what != "" {
		where = " for " + what
	}
	because := ""
	if reason := difference(got, want, ""); reason != "" {
		because = ": " + reason
	}
	c.report(source.WrongType, span, help, "expected %s%s, found %s%s", Article(want), where, describeType(got),
		because)
}

// misspeltKind suggests what the literal field of a record, by which the members of a union are told apart, was meant
// to be.
func misspeltKind(got, union *Type) string {
	for _, f := range got.Fields {
		text, ok := f.Type.Literal.(string)
		if !ok {
			continue
		}
		var texts []string
		for _, part := range union.Parts() {
			if member, ok := part.Field(f.Name); ok && part.Kind == Record {
				texts = append(texts, literalTexts(member.Type)...)
			}
		}
		if len(texts) == 0 || slices.Contains(texts, text) {
			continue
		}
		if near, ok := source.Nearest(text, texts); ok {
			return fmt.Sprintf("%s: did you mean %q?", f.Name, near)
		}
		return fmt.Sprintf("possible values of %s: %s", f.Name, quotedList(texts))
	}
	return ""
}

// text returns an expression as it is written.
func (c *checker) text(e syntax.Expression) string { return c.module.Tree.File.Slice(e.Place()) }

// describeType names what was found: a literal by its own type and value.
func describeType(t *Type) string {
	if t.Kind == Literal {
		return fmt.Sprintf("the %s %s", t.Widen(), t)
	}
	return Article(t)
}

func literalTexts(t *Type) []string {
	var texts []string
	for _, p := range t.Parts() {
		if text, ok := p.Literal.(string); ok {
			texts = append(texts, text)
		}
	}
	return texts
}

// difference says in which part a record or list does not fit; it is empty when the whole is of another kind.
func difference(got, want *Type, path string) string {
	from, to := got.Core(), want.Core()
	if want.tuple() != nil && got.tuple() == nil && from.Kind == List {
		return "it may have any number of elements"
	}
	at := func(name string) string { return strings.TrimPrefix(path+"."+name, ".") }
	switch {
	case from.Kind == List && to.Kind == List:
		if inner := difference(from.Element, to.Element, path+"[]"); inner != "" {
			return inner
		}
		return fmt.Sprintf("its elements are %s, not %s", from.Element, to.Element)
	case from.Kind != Record || to.Kind != Record:
		return ""
	}
	for _, f := range to.Fields {
		given, ok := from.Field(f.Name)
		required := !f.Optional && f.Default == nil
		switch {
		case ok && !Assignable(given.Type, f.Type):
			if inner := difference(given.Type, f.Type, at(f.Name)); inner != "" {
				return inner
			}
			return fmt.Sprintf("%s is %s, not %s", at(f.Name), describeType(given.Type), Article(f.Type))
		case ok && given.Optional && required:
			return at(f.Name) + " may be absent"
		case !ok && required && from.Rest == nil:
			return at(f.Name) + " is missing"
		}
	}
	for _, f := range from.Fields {
		if _, ok := to.Field(f.Name); ok {
			continue
		}
		if to.Rest == nil {
			return fmt.Sprintf("there is no field %s", at(f.Name))
		}
		if !Assignable(f.Type, to.Rest) {
			if inner := difference(f.Type, to.Rest, at(f.Name)); inner != "" {
				return inner
			}
			return fmt.Sprintf("%s is %s, not %s", at(f.Name), describeType(f.Type), Article(to.Rest))
		}
	}
	if from.Rest != nil && to.Rest == nil {
		return "it may have any other fields"
	}
	return ""
}

// Converts reports whether passing a value of one type where another is expected may change it or fail.
func Converts(from, to *Type) bool {
	if from == to || to.Kind == Any {
		return false
	}
	return converts(from, to, map[pair]bool{})
}

func converts(from, to *Type, seen map[pair]bool) bool {
	if from == to || to.Kind == Any || to.Kind == Variable {
		return false
	}
	if seen[pair{from, to}] {
		return false
	}
	seen[pair{from, to}] = true
	if limited(to) || from.Kind == Any {
		return true
	}
	if to.set() && !from.set() {
		return true
	}
	if tuple := to.tuple(); tuple != nil {
		given := from.tuple()
		if given == nil || len(given.Parameters) != len(tuple.Parameters) {
			return true
		}
		for i, e := range tuple.Parameters {
			if converts(given.Parameters[i], e, seen) {
				return true
			}
		}
		return false
	}
	to, from = to.Core(), from.Core()
	switch to.Kind {
	case Float:
		return from.Widen().Kind != Float
	case List:
		return from.Kind != List || converts(from.Element, to.Element, seen)
	case Record:
		return from.Kind != Record || convertsRecord(from, to, seen)
	case Function:
		// What it is given passes into its parameters, what it returns into the result that is expected.
		if from.Kind != Function || len(from.Parameters) < len(to.Parameters) || converts(from.Result, to.Result,
			seen) {
			return true
		}
		for i, p := range to.Parameters {
			if converts(p, from.Parameters[i], seen) {
				return true
			}
		}
		return false
	case Union:
		for _, part := range from.Parts() {
			scalar := part.Kind != Record && part.Kind != List && part.Kind != Any
			if !scalar || !slices.ContainsFunc(to.Members,
				func(m *Type) bool { return Assignable(part, m) && !converts(part, m, map[pair]bool{}) }) {
				return true
			}
		}
		return false
	}
	return from.Kind == Any
}

// convertsRecord is converts for two record types. A record stays as it is when its fields stand in the order of the
// type, the declared ones first, none has to be filled in and none changes.
func convertsRecord(from, to *Type, seen map[pair]bool) bool {
	if len(to.Fields) > 0 && (from.Loose || from.Rest != nil) {
		return true
	}
	others := from.Fields
	for i := range to.Fields {
		f := &to.Fields[i]
		switch {
		case len(others) > 0 && others[0].Name == f.Name:
			if f.Secret || f.Default != nil && others[0].Optional || converts(others[0].Type, f.Type, seen) {
				return true
			}
			others = others[1:]
		case !f.Optional:
			return true // it is filled in, or stands elsewhere
		default:
			if _, elsewhere := from.Field(f.Name); elsewhere {
				return true
			}
		}
	}
	for i := range others {
		if to.Rest == nil || converts(others[i].Type, to.Rest, seen) {
			return true
		}
	}
	return from.Rest != nil && (to.Rest == nil || converts(from.Rest, to.Rest, seen))
}

func limited(t *Type) bool {
	for t.Kind == Named && t.Base != nil {
		t = t.Base
	}
	return t.Kind == Limited
}

// literal reports whether an expression is written out, without anything to evaluate.
func literal(e syntax.Expression) bool {
	switch e := e.(type) {
	case *syntax.Null, *syntax.Bool, *syntax.Int, *syntax.Float:
		return true
	case *syntax.String:
		_, plain := e.Plain()
		return plain
	case *syntax.Paren:
		return literal(e.Inner)
	case *syntax.List:
		return !slices.ContainsFunc(e.Elements, func(x *syntax.Entry) bool { return x.Spread || !literal(x.Value) })
	case *syntax.Record:
		return !slices.ContainsFunc(e.Entries, func(x *syntax.Entry) bool {
			return x.Spread || x.Key.Value != nil || !literal(x.Value)
		})
	}
	return false
}
