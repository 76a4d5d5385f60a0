package syntax

import (
	"fmt"

	"knothole/core/source"
)

// limitedType reads a type with its conditions.
func (p *parser) limitedType() Type { return p.conditions(p.unionType()) }

// conditions reads the `where … else …` after a type, if any.
func (p *parser) conditions(t Type) Type {
	start := t.Place().Start
	var conditions []*Condition
	for p.sign("where") && p.continues() {
		c, from := &Condition{}, p.token().start
		p.at++
		c.Test = p.expression()
		if p.sign("else") && p.continues() {
			p.at++
			if kind := p.token().kind; kind != tokenString && kind != tokenOpen {
				p.expected("a message, in quotes", "")
			}
			c.Message = p.stringLiteral()
		}
		c.Span = p.span(from)
		conditions = append(conditions, c)
	}
	if conditions == nil {
		return t
	}
	return &LimitedType{node: p.node(p.file.Offset(start)), Of: t, Conditions: conditions}
}

func (p *parser) unionType() Type {
	p.enter()
	defer p.leave()
	start := p.token().start
	p.take("|")
	members := []Type{p.optionalType()}
	for p.sign("|") && p.continues() {
		p.at++
		members = append(members, p.optionalType())
	}
	if len(members) == 1 {
		return members[0]
	}
	return &UnionType{node: p.node(start), Members: members}
}

func (p *parser) optionalType() Type {
	start := p.token().start
	t := p.simpleType()
	for chain := 0; !p.token().newline && p.take("?"); chain++ {
		if chain > 0 {
			p.at--
			p.failHere(source.Syntax, "a second ? after a type", "leave it out: T? is T or null")
		}
		t = &OptionalType{node: p.node(start), Of: t}
	}
	return t
}

func (p *parser) simpleType() Type {
	t := p.token()
	switch t.kind {
	case tokenNumber:
		return &LiteralType{Value: p.number(t.start, false), node: p.node(t.start)}
	case tokenString, tokenOpen:
		s := p.stringLiteral()
		if _, plain := s.Plain(); !plain {
			p.fail(source.Finding{Code: source.Syntax, Span: s.span,
				Message: "a literal type is a plain string, without ${…}", Help: "limit a string with where instead"})
		}
		return &LiteralType{Value: s, node: p.node(t.start)}
	case tokenWord:
		switch p.textOf(t) {
		case "true", "false":
			return &LiteralType{Value: p.word("a type"), node: p.node(t.start)}
		case "fn":
			return p.functionType()
		case "null":
			p.at++
			return &NamedType{Name: Identifier{"null", p.spanOf(t)}, node: p.node(t.start)}
		case "secret", "later":
			if next := p.peek(1); next.kind == tokenWord && !next.newline && p.textOf(next) != "where" {
				p.failHere(source.Syntax, fmt.Sprintf("%q does not belong in a type", p.textOf(t)),
					"write it before what it marks: secret input name: string, and in a record { secret name: string }")
			}
		}
		if t := p.schemaType(); t != nil {
			return t
		}
		named := &NamedType{Name: p.name("a type")}
		if p.sign(".") && p.peek(1).kind == tokenWord {
			p.at++
			named.Module, named.Name = named.Name, p.name("a type")
		}
		named.node = p.node(t.start)
		return named
	case tokenSign:
		switch p.current() {
		case "-":
			if p.peek(1).kind == tokenNumber {
				p.at++
				return &LiteralType{Value: p.number(t.start, true), node: p.node(t.start)}
			}
		case "(":
			open := p.at
			p.at++
			free := p.free
			p.free = true
			p.markStart()
			inner := p.limitedType()
			if !p.take(")") {
				p.unclosed(open, ")")
			}
			p.free = free
			return inner
		case "[":
			open := p.at
			p.at++
			var elements []Type
			p.entries(open, func() { elements = append(elements, p.limitedType()) })
			switch n := p.node(t.start); len(elements) {
			case 0:
				p.fail(source.Finding{Code: source.Syntax, Span: n.span,
					Message: "a list type needs the type of its elements", Help: "write [any] when it is unknown"})
			case 1:
				return &ListType{node: n, Element: elements[0]}
			default:
				return &TupleType{node: n, Elements: elements}
			}
		case "{":
			if p.setAhead() {
				return p.setType()
			}
			return p.recordType()
		}
	}
	p.expected("a type", "")
	return nil
}

