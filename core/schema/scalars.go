package schema

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
	"knothole/core/value"
)

// This file looks at a value by itself: its type, the values that are allowed, numbers and texts.

// kindOf returns the types that a value is of.
func (c *visit) kindOf() kinds {
	switch c.value.Kind() {
	case value.Null:
		return aNull
	case value.Bool:
		return aBoolean
	case value.String:
		return aString
	case value.Int:
		return anInteger | aNumber
	case value.Float:
		_, large := c.numbers[c.value.Origin().Pos()]
		strict := c.schema.resource.dialect.version == draft4 && c.extended == nil && !large // 4.0 is written with a point
		if !strict && isInteger(c.value, c.numbers) {
			return anInteger | aNumber
		}
		return aNumber
	case value.List:
		return anArray
	case value.Record:
		return anObject
	}
	return 0
}

func (c *visit) isOfType() bool {
	if c.types == 0 || c.types&c.kindOf() != 0 {
		return true
	}
	c.fail(WrongType, typeHelp(c.types, c.value), "expected %s, found %s", c.expected(), c.found(c.value))
	c.asks("type")
	return false
}

// expected says what is expected in place of a value of another type.
func (c *visit) expected() string {
	if n := len(c.enum); n > 0 && n <= fewValues {
		return c.enumText()
	}
	return c.types.words()
}

// fewValues is how many values are listed where one of them must be.
const fewValues = 12

// enumText says which values are allowed.
func (r *rules) enumText() string {
	texts := make([]string, 0, fewValues)
	for _, x := range r.enum[:min(fewValues, len(r.enum))] {
		texts = append(texts, x.Show(40))
	}
	switch {
	case len(r.enum) == 1:
		return texts[0]
	case len(r.enum) > fewValues:
		return "one of " + strings.Join(texts, ", ") + fmt.Sprintf(" and %d more", len(r.enum)-fewValues)
	}
	return "one of " + strings.Join(texts, ", ")
}

// found shows a value that was found.
func (c *visit) found(v value.Value) string {
	switch v.Kind() {
	case value.Float:
		if large, ok := c.numbers[v.Origin().Pos()]; ok && !v.Secret() {
			return numberText(large)
		}
	case value.List:
		return "a list of " + source.Count(v.Len(), "element")
	case value.Record:
		return "a record with " + source.Count(v.Len(), "field")
	}
	return v.Show(60)
}

// typeHelp is the likely fix for a value of the wrong type.
func typeHelp(want kinds, v value.Value) string {
	text, isText := "", v.Kind() == value.String && !v.Secret()
	if isText {
		text = v.Text()
	}
	switch {
	case isText && want&(aNumber|anInteger) != 0 && numberForm.MatchString(text),
		isText && want&aBoolean != 0 && (text == "true" || text == "false"):
		return "write " + text + " without quotes"
	case isText && want&aBoolean != 0 && slices.Contains([]string{"yes", "no", "on", "off"}, strings.ToLower(text)):
		return fmt.Sprintf("write true or false: %s is a string", text)
	case want&aString != 0 && !v.Secret() && (isNumber(v) || v.Kind() == value.Bool):
		return fmt.Sprintf("write it in quotes: %q", v.Show(40))
	case want&anArray != 0 && v.Kind() != value.List && v.Kind() != value.Null:
		return "write a list, also of one element"
	case v.Kind() == value.Null:
		return "leave it out, or give it a value"
	}
	return ""
}

// values looks at enum and const.
func (c *visit) values() {
	if c.enum == nil && c.constant.IsAbsent() {
		return
	}
	if value.Marks(c.value)&value.Unknown != 0 {
		c.open++
		return
	}
	key := keyOf(c.value, c.numbers)
	if c.enum != nil && !c.enumKeys[key] {
		if c.out == nil {
			c.failed = true
			return
		}
		c.spend(len(c.enum))
		c.fail(NotOneOf, nearest(c.value, c.enum), "expected %s, found %s", c.enumText(), c.found(c.value))
		c.asks("enum")
		return
	}
	if !c.constant.IsAbsent() && key != keyOf(c.constant, c.schema.resource.numbers) {
		c.fail(NotOneOf, "", "expected %s, found %s", c.constant.Show(60), c.found(c.value))
		c.asks("const")
	}
}

