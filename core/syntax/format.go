package syntax

import (
	"slices"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
)

// Format returns a module in its canonical form. The author's line breaks stay, everything else is given: two spaces
// for each level, one between words, no commas at the ends of lines, at most one empty line, aligned arrows of branches
// and comments behind lines. Comments stay where they are. A file with errors is left alone: its findings are returned.
func Format(file *source.File) (string, source.Findings) {
	module := &Module{File: file}
	if broken := Parse(file); len(broken.Findings) > 0 {
		return "", broken.Findings
	}
	p := &parser{scanner: scan(file), module: module, layout: newLayout()}
	p.inside = p.insideBrackets()
	p.declarations()
	f := &formatter{parser: p}
	f.run()
	text := withLineEnds(f.text(), file.Text)
	f.verify(text)
	return text, nil
}

// withLineEnds gives a text the line endings of another one: CRLF when all of its lines end with that, or else LF.
func withLineEnds(text, of string) string {
	text = strings.ReplaceAll(text, "\r\n", "\n")
	if lines := strings.Count(of, "\n"); lines > 0 && lines == strings.Count(of, "\r\n") {
		return strings.ReplaceAll(text, "\n", "\r\n")
	}
	return text
}

// Changed is the panic of a formatter that would have changed more than the form of a file: that is an error in the
// program, and the file is left alone.
type Changed struct{ Path string }

// Error says what would have been changed.
func (c *Changed) Error() string {
	return "formatting " + c.Path + " would change its meaning or its comments"
}

// verify reads what was formatted and compares it with what was to be: the tree, and every comment.
func (f *formatter) verify(text string) {
	file, err := source.NewSet().Add(f.file.Path, []byte(text))
	if err != nil {
		panic(&Changed{f.file.Path})
	}
	again := Parse(file)
	if len(again.Findings) > 0 || !Same(f.module, again) || !slices.Equal(f.commentTexts(), scan(file).commentTexts()) {
		panic(&Changed{f.file.Path})
	}
}

// commentTexts returns the comments in their order, without white space after them.
func (s *scanner) commentTexts() []string {
	texts := make([]string, len(s.comments))
	for i, c := range s.comments {
		texts[i] = strings.TrimRight(s.text[c.start:c.end], " \t\r")
	}
	return texts
}

// line is one line of the result: what is on it, and the columns that may be aligned with those of its neighbours.
type line struct {
	text    string
	indent  int
	arrow   int    // where the arrow of a branch is in text; 0 when there is none
	comment string // behind the text
}

// formatter writes the tokens of a module anew.
type formatter struct {
	*parser
	lines   []line
	current line
	open    []int // for each open bracket, how far the line it is on is indented
	inline  int   // how many strings are open: their tokens are copied
}

func (f *formatter) run() {
	comments := f.comments
	for i := 0; ; i++ {
		t := f.tokens[i]
		for len(comments) > 0 && comments[0].token <= i {
			f.comment(comments[0], i)
			comments = comments[1:]
		}
		if t.kind == tokenEnd {
			break
		}
		if f.replaceable(i) {
			// A line end separates as well. A comma that begins a line leaves that to what is behind it.
			f.tokens[i+1].newline = f.tokens[i+1].newline || t.newline && f.tokens[i+1].kind != tokenEnd
			continue
		}
		f.token(i)
	}
	f.endLine()
}

// replaceable reports whether a token is a comma at the end or the beginning of a line, which the line end can stand
// for.
func (f *formatter) replaceable(i int) bool {
	if f.inline > 0 || !f.layout.separators[i] || !f.endsLine(i) {
		return false
	}
	for _, c := range f.comments { // a description would become that of the next entry
		if c.token == i && strings.HasPrefix(f.parser.text[c.start:], "##") {
			return false
		}
	}
	return !f.continues(i + 1)
}

// continues reports whether what is before a token would go on with it without a separator.
func (f *formatter) continues(i int) bool {
	t, at := f.tokens[i], f.at
	f.at = i
	entry := f.entryAhead()
	f.at = at
	text := f.textOf(t)
	if entry || t.kind != tokenSign && t.kind != tokenWord {
		return false
	}
	if _, _, operator := operatorOf(text); operator &&
		text != "-" { // a line that begins with a minus is an entry of its own
		return true
	}
	return slices.Contains([]string{"|", "->", ".", "?.", "with", "as", "where", "?", "=", ":", "at", "on", "from",
		"under", "example", "deprecated"}, text)
}

