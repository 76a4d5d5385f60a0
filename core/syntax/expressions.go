package syntax

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
)

// expression reads a whole expression.
func (p *parser) expression() Expression {
	p.enter()
	defer p.leave()
	switch {
	case p.sign("if"):
		return p.ifExpression(false)
	case p.sign("for"):
		return p.forExpression()
	case p.sign("let") && !p.declarationAhead():
		return p.letExpression()
	case p.sign("fn") && p.peek(1).is(p, "("):
		return p.lambda()
	}
	return p.binary(levelOr)
}

func (p *parser) letExpression() Expression {
	start := p.token().start
	p.at++
	e := &LetIn{}
	for {
		b := &Binding{Name: p.name("a local name")}
		b.Type, b.Value = p.typeAndValue()
		e.Bindings = append(e.Bindings, b)
		if p.sign(",") {
			p.separator()
			p.at++
			if p.sign(",") {
				p.failHere(source.Syntax, "two commas without a name between them", "leave one out")
			}
		} else if t := p.token(); !t.newline || t.kind != tokenWord || reserved[p.current()] {
			break
		}
		if p.sign("then") {
			break
		}
	}
	p.expect("then", `behind the local names, which are separated by line ends or commas`)
	e.Body = p.expression()
	e.node = p.node(start)
	return e
}

func (p *parser) lambda() Expression {
	start := p.token().start
	p.at++
	e := &Lambda{}
	e.Parameters = p.parameters(true)
	if p.take("->") {
		e.Result = p.unionType()
	}
	p.expect("=", "and the body of the function")
	e.Body = p.expression()
	e.node = p.node(start)
	return e
}

func (p *parser) postfix() Expression {
	start := p.token().start
	return p.changes(start, p.steps(start, p.primary()))
}

// changes reads the `with { … }` or `with s` behind an operand.
func (p *parser) changes(start int, e Expression) Expression {
	for p.sign("with") && p.continues() && (p.free || !p.token().newline || p.peek(1).is(p, "{")) {
		p.at++
		with := &With{Of: e}
		if p.sign("{") {
			open := p.at
			p.at++
			p.entries(open, func() { with.Changes = append(with.Changes, p.change()) })
		} else {
			over := p.token().start
			with.Over = p.steps(over, p.expressionOperand("a record, or changes in braces"))
		}
		with.node = p.node(start)
		e = with
		if t := p.token(); (p.sign(".") || p.sign("as")) && p.continues() {
			p.fail(source.Finding{Code: source.Syntax, Span: p.spanOf(t),
				Message: fmt.Sprintf("%q behind with { … }", p.textOf(t)), Help: "put r with { … } into parentheses"})
		}
	}
	return e
}

// change reads one entry of a with.
func (p *parser) change() *Change {
	start := p.token().start
	if p.sign("...") {
		entry := p.spread()
		return &Change{Span: entry.Span, Value: entry.Value, Optional: entry.Optional, Spread: true}
	}
	change := &Change{Path: []*Key{p.key()}}
	for p.take(".") {
		change.Path = append(change.Path, p.key())
	}
	if !p.take(":") {
		p.expected(`":" behind the key `+change.Path[len(change.Path)-1].text(p), "")
	}
	change.Value = p.expression()
	change.Optional = p.optionalMark()
	change.Span = p.span(start)
	return change
}

func (k *Key) text(p *parser) string { return p.file.Slice(k.Span) }

// askedType reads the type behind `is` and `as`: a name, a literal, or a type in parentheses.
func (p *parser) askedType() Type {
	t := p.token()
	if t.kind == tokenSign && !p.sign("(") && !p.sign("-") || p.sign("fn") {
		p.expected("the name of a type, a literal, or a type in parentheses", "put the type into parentheses")
	}
	return p.simpleType()
}

