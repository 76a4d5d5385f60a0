package data

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

// ErrCannotEdit says that a value in a file cannot be changed without touching the text around it.
var ErrCannotEdit = errors.New("this value cannot be changed without touching what is around it: change it by hand")

// ErrNotThere says that there is nothing at a path.
var ErrNotThere = errors.New("there is no value")

// byteOrderMark is what some editors put before the first character of a file.
const byteOrderMark = "\ufeff"

// edit is a change of the text of a data file. The text is never written again as a whole: a change replaces the bytes
// of one value, takes those of one entry out, or adds an entry. Where these bytes begin is known from reading the file;
// where they end, the library says for TOML; for YAML and JSON flowEnd and blockEnd find it. Whatever a change comes
// to, the file is read again and must then say just what it should, so a wrong end is refused, and never written.
type edit struct {
	file   *source.File
	text   string
	format Format
	keys   Keys
	root   value.Value
	toml   []tomlEntry // of TOML
}

// open reads a file to change it.
func openEdit(file *source.File, format Format) (*edit, error) {
	e := &edit{file: file, text: file.Text, format: format, keys: Keys{}}
	var findings source.Findings
	if e.root, findings = Read(file, format, e.keys); findings.HasErrors() {
		return nil, errors.New(findings[0].Message)
	}
	if format == TOML {
		e.toml = tomlEntries(file.Text)
	}
	return e, nil
}

// says reports whether a text of the format says just what is wanted.
func (e *edit) says(text string, wanted value.Value) bool {
	file, err := source.NewSet().Add(e.file.Path, []byte(text))
	if err != nil {
		return false
	}
	got, findings := Read(file, e.format, Keys{})
	if (got.IsNull() || got.IsAbsent()) && wanted.Len() == 0 {
		return !findings.HasErrors() // a file in which nothing is left
	}
	return !findings.HasErrors() && value.Identical(got, wanted)
}

// Set returns the text of a data file in which the value at a path of keys is another. Comments, the order of keys
// and the way in which texts are quoted stay as they are; what is not there yet is added after its neighbours.
func Set(file *source.File, format Format, path []string, v value.Value) (string, error) {
	e, err := openEdit(file, format)
	if err != nil {
		return "", err
	}
	if strings.TrimSpace(file.Text) == "" || e.root.IsNull() {
		e.root = value.Value{}
	}
	if !e.root.IsAbsent() && e.root.Kind() != value.Record {
		return "", fmt.Errorf("it is %s, not a mapping of names to values", e.root.Kind().Article())
	}
	text, err := e.set(path, v)
	if err != nil {
		return "", err
	}
	if !e.says(text, value.Put(e.root, path, v)) {
		return "", ErrCannotEdit
	}
	return text, nil
}

func (e *edit) set(path []string, v value.Value) (string, error) {
	holder, depth := e.root, 0
	for depth < len(path)-1 && holder.Kind() == value.Record && holder.Get(path[depth]).Kind() == value.Record {
		holder = holder.Get(path[depth])
		depth++
	}
	if holder.Kind() == value.Record {
		if old := holder.Get(path[depth]); !old.IsAbsent() {
			// What is in the way of a longer path is replaced as a whole.
			if depth < len(path)-1 {
				v = value.Put(value.Value{}, path[depth+1:], v)
			}
			return e.replace(holder, old, v)
		}
	}
	switch rest := path[depth:]; e.format {
	case TOML:
		return e.addTOML(holder, path[:depth], rest, v)
	case JSON:
		return e.addJSON(holder, rest, v)
	default:
		return e.addYAML(holder, rest, v)
	}
}

// replace writes another value where one is.
func (e *edit) replace(holder, old, v value.Value) (string, error) {
	x, ok := e.extent(holder, old)
	if !ok {
		return "", ErrCannotEdit
	}
	if e.format == YAML {
		return e.replaceYAML(old, v, x)
	}
	literal := ""
	if e.format == TOML {
		literal = tomlLiteral(v, e.text[x.start])
	} else if literal = JSONText(v, 0); v.Kind() == value.List || v.Kind() == value.Record {
		literal = CompactJSON(v)
	}
	return e.text[:x.start] + literal + e.text[x.end:], nil
}

// keyOf returns the offset of the key of a value.
func (e *edit) keyOf(v value.Value) (int, bool) {
	if e.format == YAML && e.isUnwritten(v) {
		return e.file.Offset(v.Origin().Pos()), true
	}
	at, ok := e.keys[v.Origin().Pos()]
	if !ok {
		return 0, false
	}
	return e.file.Offset(at), true
}

