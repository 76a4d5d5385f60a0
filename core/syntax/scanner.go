package syntax

import (
	"fmt"
	"strings"
	"unicode"
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
	tokenInsert            // ${
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

// comment is one comment; token is the index of the token behind it.
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
	// inserts holds, for each ${ that is open, how many braces are open inside it.
	inserts []int
}

// signs are all signs, longest first.
var signs = []string{"...", "->", "==", "!=", "<=", ">=", "..", "??", "?.", "?[", "?:", "(", ")", "[", "]", "{", "}", ",", ":", ".", "=", "<", ">", "+", "-", "*", "/", "%", "|", "?"}

// scan cuts a text into tokens. The last token is tokenEnd.
func scan(file *source.File) *scanner {
	s := &scanner{file: file, text: file.Text, newline: true}
	s.tokens = make([]token, 0, len(s.text)/5+1)
	s.offset = len(s.text) - len(strings.TrimPrefix(s.text, "\uFEFF"))
	for s.next() {
	}
	if len(s.inserts) > 0 {
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

// wordEnd returns the offset behind the name characters that begin at offset.
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
			if len(s.inserts) > 0 {
				s.unclosedInsert()
				return true
			}
			s.offset++
			s.newline = true
		case c == '#':
			if len(s.inserts) > 0 {
				s.unclosedInsert()
				return true
			}
			start := s.offset
			s.skipLine()
			s.comments = append(s.comments, comment{start, len(strings.TrimRight(s.text[:s.offset], "\r")), len(s.tokens)})
		case isLetter(c):
			end := wordEnd(s.text, s.offset)
			s.add(tokenWord, s.offset, end)
			s.offset = end
			return true
		case isDigit(c):
			s.number()
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
	if exponent && !strings.HasPrefix(s.text[s.offset:], "0x") && end+1 < len(s.text) && (s.text[end] == '-' || s.text[end] == '+') && isDigit(s.text[end+1]) {
		end = wordEnd(s.text, end+1)
	}
	s.add(tokenNumber, s.offset, end)
	s.offset = end
}

func (s *scanner) sign() {
	rest := s.text[s.offset:]
	for _, sign := range signs {
		if !strings.HasPrefix(rest, sign) {
			continue
		}
		if n := len(s.inserts); n > 0 {
			switch sign {
			case "{":
				s.inserts[n-1]++
			case "}":
				if s.inserts[n-1] == 0 {
					s.inserts = s.inserts[:n-1]
					s.add(tokenSign, s.offset, s.offset+1)
					s.offset++
					s.stringParts()
					return
				}
				s.inserts[n-1]--
			}
		}
		s.add(tokenSign, s.offset, s.offset+len(sign))
		s.offset += len(sign)
		return
	}
	r, size := utf8.DecodeRuneInString(rest)
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
	case ';':
		help = "entries and declarations end with the line"
	case '\u00A0', '\u2003', '\u200B', '\u3000':
		help = "it looks like a space, but is none: type the space again"
	}
	message := fmt.Sprintf("unexpected character %s", describeRune(r))
	s.report(source.UnexpectedCharacter, s.offset, s.offset+size, message, help)
	s.add(tokenIllegal, s.offset, s.offset+size)
	s.offset += size
}

// describeRune names a character so that also an invisible one can be told.
func describeRune(r rune) string {
	if unicode.IsGraphic(r) && !unicode.IsSpace(r) {
		if r > unicode.MaxASCII {
			return fmt.Sprintf("“%c” (U+%04X)", r, r)
		}
		return fmt.Sprintf("%q", string(r))
	}
	return fmt.Sprintf("U+%04X", r)
}

// literal scans '…', in which nothing is special.
func (s *scanner) literal() {
	start := s.offset
	for i := start + 1; i < len(s.text) && s.text[i] != '\n'; i++ {
		if s.text[i] == '\'' {
			s.add(tokenString, start, i+1)
			s.offset = i + 1
			return
		}
	}
	s.skipLine()
	end := len(strings.TrimRight(s.text[:s.offset], "\r"))
	s.unclosedString(start, "'")
	s.add(tokenString, start, end)
}

func (s *scanner) unclosedString(start int, quote string) {
	if len(s.inserts) > 0 {
		return // the insert around it has swallowed its end, or the other way round: the insert is reported
	}
	s.report(source.UnclosedString, start, start+1, "this string has no closing "+quote+" on its line", "close it with "+quote)
}

// quoted scans "…". A string without interpolation becomes one token.
func (s *scanner) quoted() {
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
				s.add(tokenOpen, start, start+1)
				s.offset++
				s.stringParts()
				return
			}
		case '\n':
			s.offset = i
			s.unclosedString(start, `"`)
			s.add(tokenString, start, len(strings.TrimRight(s.text[:i], "\r")))
			return
		}
	}
	s.offset = len(s.text)
	s.unclosedString(start, `"`)
	s.add(tokenString, start, s.offset)
}

// stringParts scans the text of an interpolated string up to the next ${ or the closing quote.
func (s *scanner) stringParts() {
	start := s.offset
	for i := start; ; i++ {
		switch {
		case i >= len(s.text) || s.text[i] == '\n':
			end := max(start, len(strings.TrimRight(s.text[:i], "\r")))
			s.add(tokenText, start, end)
			s.unclosedString(s.openQuote(), `"`)
			s.add(tokenClose, end, end)
			s.offset = i
			return
		case s.text[i] == '\\' && i+1 < len(s.text) && s.text[i+1] != '\n':
			i++
		case s.text[i] == '"':
			s.add(tokenText, start, i)
			s.add(tokenClose, i, i+1)
			s.offset = i + 1
			return
		case strings.HasPrefix(s.text[i:], "${"):
			s.add(tokenText, start, i)
			s.add(tokenInsert, i, i+2)
			s.offset = i + 2
			s.inserts = append(s.inserts, 0)
			return
		}
	}
}

// openQuote returns the offset of the quote of the innermost open string.
func (s *scanner) openQuote() int {
	depth := 0
	for i := len(s.tokens) - 1; i >= 0; i-- {
		switch s.tokens[i].kind {
		case tokenClose:
			depth++
		case tokenOpen:
			if depth == 0 {
				return s.tokens[i].start
			}
			depth--
		}
	}
	return s.offset
}

// unclosedInsert ends all open strings at the end of the line.
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
	s.report(source.UnclosedString, at, at+2, "this ${ is not closed on its line", "close it with }; neither line ends nor comments may stand inside")
	for range s.inserts {
		s.add(tokenSign, s.offset, s.offset)
		s.add(tokenClose, s.offset, s.offset)
	}
	s.inserts = nil
	if s.offset < len(s.text) && s.text[s.offset] == '#' {
		s.skipLine()
	}
}