// schemaType reads `schema "PATH"` or `schema kind "VERSION/KIND"`; nil when neither is there: schema and kind are
// words that may be names.
func (p *parser) schemaType() Type {
	isText := func(at int) bool {
		return !p.peek(at).newline && (p.peek(at).kind == tokenString || p.peek(at).kind == tokenOpen)
	}
	ofKind := p.peek(1).kind == tokenWord && !p.peek(1).newline && p.textOf(p.peek(1)) == "kind" && isText(2)
	if !p.sign("schema") || !ofKind && !isText(1) {
		return nil
	}
	start := p.token().start
	p.at++
	if ofKind {
		p.at++
	}
	t := &SchemaType{Kind: ofKind, Reference: p.quoted("the path of a schema")}
	t.node = p.node(start)
	return t
}

func (p *parser) functionType() Type {
	start := p.token().start
	p.at++
	open, t := p.at, &FunctionType{}
	p.expect("(", "and the types of the parameters")
	p.entries(open, func() { t.Parameters = append(t.Parameters, p.limitedType()) })
	p.expect("->", "and the type of the result")
	t.Result = p.unionType()
	t.node = p.node(start)
	return t
}

// setAhead reports whether the brace at the current token opens a set type: everything else than a closing brace, a
// star, a description or a key with a colon follows.
func (p *parser) setAhead() bool {
	p.at++
	defer func() { p.at-- }()
	if p.sign("}") || p.sign("*") || p.token().kind == tokenEnd || p.description(p.at) != "" {
		return false
	}
	if p.sign("secret") && !p.entryAhead() && (p.peek(1).kind == tokenWord || p.peek(1).kind == tokenString) &&
		!p.peek(1).newline {
		p.at++
		defer func() { p.at-- }()
	}
	end, ok := p.keyEnd()
	next := p.tokens[min(end, len(p.tokens)-1)]
	return !(ok && (next.is(p, ":") || next.is(p, "?:")))
}

func (p *parser) setType() Type {
	open, set := p.at, &SetType{}
	start := p.token().start
	p.at++
	p.entries(open, func() {
		if set.Element != nil {
			p.failHere(source.Syntax, "a set type has one type of element",
				"write {T}; a field of a record type has a colon: { name: T }")
		}
		set.Element = p.limitedType()
	})
	if p.layout != nil { // {T}, where a record has { name: T }
		p.layout.glued[open+1], p.layout.glued[p.at-1] = true, true
	}
	set.node = p.node(start)
	return set
}

func (p *parser) recordType() Type {
	open, start := p.at, p.token().start
	p.at++
	record := &RecordType{}
	p.entries(open, func() {
		if p.sign("*") {
			p.at++
			p.expect(":", "and the type of all other fields")
			if record.Rest != nil {
				p.at--
				p.failHere(source.Syntax, `a second "*:" in a record type`, "leave one out")
			}
			record.Rest = p.limitedType()
			return
		}
		field := &TypeField{Description: p.description(p.at)}
		if p.sign("secret") && !p.entryAhead() {
			p.at++
			field.Secret = true
		}
		if kind := p.token().kind; kind != tokenWord && kind != tokenString {
			p.expected("the name of a field", "")
		}
		key := p.key()
		field.Name = Identifier{Name: key.Name, Span: key.Span}
		field.Optional = p.take("?:")
		if !field.Optional && !p.take(":") {
			p.expected(`":" and the type of the field `+key.text(p), "")
		}
		field.Type = p.unionType()
		if p.take("=") {
			if field.Optional {
				p.at--
				p.failHere(source.Syntax, fmt.Sprintf("the field %q is optional and has a default", key.Name),
					"leave out the ? or the default: a field with a default is never absent")
			}
			field.Default = p.expression()
		}
		field.Type = p.conditions(field.Type)
		field.Deprecated = p.deprecation()
		record.Fields = append(record.Fields, field)
	})
	record.node = p.node(start)
	return record
}
