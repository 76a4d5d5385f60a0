// Package place names places in data: the field of a record, an element of a list, and so on down. It exists so that
// every part of the program that speaks about such a place writes it in the same way.
package place

import (
	"errors"
	"regexp"
	"strconv"
	"strings"

	"knothole/core/value"
)

// StepKind says how a step goes down.
type StepKind uint8

// The kinds of steps: to the field of a record, to an element by its position, and to an element that is known by a
// field of its own, such as its name.
const (
	Field StepKind = iota
	Index
	Keyed
)

// Step is one step of a path.
type Step struct {
	Kind  StepKind
	Name  string // Field: the key; Keyed: the text by which the element is known
	Index int    // Index and Keyed: the position
	// By is the field by which the element is known, when that is none of the common ones; Number says that the text
	// is that of a number.
	By     string
	Number bool
}

// Path leads from a document, or any other data, to a place in it. It is a chain from the end, so that paths that
// begin alike share their beginning; nil is the data itself.
type Path struct {
	outer *Path
	step  Step
}

// Field returns the path to a field.
func (p *Path) Field(name string) *Path { return &Path{p, Step{Kind: Field, Name: name}} }

// Sibling returns the path to another field of the record that a path leads into; p must not be empty.
func (p *Path) Sibling(name string) *Path { return p.outer.Field(name) }

// Index returns the path to an element.
func (p *Path) Index(i int) *Path { return &Path{p, Step{Kind: Index, Index: i}} }

// Keyed returns the path to an element that is known by a text.
func (p *Path) Keyed(name string, i int) *Path {
	return &Path{p, Step{Kind: Keyed, Name: name, Index: i}}
}

// Step returns the path with one more step.
func (p *Path) Step(step Step) *Path { return &Path{p, step} }

// First returns the first step; p must not be empty.
func (p *Path) First() Step {
	for p.outer != nil {
		p = p.outer
	}
	return p.step
}

// Fields returns the fields on the way, without the elements of lists.
func (p *Path) Fields() (fields []string) {
	for _, s := range p.Steps() {
		if s.Kind == Field {
			fields = append(fields, s.Name)
		}
	}
	return fields
}

// Tokens returns the path as the tokens of a JSON Pointer (RFC 6901).
func (p *Path) Tokens() (tokens []string) {
	for _, s := range p.Steps() {
		if s.Kind == Field {
			tokens = append(tokens, s.Name)
		} else {
			tokens = append(tokens, strconv.Itoa(s.Index))
		}
	}
	return tokens
}

// Common returns the path with which two begin.
func Common(a, b *Path) (common *Path) {
	others := b.Steps()
	for i, s := range a.Steps() {
		if i == len(others) || s != others[i] {
			break
		}
		common = common.Step(s)
	}
	return common
}

// Steps returns the steps from the beginning.
func (p *Path) Steps() []Step {
	n := 0
	for q := p; q != nil; q = q.outer {
		n++
	}
	steps := make([]Step, n)
	for q := p; q != nil; q = q.outer {
		n--
		steps[n] = q.step
	}
	return steps
}

// Split returns the first step of a path and the path after it; ok is false when there is nothing after it.
func (p *Path) Split() (first Step, rest *Path, ok bool) {
	switch {
	case p == nil:
		return Step{}, nil, false
	case p.outer == nil:
		return p.step, nil, false
	}
	if p.outer.outer == nil {
		return p.outer.step, &Path{step: p.step}, true
	}
	first, rest, _ = p.outer.Split()
	return first, &Path{rest, p.step}, true
}

// String returns the path as it is written in the language, such as `spec.containers[router].ports[0]` or
// `labels."app.floodwatch.example/part"`. The empty path is the empty text.
func (p *Path) String() string { return Text(p.Steps()) }

// Text returns steps as they are written in the language.
func Text(steps []Step) string {
	var b strings.Builder
	for _, s := range steps {
		switch s.Kind {
		case Field:
			if b.Len() > 0 {
				b.WriteByte('.')
			}
			b.WriteString(Key(s.Name))
		case Index:
			b.WriteString("[" + strconv.Itoa(s.Index) + "]")
		case Keyed:
			b.WriteString("[" + elementName(s) + "]")
		}
	}
	return b.String()
}

// bareName is an element's name that can be taken for nothing else in brackets.
var bareName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_./:@-]*$`)

// elementName writes the name of an element in brackets: in quotes when it could be taken for a position or a
// condition.
func elementName(step Step) string {
	name := step.Name
	if step.By != "" {
		if !step.Number {
			name = Quote(name)
		}
		return "it." + Key(step.By) + " == " + name
	}
	if name == "*" || bareName.MatchString(name) && name != "end" && name != "it" && !strings.HasPrefix(name, "it.") {
		return name
	}
	return Quote(name)
}

// Key returns a key as it is written in the language: in quotes when it is not made of name characters and inner
// hyphens.
func Key(name string) string {
	if name == "" {
		return `""`
	}
	for i := 0; i < len(name); i++ {
		c := name[i]
		letter := c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		inner := i > 0 && (c >= '0' && c <= '9' || c == '-' && i < len(name)-1 && name[i-1] != '-')
		if !letter && !inner {
			return Quote(name)
		}
	}
	return name
}

// Pointer returns the path as a JSON Pointer (RFC 6901).
func (p *Path) Pointer() string {
	var b strings.Builder
	for _, token := range p.Tokens() {
		// RFC 6901 section 3: "~" becomes "~0" and "/" becomes "~1".
		b.WriteString("/" + strings.ReplaceAll(strings.ReplaceAll(token, "~", "~0"), "/", "~1"))
	}
	return b.String()
}

// ParsePointer returns the keys and positions of a JSON Pointer (RFC 6901 section 3).
func ParsePointer(text string) ([]string, error) {
	if text == "" {
		return nil, nil
	}
	if text[0] != '/' {
		return nil, errors.New("it does not begin with /")
	}
	steps := strings.Split(text[1:], "/")
	for i, s := range steps {
		for rest := s; ; {
			_, behind, found := strings.Cut(rest, "~")
			if !found {
				break
			}
			if behind == "" || behind[0] != '0' && behind[0] != '1' {
				return nil, errors.New("~ is written only in ~0 for ~ and ~1 for /")
			}
			rest = behind
		}
		steps[i] = strings.ReplaceAll(strings.ReplaceAll(s, "~1", "/"), "~0", "~")
	}
	return steps, nil
}

// Child returns the entry or element that one step of a JSON Pointer leads to (RFC 6901 section 4).
func Child(v value.Value, step string) (value.Value, bool) {
	switch v.Kind() {
	case value.Record:
		child := v.Get(step)
		return child, !child.IsAbsent()
	case value.List:
		i, err := strconv.Atoi(step)
		if err != nil || i < 0 || i >= v.Len() || strconv.Itoa(i) != step {
			return value.Value{}, false
		}
		return v.Elements()[i], true
	}
	return value.Value{}, false
}

// Follow goes where the steps of a JSON Pointer lead (RFC 6901 section 4). When there is nothing, missing is the
// pointer up to the first step that leads nowhere.
func Follow(v value.Value, pointer []string) (found Found, missing string) {
	found.Value = v
	for _, step := range pointer {
		inner, ok := Child(found.Value, step)
		next := found.Path.Field(step)
		if found.Value.Kind() == value.List && ok {
			i, _ := strconv.Atoi(step) // as Child has read it
			next = found.Path.Index(i)
		}
		if !ok {
			return Found{}, next.Pointer()
		}
		found = Found{next, inner}
	}
	return found, ""
}
