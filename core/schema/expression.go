package schema

import (
	"encoding/base64"
	"errors"
	"regexp"
	"strings"
	"time"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Rules of custom resource definitions are written in the Common Expression Language. What they see is what a server
// shows them: the fields that a definition names, under names that the language can write, with dates and durations
// as such.

// Language compiles rules. It is an interface so that whatever needs schemas does not depend on the library for rules.
type Language interface {
	// Compile compiles the text of a rule, or of a message, which is a string. The error is an UnknownName where a
	// newer server may know what the rule names.
	Compile(text string, message bool) (Rule, error)
}

// Rule is a compiled rule, or a message.
type Rule interface {
	// Evaluate returns what a rule says of a value, a bool or a string, and how many steps that took. The value is made
	// of nil, bool, int64, float64, string, time.Time, time.Duration, []byte, []any and map[string]any. The error is
	// ErrCost where it takes too many steps.
	Evaluate(self any) (result any, steps int, err error)
}

// UnknownName is the error for a rule that uses a name that is not defined.
type UnknownName string

// Error says what is not defined.
func (u UnknownName) Error() string { return string(u) }

// ErrCost is the error for a rule that takes too many steps.
var ErrCost = errors.New("it costs too much")

// language is what compiles rules; nil when the program is built without.
var language Language

// Register says what compiles rules. It is called by the init function of the package that knows the language.
func Register(l Language) { language = l }

// expression is a rule about a value.
type expression struct {
	at       value.Value // where it is written
	text     string
	program  Rule // nil when it cannot be judged on a file: it compares with the value before
	message  string
	computed Rule     // makes the message; nil for none
	path     []string // of the field that is to blame, in the value
}

// oldValue finds the name of the value before a change.
var oldValue = regexp.MustCompile(`\boldSelf\b`)

// expressions compiles the rules of a schema.
func (c *compiler) expressions() []expression {
	list := c.raw.Get("x-kubernetes-validations")
	if list.Kind() != value.List {
		return nil
	}
	var all []expression
	for _, v := range list.Elements() {
		rule := lookUp(v, "rule")
		if textOf(rule) == "" {
			c.report(v, "", "a rule says what must hold: rule: self.…")
			continue
		}
		e := expression{at: rule, text: strings.Join(strings.Fields(rule.Text()), " "), message: textOf(lookUp(v, "message"))}
		if field := textOf(lookUp(v, "fieldPath")); field != "" {
			e.path = fieldPath(field)
		}
		if !oldValue.MatchString(rule.Text()) {
			if e.program = c.program(rule, false); e.program == nil {
				continue
			}
			if text := lookUp(v, "messageExpression"); textOf(text) != "" && !oldValue.MatchString(text.Text()) {
				e.computed = c.program(text, true)
			}
		}
		all = append(all, e)
	}
	return all
}

// program compiles an expression; nil when it has an error, which is reported.
func (c *compiler) program(v value.Value, message bool) Rule {
	if language == nil {
		c.report(v, "", "the rule is not checked: this program was built without the language of rules")
		c.rules.findings[len(c.rules.findings)-1].Severity = source.Warning
		return nil
	}
	rule, err := language.Compile(v.Text(), message)
	if err != nil {
		c.report(v, "", "the rule %s", err)
		if errors.As(err, new(UnknownName)) { // a newer server may know it
			c.rules.findings[len(c.rules.findings)-1].Severity = source.Warning
		}
		return nil
	}
	return rule
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// fieldPath takes the path of a field apart, such as `.spec.levels['high tide']`.
func fieldPath(text string) []string {
	var fields []string
	for text != "" {
		switch {
		case text[0] == '.':
			end := strings.IndexAny(text[1:], ".[")
			if end < 0 {
				end = len(text) - 1
			}
			fields, text = append(fields, text[1:1+end]), text[1+end:]
		case text[0] == '[':
			end := strings.IndexByte(text, ']')
			if end < 0 {
				return fields
			}
			fields, text = append(fields, strings.Trim(text[1:end], `'"`)), text[end+1:]
		default:
			return fields
		}
	}
	return fields
}

// holdRules looks at the rules about a value that is right in all else.
func (c *visit) holdRules() {
	if c.failed || len(c.rulesAbout) == 0 || c.value.IsNull() {
		return
	}
	if value.Marks(c.value)&value.Unknown != 0 {
		c.open++
		return
	}
	self := c.schema.native(c.value)
	for i := range c.rulesAbout {
		e := &c.rulesAbout[i]
		if e.program == nil {
			c.result.Transitions++
			continue
		}
		got, steps, err := e.program.Evaluate(self)
		c.spend(steps)
		switch {
		case err != nil && value.Marks(c.value)&value.Secret != 0: // what the library says may hold it
			c.breaks(e, c.messageOf(e, self)+": the rule cannot be computed")
		case err != nil:
			c.breaks(e, c.messageOf(e, self)+": the rule cannot be computed: "+oneLine(err.Error()))
		case got != true:
			c.breaks(e, c.messageOf(e, self))
		}
		if c.stopped() {
			return
		}
	}
}

func (c *visit) messageOf(e *expression, self any) string {
	if c.out == nil {
		return ""
	}
	if e.computed != nil {
		if got, _, err := e.computed.Evaluate(self); err == nil {
			if text, ok := got.(string); ok && strings.TrimSpace(text) != "" && value.Marks(c.value)&value.Secret == 0 {
				return oneLine(text)
			}
		}
	}
	if e.message != "" {
		return oneLine(e.message)
	}
	return "the rule does not hold: " + e.text
}

// breaks notes a rule that does not hold.
func (c *visit) breaks(e *expression, message string) {
	if c.failed = true; c.out == nil {
		return
	}
	p := Problem{Kind: Limit, Path: c.path, Value: c.value, Message: message, Schema: e.at.Origin(),
		Description: "the rule is " + e.text}
	for _, name := range e.path {
		if inner, ok := place.Child(p.Value, name); ok {
			p.Path, p.Value = p.Path.Field(name), inner
		}
	}
	c.out.add(p)
}

// native returns a value as the library sees it.
func (s *Schema) native(v value.Value) any {
	r := s.told()
	switch v.Kind() {
	case value.Bool:
		return v.Bool()
	case value.Int:
		if r.types == aNumber {
			return float64(v.Int())
		}
		return v.Int()
	case value.Float:
		return v.Float()
	case value.String:
		return typed(r, v.Text())
	case value.List:
		all := make([]any, v.Len())
		for i, x := range v.Elements() {
			if r.items != nil {
				all[i] = r.items.native(x)
			} else {
				all[i] = plainNative(x)
			}
		}
		return all
	case value.Record:
		all := make(map[string]any, v.Len())
		for i, key := range v.Shape().Keys() {
			x := v.Values()[i]
			switch inner, named := r.properties[key]; {
			case named:
				all[escaped(key)] = inner.native(x)
			case r.additional != nil:
				all[key] = r.additional.native(x)
			case r.properties == nil || key == "apiVersion" || key == "kind" || key == "metadata":
				all[key] = plainNative(x)
			}
		}
		return all
	}
	return nil
}

// anything is a schema that says nothing.
var anything = func() *Schema {
	s := &Schema{}
	s.once.Do(func() { s.rules = &rules{} })
	return s
}()

// plainNative is native for what no schema says anything of.
func plainNative(v value.Value) any { return anything.native(v) }

// typed returns a text as what its format says that it is.
func typed(r *rules, text string) any {
	switch r.formatName {
	case "date-time":
		if at, err := time.Parse(time.RFC3339Nano, text); err == nil {
			return at
		}
	case "date":
		if at, err := time.Parse(time.DateOnly, text); err == nil {
			return at
		}
	case "duration":
		if d, err := time.ParseDuration(text); err == nil {
			return d
		}
	case "byte":
		if b, err := base64.StdEncoding.DecodeString(text); err == nil {
			return b
		}
	}
	return text
}

// reservedWords are those that the language keeps for itself.
var reservedWords = map[string]bool{"true": true, "false": true, "null": true, "in": true, "as": true, "break": true,
	"const": true, "continue": true, "else": true, "for": true, "function": true, "if": true, "import": true, "let": true,
	"loop": true, "package": true, "namespace": true, "return": true, "var": true, "void": true, "while": true}

// escaped is the name by which a rule knows a field.
func escaped(name string) string {
	if reservedWords[name] {
		return "__" + name + "__"
	}
	return escapes.Replace(name)
}

var escapes = strings.NewReplacer("__", "__underscores__", ".", "__dot__", "-", "__dash__", "/", "__slash__")