// steps reads the fields, indexes and calls behind an operand.
func (p *parser) steps(start int, e Expression) Expression {
	for chain := 0; ; chain++ {
		if chain >= maxChain {
			p.failHere(source.TooDeep, fmt.Sprintf("more than %d steps in a row", maxChain),
				"give parts a name with let")
		}
		t := p.token()
		if t.kind != tokenSign && t.kind != tokenWord {
			return e
		}
		switch text := p.textOf(t); {
		case (text == "." || text == "?.") && p.continues():
			lenient := p.isLenient(e)
			p.at++
			e = &Field{Of: e, Optional: text == "?." || lenient, Lenient: lenient, Name: p.fieldName(),
				node: p.node(start)}
		case (text == "[" || text == "?[") && (!t.newline || p.free):
			optional := text == "?[" || p.isLenient(e)
			p.at++
			if p.sign(".") {
				e = p.places(start, e, text == "?[")
				continue
			}
			index := p.enclosed(p.at-1, "]")
			e = &Index{Of: e, Optional: optional, Index: index, node: p.node(start)}
		case text == "as" && p.continues():
			p.at++
			e = &As{Operand: e, Type: p.askedType(), node: p.node(start)}
		case text == "(" && (!t.newline || p.free):
			e = p.call(start, e)
		default:
			return e
		}
	}
}

// places reads the path in the brackets of `d[.a.**.b]`.
func (p *parser) places(start int, of Expression, optional bool) Expression {
	free, open, first := p.free, p.at-1, p.token().start
	p.free = true
	d := &Operation{Verb: ReplaceVerb, Optional: optional}
	for p.sign(".") || p.sign("[") {
		if len(d.Steps) >= maxChain {
			p.failHere(source.TooDeep, fmt.Sprintf("more than %d steps in a row", maxChain), "")
		}
		d.Steps = append(d.Steps, p.step())
	}
	d.PathSpan = p.span(first)
	p.checkPath(d)
	if !p.take("]") {
		if p.token().kind == tokenEnd || p.declarationAhead() || p.sign(")") || p.sign("}") {
			p.unclosed(open, "]")
		}
		p.expected(`"]" behind the path`, "")
	}
	p.free = free
	return &Places{Of: of, Path: d, node: p.node(start)}
}

// enclosed reads an expression and the bracket that closes the one at index open; newlines do not matter inside.
func (p *parser) enclosed(open int, closing string) Expression {
	free := p.free
	p.free = true
	p.markStart()
	e := p.expression()
	if !p.take(closing) {
		if p.token().kind == tokenEnd || p.declarationAhead() || p.sign(")") || p.sign("]") || p.sign("}") {
			p.unclosed(open, closing)
		}
		p.expected(fmt.Sprintf("%q", closing), "")
	}
	p.free = free
	return e
}

func (p *parser) fieldName() Identifier {
	t := p.token()
	switch t.kind {
	case tokenWord:
		key := p.key()
		return Identifier{Name: key.Name, Span: key.Span}
	case tokenString:
		at := p.at
		s := p.stringLiteral()
		text, _ := s.Plain()
		if p.layout != nil && text != "" && isLetter(text[0]) && hyphenatedEnd(text, 0) == len(text) {
			p.layout.bare[at] = text
		}
		return Identifier{Name: text, Span: s.span}
	}
	p.expected("the name of a field", `an odd name is written in quotes: ."max size"`)
	return Identifier{}
}

// call reads the arguments of a call in their parentheses.
func (p *parser) call(start int, function Expression) *Call {
	call := &Call{Function: function}
	open := p.at
	p.at++
	named, positions, spreads := &Record{}, 0, 0
	p.entries(open, func() {
		t := p.token()
		a := &Argument{}
		switch {
		case p.sign("..."):
			entry := p.spread()
			a.Value, a.Spread = entry.Value, true
			named.Entries = append(named.Entries, entry)
			spreads++
		case t.kind == tokenWord && p.peek(1).is(p, ":"):
			a.Name = Identifier{Name: p.textOf(t), Span: p.spanOf(t)}
			p.at += 2
			a.Value = p.expression()
			key := &Key{Name: a.Name.Name, Span: a.Name.Span}
			named.Entries = append(named.Entries, &Entry{Key: key, Value: a.Value, Span: p.span(t.start)})
		default:
			a.Value = p.expression()
			positions++
			if name, ok := a.Value.(*Name); ok && p.sign("=") {
				p.expected(`"," or ")"`, fmt.Sprintf("an argument is named with a colon: %s: …", name.Name))
			}
		}
		call.Arguments = append(call.Arguments, a)
	})
	if positions == 0 || spreads > 0 {
		named.node = p.node(p.tokens[open].start)
		call.Named = named
	}
	call.node = p.node(start)
	return call
}