// nearest suggests the allowed value that a text was probably meant to be.
func nearest(v value.Value, allowed []value.Value) string {
	text, ok := v.Scalar()
	if !ok || v.Secret() {
		return ""
	}
	var all []string
	for _, x := range allowed {
		if x.Kind() == value.String {
			all = append(all, x.Text())
		}
	}
	if near, ok := source.Nearest(text, all); ok {
		return source.DidYouMean(near)
	}
	return ""
}

// scalars looks at numbers and texts.
func (c *visit) scalars() {
	switch c.value.Kind() {
	case value.Int, value.Float:
		c.number()
	case value.String:
		c.text()
	}
}

func (c *visit) number() {
	v := c.value
	below := func(l *limit, keyword string, orEqual bool, words string) {
		if l == nil {
			return
		}
		order := l.compare(v, c.numbers)
		if keyword == "maximum" || keyword == "exclusiveMaximum" {
			order = -order
		}
		if order < 0 || order == 0 && orEqual {
			c.fail(Limit, "", "it must be %s %s, found %s", words, l.text, c.found(v))
			c.asks(keyword)
		}
	}
	if c.extended != nil && c.formatName == "int32" && v.Kind() == value.Int && int64(int32(v.Int())) != v.Int() {
		c.fail(Limit, "", "expected an integer of 32 bits, found %s", c.found(v))
		c.asks("format")
	}
	below(c.minimum, "minimum", false, "at least")
	below(c.maximum, "maximum", false, "at most")
	exclusive := [2]string{"exclusiveMinimum", "exclusiveMaximum"}
	below(c.exclusiveMin, exclusive[0], true, "more than")
	below(c.exclusiveMax, exclusive[1], true, "less than")
	if c.multipleOf != nil && !c.multipleOf.divides(v, c.numbers) {
		c.fail(Limit, "", "it must be a multiple of %s, found %s", c.multipleOf.text, c.found(v))
		c.asks("multipleOf")
	}
}

func (c *visit) text() {
	text := c.value.Text()
	if c.minLength != nil || c.maxLength != nil {
		c.counted(utf8.RuneCountInString(text), c.minLength, c.maxLength, "Length", "character")
	}
	if c.failed {
		return // one error
	}
	if c.pattern != nil && !c.matches(c.pattern, text) {
		c.fail(Form, "", "it must match the pattern %s, found %s", c.patternText, c.found(c.value))
		c.asks("pattern")
		return
	}
	if c.format != nil && !c.format.holds(text) {
		c.fail(Form, "", "expected %s, found %s", c.format.what, c.found(c.value))
		c.asks("format")
	}
}

// counted looks at how many there are of something.
func (c *visit) counted(n int, least, most *limit, keyword, what string) {
	if least == nil && most == nil {
		return
	}
	count := value.IntOf(int64(n), 0)
	few, many := least != nil && least.compare(count, nil) < 0, most != nil && most.compare(count, nil) > 0
	if !few && !many {
		return
	}
	shown := source.Count(n, what)
	switch {
	case c.value.Secret():
		shown = value.Hidden
	case n == 0:
		shown = "none"
	}
	if few {
		c.fail(Limit, "", "it must have at least %s, found %s", countOf(least, what), shown)
		c.asks("min" + keyword)
	}
	if many {
		c.fail(Limit, "", "it must have at most %s, found %s", countOf(most, what), shown)
		c.asks("max" + keyword)
	}
}

func countOf(l *limit, what string) string {
	if l.isWhole && l.whole >= 0 && l.whole < 1<<31 {
		return source.Count(int(l.whole), what)
	}
	return l.text + " " + what + "s"
}

var numberForm = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)
