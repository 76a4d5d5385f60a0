package present

import (
	"slices"
	"strings"
)

// cell is one cell of a table: its text, what is behind it even when the text is cut, and what gives both a colour.
type cell struct {
	text  string
	paint func(string) string // nil for none
	tail  string
}

func (c cell) width() int { return columnsOf(c.text) + columnsOf(c.tail) }

func plainCell(text string) cell { return cell{text: Clean(text)} }

// Limits of the columns of tables: no column is made narrower than the first, however narrow the terminal is.
const (
	minColumn = 8
	columnGap = 2
)

// table shows rows in columns that fit the width of the terminal together: the widest are cut first. One column,
// which is what the table is read for, keeps its width up to a share of the terminal, in percent. Elsewhere than on a
// terminal nothing is cut.
func (p *Presenter) table(rows [][]cell, keep, share int) {
	var widths []int
	for _, row := range rows {
		for i, c := range row {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], c.width())
		}
	}
	if p.Fit {
		fit(widths, p.Width, keep, p.Width*share/100)
	}
	for _, row := range rows {
		var b strings.Builder
		gap := 0
		for i, c := range row {
			text := cut(c.text, widths[i]-columnsOf(c.tail)) + c.tail
			b.WriteString(strings.Repeat(" ", gap))
			gap = widths[i] - columnsOf(text) + columnGap
			if c.paint != nil {
				text = c.paint(text)
			}
			b.WriteString(text)
		}
		p.printf("%s\n", strings.TrimRight(b.String(), " "))
	}
}

// fit makes columns narrower until they fit, the widest first; that which is kept not below a width while others can
// be.
func fit(widths []int, width, keep, kept int) {
	total := columnGap * (len(widths) - 1)
	for _, w := range widths {
		total += w
	}
	for total > width {
		widest := -1
		for i, w := range widths {
			if w > minColumn && (i != keep || w > kept) && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 && widths[keep] > minColumn {
			widest = keep
		}
		if widest < 0 {
			return
		}
		widths[widest]--
		total--
	}
}

// cut shortens a text to a number of columns.
func cut(text string, width int) string {
	if columnsOf(text) <= width {
		return text
	}
	runes := []rune(text)
	n := max(0, min(len(runes), width-1))
	for n > 0 && columnsOf(string(runes[:n])) > width-1 { // some are two columns wide
		n--
	}
	return string(runes[:n]) + "…"
}

// letters names the n-th of several things, from 0: a to z, then aa and so on.
func letters(n int) string {
	var b []byte
	for {
		b = append(b, byte('a'+n%26))
		if n = n/26 - 1; n < 0 {
			break
		}
	}
	slices.Reverse(b)
	return string(b)
}