// expressionOperand reads an operand; what says what was expected when there is none.
func (p *parser) expressionOperand(what string) Expression {
	switch t := p.token(); t.kind {
	case tokenNumber:
		return p.number(t.start, false)
	case tokenString, tokenOpen:
		return p.stringLiteral()
	case tokenWord:
		return p.word(what)
	case tokenSign:
		switch p.current() {
		case "(":
			open := p.at
			p.at++
			inner := p.enclosed(open, ")")
			return &Paren{node: p.node(t.start), Inner: inner}
		case "[":
			list, open := &List{}, p.at
			p.at++
			p.entries(open, func() { list.Elements = append(list.Elements, p.element()) })
			list.node = p.node(t.start)
			return list
		case "{":
			record, open := &Record{}, p.at
			p.at++
			p.entries(open, func() { record.Entries = append(record.Entries, p.entry()) })
			record.node = p.node(t.start)
			return record
		}
	}
	p.expected(what, "")
	return nil
}

func (p *parser) primary() Expression { return p.expressionOperand("a value") }

func (p *parser) word(what string) Expression {
	t := p.token()
	word := p.textOf(t)
	switch word {
	case "null":
		p.at++
		return &Null{node: p.node(t.start)}
	case "true", "false":
		p.at++
		return &Bool{node: p.node(t.start), Value: word == "true"}
	case "it":
		p.at++
		p.its++
		return &It{node: p.node(t.start)}
	case "env":
		p.at++
		return &Env{node: p.node(t.start)}
	case "match":
		return p.match()
	case "patch":
		if !p.declarationAhead() {
			return p.patch()
		}
	case "if", "for", "let", "fn":
		if p.declarationAhead() {
			break
		}
		p.failHere(source.Syntax, fmt.Sprintf("%q inside an expression needs parentheses", word),
			fmt.Sprintf("write (%s …)", word))
	}
	if reserved[word] || p.declarationAhead() {
		p.expected(what, "")
	}
	p.at++
	return &Name{node: p.node(t.start), Name: word}
}

// ifExpression reads `if c then a else b`. Behind `...` the else may be left out.
func (p *parser) ifExpression(spread bool) Expression {
	p.enter()
	defer p.leave()
	start := p.token().start
	p.at++
	e := &If{}
	e.Condition = p.expression()
	p.expect("then", "behind the condition")
	e.Then = p.expression()
	elseAhead := p.sign("else") && p.continues() && !p.armAhead()
	switch {
	case elseAhead:
		p.at++
		if p.sign("if") {
			e.Else = p.ifExpression(spread)
		} else {
			e.Else = p.expression()
		}
	case !spread:
		p.expected(`"else" and the value for the other case`,
			"every if has an else, so that it always has a value; else null, marked ?, leaves an entry out")
	}
	e.node = p.node(start)
	return e
}

// armAhead reports whether the current token is an `else ->` on a line of its own, which begins an arm of a match.
func (p *parser) armAhead() bool {
	return p.token().newline && p.sign("else") && p.peek(1).is(p, "->")
}

func (p *parser) match() Expression {
	start := p.token().start
	p.at++
	e := &Match{Subject: p.binary(0)}
	if !p.sign("{") {
		p.expected(`"{" and the arms of the match`, "")
	}
	open := p.at
	p.at++
	p.entries(open, func() {
		arm, from := &Arm{}, p.token().start
		p.arms = true
		if p.take("else") {
			arm.Else = true
		} else {
			for {
				if is := p.token().start; p.take("is") {
					asked := p.askedType()
					arm.Patterns = append(arm.Patterns, &Is{Type: asked, node: p.node(is)})
				} else {
					arm.Patterns = append(arm.Patterns, p.pattern())
				}
				if !p.take("|") {
					break
				}
			}
		}
		if p.layout != nil && p.sign("->") {
			p.layout.arrows[p.at] = true
		}
		p.expect("->", "and the value of this arm")
		arm.Value = p.expression()
		arm.Span = p.span(from)
		e.Arms = append(e.Arms, arm)
	})
	e.node = p.node(start)
	return e
}