// endsLine reports whether a token is the last on its line, comments aside, or is before a closing bracket.
func (f *formatter) endsLine(i int) bool {
	next := f.tokens[i+1]
	return next.newline || next.kind == tokenEnd || f.tokens[i].newline && i > 0 || next.is(f.parser, ")") ||
		next.is(f.parser, "]") || next.is(f.parser, "}")
}

// comment adds a comment that is before the token with an index: after the line, or on a line of its own.
func (f *formatter) comment(c comment, index int) {
	text := strings.TrimRight(f.parser.text[c.start:c.end], " \t\r")
	before := f.parser.text[:c.start]
	own := strings.Trim(before[strings.LastIndexByte(before, '\n')+1:], " \t\uFEFF") == ""
	if !own && f.current.text != "" {
		f.current.comment = text
		f.endLine()
		return
	}
	f.endLine()
	f.emptyLine(c.start)
	indent := f.indentOf(index, true)
	f.lines = append(f.lines, line{text: text, indent: indent})
}

// emptyLine keeps one empty line where the source has any before an offset, but none after an opening bracket.
func (f *formatter) emptyLine(offset int) {
	before := strings.TrimRight(f.parser.text[:offset], " \t\r")
	before = strings.TrimSuffix(before, "\n")
	before = strings.TrimRight(before, " \t\r")
	if len(f.lines) == 0 || !strings.HasSuffix(before, "\n") {
		return
	}
	last := f.lines[len(f.lines)-1]
	if last.comment == "" && (strings.HasSuffix(last.text, "{") || strings.HasSuffix(last.text, "[") ||
		strings.HasSuffix(last.text, "(")) && !strings.HasPrefix(last.text, "#") {
		return
	}
	f.lines = append(f.lines, line{})
}

// indentOf returns how far a line is indented that begins with a token, or with a comment before it.
func (f *formatter) indentOf(index int, comment bool) int {
	t := f.tokens[index]
	closing := t.is(f.parser, ")") || t.is(f.parser, "]") || t.is(f.parser, "}")
	indent := 0
	if n := len(f.open); n > 0 {
		indent = f.open[n-1]
		if !closing || comment {
			indent++
		}
	}
	if !closing && !comment && !f.layout.starts[index] {
		indent++ // the line goes on with the one above
	}
	return indent
}

// endLine finishes the current line.
func (f *formatter) endLine() {
	if f.current.text == "" && f.current.comment == "" {
		return
	}
	f.lines = append(f.lines, f.current)
	f.current = line{}
}

// token adds one token.
func (f *formatter) token(i int) {
	t := f.tokens[i]
	text := f.textOf(t)
	if bare, ok := f.layout.bare[i]; ok {
		text = bare
	}
	if f.inline > 0 {
		// The inside of a string is copied, white space and all.
		f.current.text += f.parser.text[f.tokens[i-1].end:t.start] + text
		switch t.kind {
		case tokenOpen:
			f.inline++
		case tokenClose:
			f.inline--
		}
		return
	}
	if t.newline {
		f.endLine()
		f.emptyLineBefore(i)
	}
	if f.current.text == "" {
		f.current.indent = f.indentOf(i, false)
	} else if f.spaced(i) {
		f.current.text += " "
	}
	if f.layout.arrows[i] {
		f.current.arrow = utf8.RuneCountInString(f.current.text)
	}
	f.current.text += text
	switch {
	case t.kind == tokenOpen:
		f.inline++
	case t.kind != tokenSign:
	case text == "(" || text == "[" || text == "{" || text == "?[":
		f.open = append(f.open, f.current.indent)
	case text == ")" || text == "]" || text == "}":
		f.open = f.open[:len(f.open)-1]
	}
}

