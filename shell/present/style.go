// Package present shows findings and comparisons: as text, coloured on a terminal, and as JSON. It exists so that
// every command shows the same thing in the same way.
package present

import (
	"fmt"
	"io"
	"path"
	"strings"
	"unicode"

	"knothole/core/source"
	"knothole/core/standard"
)

// Presenter shows results.
type Presenter struct {
	Out     io.Writer
	Sources *source.Set
	// Prefix leads from the directory that the person is in to the project, such as "services/map"; empty when they are
	// the same.
	Prefix string
	Color  bool
	Width  int  // of the terminal, in columns
	Fit    bool // tables are made to fit the width
	// All is how many environments the project has: what holds in so many holds in all of them. 0 when that is not
	// known.
	All int
}

// paint returns a text in a style, when there is colour.
func (p *Presenter) paint(text string, style byte) string {
	if !p.Color || text == "" {
		return text
	}
	return styled(text, style)
}

func (p *Presenter) red(text string) string    { return p.paint(text, 'r') }
func (p *Presenter) yellow(text string) string { return p.paint(text, 'y') }
func (p *Presenter) green(text string) string  { return p.paint(text, 'g') }
func (p *Presenter) cyan(text string) string   { return p.paint(text, 'c') }
func (p *Presenter) bold(text string) string   { return p.paint(text, 'b') }
func (p *Presenter) faint(text string) string  { return p.paint(text, 'f') }

func (p *Presenter) printf(format string, arguments ...any) {
	fmt.Fprintf(p.screen(), format, arguments...)
}

// screen is where what is printed for people goes.
func (p *Presenter) screen() io.Writer {
	if s, ok := p.Out.(*Screen); ok {
		return s
	}
	return NewScreen(p.Out)
}

// file returns the path of a file as the person would write it.
func (p *Presenter) file(name string) string {
	if p.Prefix == "" || standard.Is(name) {
		return Clean(name)
	}
	return Clean(path.Join(p.Prefix, name))
}

// location returns file:line:column of a place.
func (p *Presenter) location(at source.Pos) string {
	return p.jsonPlace(at).String()
}

// line returns file:line of a place.
func (p *Presenter) line(at source.Pos) string {
	l := p.Sources.Locate(at)
	if l.File == nil {
		return ""
	}
	return fmt.Sprintf("%s:%d", p.file(l.File.Path), l.Line)
}

// visible makes white space that is not a space, and what a terminal would obey, visible, one character for each.
func visible(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return '→'
		case r == '\u00A0' || r != ' ' && unicode.IsSpace(r):
			return '␣'
		case !unicode.IsGraphic(r):
			return '·'
		}
		return r
	}, text)
}

// Clean makes what a terminal would obey harmless in a message.
func Clean(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' {
			return ' '
		}
		if obeyed(r) {
			return '·'
		}
		return r
	}, text)
}

// DiffLine shows a line of a difference of texts.
func (p *Presenter) DiffLine(line string) {
	text := "      | " + visible(line)
	switch {
	case strings.HasPrefix(line, "-"):
		text = p.red(text)
	case strings.HasPrefix(line, "+"):
		text = p.green(text)
	default:
		text = p.faint(text)
	}
	p.printf("%s\n", text)
}