// pattern reads a literal.
func (p *parser) pattern() Expression {
	t := p.token()
	literal := t.kind == tokenNumber || t.kind == tokenString || t.kind == tokenOpen || p.sign("-") &&
		p.peek(1).kind == tokenNumber ||
		p.sign("null") || p.sign("true") || p.sign("false")
	if !literal {
		help := ""
		if t.kind == tokenWord {
			help = fmt.Sprintf("a text is written in quotes: %q", p.textOf(t))
		}
		p.expected(`a literal, "is" and a type, or "else"`, help)
	}
	e := p.unary()
	if s, ok := e.(*String); ok {
		if _, plain := s.Plain(); !plain {
			p.fail(source.Finding{Code: source.Syntax, Span: s.span,
				Message: "a pattern is a plain string, without ${…}", Help: "compare with if instead"})
		}
	}
	return e
}

func (p *parser) forExpression() Expression {
	start := p.token().start
	p.at++
	e := &For{}
	p.loopHead(e)
	p.expect("->", "and what to make of each element")
	p.enter()
	if p.keyAhead() {
		e.Body = p.entry()
	} else {
		e.Body = p.element()
	}
	p.leave()
	e.node = p.node(start)
	return e
}

// loopHead reads what stands between `for` and its body.
func (p *parser) loopHead(e *For) {
	e.First = p.name("a name for each element")
	if p.take(",") {
		e.Second = p.name("a second name")
	}
	p.expect("in", "and what to go through")
	e.In = p.expression()
	if p.take("where") {
		e.Where = p.expression()
	}
}

// element reads an element of a list.
func (p *parser) element() *Entry {
	start := p.token().start
	if p.sign("...") {
		return p.spread()
	}
	if p.keyAhead() {
		p.failHere(source.Syntax, "an entry with a key in a list",
			"a list has elements without keys; a record is written in braces: { … }")
	}
	e := &Entry{Value: p.expression()}
	e.Optional = p.optionalMark()
	e.Span = p.span(start)
	return e
}

// optionalMark takes the `?` at the end of an entry.
func (p *parser) optionalMark() bool {
	return !p.token().newline && p.take("?")
}

func (p *parser) spread() *Entry {
	start := p.token().start
	p.at++
	e := &Entry{Spread: true}
	if p.sign("if") {
		e.Value = p.ifExpression(true)
	} else {
		e.Value = p.expression()
	}
	e.Optional = p.optionalMark()
	e.Span = p.span(start)
	return e
}

// entry reads an entry of a record.
func (p *parser) entry() *Entry {
	start := p.token().start
	if p.sign("...") {
		return p.spread()
	}
	e := &Entry{Key: p.key()}
	if !p.take(":") {
		p.expected(`":" behind the key `+e.Key.text(p), "")
	}
	e.Value = p.expression()
	e.Optional = p.optionalMark()
	e.Span = p.span(start)
	return e
}

// keyEnd returns the index of the token behind the key at the current token, and whether there is a key.
func (p *parser) keyEnd() (int, bool) { return p.keyEndAt(p.at) }

func (p *parser) keyEndAt(index int) (int, bool) {
	switch t := p.tokens[index]; t.kind {
	case tokenString:
		return index + 1, true
	case tokenOpen:
		depth := 0
		for i := index; i < len(p.tokens); i++ {
			switch p.tokens[i].kind {
			case tokenOpen:
				depth++
			case tokenClose:
				if depth--; depth == 0 {
					return i + 1, true
				}
			}
		}
		return 0, false
	case tokenWord:
		end := hyphenatedEnd(p.text, t.start)
		i := index + 1
		for p.tokens[i].end <= end && p.tokens[i].kind != tokenEnd {
			i++
		}
		return i, true
	}
	return 0, false
}