// emptyLineBefore keeps an empty line before a token, unless a comment before it has kept it.
func (f *formatter) emptyLineBefore(i int) {
	t := f.tokens[i]
	if t.is(f.parser, ")") || t.is(f.parser, "]") || t.is(f.parser, "}") {
		return
	}
	f.emptyLine(t.start)
}

// spaced reports whether a space is before the token with an index, which is not the first of its line.
func (f *formatter) spaced(i int) bool {
	before, t := f.tokens[i-1], f.tokens[i]
	if f.replaceable(i-1) && i > 1 {
		before = f.tokens[i-2] // the comma was left out
	}
	a, b := f.textOf(before), f.textOf(t)
	signA, signB := before.kind == tokenSign, t.kind == tokenSign
	switch {
	case f.layout.apart[i]:
		return true
	case f.layout.glued[i] || signA && a == "-" && f.unary(i-1):
		return false
	case signB && (b == "," || b == ")" || b == "]" || b == ":" || b == "?:" || b == "?" || b == "." || b == "?." ||
		b == "?["):
		return signA && a == "..." // which cannot be
	case signA && (a == "(" || a == "[" || a == "." || a == "?." || a == "..." || a == "?["):
		return false
	case signA && a == "{" && signB && b == "}":
		return false
	case signA && a == ".." || signB && b == "..":
		return false
	case signB && (b == "(" || b == "["):
		return !f.operandEnds(i - 1)
	}
	return true
}

// operandEnds reports whether an operand ends with a token, so that a bracket after it is that of a call or an index.
func (f *formatter) operandEnds(i int) bool {
	t := f.tokens[i]
	text := f.textOf(t)
	switch t.kind {
	case tokenString, tokenClose:
		return true
	case tokenSign:
		return text == ")" || text == "]" || text == "}"
	case tokenWord:
		if text == "it" || text == "env" || text == "null" || text == "true" || text == "false" || text == "fn" {
			return true
		}
		first := f.layout.starts[i] || i > 0 && f.layout.starts[i-1] && f.textOf(f.tokens[i-1]) == "secret"
		if first && (text == "document" || text == "stream" || text == "expect") {
			return false
		}
		return !reserved[text] || i > 0 && (f.tokens[i-1].is(f.parser, ".") || f.tokens[i-1].is(f.parser, "?."))
	}
	return false
}

// unary reports whether a minus belongs to the operand after it.
func (f *formatter) unary(i int) bool {
	if i == 0 || f.layout.starts[i] {
		return true
	}
	before := f.tokens[i-1]
	if before.is(f.parser, ",") {
		return true
	}
	return before.kind != tokenNumber && !f.operandEnds(i-1)
}

// text puts the lines together and aligns what neighbours have in common.
func (f *formatter) text() string {
	f.align(func(l line) int { return l.arrow }, func(l *line, width int) {
		runes := []rune(l.text)
		l.text = string(runes[:l.arrow]) + strings.Repeat(" ", width-l.arrow) + string(runes[l.arrow:])
		l.arrow = width
	})
	f.align(func(l line) int {
		if l.comment == "" || strings.Contains(l.text, "\n") {
			return 0
		}
		return 2*l.indent + utf8.RuneCountInString(l.text) + 1
	}, func(l *line, width int) {
		l.text += strings.Repeat(" ", width-2*l.indent-utf8.RuneCountInString(l.text)-1)
	})
	var b strings.Builder
	for i, l := range f.lines {
		if l.text == "" {
			if i < len(f.lines)-1 {
				b.WriteByte('\n')
			}
			continue
		}
		b.WriteString(strings.Repeat("  ", l.indent) + l.text)
		if l.comment != "" {
			b.WriteString(" " + l.comment)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// align finds runs of neighbouring lines of one indentation that have a column, and moves it to the furthest of the
// run.
func (f *formatter) align(column func(line) int, move func(*line, int)) {
	for i := 0; i < len(f.lines); {
		if column(f.lines[i]) == 0 {
			i++
			continue
		}
		end, width := i, 0
		for end < len(f.lines) && column(f.lines[end]) > 0 && f.lines[end].indent == f.lines[i].indent {
			width = max(width, column(f.lines[end]))
			end++
		}
		for j := i; j < end; j++ {
			move(&f.lines[j], width)
		}
		i = end
	}
}
