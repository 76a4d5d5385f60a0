package render

import (
	"strings"

	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Line is one line of a rendered document.
type Line struct {
	Text string
	// Value is what is on the line, the innermost of several; Absent where only brackets do. Of a string of
	// several lines it is the line.
	Value value.Value
	// At is where it is decided; Path is the place in the document.
	At   source.Pos
	Path *place.Path
	// Number is that of the line in a string of several lines, from 1; 0 in others.
	Number int
}

// Lines returns the lines of a document with the values that are on them. Text is how the document is written.
func Lines(d *Document, text []byte, r *eval.Recorder, sources *source.Set) []Line {
	set := source.NewSet()
	file, err := set.Add(d.Path, text)
	if err != nil {
		return nil
	}
	all := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
	l := &lines{set: set, lines: make([]Line, len(all)+1), recorder: r, sources: sources}
	for i, line := range all {
		l.lines[i+1].Text = line
	}
	shown := d.Value
	if d.Open {
		shown = value.WithPlaceholders(shown)
	}
	keys := data.Keys{}
	switch {
	case d.Stream:
		if read, findings := data.ReadStream(file, keys); !findings.HasErrors() {
			l.both(read, d.Value, nil, keys)
		}
	case d.Format.Lines() == data.EntryLines:
		at := 1
		var root *place.Path
		for i, v := range d.Value.Values() {
			l.put(at, v, root.Field(d.Value.Shape().Keys()[i]))
			shownText, _ := shown.Values()[i].Scalar()
			at += 1 + strings.Count(shownText, "\n")
		}
	case d.Format.Lines() == data.TextLines:
		l.put(1, d.Value, nil)
	default:
		if read, findings := data.Read(file, d.Format, keys); !findings.HasErrors() {
			l.both(read, d.Value, nil, keys)
		}
	}
	return l.lines[1:]
}

type lines struct {
	set      *source.Set // of the document itself
	lines    []Line      // by their numbers, from 1
	recorder *eval.Recorder
	sources  *source.Set // of the project
}

// both goes through what was read back and what was written, which have the same shape.
func (l *lines) both(read, written value.Value, path *place.Path, keys data.Keys) {
	at := read.Origin().Pos()
	if key, ok := keys[at]; ok && (read.Kind() != value.Record || written.Kind() == value.Record) {
		at = key
	}
	l.put(l.set.Locate(at).Line, written, path)
	switch {
	case read.Kind() == value.List && written.Kind() == value.List && read.Len() == written.Len():
		for i, x := range read.Elements() {
			l.both(x, written.Elements()[i], path.Index(i), keys)
		}
	case read.Kind() == value.Record && written.Kind() == value.Record:
		for i, key := range read.Shape().Keys() {
			if w := written.Get(key); !w.IsAbsent() {
				l.both(read.Values()[i], w, path.Field(key), keys)
			}
		}
	}
}

// put notes what is on a line, and on those below it when it is a string of several lines that is written as it is.
func (l *lines) put(number int, v value.Value, path *place.Path) {
	if number < 1 || number >= len(l.lines) {
		return
	}
	text := l.lines[number].Text
	l.lines[number] = Line{Text: text, Value: v, At: l.recorder.Pos(v.Origin()), Path: path}
	if v.Kind() != value.String || v.Mark() != 0 || !strings.Contains(v.Text(), "\n") {
		return
	}
	texts := TextLines(l.recorder, l.sources, v)
	for _, first := range []int{number + 1, number} {
		if !l.written(first, texts) {
			continue
		}
		for i, line := range texts {
			on := &l.lines[first+i]
			on.Value, on.At, on.Path, on.Number = value.StringOf(line.Text, line.Origin), line.At, path, i+1
		}
		return
	}
}

// written reports whether lines of a text are on the lines of the document, from one on.
func (l *lines) written(first int, texts []TextLine) bool {
	for i, line := range texts {
		if first+i >= len(l.lines) || !strings.Contains(l.lines[first+i].Text, strings.TrimSpace(line.Text)) {
			return false
		}
	}
	return true
}
