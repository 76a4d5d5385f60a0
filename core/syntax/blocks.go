package syntax

import (
	"fmt"
	"strings"
)

// blockWords begin what may stand in the braces of a top-level `if` or `for`.
var blockWords = []string{"document", "stream", "remark", "require", "let", "if", "for"}

// blockEntry reads a declaration that may stand in a block.
func (p *parser) blockEntry(header Header) Declaration {
	start := p.token().start
	finish := func(h *Header) { h.Span = p.span(start) }
	switch {
	case p.sign("document") || p.sign("stream"):
		d := &Document{Header: header, Stream: p.sign("stream")}
		p.at++
		p.document(d)
		finish(&d.Header)
		return d
	case p.take("remark"):
		d := &Remark{Header: header, Value: p.expression()}
		finish(&d.Header)
		return d
	case p.take("require"):
		d := &Require{Header: header, Condition: p.expression()}
		if p.take("else") {
			if kind := p.token().kind; kind != tokenString && kind != tokenOpen {
				p.expected("a message, in quotes", "")
			}
			d.Message = p.stringLiteral()
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
	p.expected("one of "+strings.Join(blockWords, ", "), "other declarations stand outside of if and for")
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
