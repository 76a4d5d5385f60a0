package syntax

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
)

// test reads what stands behind `test`.
func (p *parser) test(d *Test) {
	title := func(what string) *String {
		if p.token().kind != tokenString {
			p.expected(what+", in quotes", "")
		}
		return p.stringLiteral()
	}
	d.Title, _ = title("what the test holds").Plain()
	if p.take("in") {
		d.Environment = title("the name of an environment")
	}
	d.Body = p.inMode(inTest, "", "behind the title")
}

// quoted reads a string, which may have inserts.
func (p *parser) quoted(what string) *String {
	if kind := p.token().kind; kind != tokenString && kind != tokenOpen {
		p.expected(what+", in quotes", "")
	}
	return p.stringLiteral()
}

// expectation reads what stands behind `expect`.
func (p *parser) expectation(d *Expect) {
	if next := p.peek(1); p.sign("error") && !next.newline && (next.kind == tokenString || next.kind == tokenOpen) {
		p.at++
		d.Mistake = p.stringLiteral()
		p.expect("from", "and what must fail")
		d.From = p.expression()
		return
	}
	d.Condition = p.expression()
	if p.take("else") {
		d.Message = p.quoted("a message")
	}
}

// blockEntry reads a declaration that may stand in a block.
func (p *parser) blockEntry(header Header) Declaration {
	start := p.token().start
	finish := func(h *Header) { h.Span = p.span(start) }
	words := blockWords[p.mode]
	if t := p.token(); t.kind != tokenWord || !slices.Contains(words, p.textOf(t)) {
		help := "other declarations stand outside of the braces"
		if near, ok := source.Nearest(p.current(), words); ok {
			help = fmt.Sprintf("did you mean %q?", near)
		} else if p.mode >= inPatch {
			help = "put, replace, add, merge and remove change what a path names"
		}
		p.expected("one of "+strings.Join(words, ", "), help)
	}
	switch {
	case p.sign("each"):
		d := p.eachEntry(header)
		finish(d.Declared())
		return d
	case slices.Contains(verbTexts, p.current()):
		d := p.operation(header)
		finish(d.Declared())
		return d
	case p.take("expect"):
		d := &Expect{Header: header}
		p.expectation(d)
		finish(&d.Header)
		return d
	case p.sign("document") || p.sign("stream") || p.sign("secret"):
		d := &Document{Header: header, Secret: p.take("secret")}
		if d.Secret && !p.sign("document") && !p.sign("stream") {
			p.expected(`"document" or "stream" behind "secret"`, "other declarations stand outside of the braces")
		}
		d.Stream = p.sign("stream")
		p.at++
		p.document(d)
		finish(&d.Header)
		return d
	case p.take("remark"):
		d := &Remark{Header: header, Value: p.expression()}
		finish(&d.Header)
		return d
	case p.take("include"):
		d := &Include{Header: header, Value: p.expression()}
		if t := p.token(); t.kind == tokenWord && !t.newline && !p.sign("under") {
			p.expected(`"under" and a folder, or the end of the line`, "")
		}
		if p.take("under") {
			d.Under = p.quoted("a folder")
		}
		finish(&d.Header)
		return d
	case p.take("require"):
		d := &Require{Header: header, Condition: p.expression()}
		if p.take("else") {
			d.Message = p.quoted("a message")
		}
		finish(&d.Header)
		return d
	case p.take("let"):
		d := &Let{Header: header}
		d.Name = p.name("the name of the value")
		d.Type, d.Value = p.typeAndValue()
		finish(&d.Header)
		return d
	case p.take("if"):
		d := &IfBlock{Header: header, Condition: p.expression()}
		d.Then = p.block("behind the condition")
		if p.sign("else") {
			p.at++
			if p.sign("if") {
				d.Else = []Declaration{p.blockEntry(Header{})}
			} else {
				d.Else = p.block(`behind "else"`)
			}
		}
		finish(&d.Header)
		return d
	case p.take("for"):
		loop := &For{}
		p.loopHead(loop)
		loop.node = p.node(start)
		d := &ForBlock{Header: header, Loop: loop}
		d.Body = p.block("behind what it goes through")
		finish(&d.Header)
		return d
	}
	return nil
}

// block reads declarations in braces.
func (p *parser) block(where string) []Declaration {
	if !p.sign("{") {
		p.expected(fmt.Sprintf("%q %s", "{", where), "")
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
			p.expected(`the end of the line or "}"`, "")
		}
		p.markStart()
		entries = append(entries, p.blockEntry(Header{Description: p.description(p.at)}))
	}
	p.at++
	p.free, p.arms = free, arms
	p.leave()
	return entries
}
