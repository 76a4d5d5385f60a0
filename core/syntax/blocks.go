package syntax

import (
	"fmt"
)

// test reads what is behind `test`.
func (p *parser) test(d *Test) {
	title := func(what string) *String {
		if p.token().kind != tokenString {
			p.expected(what+", in quotes", "")
		}
		return p.stringLiteral()
	}
	d.Title, _ = title("what the test holds").Plain()
	switch {
	case !p.take("in"):
	case p.take("every"):
		if !p.take("environment") {
			p.expected(`"environment" after every`, `write: in every environment, or in every environment tagged "…"`)
		}
		d.Every = true
		if p.take("tagged") {
			d.Tag = title("a tag of environments")
		}
	default:
		for again := true; again; again = p.take(",") {
			d.Environments = append(d.Environments, title(`the name of an environment, or "every environment"`))
		}
	}
	d.Body = p.inMode(inTest, "", "after the title")
}

// rule reads what is behind the name of a rule.
func (p *parser) rule(d *Rule) {
	if !p.take("on") {
		help := ""
		if p.token().kind == tokenString {
			help = "a description is written above the rule: ## …"
		}
		p.expected(`"on" after the name of the rule`, help)
	}
	if p.sign("all") && p.peek(1).is(p, "documents") {
		p.at++
		d.All = true
	}
	d.Document = p.name("a name for each document")
	if p.take(",") {
		if d.All {
			p.at--
			p.expected(`"{"`, "each of the documents has its path: for d in documents { … d.path … d.data … }")
		}
		d.Path = p.name("a name for the path of the document")
	}
	if d.All && (p.sign("at") || p.sign("where")) {
		p.expected(`"{"`, "choose among them inside: for d in documents where … { … }")
	}
	if p.take("at") {
		d.At = p.quoted("a pattern of paths")
	}
	if p.take("where") {
		d.Where = p.expression()
	}
	d.Body = p.inMode(inRule, "", "and what the rule requires")
}

// quoted reads a string, which may have inserts.
func (p *parser) quoted(what string) *String {
	if kind := p.token().kind; kind != tokenString && kind != tokenOpen {
		p.expected(what+", in quotes", "")
	}
	return p.stringLiteral()
}

// expectation reads what is behind `expect`.
func (p *parser) expectation(d *Expect) {
	if next := p.peek(1); p.sign("error") && !next.newline && (next.kind == tokenString || next.kind == tokenOpen) {
		p.at++
		d.Mistake = p.stringLiteral()
		p.expect("from", "and what must fail")
		d.From = p.expression()
		return
	}
	if next := p.peek(1); p.sign("violation") && !next.newline &&
		(next.kind == tokenString || next.kind == tokenOpen) {
		p.at++
		d.Mistake = p.stringLiteral()
		p.violation(d)
		return
	}
	if p.sign("no") && p.peek(1).is(p, "violation") && !p.peek(1).newline {
		p.at += 2
		p.violation(d)
		return
	}
	d.Condition = p.expression()
	if p.take("else") {
		d.Message = p.quoted("a message")
	}
}

// violation reads the call of a rule after the words that say what it must find.
func (p *parser) violation(d *Expect) {
	p.expect("from", "and the call of a rule")
	d.Violation, d.From = true, p.expression()
}

// blockEntry reads a declaration that may be in a block.
func (p *parser) blockEntry(header Header) (result Declaration) {
	start := p.token().start
	f, b := p.form(header, p.mode)
	f.read(p, b, func(d Declaration) { result = d })
	result.Declared().Span = p.span(start)
	return result
}

// block reads declarations in braces.
func (p *parser) block(where string) []Declaration {
	if !p.sign("{") {
		help := ""
		if p.sign("->") || p.sign("then") {
			help = "declarations have braces: for x in xs { … }, if c { … } else { … }"
		}
		p.expected(fmt.Sprintf("%q %s", "{", where), help)
	}
	open := p.at
	p.at++
	p.enter()
	free, arms := p.free, p.arms
	p.free, p.arms = false, false
	var entries []Declaration
	for first := true; !p.sign("}"); first = false {
		t := p.token()
		if t.kind == tokenEnd || p.sign(")") || p.sign("]") || p.declarationAhead() {
			p.unclosed(open, "}")
		}
		if p.mode >= inPatch && !first && p.sign(",") { // operations are entries like any others
			p.at++
			if p.sign("}") {
				break
			}
			t.newline = true
		}
		if !first && !t.newline {
			p.missing(`the end of the line or "}"`, "")
			p.sync(p.at, "}")
			continue
		}
		p.markStart()
		if at := p.at; !p.try(func() {
			entries = append(entries, p.blockEntry(Header{Description: p.description(p.at)}))
		}) {
			p.sync(at, "}")
		}
	}
	p.at++
	p.free, p.arms = free, arms
	p.leave()
	return entries
}
