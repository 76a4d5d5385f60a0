package present

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Screen is where people read what is printed. Whatever is written to it, a terminal obeys nothing of it but the
// colours that paint has put in: control characters, characters that change the direction of the text or cannot be
// seen, and bytes that are no text, are there as their numbers.
type Screen struct{ to io.Writer }

// NewScreen returns a screen that writes to something.
func NewScreen(to io.Writer) *Screen { return &Screen{to} }

// styleMark begins a style in what is written to a screen; the byte after it says which. It is no part of any text,
// since no UTF-8 holds it, so that only paint writes it.
const styleMark = 0xFF

// colours are those of the styles that have one, by their numbers in the table of 256 that terminals have: such as
// can be read on black and on white alike.
var colours = map[byte]int{'r': 131, 'y': 163, 'g': 29, 'c': 63, 'f': 243}

// styles are the codes of terminals (ECMA-48 section 8.3.117) for the styles.
var styles = map[byte]string{
	'r': coloured('r') + "\x1b[1m", 'y': coloured('y') + "\x1b[1m", 'g': coloured('g') + "\x1b[1m",
	'c': coloured('c'), 'b': "\x1b[1m", 'f': coloured('f'), '0': "\x1b[0m"}

func coloured(style byte) string { return fmt.Sprintf("\x1b[38;5;%dm", colours[style]) }

// styled puts a style around a text.
func styled(text string, style byte) string {
	return string([]byte{styleMark, style}) + text + string([]byte{styleMark, '0'})
}

// Write shows a text, of which no character is cut.
func (s *Screen) Write(text []byte) (int, error) {
	if _, err := io.WriteString(s.to, harmless(text)); err != nil {
		return 0, err
	}
	return len(text), nil
}

// harmless makes visible what a terminal would obey.
func harmless(text []byte) string {
	var b strings.Builder
	b.Grow(len(text))
	for i := 0; i < len(text); {
		if text[i] == styleMark && i+1 < len(text) && styles[text[i+1]] != "" {
			b.WriteString(styles[text[i+1]])
			i += 2
			continue
		}
		r, size := utf8.DecodeRune(text[i:])
		switch {
		case r == utf8.RuneError && size <= 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case r == '\n' || r == '\t' || !obeyed(r):
			b.WriteRune(r)
		default:
			fmt.Fprintf(&b, `\u{%x}`, r)
		}
		i += size
	}
	return b.String()
}

// obeyed reports whether a terminal may do something at a character instead of showing it.
func obeyed(r rune) bool {
	return r < ' ' || r >= 0x7F && r < 0xA0 || r == '\u00AD' ||
		r > unicode.MaxLatin1 && unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)
}
