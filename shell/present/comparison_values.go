package present

import (
	"slices"
	"strings"

	"knothole/core/place"
	"knothole/core/value"
)

func plainText(v value.Value) string {
	if v.Kind() == value.String {
		return Clean(v.Text())
	}
	return Clean(v.Show(40))
}

// both shows the change of a value.
func (s *comparing) both(left, right value.Value, room int) []piece {
	switch {
	case left.IsAbsent():
		return []piece{{"new", s.faint}, {" → ", nil}, {s.one(right, room-6), s.green}}
	case right.IsAbsent():
		return []piece{{s.one(left, room-7), s.red}, {" → ", nil}, {"gone", s.faint}}
	}
	if !s.options.Full {
		left, right = aroundDifference(left, right)
	}
	a, b := left.Show(1<<30), right.Show(1<<30)
	if !s.options.Full {
		// Each has half of the room; what one leaves the other has.
		each := max((room-3)/2, room-3-min(columnsOf(a), columnsOf(b)))
		texts := shortened([]string{a, b}, max(minCell, each))
		a, b = texts[0], texts[1]
	}
	return []piece{{Clean(a), s.red}, {" → ", nil}, {Clean(b), s.green}}
}

// longText is from how many characters on only what is around the difference of two strings is looked at.
const longText = 4000

// aroundDifference returns what is around the place at which two long strings begin to differ.
func aroundDifference(left, right value.Value) (value.Value, value.Value) {
	if left.Kind() != value.String || right.Kind() != value.String ||
		max(len(left.Text()), len(right.Text())) <= longText {
		return left, right
	}
	a, b := left.Text(), right.Text()
	at := 0
	for at < len(a) && at < len(b) && a[at] == b[at] {
		at++
	}
	part := func(text string) string {
		from, to := max(0, at-longText/4), min(len(text), at+longText/4)
		return strings.ToValidUTF8(text[from:to], "")
	}
	return value.StringOf(part(a), 0), value.StringOf(part(b), 0)
}

// one shows a value alone.
func (s *comparing) one(v value.Value, room int) string {
	text := v.Show(1 << 20)
	if title := place.Title(v); title != "" && !s.options.Full {
		text = title
	}
	if !s.options.Full {
		text = shortened([]string{text}, max(minCell, room))[0]
	}
	return Clean(text)
}

// shortened makes texts fit a width each: what they have in common goes first, and never what tells them apart.
func shortened(texts []string, width int) []string {
	if !slices.ContainsFunc(texts, func(text string) bool { return columnsOf(text) > width }) {
		return texts
	}
	runes := make([][]rune, len(texts))
	for i, text := range texts {
		runes[i] = []rune(text)
	}
	all := slices.Clone(texts)
	for i, text := range runes {
		if columnsOf(texts[i]) <= width {
			continue
		}
		start, end := 0, 0 // what it has in common with the one that is most like it
		for _, other := range runes {
			if !slices.Equal(text, other) && common(text, other)+commonEnd(text, other) > start+end {
				start, end = common(text, other), commonEnd(text, other)
			}
		}
		span := shortSpan{start, max(start, len(text)-end)}
		if start+end == 0 {
			span = shortSpan{0, len(text)}
		}
		// As much as fits of what they have in common: what is before tells more than what is behind.
		span = span.with(text, contextBefore, contextBefore)
		for _, wider := range []func(more int) shortSpan{
			func(more int) shortSpan { return span.with(text, more, 0) },
			func(more int) shortSpan { return span.with(text, 0, more) },
		} {
			if more := width - columnsOf(span.show(text)); more > 0 {
				if wide := wider(more); columnsOf(wide.show(text)) <= width {
					span = wide
				}
			}
		}
		all[i] = span.fitted(text, width)
	}
	return all
}

// shortSpan is the part of a text that is shown of it.
type shortSpan struct{ from, to int }

// with returns the part with more before and after it. What is no wider than the mark for it is not left out.
func (p shortSpan) with(text []rune, before, behind int) shortSpan {
	p.from, p.to = max(0, p.from-before), min(len(text), p.to+behind)
	markBefore, markBehind := shortSpan{1, len(text) - 1}.marks(text)
	if columnsOf(string(text[:p.from])) <= columnsOf(markBefore) {
		p.from = 0
	}
	if columnsOf(string(text[p.to:])) <= columnsOf(markBehind) {
		p.to = len(text)
	}
	return p
}

// marks say that something is left out before and behind; the quotes stay.
func (p shortSpan) marks(text []rune) (before, behind string) {
	if p.from > 0 {
		if before = "…"; text[0] == '"' {
			before = `"…`
		}
	}
	if p.to < len(text) {
		if behind = "…"; text[len(text)-1] == '"' {
			behind += `"`
		}
	}
	return before, behind
}

func (p shortSpan) show(text []rune) string {
	before, behind := p.marks(text)
	return before + string(text[p.from:p.to]) + behind
}

// fitted is what is shown, cut at its end where it is still too wide.
func (p shortSpan) fitted(text []rune, width int) string {
	before, behind := p.marks(text)
	middle, room := text[p.from:p.to], width-columnsOf(before)-columnsOf(behind)
	if columnsOf(string(middle)) > room {
		if behind == "" {
			behind, room = "…", room-1
		}
		middle = middle[:min(len(middle), max(1, room))]
		for len(middle) > 1 && columnsOf(string(middle)) > room {
			middle = middle[:len(middle)-1]
		}
	}
	return before + string(middle) + behind
}

// contextBefore is how much of what texts have in common is shown beside what tells them apart.
const contextBefore = 5

func common(a, b []rune) (n int) {
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

func commonEnd(a, b []rune) (n int) {
	for n < len(a) && n < len(b) && a[len(a)-1-n] == b[len(b)-1-n] {
		n++
	}
	return n
}