// hyphenatedEnd returns the offset behind the longest run of name characters and inner hyphens that begins at offset.
func hyphenatedEnd(text string, offset int) int {
	end := wordEnd(text, offset)
	for {
		next := end
		for next < len(text) && text[next] == '-' {
			next++
		}
		if next == end || next == len(text) || !isLetter(text[next]) && !isDigit(text[next]) {
			return end
		}
		end = wordEnd(text, next)
	}
}

// keyAhead reports whether a key and a colon come next.
func (p *parser) keyAhead() bool {
	end, ok := p.keyEnd()
	return ok && p.tokens[min(end, len(p.tokens)-1)].is(p, ":")
}

// key reads the key of an entry.
func (p *parser) key() *Key {
	t := p.token()
	switch t.kind {
	case tokenWord:
		end, _ := p.keyEnd()
		for p.at++; p.at < end; p.at++ {
			if p.layout != nil {
				p.layout.glued[p.at] = true
			}
		}
		span := p.span(t.start)
		return &Key{Name: p.file.Slice(span), Span: span}
	case tokenString, tokenOpen:
		s := p.stringLiteral()
		if text, plain := s.Plain(); plain {
			return &Key{Name: text, Span: s.span}
		}
		return &Key{Value: s, Span: s.span}
	case tokenNumber:
		p.expected("a key", fmt.Sprintf("a key that is a number is written in quotes: %q", p.textOf(t)))
	}
	p.expected("a key", "")
	return nil
}

// number reads a number; negative says that a minus at start belongs to it.
func (p *parser) number(start int, negative bool) Expression {
	t := p.token()
	text := p.textOf(t)
	p.at++
	n := p.node(start)
	mistake := func(message, help string) {
		p.fail(source.Finding{Code: source.BadNumber, Span: p.spanOf(t), Message: message, Help: help})
	}
	digits, base := text, 10
	switch {
	case strings.HasPrefix(text, "0x"):
		digits, base = text[2:], 16
	case strings.HasPrefix(text, "0o"):
		digits, base = text[2:], 8
	case strings.HasPrefix(text, "0b"):
		digits, base = text[2:], 2
	}
	if strings.HasSuffix(digits, "_") || strings.HasPrefix(digits, "_") || strings.Contains(digits, "__") ||
		strings.Contains(digits, "_.") || strings.Contains(digits, "._") {
		mistake(fmt.Sprintf("%s is not a number", text), "an underscore stands between two digits")
	}
	digits = strings.ReplaceAll(digits, "_", "")
	if base == 10 && len(digits) > 1 && digits[0] == '0' && isDigit(digits[1]) {
		mistake(fmt.Sprintf("%s begins with a zero", text),
			fmt.Sprintf("write %s, or 0o%s for an octal number", trimZeros(digits), trimZeros(digits)))
	}
	if base == 10 && strings.ContainsAny(digits, ".eE") {
		value, err := strconv.ParseFloat(digits, 64)
		if err != nil && !math.IsInf(value, 0) {
			mistake(fmt.Sprintf("%s is not a number", text),
				"a name cannot begin with a digit; a text stands in quotes")
		}
		if err != nil {
			mistake(fmt.Sprintf("%s is too large for a float of 64 bits", text), "")
		}
		if negative {
			value = -value
		}
		return &Float{node: n, Value: value}
	}
	value, err := strconv.ParseUint(digits, base, 64)
	if err != nil && (digits == "" || strings.Trim(strings.ToLower(digits), "0123456789abcdef"[:base]) != "") {
		mistake(fmt.Sprintf("%s is not a number", text), "a name cannot begin with a digit; a text stands in quotes")
	}
	limit := uint64(math.MaxInt64)
	if negative {
		limit++
	}
	if err != nil || value > limit {
		mistake(fmt.Sprintf("%s is too large: an int has 64 bits and reaches to %d", text, int64(math.MaxInt64)),
			"write it as a text, in quotes, if it is not for counting")
	}
	if negative {
		return &Int{node: n, Value: -int64(value)}
	}
	return &Int{node: n, Value: int64(value)}
}

func trimZeros(digits string) string {
	if trimmed := strings.TrimLeft(digits, "0"); trimmed != "" && isDigit(trimmed[0]) {
		return trimmed
	}
	return "0"
}

