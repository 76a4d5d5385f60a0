package present

import (
	"fmt"
	"strings"

	"knothole/core/compare"
	"knothole/core/value"
)

// manyLines is how many lines of a change are shown.
const manyLines = 12

// lines shows the lines of a text that differ, with their numbers, and what each comes from where that is not what the
// whole text does.
func (s *comparing) lines(f compare.Folded) (block []piece) {
	changed := f.Changed
	if changed == nil {
		changed = compare.ChangedLines(value.Shown(f.Left()), value.Shown(f.Right()))
	}
	if len(changed) > manyLines && !s.options.Full {
		rest := len(changed) - manyLines + 1
		changed = changed[:manyLines-1]
		defer func() {
			block = append(block, piece{fmt.Sprintf("and %d lines more: --full shows them", rest), s.faint})
		}()
	}
	whole, widest := s.cause(f.Cause, f.Against), 0
	texts, notes := make([]string, len(changed)), make([]string, len(changed))
	for i, line := range changed {
		sign, side := "-", 0
		if line.Right {
			sign, side = "+", f.Against
		}
		text := fmt.Sprintf("%s %4d  %s", sign, line.Number, visible(line.Text))
		note := s.lineCause(line, side)
		room := s.Width - subIndent - columnsOf(note) - noteGap
		if note == "" || note == whole || room < minNoted {
			texts[i] = s.cut(text)
			continue
		}
		if notes[i] = note; !s.options.Full {
			text = shortened([]string{text}, room)[0]
		}
		texts[i] = text
		if width := columnsOf(text); width <= s.Width/2 {
			widest = max(widest, width)
		}
	}
	for i, line := range changed {
		paint, note := s.red, notes[i]
		if line.Right {
			paint = s.green
		}
		if note == "" {
			block = append(block, piece{texts[i], paint})
			continue
		}
		gap := noteGap + max(0, min(widest-columnsOf(texts[i]),
			s.Width-subIndent-noteGap-columnsOf(texts[i])-columnsOf(note)))
		block = append(block, piece{texts[i], func(text string) string {
			return paint(text) + strings.Repeat(" ", gap) + s.cyan(note)
		}})
	}
	return block
}

// Beside a line stands what it comes from, where so much room is left for the line itself.
const (
	noteGap  = 3
	minNoted = 40
)

// lineCause is what a line of a text comes from.
func (s *comparing) lineCause(line compare.ChangedLine, side int) string {
	var parts []string
	for _, name := range line.Because {
		parts = append(parts, s.because(name))
	}
	if at := s.lineOn(side, line.At); at != "" {
		parts = append(parts, at)
	}
	return strings.Join(parts, ", ")
}

func (s *comparing) cut(text string) string {
	if s.options.Full {
		return text
	}
	return shortened([]string{text}, s.Width-subIndent)[0]
}

func (s *comparing) most(block []piece) []piece {
	if len(block) <= manyLines || s.options.Full {
		return block
	}
	return append(block[:manyLines-1:manyLines-1],
		piece{fmt.Sprintf("and %d lines more: --full shows them", len(block)-manyLines+1), s.faint})
}

// inner shows how the data in a text differs.
func (s *comparing) inner(n *compare.Node) (block []piece) {
	for _, row := range n.Rows() {
		name := Clean(row.Path.String()) + "  "
		pieces, below := s.pieces(compare.Folded{Row: row}, s.Width-subIndent-columnsOf(name))
		var text, painted strings.Builder
		text.WriteString(name)
		painted.WriteString(name)
		for _, x := range pieces {
			text.WriteString(x.text)
			if x.paint != nil {
				x.text = x.paint(x.text)
			}
			painted.WriteString(x.text)
		}
		block = append(block, piece{text.String(), func(string) string { return painted.String() }})
		block = append(block, below...)
	}
	return s.most(block)
}
