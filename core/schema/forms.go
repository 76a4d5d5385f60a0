package schema

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

// Where a value must be of one of several forms and is of none, the nearest form is explained, not all of them.

// any looks at anyOf.
func (c *visit) any() {
	holds := false
	for _, s := range c.anyOf {
		if c.beside(s, nil) {
			holds = true
			if c.seen == nil {
				return
			}
		}
	}
	if !holds {
		c.noForm(c.anyOf, "anyOf")
	}
}

// one looks at oneOf.
func (c *visit) one() {
	var holding []*Schema
	unsure := false
	for _, s := range c.oneOf {
		open := c.open
		if c.beside(s, nil) {
			holding = append(holding, s)
			unsure = unsure || c.open != open
		}
	}
	switch {
	case len(holding) == 0:
		c.noForm(c.oneOf, "oneOf")
	case len(holding) > 1 && !unsure:
		if names := onlyRequired(holding); names != nil {
			c.fail(NoForm, "leave one of them out", "only one of the fields %s may be here", source.Quoted(names))
			c.asks("oneOf")
			return
		}
		c.fail(NoForm, "", "it is of %d forms at once, and must be of one: %s", len(holding), c.namesOf(holding))
		c.asks("oneOf")
	}
}

// onlyRequired returns the fields of forms that ask for one field each; nil when one of them asks for more.
func onlyRequired(forms []*Schema) []string {
	var names []string
	for _, s := range forms {
		r := s.told()
		if len(r.required) != 1 || r.types != 0 && r.types != anObject {
			return nil
		}
		names = append(names, r.required[0])
	}
	return names
}

// namesOf names forms: by their titles, what they ask for, or their numbers.
func (c *visit) namesOf(forms []*Schema) string {
	var names []string
	for _, s := range forms {
		names = append(names, c.nameOf(s))
	}
	return strings.Join(names, ", ")
}

func (c *visit) nameOf(s *Schema) string {
	r := s.told()
	switch {
	case r.title != "":
		return r.title
	case len(r.required) > 0:
		return "with " + source.Quoted(r.required)
	case r.types != 0:
		return r.types.words()
	}
	all := c.oneOf
	if i := slices.Index(c.anyOf, s); i >= 0 {
		all = c.anyOf
	}
	return fmt.Sprintf("form %d", slices.Index(all, s)+1)
}

// maxForms is how many forms are looked at to find the nearest.
const maxForms = 200

// noForm explains that a value is of none of the forms that are allowed.
func (c *visit) noForm(forms []*Schema, keyword string) {
	c.failed, c.unsure = true, true
	if c.out == nil {
		return
	}
	forms, told := c.byWord(forms, keyword)
	if told {
		return
	}
	if len(forms) > maxForms {
		forms = forms[:maxForms]
	}
	all := make([][]Problem, len(forms))
	for i, s := range forms {
		out := &sink{}
		c.check(s, c.value, c.path, c.scope, c.here, nil, out)
		all[i] = tidy(out.problems)
	}
	best := slices.MinFunc(all, func(a, b []Problem) int { return c.distance(a) - c.distance(b) })
	if len(forms) == 1 {
		c.out.problems = append(c.out.problems, best...)
		return
	}
	if c.sameKind(all, keyword) {
		return
	}
	at := slices.IndexFunc(all, func(p []Problem) bool { return &p[0] == &best[0] })
	for _, p := range best {
		if p.Path == c.path && p.Description == "" {
			p.Description = c.description
		}
		if p.Kind == Form && p.Description != "" && c.schema.shownAt() == 0 {
			p.Help = firstSentence(p.Description)
		}
		if p.Help == "" {
			p.Help = fmt.Sprintf("of %d forms that are allowed, the nearest is %s", len(forms), c.nameOf(forms[at]))
		}
		c.out.add(p)
	}
}

