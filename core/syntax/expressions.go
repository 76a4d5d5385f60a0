package syntax

import (
	"fmt"

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
		p.typeAndValue(&b.Type, &b.Value)
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
	p.expect("then", `after the local names, which are separated by line ends or commas`)
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
	p.bodySign()
	e.Body = p.expression()
	e.node = p.node(start)
	return e
}

func (p *parser) postfix() Expression {
	start := p.token().start
	return p.changes(start, p.steps(start, p.primary()))
}

// changes reads the `with { … }` or `with s` after an operand.
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
				Message: fmt.Sprintf("%q after with { … }", p.textOf(t)), Help: "put r with { … } into parentheses"})
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
	p.colon(change.Path[len(change.Path)-1])
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

// steps reads the fields, indexes and calls after an operand.
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
			p.at++
			e = &Field{Of: e, Optional: text == "?.", Name: p.fieldName(), node: p.node(start)}
		case (text == "[" || text == "?[") && (!t.newline || p.free):
			optional := text == "?["
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
		p.expected(`"]" after the path`, "")
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
		help := p.behindValue()
		if p.sign(":") {
			help = "a part of a list or a string: list.slice(xs, 0, 2), text.slice(s, 0, 2)"
		}
		p.expected(fmt.Sprintf("%q", closing), help)
	}
	p.free = free
	return e
}

func (p *parser) fieldName() Identifier {
	t := p.token()
	if p.declarationAhead() { // it is the line of the point that has to change
		point := p.tokens[p.at-1]
		p.mistake(source.Finding{Code: source.Syntax, Span: p.spanOf(point),
			Message: fmt.Sprintf("expected the name of a field after %q", p.textOf(point)),
			Help:    "write it, or leave the point out"})
		return Identifier{Span: p.file.Span(point.end, point.end)}
	}
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
	help := `an odd name is written in quotes: ."max size"`
	if t.kind == tokenNumber {
		help = p.unquotedText()
	}
	p.missing("the name of a field", help)
	return Identifier{Span: p.file.Span(p.tokens[p.at-1].end, p.tokens[p.at-1].end)}
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
				help := fmt.Sprintf("an argument is named with a colon: %s: …", name.Name)
				if next := p.peek(1); next.is(p, ">") && next.start == p.token().end {
					help = fmt.Sprintf("a function is written: fn(%s) = …", name.Name)
				}
				p.expected(`"," or ")"`, help)
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
	help, before := "", p.tokens[max(0, p.at-1)]
	if p.sign("/") && before.is(p, "/") && before.end == p.token().start {
		help = p.habit(expectsOperand)
	}
	p.missing(what, help)
	return p.bad()
}

// bad stands for an expression that is missing before the current token.
func (p *parser) bad() *Bad {
	end := p.token().start
	if p.at > 0 {
		end = p.tokens[p.at-1].end
	}
	b := &Bad{node: p.node(end)}
	b.span = p.file.Span(end, end)
	return b
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
		p.missing(what, "")
		return p.bad()
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
	if !p.take("then") {
		help := p.behindValue()
		switch {
		case p.sign("="):
			help = `"==" compares`
		case p.sign("{"):
			help = "a choice is written: if c then a else b; braces hold declarations, or a record"
		}
		p.expected(`"then" after the condition`, help)
	}
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
		help := "every if has an else, so that it always has a value; else null, marked ?, leaves an entry out"
		if word := p.current(); word == "elif" || word == "elsif" || word == "elseif" {
			help = "write: else if … then …"
		} else if t := p.token(); t.newline || t.kind == tokenEnd { // what follows is not to blame
			p.fail(source.Finding{Code: source.Syntax, Span: p.file.Span(start, start+len("if")),
				Message: `expected "else" and the value for the other case at the end of this if`, Help: help})
		}
		p.expected(`"else" and the value for the other case`, help)
	}
	e.node = p.node(start)
	return e
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

// armAhead reports whether the current token is an `else ->` on a line of its own, which begins a branch of a match.
func (p *parser) armAhead() bool {
	return p.token().newline && p.sign("else") && p.peek(1).is(p, "->")
}

func (p *parser) match() Expression {
	start := p.token().start
	p.at++
	e := &Match{Subject: p.binary(0)}
	if !p.sign("{") {
		p.expected(`"{" and the branches of the match`, "")
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
		if p.sign("=") || p.sign(":") {
			p.expected(`"->" and the value of this branch`, "a branch is written: pattern -> value")
		}
		p.expect("->", "and the value of this branch")
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
		if help = p.habit(expectsPattern); help == "" && t.kind == tokenWord {
			help = fmt.Sprintf("a string is written in quotes: %q", p.textOf(t))
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

// loopHead reads what is between `for` and its body.
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
		help := "a list has elements without keys; a record is written in braces: { … }"
		if end, _ := p.keyEnd(); p.tokens[end].end == p.tokens[end+1].start {
			help += "; a string in quotes"
		}
		p.failHere(source.Syntax, "an entry with a key in a list", help)
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
	p.colon(e.Key)
	e.Value = p.expression()
	e.Optional = p.optionalMark()
	e.Span = p.span(start)
	return e
}

// colon takes the colon after the key of an entry.
func (p *parser) colon(key *Key) {
	if p.take(":") {
		return
	}
	help := ""
	switch {
	case p.sign("="):
		help = fmt.Sprintf("an entry is written with a colon: %s: …", key.text(p))
	case p.textOf(p.tokens[p.at-1]) == "for" && p.token().kind == tokenWord:
		help = "what a loop makes is put into a record with three points: ...for k, v in r -> \"${k}\": v"
	case p.textOf(p.tokens[p.at-1]) == "if" && !p.sign(","):
		help = "entries that depend on something are put in with three points: ...if c then { a: 1 }"
	case p.tokens[p.at-1].kind == tokenWord && (p.sign(",") || p.sign("}")):
		help = fmt.Sprintf("an entry has a value: %[1]s: %[1]s; a list is written [%[1]s]", key.text(p))
	}
	p.expected(`":" after the key `+key.text(p), help)
}

// keyEnd returns the index of the token after the key at the current token, and whether there is a key.
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

// hyphenatedEnd returns the offset after the longest run of name characters and inner hyphens that begins at offset.
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
	help := ""
	if p.sign("-") {
		help = "the elements of a list are written in brackets: [a, b]"
	}
	p.expected("a key", help)
	return nil
}
