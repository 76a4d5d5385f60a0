package render

import (
	"strings"

	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/value"
)

// TextLine is one line of a text.
type TextLine struct {
	Text   string
	Origin value.Origin
	// At is where the line is written or computed: more exact than what the origin knows, where it is one of several
	// lines that are written in a file as they are.
	At source.Pos
}

// TextLines returns the lines of a text with what each comes from. What is behind the last line end is a line where it
// is not empty.
func TextLines(r *eval.Recorder, sources *source.Set, v value.Value) []TextLine {
	texts := strings.Split(v.Text(), "\n")
	lines := make([]TextLine, len(texts))
	placed := map[value.Value][]source.Pos{}
	for i, from := range r.Lines(v) {
		lines[i] = TextLine{Text: texts[i], Origin: from.Origin, At: r.Pos(from.Origin)}
		of := from.Of
		if of.IsAbsent() {
			of = value.StringOf(texts[i], from.Origin)
		}
		all, known := placed[of]
		if !known {
			all = placeLines(r, sources, of)
			placed[of] = all
		}
		if all != nil {
			lines[i].At = all[from.Line]
		}
	}
	if n := len(lines); n > 1 && lines[n-1].Text == "" {
		lines = lines[:n-1]
	}
	return lines
}

// placeLines returns where the lines of a text are written, one below the other in a file: in strings of several lines
// of templates, layers and data; nil where they are not written so.
func placeLines(r *eval.Recorder, sources *source.Set, v value.Value) []source.Pos {
	at := r.Pos(v.Origin())
	l := sources.Locate(at)
	if l.File == nil {
		return nil
	}
	texts := strings.Split(v.Text(), "\n")
	for first := l.Line; first <= l.Line+1; first++ { // the text begins on the line of its quotes, or below
		found := true
		for i, text := range texts {
			found = found && strings.Contains(l.File.Line(first+i), strings.TrimSpace(text))
		}
		if !found {
			continue
		}
		places := make([]source.Pos, len(texts))
		for i := range texts {
			if places[i] = at; first+i > l.Line {
				places[i] = l.File.Pos(l.File.LineStart(first + i))
			}
		}
		return places
	}
	return nil
}
