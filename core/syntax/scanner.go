package syntax

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
)

type tokenKind uint8

const (
	tokenEnd     tokenKind = iota
	tokenWord              // name or reserved word
	tokenNumber            // anything that begins with a digit; its form is checked by the parser
	tokenString            // a whole string without interpolation, quotes included
	tokenOpen              // the opening quote of a string with interpolation
	tokenText              // a literal part of such a string
	tokenInsert            // ${ or @{
	tokenClose             // the closing quote; empty when it is missing
	tokenSign              // an operator or bracket
	tokenIllegal           // something that was reported
)

// token is one word, number, sign or part of a string. newline says that it is the first on its line.
type token struct {
	kind       tokenKind
	newline    bool
	start, end int // offsets
}

// comment is one comment; token is the index of the token after it.
type comment struct {
	start, end int
	token      int
}

type scanner struct {
	file     *source.File
	text     string
	offset   int
	newline  bool
	tokens   []token
	comments []comment
	findings source.Findings
	// open holds the strings that are open, outermost first; while tokens are scanned, an insert of the last is open.
	open     []openString
	conflict int // the offset after the first line mark of a merge that was not finished; 0 when there is none
}

// conflictMarker begins the line with which a merge that was not finished begins.
const conflictMarker = "<<<<<<<"

// openString is a string with inserts that has not been closed yet.
type openString struct {
	quote  string // as it was opened: one of the keys of inserts, or three single quotes
	start  int
	braces int // how many braces are open inside the insert
}

// severalLines reports whether the string is of a form that has several lines.
func (o openString) severalLines() bool { return len(o.quote) >= 3 }

// scan cuts a text into tokens. The last token is tokenEnd.
func scan(file *source.File) *scanner {
	s := &scanner{file: file, text: file.Text, newline: true}
	s.tokens = make([]token, 0, len(s.text)/4+16)
	s.offset = len(s.text) - len(strings.TrimPrefix(s.text, "\uFEFF"))
	for s.next() {
	}
	for len(s.open) > 0 {
		s.unclosedInsert()
	}
	s.add(tokenEnd, len(s.text), len(s.text))
	return s
}

func (s *scanner) add(kind tokenKind, start, end int) {
	s.tokens = append(s.tokens, token{kind: kind, newline: s.newline, start: start, end: end})
	s.newline = false
}

func (s *scanner) report(code source.Code, start, end int, message, help string) {
	s.findings.Add(source.Finding{Code: code, Span: s.file.Span(start, end), Message: message, Help: help})
}