// stringLiteral reads a string of any form.
func (p *parser) stringLiteral() *String {
	t := p.token()
	if t.kind == tokenString {
		made := &struct { // in one piece: there are many of them
			String
			part [1]StringPart
		}{}
		s := &made.String
		p.at++
		s.node = p.node(t.start)
		// An unclosed string ends with its line; the scanner has said so.
		body := strings.TrimSuffix(p.text[t.start+1:t.end], p.text[t.start:t.start+1])
		if p.text[t.start] == '"' {
			body = p.unescape(t.start+1, body)
		}
		if body != "" {
			made.part[0].Text = body
			s.Parts = made.part[:]
		}
		return s
	}
	p.at++
	free := p.free
	p.free = true
	s := &String{}
	lines := p.newLines(t)
	for {
		switch part := p.token(); part.kind {
		case tokenText:
			var text string
			if lines != nil {
				text = lines.add(part)
			} else {
				text = p.unescape(part.start, p.textOf(part))
			}
			if text != "" {
				s.Parts = append(s.Parts, StringPart{Text: text})
			}
			p.at++
		case tokenInsert:
			p.at++
			if p.sign("}") {
				p.failHere(source.Syntax, "nothing between "+p.textOf(part)+" and }",
					`a dollar sign before a brace is written \${`)
			}
			p.enter()
			value := p.inserted(lines != nil && lines.blank(part))
			p.leave()
			if !p.take("}") {
				p.expected(`"}" behind the expression`, "")
			}
			inserted := StringPart{Value: value}
			if lines != nil {
				inserted.Indent = lines.indent
				inserted.Line = lines.ownLine(s, part)
			}
			if e, ok := value.(*If); ok && e.lacksElse() && !inserted.Line {
				p.fail(source.Finding{Code: source.Syntax, Span: e.span,
					Message: `expected "else" and the value for the other case`,
					Help:    "only on a line of its own, in a text of several lines, it may be left out"})
			}
			s.Parts = append(s.Parts, inserted)
		case tokenClose:
			p.at++
			p.free = free
			s.node = p.node(t.start)
			return s
		default:
			p.expected("the rest of the string", "")
		}
	}
}

// inserted reads an expression between ${ and }. On a line of its own, an if may have no else.
func (p *parser) inserted(ownLine bool) Expression {
	if ownLine && p.sign("if") {
		return p.ifExpression(true)
	}
	return p.expression()
}

// lacksElse reports whether an if, or one in its else, has none.
func (e *If) lacksElse() bool {
	for {
		if e.Else == nil {
			return true
		}
		inner, ok := e.Else.(*If)
		if !ok {
			return false
		}
		e = inner
	}
}

// lines takes the indentation off the text of a string of several lines, part by part.
type lines struct {
	*parser
	quote  string
	margin string // what is taken off: the indentation of the closing quotes
	first  bool   // nothing was added yet
	fresh  bool   // the next character begins a line
	indent string // white space before the line in hand, behind the margin
	whole  bool   // what stands before was a line of its own: its line end belongs to it
}

// newLines returns nil for a string of one line. The margin is known from the closing quotes, which are looked up.
func (p *parser) newLines(open token) *lines {
	quote := p.textOf(open)
	if len(quote) < 3 {
		return nil
	}
	end, _ := p.keyEndAt(p.at - 1)
	closing := p.tokens[end-1].start
	lineStart := strings.LastIndexByte(p.text[:closing], '\n') + 1
	return &lines{parser: p, quote: quote, margin: p.text[lineStart:closing], first: true, fresh: true}
}

// blank reports whether nothing but white space stands on its line before an insert.
func (l *lines) blank(insert token) bool {
	before := l.text[:insert.start]
	return strings.Trim(before[strings.LastIndexByte(before, '\n')+1:], " \t") == ""
}

