package syntax

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
)

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
		mistake(fmt.Sprintf("%s is not a number", text), "an underscore is written between two digits")
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
				"a name cannot begin with a digit; a string is written in quotes")
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
		mistake(fmt.Sprintf("%s is not a number", text), "a name cannot begin with a digit; a string is written in quotes")
	}
	limit := uint64(math.MaxInt64)
	if negative {
		limit++
	}
	if err != nil || value > limit {
		mistake(fmt.Sprintf("%s is too large: an int has 64 bits and reaches to %d", text, int64(math.MaxInt64)),
			"write it as a string, in quotes, if it is not for counting")
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
				text = lines.add(s, part)
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
				p.expected(`"}" after the expression`, "")
			}
			inserted := StringPart{Value: value}
			if lines != nil {
				inserted.Indent = lines.indent
				inserted.Line = lines.ownLine(s, part)
			}
			if e, ok := value.(*If); ok && e.lacksElse() && !inserted.Line {
				p.fail(source.Finding{Code: source.Syntax, Span: e.span,
					Message: `expected "else" and the value for the other case`,
					Help:    "it may be left out only on a line of its own, in a string of several lines"})
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

// lines takes the indentation off the text of a string of several lines, part by part.
type lines struct {
	*parser
	quote  string
	margin string // what is taken off: the indentation of the closing quotes
	first  bool   // nothing was added yet
	fresh  bool   // the next character begins a line
	indent string // white space before the current line, after the margin
	whole  bool   // what is before was a line of its own: its line end belongs to it
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

// blank reports whether nothing but white space is on its line before an insert.
func (l *lines) blank(insert token) bool {
	before := l.text[:insert.start]
	return strings.Trim(before[strings.LastIndexByte(before, '\n')+1:], " \t") == ""
}

// ownLine reports whether an insert that was read is alone on its line. The white space around it then belongs to
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

func (l *lines) add(s *String, part token) string {
	text, offset := l.textOf(part), part.start
	if l.whole { // the end of the line of an insert
		l.whole, l.fresh = false, true
		end := strings.IndexByte(text, '\n') + 1
		text, offset = text[end:], offset+end
		l.begin(s, offset)
	}
	if l.first {
		l.first = false
		head, rest, found := strings.Cut(text, "\n")
		if strings.Trim(head, " \t\r") != "" || !found {
			l.fail(source.Finding{Code: source.Syntax, Span: l.file.Span(offset, offset+max(1, len(head))),
				Message: "the string begins on the line below " + l.quote, Help: "break the line here"})
		}
		offset += len(head) + 1
		text = rest
		l.begin(s, offset)
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
		for range strings.Count(body, "\n") { // which escapes made
			l.begin(s, at)
		}
		if whole {
			b.WriteByte('\n')
			l.begin(s, offset+len(line))
		}
		l.fresh = whole
		offset += len(line)
		text = text[len(line):]
	}
	return b.String()
}

// begin notes where a line of the string begins.
func (l *lines) begin(s *String, offset int) {
	s.Lines = append(s.Lines, l.file.Span(offset, offset).Start)
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