// byWord narrows forms that are told apart by the word in one field, such as a kind, to those of the word that the
// value has there. When none has that word, it says so, and told is true.
func (c *visit) byWord(forms []*Schema, keyword string) (narrowed []*Schema, told bool) {
	if c.value.Kind() != value.Record || len(forms) < 2 {
		return forms, false
	}
	for _, name := range forms[0].told().names {
		all := &rules{}
		narrowed = nil
		here := c.value.Get(name)
		key := keyOf(here, c.numbers)
		for _, s := range forms {
			field := s.told().properties[name]
			if field == nil {
				all = nil
				break
			}
			words := field.told().enum
			if constant := field.told().constant; !constant.IsAbsent() {
				words = []value.Value{constant}
			}
			if words == nil {
				all = nil
				break
			}
			all.enum = append(all.enum, words...)
			if slices.ContainsFunc(words, func(w value.Value) bool { return keyOf(w, nil) == key }) {
				narrowed = append(narrowed, s)
			}
		}
		switch {
		case all == nil || here.IsAbsent() || here.Unknown():
			continue
		case len(narrowed) > 0 && len(narrowed) < len(forms):
			return narrowed, false
		case len(narrowed) > 0:
			continue // it does not tell them apart
		}
		p := Problem{Kind: NotOneOf, Path: c.path.Field(name), Value: here, Help: nearest(here, all.enum),
			Message: fmt.Sprintf("expected %s, found %s", all.enumText(), c.found(here)), Schema: c.schema.shownAt(),
			Description: c.description}
		c.out.add(p)
		c.asks(keyword)
		return nil, true
	}
	return forms, false
}

// sameKind says in one sentence what no form has, if all of them fail in the same way: at the type, or for lack of one
// field.
func (c *visit) sameKind(all [][]Problem, keyword string) bool {
	for _, kind := range []ProblemKind{WrongType, Missing, NotOneOf, Form} {
		var words []string
		for _, problems := range all {
			if len(problems) != 1 || problems[0].Kind != kind || problems[0].Path != c.path ||
				kind == Form && !strings.HasPrefix(problems[0].Message, "expected ") {
				words = nil
				break
			}
			word := strings.TrimPrefix(problems[0].Message, "expected ")
			word, _, _ = strings.Cut(word, ", found ")
			word = strings.TrimPrefix(word, "one of ")
			if kind == Missing {
				word = fmt.Sprintf("%q", problems[0].Field)
			}
			if !slices.Contains(words, word) {
				words = append(words, word)
			}
		}
		switch {
		case words == nil:
			continue
		case kind == Missing:
			c.fail(Missing, "add one of them", "one of the fields %s must be here", either(words))
			c.out.problems[len(c.out.problems)-1].Field = all[0][0].Field
		case kind == NotOneOf:
			c.fail(NotOneOf, "", "expected one of %s, found %s", strings.Join(words, ", "), c.found(c.value))
		default:
			c.fail(kind, all[0][0].Help, "expected %s, found %s", either(words), c.found(c.value))
		}
		c.asks(keyword)
		return true
	}
	return false
}

// distance says how far a value is from a form by its problems: a word that tells forms apart weighs most, since a
// value that has the word of one form is meant to be of it; then what is wrong near the top.
func (c *visit) distance(problems []Problem) int {
	depth := len(c.path.Steps())
	total := 0
	for _, p := range problems {
		below := len(p.Path.Steps()) - depth
		switch {
		case p.Kind == WrongType && below == 0:
			total += 10_000
		case p.Kind == NotOneOf && below <= 1:
			total += 1000
		case p.Kind == Missing && below == 0, p.Kind == Surplus && below <= 1:
			total += 30
		case p.Kind == WrongType && below <= 1:
			total += 20
		default:
			total += 10
		}
	}
	return total
}

// tidy leaves one problem for each error: several schemas may ask for the same.
func tidy(problems []Problem) []Problem {
	type at struct {
		path    string
		origin  value.Origin
		message string
	}
	var kept []Problem
	seen := map[at]bool{}
	wrong := map[string]bool{} // where the type is wrong
	meant := map[string]bool{} // fields that others were probably meant for
	for _, p := range problems {
		switch {
		case p.Kind == WrongType:
			wrong[p.Path.Pointer()] = true
		case p.Kind == Surplus && p.Meant != "":
			meant[p.Path.Sibling(p.Meant).Pointer()] = true
		}
	}
	for _, p := range problems {
		pointer := p.Path.Pointer()
		key := at{pointer, p.Value.Origin(), p.Message}
		if seen[key] || p.Kind != WrongType && wrong[pointer] ||
			p.Kind == Missing && meant[p.Path.Field(p.Field).Pointer()] {
			continue
		}
		seen[key] = true
		kept = append(kept, p)
	}
	return kept
}