// inBrackets reports whether a record is written in brackets.
func (e *edit) inBrackets(record value.Value) bool {
	return !record.IsAbsent() && e.begins(record, "{")
}

// isDelimited reports whether a value is written in brackets or quotes.
func (e *edit) isDelimited(v value.Value) bool {
	if v.Kind() == value.List || v.Kind() == value.Record { // the first key may be in quotes
		return e.begins(v, "{[")
	}
	return v.Kind() == value.String && e.begins(v, `"'`)
}

func (e *edit) begins(v value.Value, with string) bool {
	start := e.file.Offset(v.Origin().Pos())
	return start < len(e.text) && strings.IndexByte(with, e.text[start]) >= 0
}

// extent is where an entry is: its key, and from where to where its value is. A block of YAML ends where the next line
// begins.
type extent struct{ key, start, end int }

// extent returns where the entry of a record with a value is; ok is false for a table of TOML under a header of its
// own, and where that is not known.
func (e *edit) extent(holder, v value.Value) (x extent, ok bool) {
	x.start = e.file.Offset(v.Origin().Pos())
	if e.format == TOML {
		at := slices.IndexFunc(e.toml, func(one tomlEntry) bool { return one.value == x.start })
		if at < 0 {
			return x, false
		}
		return extent{e.toml[at].key, x.start, e.toml[at].end}, true
	}
	x.key, ok = e.keyOf(v)
	if e.format == JSON || e.inBrackets(holder) || e.isDelimited(v) {
		x.end = flowEnd(e.text, x.start)
		return x, ok || v.Identity() == e.root.Identity()
	}
	x.end = e.yamlEnd(x.key, v)
	return x, ok
}

// Remove returns the text of a data file without the value at a path of keys. Comments stay, but for one on the line
// of the value; so does a record that holds nothing else, where the format can write that.
func Remove(file *source.File, format Format, path []string) (string, error) {
	e, err := openEdit(file, format)
	if err != nil {
		return "", err
	}
	holders := []value.Value{e.root} // of each step
	for _, key := range path {
		last := holders[len(holders)-1]
		if last.Kind() != value.Record || last.Get(key).IsAbsent() {
			return "", ErrNotThere
		}
		holders = append(holders, last.Get(key))
	}
	// What the record is left without anything is taken away itself, where nothing else can be written.
	for depth := len(path); depth > 0; depth-- {
		text, ok := e.remove(path[:depth], holders[depth-1], holders[depth])
		if !ok {
			return "", ErrCannotEdit
		}
		if strings.HasPrefix(file.Text, byteOrderMark) && !strings.HasPrefix(text, byteOrderMark) {
			text = byteOrderMark + text // the line of the first key is gone, what an editor put before it is not
		}
		// With its last entry a record may be gone, such as one of keys with points.
		for gone := depth; gone > 0; gone-- {
			if e.says(text, without(e.root, path[:gone])) {
				return text, nil
			}
			if holders[gone-1].Len() > 1 {
				break
			}
		}
		if holders[depth-1].Len() > 1 {
			break
		}
	}
	return "", ErrCannotEdit
}

// remove takes an entry out of the text: what is written in brackets with its comma, what has lines of its own with
// these.
func (e *edit) remove(path []string, holder, old value.Value) (string, bool) {
	text := e.text
	x, ok := e.extent(holder, old)
	if !ok {
		return e.removeTable(path)
	}
	from, end := x.key, x.end
	if e.inBrackets(holder) {
		rest := strings.TrimLeft(text[end:], " \t\r\n")
		if strings.HasPrefix(rest, ",") {
			return text[:from] + strings.TrimLeft(rest[1:], " \t\r\n"), true
		}
		head := strings.TrimRight(text[:from], " \t\r\n")
		return strings.TrimSuffix(head, ",") + text[end:], true
	}
	line := strings.LastIndexByte(text[:from], '\n') + 1
	if line == 0 && strings.HasPrefix(text, byteOrderMark) {
		line = min(from, len(byteOrderMark)) // of YAML the first key is where the mark is
	}
	if strings.Trim(text[line:from], " \t") != "" {
		return "", false
	}
	if end == from || text[end-1] != '\n' {
		next := strings.IndexByte(text[end:], '\n')
		if next < 0 {
			return text[:line], true
		}
		end += next + 1
	}
	return text[:line] + text[end:], true
}

// without returns a record without what is at a path that is there.
func without(v value.Value, path []string) value.Value {
	var b value.Builder
	for i, key := range v.Shape().Keys() {
		x := v.Values()[i]
		if key == path[0] {
			if len(path) == 1 {
				continue
			}
			x = without(x, path[1:])
		}
		b.Set(key, x)
	}
	return b.Record(v.Origin())
}

