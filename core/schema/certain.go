package schema

import (
	"hash/maphash"
	"regexp"
	"slices"
	"sync/atomic"
	"unicode/utf8"

	"knothole/core/data"
	"knothole/core/value"
)

// Most of what is validated is right. Here is a short way to find that out: nothing is filled in, nothing is
// remembered, and nothing is said of what is wrong. What takes more than that, as rules, conditions and values that
// are not known, is left to a whole validation, and so is whatever seems wrong.

// certainty looks whether a value certainly is as a schema asks.
type certainty struct {
	top     *Schema // of the whole
	numbers data.Numbers
	object  bool // a server would fill in defaults, and leave out what is null
	// mistaken says that a schema with errors was come upon, which are to be told.
	mistaken bool
	steps    int
}

// isCertain reports whether a validation would say nothing of a value. False says nothing.
func (s *Schema) isCertain(v value.Value, numbers data.Numbers, shaped, object bool) bool {
	c := certainty{top: s, numbers: numbers, object: object}
	return c.holds(s, v, shaped, 0) && !c.mistaken
}

// maxCertain is how deep values are looked at here.
const maxCertain = 100

// isIntricate reports whether a schema asks for something that only a whole validation looks at.
func (r *rules) isIntricate() bool {
	if e := r.extended; e != nil && (e.embedded || len(e.rulesAbout) > 0) {
		return true
	}
	return r.never || r.findings != nil || len(r.prefix) > 0 || r.contains != nil || len(r.patternProperties) > 0 ||
		r.propertyNames != nil || r.dependentRequired != nil || r.dependentSchemas != nil || r.dynamicRef != nil ||
		r.not != nil || r.condition != nil || r.unevaluatedItems != nil || r.unevaluatedProperties != nil
}

func (c *certainty) holds(s *Schema, v value.Value, shaped bool, depth int) bool {
	if c.steps++; depth > maxCertain || v.Unknown() || c.steps > fewSteps {
		return false
	}
	isTop, r := s == c.top, s.compiled()
	if r.onlyRef { // what only refers to another is the other
		s = r.ref
		r = s.compiled()
	}
	if r.findings != nil {
		c.mistaken = true
		return false
	}
	if shaped {
		if !s.says() && !(isTop && s.impliesMetadata()) {
			return true
		}
		shaped = !s.isLoose()
	}
	if r.intricate || v.IsNull() && (c.object || r.extended != nil) {
		return false
	}
	if r.types != 0 && !isSurelyOf(r.types, v) || !c.isAllowed(r, v) {
		return false
	}
	if r.ref != nil && !c.holds(r.ref, v, shaped, depth+1) {
		return false
	}
	return c.forms(r, v, depth) && c.inside(s, r, v, isTop, shaped, depth)
}

// isSurelyOf reports whether a value is of one of some types, when that can be told by its kind.
func isSurelyOf(types kinds, v value.Value) bool {
	switch v.Kind() {
	case value.Null:
		return types&aNull != 0
	case value.Bool:
		return types&aBoolean != 0
	case value.String:
		return types&aString != 0
	case value.Int:
		return types&(anInteger|aNumber) != 0
	case value.Float:
		return types&aNumber != 0
	case value.List:
		return types&anArray != 0
	case value.Record:
		return types&anObject != 0
	}
	return false
}

// isAllowed reports whether a value is one of those that enum and const allow, and has the marks of none that is not
// known.
func (c *certainty) isAllowed(r *rules, v value.Value) bool {
	if r.enum == nil && r.constant.IsAbsent() {
		return true
	}
	if v.Kind() != value.String || !r.constant.IsAbsent() {
		return false
	}
	return slices.ContainsFunc(r.enum, func(x value.Value) bool {
		return x.Kind() == value.String && x.Text() == v.Text()
	})
}

// forms looks at the schemas that look at the same value.
func (c *certainty) forms(r *rules, v value.Value, depth int) bool {
	if r.allOf == nil && r.anyOf == nil && r.oneOf == nil {
		return true
	}
	is := func(s *Schema) bool { return c.holds(s, v, false, depth+1) }
	for _, s := range r.allOf {
		if !is(s) {
			return false
		}
	}
	if r.anyOf != nil && !slices.ContainsFunc(r.anyOf, is) {
		return false
	}
	if r.oneOf == nil {
		return true
	}
	var only *Schema
	for _, s := range r.oneOf {
		types := s.compiled().types
		if types != 0 && s.compiled().findings == nil && v.Kind() != value.Float && !v.IsNull() && !isSurelyOf(types, v) {
			continue // it certainly does not hold
		}
		if only != nil {
			return false
		}
		only = s
	}
	return only != nil && is(only)
}

// inside looks at the value by itself, and at what is in it.
func (c *certainty) inside(s *Schema, r *rules, v value.Value, isTop, shaped bool, depth int) bool {
	switch v.Kind() {
	case value.Int, value.Float:
		return c.number(r, v)
	case value.String:
		return isText(r, v.Text())
	case value.List:
		return c.list(r, v, shaped, depth)
	case value.Record:
		return c.record(s, r, v, isTop, shaped, depth)
	}
	return true
}

