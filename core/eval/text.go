package eval

import (
	"hash/maphash"
	"regexp"
	regexpsyntax "regexp/syntax"
	"strings"
	"sync/atomic"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// text compiles a string with its interpolations.
func (c *compiler) text(e *syntax.String) code { return c.interpolation(e, false) }

// interpolation is text; when it is shown to people, what is secret is hidden in it.
func (c *compiler) interpolation(e *syntax.String, shown bool) code {
	if text, plain := e.Plain(); plain {
		return constant(value.StringOf(text, origin(e)))
	}
	type part struct {
		text   string
		indent string
		line   bool
		code   code
		at     source.Span
	}
	parts := make([]part, len(e.Parts))
	for i, p := range e.Parts {
		parts[i].text, parts[i].indent, parts[i].line = p.Text, p.Indent, p.Line
		if p.Value != nil {
			parts[i].code, parts[i].at = c.expression(p.Value), p.Value.Place()
		}
	}
	at, span := origin(e), e.Place()
	return func(f *frame) value.Value {
		var b strings.Builder
		o, records := at, f.recorder != nil
		var marks value.Mark
		var operands []value.Origin
		record := f.textRecord()
		var inserted []value.Value // by part
		if record != nil {
			inserted = make([]value.Value, len(parts))
		}
		for i := range parts {
			p := &parts[i]
			if p.code == nil {
				f.spend(len(p.text), span)
				b.WriteString(p.text)
				continue
			}
			v := p.code(f)
			if record != nil {
				inserted[i] = v
			}
			if p.line {
				if records {
					operands = append(operands, leaves([]value.Value{v})...)
				}
				marks |= f.lines(&b, v, p.indent, shown, p.at)
				continue
			}
			text, ok := v.Scalar()
			if shown && v.Secret() {
				text = value.Hidden
			} else {
				marks |= v.Mark()
			}
			if !ok {
				f.fail(check.NotInserted(p.at, describeValue(v)))
			}
			if p.indent != "" && strings.Contains(text, "\n") {
				text = indentLines(text, p.indent)
			}
			f.spend(1+len(text), span)
			b.WriteString(text)
			if records {
				operands = append(operands, v.Origin())
			}
		}
		if records {
			o = f.recorder.computed(span.Start, operands...)
		}
		made := value.StringOf(b.String(), o).WithMark(marks)
		if record != nil && severalLines(made) {
			record.inserted(made, e, inserted)
		}
		return made
	}
}

// lines adds what is alone on a line of a text: the lines of a text, a line for each element of a list, none for
// null. It returns the marks of what it added.
func (f *frame) lines(b *strings.Builder, v value.Value, indent string, shown bool, at source.Span) value.Mark {
	if v.IsNull() || v.IsAbsent() {
		return 0
	}
	if v.Kind() == value.List {
		var marks value.Mark
		for _, x := range v.Elements() {
			if text, ok := x.Scalar(); ok && text == "" {
				f.spend(1, at)
				b.WriteByte('\n')
				continue
			}
			if x.Kind() == value.List || x.IsNull() {
				f.failAt(source.WrongType, at, "", "each element is a line of the string, and one is %s",
					describeValue(x))
			}
			marks |= f.lines(b, x, indent, shown, at)
		}
		return marks
	}
	text, ok := v.Scalar()
	if !ok {
		f.fail(check.NotLines(at, describeValue(v)))
	}
	marks := v.Mark()
	if shown && v.Secret() {
		text, marks = value.Hidden, 0
	}
	f.spend(1+len(text), at)
	for line := range strings.Lines(text) {
		if line = strings.TrimSuffix(line, "\n"); line != "" {
			b.WriteString(indent)
		}
		b.WriteString(line)
		b.WriteByte('\n')
	}
	return marks
}

// indentLines puts white space before every line of a text but the first and empty ones.
func indentLines(text, indent string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines[1:] {
		if line != "" {
			lines[i+1] = indent + line
		}
	}
	return strings.Join(lines, "\n")
}

// message compiles a text that is shown to people: what is secret in it is hidden.
func (c *compiler) message(e syntax.Expression) func(f *frame) string {
	body := c.expression(e)
	if s, ok := e.(*syntax.String); ok {
		body = c.interpolation(s, true)
	}
	return func(f *frame) string {
		v := body(f)
		if v.Secret() {
			return value.Hidden
		}
		return v.Text()
	}
}

// pattern compiles a regular expression that is not known before evaluation. What is wrong with a secret one is not
// told.
func (t *thread) pattern(text string, at source.Span, secret bool) *Pattern {
	t.spend(1+len(text), at)
	compiled, known, err := t.world.program.patternOf(text)
	if err == nil && !known {
		t.spend(stepsToCompile*compiled.size, at)
	}
	if err != nil && secret {
		t.failAt(source.BadPattern, at, "patterns are RE2", "this is not a pattern, and it is secret")
	}
	if err != nil {
		t.fail(check.BadPattern(at, err))
	}
	return compiled
}

// maxPatterns is how many patterns a program remembers that were not known before evaluation.
const maxPatterns = 1000

// stepsToCompile is how many steps it takes to compile an instruction of a pattern.
const stepsToCompile = 20

// patternOf returns a compiled pattern, compiled once; known says that it was already.
func (p *Program) patternOf(text string) (compiled *Pattern, known bool, err error) {
	if known, ok := p.patterns.Load(text); ok {
		return known.(*Pattern), true, nil
	}
	compiled, err = newPattern(text)
	if err == nil && p.patternCount.Add(1) <= maxPatterns {
		p.patterns.Store(text, compiled)
	}
	return compiled, false, err
}

// Pattern is a compiled pattern that knows how much it looks at.
type Pattern struct {
	*regexp.Regexp
	size    int                                             // how many instructions it has
	answers atomic.Pointer[[answers]atomic.Pointer[answer]] // by their hash; nil before the first
}

// answer is whether a pattern matches a text.
type answer struct {
	text    string
	matches bool
}

// answers is how many answers a pattern remembers, answerLength how long the texts are at most. The same image or name
// is looked at many times: in each environment, by each rule.
const (
	answers      = 1024
	answerLength = 200
)

var answerSeed = maphash.MakeSeed()

// MatchString reports whether the pattern matches a text.
func (p *Pattern) MatchString(text string) bool {
	if len(text) > answerLength {
		return p.Regexp.MatchString(text)
	}
	all := p.answers.Load()
	if all == nil {
		all = new([answers]atomic.Pointer[answer])
		p.answers.Store(all)
	}
	place := &all[maphash.String(answerSeed, text)%answers]
	if known := place.Load(); known != nil && known.text == text {
		return known.matches
	}
	matches := p.Regexp.MatchString(text)
	place.Store(&answer{strings.Clone(text), matches}) // which may be a part of a large file
	return matches
}

func newPattern(text string) (*Pattern, error) {
	compiled, err := regexp.Compile(text)
	if err != nil {
		return nil, err
	}
	p := &Pattern{Regexp: compiled, size: len(text)}
	if parsed, err := regexpsyntax.Parse(text, regexpsyntax.Perl); err == nil {
		if program, err := regexpsyntax.Compile(parsed.Simplify()); err == nil {
			p.size = len(program.Inst)
		}
	}
	return p, nil
}

// cost is how many steps the pattern needs for a text: in the worst case it looks at each byte with each of its
// instructions, two of which are about one step.
func (p *Pattern) cost(length int) int { return 1 + length + length*p.size/2 }

func (c *compiler) matches(e *syntax.Binary) code {
	subject, right := c.expression(e.Left), c.expression(e.Right)
	at, span, patternAt := e.Place().Start, e.Place(), e.Right.Place()
	wanted := e.Operator == syntax.Matches
	var known *Pattern
	if s, ok := e.Right.(*syntax.String); ok {
		if text, plain := s.Plain(); plain {
			known, _, _ = c.program.patternOf(text) // the checker has reported a wrong one
		}
	}
	return func(f *frame) value.Value {
		v, p := subject(f), right(f)
		if v.Unknown() || p.Unknown() {
			return derived(value.BoolOf(false, f.from(at, v, p)), v, p)
		}
		pattern := known
		if pattern == nil {
			pattern = f.pattern(p.Text(), patternAt, p.Secret())
		}
		f.spend(pattern.cost(len(v.Text())), span)
		return derived(value.BoolOf(pattern.MatchString(v.Text()) == wanted, f.from(at, v, p)), v, p)
	}
}
