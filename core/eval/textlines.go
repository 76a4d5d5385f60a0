package eval

import (
	"slices"
	"strings"
	"sync"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// recordedText is what the lines of a text came from. The text itself tells apart what has one origin, such as a
// literal and the sum that begins with it.
type recordedText struct {
	text  string
	lines []LineOrigin
}

// LineOrigin says what one line of a text came from.
type LineOrigin struct {
	Origin value.Origin
	// Of is the text of several lines of which the line is one as it was, where no more is known of it; Line is its
	// number there, from 0. Else it is Absent.
	Of   value.Value
	Line int
}

// textTable holds the lines of texts, by the origins of these.
type textTable struct {
	mu    sync.RWMutex
	texts map[value.Origin][]recordedText
	kept  int // lines
}

// mostLines is how many lines of texts are told apart in one table: a text that is put together line by line would
// else take the square of its length. Those of further texts come from where the whole text does.
const mostLines = 1 << 18

// takes reports whether there is room for the lines of a text.
func (t *textTable) takes(v value.Value) bool {
	lines := strings.Count(v.Text(), "\n") + 1
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.kept+lines <= mostLines
}

func (t *textTable) find(o value.Origin, text string) []LineOrigin {
	t.mu.RLock()
	defer t.mu.RUnlock()
	for _, known := range t.texts[o] {
		if known.text == text {
			return known.lines
		}
	}
	return nil
}

// keep notes what the lines of a text came from.
func (t *textTable) keep(v value.Value, lines []LineOrigin) {
	if t.find(v.Origin(), v.Text()) != nil {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.texts == nil {
		t.texts = map[value.Origin][]recordedText{}
	}
	t.kept += len(lines)
	t.texts[v.Origin()] = append(t.texts[v.Origin()], recordedText{v.Text(), lines})
}

// textRecord is where the lines of texts are noted: in one table for each record of an environment, and in one for the
// constants, which are not recorded and need no more than places.
type textRecord struct {
	recorder  *Recorder // nil for constants
	own       textTable
	constants *textTable // nil for constants
}

// textRecord returns where the lines of texts are noted; nil when nothing is. Constants are evaluated by who holds
// their lock, once for all, whether the environment that needs them is recorded or not.
func (f *frame) textRecord() *textRecord {
	switch {
	case f.recorder != nil:
		return f.recorder.ofTexts
	case f.locked != nil:
		return &f.world.program.ofTexts
	}
	return nil
}

// Lines returns what each line of a text came from. The part after the last line end counts as a line, empty as it
// may be. It writes steps down for what chose the text.
func (r *Recorder) Lines(v value.Value) []LineOrigin {
	if r == nil || r.ofTexts == nil {
		return (&textRecord{}).lines(v)
	}
	return r.ofTexts.lines(v)
}

func (t *textRecord) lines(v value.Value) []LineOrigin {
	if lines := t.known(v); lines != nil {
		return lines
	}
	lines := make([]LineOrigin, strings.Count(v.Text(), "\n")+1)
	for i := range lines {
		lines[i] = LineOrigin{v.Origin(), v, i}
	}
	return lines
}

// known is lines for a text that was put together; nil for others.
func (t *textRecord) known(v value.Value) []LineOrigin {
	var by []value.Origin
	for o := v.Origin(); ; {
		if lines := t.own.find(o, v.Text()); lines != nil {
			return t.recorder.linesChosen(lines, by)
		}
		step, ok := t.recorder.Step(o)
		switch {
		case !ok:
			if t.constants == nil {
				return nil
			}
			return t.recorder.linesChosen(t.constants.find(o, v.Text()), by)
		case step.Input != nil || step.Environment || step.Kind == Computed:
			return nil
		case step.Kind == Chosen && len(step.Operands) == 1:
			by, o = append(by, step.Operands[0]), value.From(step.Pos)
		case step.Kind == Chosen:
			by, o = append(by, step.Operands[1:]...), step.Operands[0]
		default:
			o = step.Operands[0]
		}
	}
}

func (r *Recorder) linesChosen(lines []LineOrigin, by []value.Origin) []LineOrigin {
	if len(by) == 0 || lines == nil {
		return lines
	}
	chosen := slices.Clone(lines)
	for i := range chosen {
		for _, choice := range by {
			chosen[i].Origin = r.chosen(value.NullOf(chosen[i].Origin), choice).Origin()
		}
	}
	return chosen
}

// lining gathers what the lines of a text come from, while it is gone through part by part.
type lining struct {
	record *textRecord
	lines  []LineOrigin
	// Of the current line: where it is written, when any of it is, and the values in it.
	written source.Pos
	begun   bool
	values  []LineOrigin
}

// literal goes through text that is written at a place; from the second line on at the places that next returns.
func (l *lining) literal(text string, at source.Pos, next func() source.Pos) {
	for i, line := range strings.Split(text, "\n") {
		if i > 0 {
			l.end(at)
			at = next()
		}
		if !l.begun && strings.TrimSpace(line) != "" {
			l.begun, l.written = true, at
		}
	}
}

// value goes through the text of a value, which may be several lines.
func (l *lining) value(v value.Value, at source.Pos) {
	text, _ := v.Scalar()
	if !strings.Contains(text, "\n") {
		l.values = append(l.values, LineOrigin{Origin: v.Origin()})
		return
	}
	texts := strings.Split(text, "\n")
	for i, from := range l.record.lines(v) {
		if i > 0 {
			l.end(at)
		}
		if texts[i] != "" || i > 0 && i < len(texts)-1 { // else it adds nothing to the current line
			l.values = append(l.values, from)
		}
	}
}

// own goes through a value that is whole lines: those of its text, or of its elements, each of which is one at least.
func (l *lining) own(v value.Value, at source.Pos) {
	if v.Kind() == value.List {
		for _, x := range v.Elements() {
			if text, ok := x.Scalar(); ok && text == "" {
				l.values = append(l.values, LineOrigin{Origin: x.Origin()})
				l.end(at)
				continue
			}
			l.own(x, at)
		}
		return
	}
	text, _ := v.Scalar()
	if text == "" || v.IsNull() {
		return
	}
	l.value(v, at)
	if !strings.HasSuffix(text, "\n") {
		l.end(at)
	}
}

// end ends the current line. A line that is one value comes from where that does; what else is written there decides
// it, and values in it are what it depends on.
func (l *lining) end(at source.Pos) {
	if !l.begun && len(l.values) == 1 {
		l.lines = append(l.lines, l.values[0])
	} else {
		if l.begun {
			at = l.written
		}
		var operands []value.Origin
		for _, v := range l.values {
			operands = append(operands, v.Origin)
		}
		l.lines = append(l.lines, LineOrigin{Origin: l.record.recorder.computed(at, operands...)})
	}
	l.begun, l.values = false, l.values[:0]
}

// keep ends the last line and notes all of them, if they are those of the text.
func (l *lining) keep(v value.Value, at source.Pos) {
	l.end(at)
	if len(l.lines) == strings.Count(v.Text(), "\n")+1 {
		l.record.own.keep(v, l.lines)
	}
}

// severalLines reports whether a value is a text whose lines are worth telling apart.
func severalLines(v value.Value) bool {
	return v.Kind() == value.String && strings.Contains(v.Text(), "\n")
}

// joined notes the lines of a text that was put together of others at a place.
func (t *textRecord) joined(v value.Value, at source.Pos, parts ...value.Value) {
	if t == nil || !severalLines(v) || !t.own.takes(v) {
		return
	}
	l := &lining{record: t}
	for _, part := range parts {
		l.value(part, at)
	}
	l.keep(v, at)
}

// called notes the lines of a text that a built-in function made of others: of a list that it joined, or of a
// text with as many lines, of which those that are as they were come from where they came from.
func (t *textRecord) called(v value.Value, at source.Pos, arguments []value.Value) {
	if t == nil || !severalLines(v) || len(arguments) == 0 || !t.own.takes(v) {
		return
	}
	first := arguments[0]
	switch {
	case first.Kind() == value.List && len(arguments) == 2 && arguments[1].Kind() == value.String:
		var parts []value.Value
		length := 0
		for i, x := range first.Elements() {
			if i > 0 {
				parts = append(parts, arguments[1])
			}
			parts = append(parts, x)
			if x.Kind() != value.String {
				return
			}
		}
		for _, part := range parts {
			length += len(part.Text())
		}
		if length == len(v.Text()) {
			t.joined(v, at, parts...)
		}
	case severalLines(first):
		now, before, lines := strings.Split(v.Text(), "\n"), strings.Split(first.Text(), "\n"), t.lines(first)
		if len(now) != len(before) {
			return
		}
		all := make([]LineOrigin, len(now))
		for i := range now {
			if all[i] = (LineOrigin{Origin: v.Origin()}); now[i] == before[i] {
				all[i] = lines[i]
			}
		}
		t.own.keep(v, all)
	}
}

// taken returns the lines of a text that was taken apart, each from where it comes from. How many there are depends on
// the whole text, as the list does.
func (t *textRecord) taken(v value.Value, arguments []value.Value) value.Value {
	if t == nil || v.Kind() != value.List || len(arguments) != 1 || !severalLines(arguments[0]) {
		return v
	}
	texts := strings.Split(strings.TrimSuffix(arguments[0].Text(), "\n"), "\n")
	if len(texts) != v.Len() {
		return v
	}
	lines := t.known(arguments[0])
	elements := make([]value.Value, len(texts))
	for i, x := range v.Elements() {
		if lines == nil || x.Kind() != value.String || x.Text() != texts[i] {
			return v
		}
		elements[i] = x.WithOrigin(lines[i].Origin)
	}
	return value.ListOf(elements, v.Origin())
}

// inserted notes the lines of a string with what was inserted into it, by the number of the part.
func (t *textRecord) inserted(v value.Value, e *syntax.String, values []value.Value) {
	if !t.own.takes(v) {
		return
	}
	l, line := &lining{record: t}, 0
	at := func() source.Pos {
		if line < len(e.Lines) {
			return e.Lines[line]
		}
		return e.Place().Start
	}
	next := func() source.Pos {
		line++
		return at()
	}
	for i := range e.Parts {
		switch p := &e.Parts[i]; {
		case p.Value == nil:
			l.literal(p.Text, at(), next)
		case p.Line:
			l.own(values[i], at())
			line++
		default:
			l.value(values[i], at())
		}
	}
	l.keep(v, at())
}