func (c *certainty) number(r *rules, v value.Value) bool {
	if r.extended != nil && r.formatName == "int32" && (v.Kind() != value.Int || int64(int32(v.Int())) != v.Int()) {
		return false
	}
	return (r.minimum == nil || r.minimum.compare(v, c.numbers) >= 0) &&
		(r.maximum == nil || r.maximum.compare(v, c.numbers) <= 0) &&
		(r.exclusiveMin == nil || r.exclusiveMin.compare(v, c.numbers) > 0) &&
		(r.exclusiveMax == nil || r.exclusiveMax.compare(v, c.numbers) < 0) &&
		(r.multipleOf == nil || r.multipleOf.divides(v, c.numbers))
}

func isText(r *rules, text string) bool {
	return (r.minLength == nil && r.maxLength == nil ||
		isBetween(utf8.RuneCountInString(text), r.minLength, r.maxLength)) &&
		(r.pattern == nil || len(text) <= maxCertainText && r.pattern.MatchString(text)) &&
		(r.format == nil || r.format.holds(text))
}

func isBetween(n int, least, most *limit) bool {
	if least == nil && most == nil {
		return true
	}
	count := value.IntOf(int64(n), 0)
	return (least == nil || least.compare(count, nil) >= 0) && (most == nil || most.compare(count, nil) <= 0)
}

func (c *certainty) list(r *rules, v value.Value, shaped bool, depth int) bool {
	elements := v.Elements()
	if !isBetween(len(elements), r.minItems, r.maxItems) {
		return false
	}
	switch {
	case r.uniqueItems || r.extended != nil && r.isSet:
		if !differ(elements, nil) {
			return false
		}
	case r.extended != nil && len(r.listKeys) > 0:
		if !differ(elements, r.listKeys) {
			return false
		}
	}
	if r.items == nil {
		return true
	}
	for _, x := range elements {
		if !c.holds(r.items, x, shaped, depth+1) {
			return false
		}
	}
	return true
}

// manyToCompare is how many elements are compared each with each.
const manyToCompare = 16

// differ reports whether elements certainly differ, each from each: texts and integers that do, or records with keys
// that do.
func differ(elements []value.Value, keys []string) bool {
	if len(elements) > manyToCompare {
		return false
	}
	for i, x := range elements {
		for _, y := range elements[:i] {
			if keys == nil && !areApart(x, y) {
				return false
			}
			if keys != nil && (x.Kind() != value.Record || y.Kind() != value.Record ||
				!slices.ContainsFunc(keys, func(key string) bool { return areApart(x.Get(key), y.Get(key)) })) {
				return false
			}
		}
	}
	return true
}

func areApart(x, y value.Value) bool {
	switch {
	case x.Unknown() || y.Unknown():
		return false
	case x.Kind() == value.String && y.Kind() == value.String:
		return x.Text() != y.Text()
	case x.Kind() == value.Int && y.Kind() == value.Int:
		return x.Int() != y.Int()
	}
	return false
}

func (c *certainty) record(s *Schema, r *rules, v value.Value, isTop, shaped bool, depth int) bool {
	if !isBetween(v.Len(), r.minProperties, r.maxProperties) {
		return false
	}
	for _, name := range r.required {
		if v.Get(name).IsAbsent() {
			return false
		}
	}
	for i, key := range v.Shape().Keys() {
		inner, known := r.properties[key]
		if isTop && key == "metadata" && s.impliesMetadata() {
			inner, known = c.top.store.metadata(), true
		}
		switch {
		case known:
		case r.extended != nil && r.structural:
			if isTop && slices.Contains(implied, key) {
				continue
			}
			return false
		case r.additional == nil:
			continue
		default:
			inner = r.additional
		}
		if !c.holds(inner, v.Values()[i], shaped, depth+1) {
			return false
		}
	}
	if !c.object {
		return true
	}
	for _, name := range r.withDefaults() {
		inner := r.properties[name]
		if v.Get(name).IsAbsent() && !c.holds(inner, inner.compiled().fallback, false, depth+1) {
			return false
		}
	}
	return true
}

// matcher is a pattern that remembers some texts that match: in what is validated the same ones come again and again.
type matcher struct {
	*regexp.Regexp
	length   int // how many instructions it has
	matching [1024]atomic.Pointer[string]
}

// maxCertainText is how long texts are that are held to a pattern here; others are looked at where the work is
// counted.
const maxCertainText = 4096

// stepsOfPattern is how many instructions of a pattern at how many bytes take as long as a step.
const stepsOfPattern = 20

// cost is how many steps it takes to hold a text to a pattern, in the worst case.
func (m *matcher) cost(text string) int {
	if len(text) <= maxRemembered {
		return 0
	}
	return m.length * len(text) / stepsOfPattern
}

// matches reports whether a text matches a pattern, and counts that.
func (r *run) matches(m *matcher, text string) bool {
	r.spend(m.cost(text))
	return m.MatchString(text)
}

// maxRemembered is how long texts are that are remembered.
const maxRemembered = 64

var matcherSeed = maphash.MakeSeed()

// MatchString reports whether a text matches.
func (m *matcher) MatchString(text string) bool {
	if len(text) > maxRemembered {
		return m.Regexp.MatchString(text)
	}
	at := &m.matching[maphash.String(matcherSeed, text)%uint64(len(m.matching))]
	if known := at.Load(); known != nil && *known == text {
		return true
	}
	if !m.Regexp.MatchString(text) {
		return false
	}
	at.Store(&text)
	return true
}