func isLetter(c byte) bool { return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
func isDigit(c byte) bool  { return c >= '0' && c <= '9' }

// wordEnd returns the offset after the name characters that begin at offset.
func wordEnd(text string, offset int) int {
	for offset < len(text) && (isLetter(text[offset]) || isDigit(text[offset])) {
		offset++
	}
	return offset
}

// next scans one token and reports whether there may be another.
func (s *scanner) next() bool {
	for s.offset < len(s.text) {
		switch c := s.text[s.offset]; {
		case c == ' ' || c == '\t' || c == '\r':
			s.offset++
		case c == '\n':
			if len(s.open) > 0 {
				s.unclosedInsert()
				return true
			}
			s.offset++
			s.newline = true
		case c == '#':
			if len(s.open) > 0 {
				s.unclosedInsert()
				return true
			}
			start := s.offset
			s.skipLine()
			s.comments = append(s.comments, comment{start, len(strings.TrimRight(s.text[:s.offset], "\r")),
				len(s.tokens)})
		case isLetter(c):
			end := wordEnd(s.text, s.offset)
			s.add(tokenWord, s.offset, end)
			s.offset = end
			return true
		case isDigit(c):
			s.number()
			return true
		case c == '@' && strings.HasPrefix(s.text[s.offset:], `@"""`):
			s.openQuote(`@"""`)
			return true
		case c == '"':
			s.quoted()
			return true
		case c == '\'':
			s.literal()
			return true
		default:
			s.sign()
			return true
		}
	}
	return false
}

func (s *scanner) skipLine() {
	if end := strings.IndexByte(s.text[s.offset:], '\n'); end >= 0 {
		s.offset += end
	} else {
		s.offset = len(s.text)
	}
}

func (s *scanner) number() {
	end := wordEnd(s.text, s.offset)
	// A point belongs to the number when a digit follows, so that `1..3` and `1.name` stay what they are.
	if end+1 < len(s.text) && s.text[end] == '.' && isDigit(s.text[end+1]) {
		end = wordEnd(s.text, end+1)
	}
	exponent := s.text[end-1] == 'e' || s.text[end-1] == 'E'
	if exponent && !strings.HasPrefix(s.text[s.offset:], "0x") && end+1 < len(s.text) &&
		(s.text[end] == '-' || s.text[end] == '+') && isDigit(s.text[end+1]) {
		end = wordEnd(s.text, end+1)
	}
	s.add(tokenNumber, s.offset, end)
	s.offset = end
}

// signLength returns how long the sign is with which a text begins; 0 when it begins with none.
func signLength(text string) int {
	second := byte(0)
	if len(text) > 1 {
		second = text[1]
	}
	pair := false
	switch text[0] {
	case '(', ')', '[', ']', '{', '}', ',', ':', '+', '*', '/', '%', '|':
		return 1
	case '.':
		if second == '.' && len(text) > 2 && text[2] == '.' {
			return 3
		}
		pair = second == '.'
	case '-':
		pair = second == '>'
	case '=', '<', '>':
		pair = second == '='
	case '!':
		if second != '=' {
			return 0
		}
		pair = true
	case '?':
		pair = second == '?' || second == '.' || second == '[' || second == ':'
	default:
		return 0
	}
	if pair {
		return 2
	}
	return 1
}

func (s *scanner) sign() {
	rest := s.text[s.offset:]
	if s.newline && s.conflict == 0 && strings.HasPrefix(rest, conflictMarker) && strings.Contains(rest, "\n>>>>>>>") {
		s.conflict = s.offset + len(conflictMarker)
	}
	if length := signLength(rest); length > 0 {
		if n := len(s.open); n > 0 {
			switch rest[0] {
			case '{':
				s.open[n-1].braces++
			case '}':
				if s.open[n-1].braces == 0 {
					s.add(tokenSign, s.offset, s.offset+1)
					s.offset++
					s.stringParts()
					return
				}
				s.open[n-1].braces--
			}
		}
		s.add(tokenSign, s.offset, s.offset+length)
		s.offset += length
		return
	}
	r, size := utf8.DecodeRuneInString(rest)
	if strings.HasPrefix(rest, "&&") {
		size = 2
	}
	help := ""
	switch r {
	case '“', '”', '„':
		help = `use the plain double quote "`
	case '‘', '’':
		help = "use the plain single quote '"
	case '!':
		help = `"not" negates a condition`
	case '&':
		help = `"and" joins conditions`
	case '`':
		help = `a string is written in double quotes: "…"`
		if end := strings.IndexAny(rest[1:], "`\n"); end >= 0 && rest[1+end] == '`' {
			size = end + 2 // all of it, so that it is reported once
		}
	case ';':
		help = "entries and declarations end with the line"
	case '\u00A0', '\u2003', '\u200B', '\u3000':
		help = "it looks like a space, but is none: type the space again"
	}
	message := fmt.Sprintf("unexpected character %s", source.DescribeRune(r))
	if size == 2 && r == '&' {
		message = `unexpected "&&"`
	}
	s.report(source.UnexpectedCharacter, s.offset, s.offset+size, message, help)
	s.add(tokenIllegal, s.offset, s.offset+size)
	s.offset += size
}

// inserts maps the quotes that open a string to what opens an insert in it.
var inserts = map[string]string{`"`: "${", `"""`: "${", `@"""`: "@{"}

// openQuote opens a string that becomes several tokens.
func (s *scanner) openQuote(quote string) {
	s.open = append(s.open, openString{quote: quote, start: s.offset})
	s.add(tokenOpen, s.offset, s.offset+len(quote))
	s.offset += len(quote)
	s.stringParts()
}

// closeQuote closes the innermost string with the text up to end.
func (s *scanner) closeQuote(end int) {
	s.add(tokenClose, s.offset, end)
	s.offset = end
	s.open = s.open[:len(s.open)-1]
}

// literal scans '…', in which nothing is special.
func (s *scanner) literal() {
	if strings.HasPrefix(s.text[s.offset:], "'''") {
		s.openQuote("'''")
		return
	}
	start := s.offset
	for i := start + 1; i < len(s.text) && s.text[i] != '\n'; i++ {
		if s.text[i] == '\'' {
			s.add(tokenString, start, i+1)
			s.offset = i + 1
			return
		}
	}
	s.skipLine()
	s.add(tokenString, start, s.unclosedString(start, s.offset, "'"))
}

// unclosedString reports a string that its line, which ends at an offset, does not close, and returns the offset behind
// it. When the text was broken over several lines, it ends with its quote, so that this is not taken for the beginning
// of another string.
func (s *scanner) unclosedString(start, end int, quote string) int {
	s.offset = end
	if len(s.open) > 0 {
		// The insert around it has swallowed its end, or the other way round: the insert is reported.
		return len(strings.TrimRight(s.text[:end], "\r"))
	}
	message := "this string has no closing " + quote + " on its line"
	if behind := s.brokenText(end, quote); behind > 0 {
		message = "a string in " + quote + " ends with its line"
		s.offset = behind
	}
	s.report(source.UnclosedString, start, start+1, message,
		fmt.Sprintf("close it with %s; a string of several lines is written between %s and %s on lines of their own", quote,
			strings.Repeat(quote, 3), strings.Repeat(quote, 3)))
	return len(strings.TrimRight(s.text[:s.offset], "\r"))
}

// brokenText returns the offset after the quote with which a text that goes on below the line that ends at an offset
// is closed: the next quote, when nothing but closing brackets and a comma comes after it, and no comment before it.
// 0 when there is none.
func (s *scanner) brokenText(end int, quote string) int {
	length := strings.Index(s.text[end:], quote)
	if length < 0 {
		return 0
	}
	behind := end + length + 1
	rest, _, _ := strings.Cut(s.text[behind:], "\n")
	if strings.Trim(rest, " \t\r,)]}") != "" || strings.Contains(s.text[end:behind], "#") {
		return 0
	}
	return behind
}

// quoted scans "…". A string without interpolation becomes one token.
func (s *scanner) quoted() {
	if strings.HasPrefix(s.text[s.offset:], `"""`) {
		s.openQuote(`"""`)
		return
	}
	start := s.offset
	for i := start + 1; i < len(s.text); i++ {
		switch s.text[i] {
		case '\\':
			i++
			if i < len(s.text) && s.text[i] == '\n' {
				i-- // the line ends the string all the same
			}
		case '"':
			s.add(tokenString, start, i+1)
			s.offset = i + 1
			return
		case '$':
			if strings.HasPrefix(s.text[i:], "${") {
				s.openQuote(`"`)
				return
			}
		case '\n':
			s.add(tokenString, start, s.unclosedString(start, i, `"`))
			return
		}
	}
	s.add(tokenString, start, s.unclosedString(start, len(s.text), `"`))
}

// stringParts scans the text of the innermost string up to its next insert or its end.
func (s *scanner) stringParts() {
	o := &s.open[len(s.open)-1]
	insert := inserts[o.quote]
	closing := strings.TrimPrefix(o.quote, "@")
	start := s.offset
	text := func(end int) {
		s.add(tokenText, start, end)
		s.offset = end
	}
	for i := start; ; i++ {
		rest := s.text[min(i, len(s.text)):]
		switch {
		case rest == "" && o.severalLines():
			text(len(s.text))
			s.report(source.UnclosedString, o.start, o.start+len(o.quote),
				"this text of several lines is never closed", "close it with "+closing+" on a line of its own")
			s.closeQuote(len(s.text))
			return
		case rest == "" || rest[0] == '\n' && !o.severalLines():
			end := max(start, len(strings.TrimRight(s.text[:i], "\r")))
			text(end)
			opened := *o
			s.open = s.open[:len(s.open)-1]
			s.add(tokenClose, end, max(end, s.unclosedString(opened.start, i, `"`)))
			return
		case rest[0] == '\n':
			// The closing quotes of several lines are on a line of their own.
			line := i + 1
			quotes := line + len(s.text[line:]) - len(strings.TrimLeft(s.text[line:], " \t"))
			if strings.HasPrefix(s.text[quotes:], closing) {
				text(line)
				s.offset = quotes
				s.closeQuote(quotes + len(closing))
				return
			}
		case rest[0] == '\\' && insert == "${":
			if len(rest) > 1 && rest[1] != '\n' {
				i++
			}
		case strings.HasPrefix(rest, closing) && !o.severalLines():
			text(i)
			s.closeQuote(i + 1)
			return
		case insert == "@{" && strings.HasPrefix(rest, "@@{"):
			i += 2
		case insert != "" && strings.HasPrefix(rest, insert):
			text(i)
			s.add(tokenInsert, i, i+2)
			s.offset = i + 2
			o.braces = 0
			return
		}
	}
}

// unclosedInsert ends the insert that is open at the end of a line, and with it all strings of one line.
func (s *scanner) unclosedInsert() {
	// The innermost one that is open is to blame.
	at, closed := s.offset, 0
	for i := len(s.tokens) - 1; i >= 0; i-- {
		if s.tokens[i].kind == tokenClose {
			closed++
		} else if s.tokens[i].kind == tokenOpen {
			closed--
		}
		if s.tokens[i].kind == tokenInsert && closed <= 0 {
			at = s.tokens[i].start
			break
		}
	}
	s.report(source.UnclosedString, at, at+2, "this "+s.text[at:at+2]+" is not closed on its line",
		"close it with }; it must not contain line ends or comments")
	if s.offset < len(s.text) && s.text[s.offset] == '#' {
		s.skipLine()
	}
	for len(s.open) > 0 {
		s.add(tokenSign, s.offset, s.offset)
		if s.open[len(s.open)-1].severalLines() {
			s.stringParts() // its text goes on
			return
		}
		s.closeQuote(s.offset)
	}
}