// ownLine reports whether an insert that was read stands alone on its line. The white space around it then belongs to
// it.
func (l *lines) ownLine(s *String, insert token) bool {
	rest := l.text[l.tokens[l.at-1].end:]
	end := strings.IndexByte(rest, '\n')
	if end < 0 || strings.Trim(rest[:end], " \t\r") != "" || !l.blank(insert) {
		return false
	}
	l.whole = true
	if n := len(s.Parts); n > 0 && s.Parts[n-1].Value == nil {
		if s.Parts[n-1].Text = strings.TrimSuffix(s.Parts[n-1].Text, l.indent); s.Parts[n-1].Text == "" {
			s.Parts = s.Parts[:n-1]
		}
	}
	return true
}

func (l *lines) add(part token) string {
	text, offset := l.textOf(part), part.start
	if l.whole { // the end of the line of an insert
		l.whole, l.fresh = false, true
		end := strings.IndexByte(text, '\n') + 1
		text, offset = text[end:], offset+end
	}
	if l.first {
		l.first = false
		head, rest, found := strings.Cut(text, "\n")
		if strings.Trim(head, " \t\r") != "" || !found {
			l.fail(source.Finding{Code: source.Syntax, Span: l.file.Span(offset, offset+max(1, len(head))),
				Message: "the text begins on the line below " + l.quote, Help: "break the line here"})
		}
		offset += len(head) + 1
		text = rest
	}
	var b strings.Builder
	for len(text) > 0 {
		line := text
		if end := strings.IndexByte(text, '\n'); end >= 0 {
			line = text[:end+1]
		}
		body, at := line, offset
		whole := strings.HasSuffix(line, "\n")
		body = strings.TrimSuffix(strings.TrimSuffix(body, "\n"), "\r")
		if l.fresh {
			blank := whole && strings.Trim(body, " \t") == ""
			switch {
			case blank:
				body = ""
			case !strings.HasPrefix(body, l.margin):
				l.fail(source.Finding{Code: source.Syntax,
					Span:    l.file.Span(offset, offset+max(1, len(body)-len(strings.TrimLeft(body, " \t")))),
					Message: "this line is indented less than the closing " + strings.TrimPrefix(l.quote, "@"),
					Help:    "indent it as far, or move the closing quotes to the left"})
			default:
				body = body[len(l.margin):]
				at += len(l.margin)
			}
			l.indent = body[:len(body)-len(strings.TrimLeft(body, " \t"))]
		}
		switch l.quote {
		case `"""`:
			body = l.unescape(at, body)
		case `@"""`:
			body = strings.ReplaceAll(body, "@@{", "@{")
		}
		b.WriteString(body)
		if whole {
			b.WriteByte('\n')
		}
		l.fresh = whole
		offset += len(line)
		text = text[len(line):]
	}
	return b.String()
}

// unescape resolves the escapes of a text that begins at offset.
func (p *parser) unescape(offset int, text string) string {
	if strings.IndexByte(text, '\\') < 0 {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			b.WriteByte(text[i])
			continue
		}
		start := i
		mistake := func(end int, help string) {
			p.fail(source.Finding{
				Code: source.BadEscape, Span: p.file.Span(offset+start, offset+end),
				Message: fmt.Sprintf("unknown escape %s", text[start:end]), Help: help,
			})
		}
		i++
		if i == len(text) {
			mistake(i, `a backslash is written \\`)
		}
		switch text[i] {
		case 'n':
			b.WriteByte('\n')
		case 'r':
			b.WriteByte('\r')
		case 't':
			b.WriteByte('\t')
		case '"', '\\', '$':
			b.WriteByte(text[i])
		case 'u':
			end := strings.IndexByte(text[i:], '}')
			if !strings.HasPrefix(text[i:], "u{") || end < 0 {
				mistake(i+1, `a character by its number is written \u{e9}`)
			}
			code, err := strconv.ParseUint(text[i+2:i+end], 16, 32)
			if err != nil || !utf8.ValidRune(rune(code)) || code > utf8.MaxRune {
				mistake(i+end+1, "no character has this number")
			}
			b.WriteRune(rune(code))
			i += end
		default:
			_, size := utf8.DecodeRuneInString(text[i:])
			mistake(i+size, `escapes are \n \r \t \" \\ \$ and \u{…}; in '…' nothing is special`)
		}
	}
	return b.String()
}
