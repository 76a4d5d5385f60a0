package compare

import (
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// Line is a line of a text of several lines that two sides have or not.
type Line struct {
	Text        string
	Left, Right int // its number, from 1; 0 where it is not
}

// Lines returns the lines of two texts, those that both have once.
func Lines(left, right string) []Line {
	a, b := linesOf(left), linesOf(right)
	var all []Line
	start := 0
	for start < len(a) && start < len(b) && a[start] == b[start] {
		start++
	}
	endA, endB := len(a), len(b)
	for endA > start && endB > start && a[endA-1] == b[endB-1] {
		endA--
		endB--
	}
	i, j := 0, 0
	upTo := func(toA, toB int) {
		for ; i < toA; i++ {
			all = append(all, Line{a[i], i + 1, 0})
		}
		for ; j < toB; j++ {
			all = append(all, Line{b[j], 0, j + 1})
		}
	}
	both := func(toA int) {
		for ; i < toA; i, j = i+1, j+1 {
			all = append(all, Line{a[i], i + 1, j + 1})
		}
	}
	both(start)
	texts := func(lines []string) []value.Value {
		values := make([]value.Value, len(lines))
		for i, line := range lines {
			values[i] = value.StringOf(line, 0)
		}
		return values
	}
	for _, pair := range commonPairs(texts(a[start:endA]), texts(b[start:endB])) {
		upTo(start+pair[0], start+pair[1])
		both(start + pair[0] + 1)
	}
	upTo(endA, endB)
	both(len(a))
	return all
}

func linesOf(text string) []string {
	return slices.Collect(strings.Lines(text))
}

// text finds out what texts that differ are: data in a format, or lines.
func (n *Node) text() {
	for _, format := range []data.Format{data.JSON, data.YAML} {
		if inner := embedded(n.Cells, format, n.known.fields); inner != nil {
			n.Change, n.Inner, n.Format = Embedded, inner, string(format)
			return
		}
	}
	if !slices.ContainsFunc(n.Cells, func(v value.Value) bool { return strings.Count(v.Text(), "\n") < 2 }) {
		n.Change = Text
	}
}

// embedded returns how the data in some texts differs; nil when one of them is no data in the format.
func embedded(cells []value.Value, format data.Format, known []string) *Node {
	inner := make([]value.Value, len(cells))
	for i, v := range cells {
		if !looksLike(v.Text(), format) {
			return nil
		}
		file, err := source.NewSet().Add("text", []byte(v.Text()))
		if err != nil {
			return nil
		}
		read, findings := data.Read(file, format, nil)
		if findings.HasErrors() || read.Kind() != value.Record && read.Kind() != value.List {
			return nil
		}
		inner[i] = read
	}
	return CompareBy(known, inner...)
}

// looksLike reports whether a text is likely to be data in a format, by its first characters: texts are read as YAML
// that begin with a key on a line of its own.
func looksLike(text string, format data.Format) bool {
	text = strings.TrimSpace(text)
	if format == data.JSON {
		return strings.HasPrefix(text, "{") || strings.HasPrefix(text, "[")
	}
	first, _, several := strings.Cut(text, "\n")
	key, rest, found := strings.Cut(first, ":")
	return several && found && !strings.ContainsAny(key, " \t#=\"'") && key != "" && (rest == "" || rest[0] == ' ')
}
