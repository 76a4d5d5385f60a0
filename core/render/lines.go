package render

import (
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// Line is one line of a rendered document.
type Line struct {
	Text string
	// Value is what stands on the line, the innermost of several; Absent where only brackets do.
	Value value.Value
}

// Lines returns the lines of a document with the values that stand on them. Text is how the document is written.
func Lines(d *Document, text []byte) []Line {
	set := source.NewSet()
	file, err := set.Add(d.Path, text)
	if err != nil {
		return nil
	}
	all := strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
	l := &lines{set: set, values: make([]value.Value, len(all)+1)}
	shown := d.Value
	if d.Open {
		shown = value.WithPlaceholders(shown)
	}
	keys := data.Keys{}
	switch {
	case d.Stream:
		if read, findings := data.ReadStream(file, keys); !findings.HasErrors() {
			l.both(read, d.Value, keys)
		}
	case d.Format == data.Env:
		at := 1
		for i, v := range d.Value.Values() {
			if at < len(l.values) {
				l.values[at] = v
			}
			shownText, _ := shown.Values()[i].Scalar()
			at += 1 + strings.Count(shownText, "\n")
		}
	case d.Format == data.Text:
		l.values[1] = d.Value
	default:
		if read, findings := data.Read(file, d.Format, keys); !findings.HasErrors() {
			l.both(read, d.Value, keys)
		}
	}
	result := make([]Line, len(all))
	for i := range result {
		result[i] = Line{all[i], l.values[i+1]}
	}
	return result
}

type lines struct {
	set    *source.Set
	values []value.Value // by the number of the line, from 1
}

// both goes through what was read back and what was written, which have the same shape.
func (l *lines) both(read, written value.Value, keys data.Keys) {
	at := read.Origin().Pos()
	if key, ok := keys[at]; ok && (read.Kind() != value.Record || written.Kind() == value.Record) {
		at = key
	}
	l.put(at, written)
	switch {
	case read.Kind() == value.List && written.Kind() == value.List && read.Len() == written.Len():
		for i, x := range read.Elements() {
			l.both(x, written.Elements()[i], keys)
		}
	case read.Kind() == value.Record && written.Kind() == value.Record:
		for i, key := range read.Shape().Keys() {
			if w := written.Get(key); !w.IsAbsent() {
				l.both(read.Values()[i], w, keys)
			}
		}
	}
}

func (l *lines) put(at source.Pos, v value.Value) {
	if line := l.set.Locate(at).Line; line > 0 && line < len(l.values) {
		l.values[line] = v
	}
}