// endLine makes a text end with a line end, unless it is empty.
func endLine(text string) string {
	if text != "" && !strings.HasSuffix(text, "\n") {
		return text + "\n"
	}
	return text
}

// flowEnd returns the offset after a value that begins at an offset and is written in brackets, in quotes, or as one
// word.
func flowEnd(text string, start int) int {
	depth := 0
	for i := start; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"' || c == '\'':
			i = quotedEnd(text, i) - 1
			if depth == 0 {
				return i + 1
			}
		case c == '[' || c == '{':
			depth++
		case c == ']' || c == '}':
			if depth == 0 {
				return len(strings.TrimRight(text[:i], " \t\r\n"))
			}
			depth--
			if depth == 0 {
				return i + 1
			}
		case c == '#' && (i == 0 || strings.IndexByte(" \t\n", text[i-1]) >= 0):
			if depth == 0 {
				return len(strings.TrimRight(text[:i], " \t\r\n"))
			}
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case depth == 0 && (c == ',' || c == '\n' || c == '\r'):
			return len(strings.TrimRight(text[:i], " \t\r"))
		}
	}
	return len(strings.TrimRight(text, " \t\r\n"))
}

// quotedEnd returns the offset after a quoted text: with one quote, or three as TOML has them.
func quotedEnd(text string, start int) int {
	quote := text[start : start+1]
	if triple := strings.Repeat(quote, 3); strings.HasPrefix(text[start:], triple) {
		for i := start + 3; i < len(text); i++ {
			if text[i] == '\\' && quote == `"` {
				i++
			} else if strings.HasPrefix(text[i:], triple) {
				for strings.HasPrefix(text[i+3:], quote) {
					i++
				}
				return i + 3
			}
		}
		return len(text)
	}
	for i := start + 1; i < len(text); i++ {
		if text[i] == '\\' && quote == `"` {
			i++
		} else if text[i] == quote[0] {
			if quote == "'" && strings.HasPrefix(text[i+1:], "'") { // YAML 1.2.2 section 7.3.2: '' is a quote
				i++
				continue
			}
			return i + 1
		}
	}
	return len(text)
}

// indentOf returns the column at which the line of an offset begins.
func indentOf(text string, offset int) int {
	line := text[strings.LastIndexByte(text[:offset], '\n')+1:]
	return len(line) - len(strings.TrimLeft(line, " "))
}

// addInBrackets adds an entry after the last one of a record that is written in brackets, on a line of its own when the
// closing bracket has one.
func (e *edit) addInBrackets(holder value.Value, entry string) (string, error) {
	text := e.text
	in, ok := e.extent(value.Value{}, holder)
	if !ok || text[in.end-1] != '}' {
		return "", ErrCannotEdit
	}
	if holder.Len() == 0 {
		if strings.TrimSpace(text[in.start+1:in.end-1]) == "" {
			return text[:in.start] + "{ " + entry + " }" + text[in.end:], nil
		}
		return text[:in.start] + "{ " + entry + text[in.start+1:], nil
	}
	values := holder.Values()
	x, ok := e.extent(holder, values[len(values)-1])
	last := x.end
	if !ok { // it is a table of keys with points
		last = len(strings.TrimRight(text[:in.end-1], " \t\r\n"))
	}
	if !strings.Contains(text[last:in.end], "\n") {
		return text[:last] + ", " + entry + text[last:], nil
	}
	rest := strings.TrimRight(text[last:in.end-1], " \t\r\n") // a comment, and the comma that may be there already
	end := last + len(rest)
	if !strings.HasPrefix(strings.TrimLeft(rest, " "), ",") {
		rest = "," + rest
	}
	indent := strings.Repeat(" ", indentOf(text, e.file.Offset(values[0].Origin().Pos())))
	return text[:last] + rest + "\n" + indent + entry + text[end:], nil
}

func (e *edit) addJSON(holder value.Value, path []string, v value.Value) (string, error) {
	if e.root.IsAbsent() {
		return "{\n  " + jsonMember(path, v) + "\n}\n", nil
	}
	return e.addInBrackets(holder, jsonMember(path, v))
}

func jsonMember(path []string, v value.Value) string {
	return JSONText(value.StringOf(path[0], 0), 0) + ": " + CompactJSON(value.Put(value.Value{}, path[1:], v))
}

// Literal returns a value as it is on one line of a file of a format.
func Literal(v value.Value, format Format) string {
	switch format {
	case TOML:
		return tomlLiteral(v, 0)
	case JSON:
		return CompactJSON(v)
	}
	return yamlLiteral(v, 0)
}
