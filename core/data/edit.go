package data

import (
	"errors"
	"fmt"
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

// ErrCannotEdit says that a place in a file cannot be changed without touching what stands around it.
var ErrCannotEdit = errors.New("this value cannot be changed without touching what is around it: change it by hand")

// Set returns the text of a data file in which the value at a path of keys is another. Comments, the order of keys
// and the way in which texts are quoted stay as they are; what is not there yet is added after its neighbours.
func Set(file *source.File, format Format, path []string, v value.Value) (string, error) {
	keys := Keys{}
	before, findings := Read(file, format, keys)
	if findings.HasErrors() {
		return "", errors.New(findings[0].Message)
	}
	if strings.TrimSpace(file.Text) == "" || before.IsNull() {
		before = value.Value{}
	}
	if !before.IsAbsent() && before.Kind() != value.Record {
		return "", fmt.Errorf("it is %s, not a mapping of names to values", before.Kind().Article())
	}
	text, err := edited(file, format, keys, before, path, v)
	if err != nil {
		return "", err
	}
	// Whatever was done to the text, it must now say just this.
	set := source.NewSet()
	again, err := set.Add(file.Path, []byte(text))
	if err != nil {
		return "", err
	}
	after, findings := Read(again, format, Keys{})
	if findings.HasErrors() || !value.Identical(after, value.Put(before, path, v)) {
		return "", ErrCannotEdit
	}
	return text, nil
}

// byteOrderMark is what some editors put before the first character of a file.
const byteOrderMark = "\ufeff"

// ErrNotThere says that there is nothing at a place.
var ErrNotThere = errors.New("there is no value")

// Remove returns the text of a data file without the value at a path of keys. Comments stay, but for one on the line
// of the value; so does a record that holds nothing else, where the format can write that.
func Remove(file *source.File, format Format, path []string) (string, error) {
	keys := Keys{}
	before, findings := Read(file, format, keys)
	if findings.HasErrors() {
		return "", errors.New(findings[0].Message)
	}
	holders := []value.Value{before} // of each step
	for _, key := range path {
		last := holders[len(holders)-1]
		if last.Kind() != value.Record || last.Get(key).IsAbsent() {
			return "", ErrNotThere
		}
		holders = append(holders, last.Get(key))
	}
	// What the record is left without anything is taken away itself, where nothing else can be written.
	for depth := len(path); depth > 0; depth-- {
		text, ok := removed(file, format, keys, path[:depth], holders[depth-1], holders[depth])
		if !ok {
			return "", ErrCannotEdit
		}
		if strings.HasPrefix(file.Text, byteOrderMark) && !strings.HasPrefix(text, byteOrderMark) {
			text = byteOrderMark + text // the line of the first key is gone, what an editor put before it is not
		}
		again, err := source.NewSet().Add(file.Path, []byte(text))
		if err != nil {
			return "", err
		}
		after, findings := Read(again, format, Keys{})
		if after.IsNull() {
			after = value.Value{} // of a file in which nothing is left
		}
		wanted := without(before, path[:depth])
		if !findings.HasErrors() && (value.Identical(after, wanted) || after.IsAbsent() && wanted.Len() == 0) {
			return text, nil
		}
		if holders[depth-1].Len() > 1 {
			break
		}
	}
	return "", ErrCannotEdit
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

// removed takes an entry out of a text: what is written in brackets with its comma, what has lines of its own with
// these.
func removed(file *source.File, format Format, keys Keys, path []string, holder, old value.Value) (string, bool) {
	text := file.Text
	start := file.Offset(old.Origin().Pos())
	if format == TOML && old.Kind() == value.Record && (start >= len(text) || text[start] != '{') {
		header := tomlHeader(text, path)
		if header < 0 {
			return "", false
		}
		head, tail := text[:header], text[tomlTableEnd(text, header):]
		if strings.HasSuffix(head, "\n\n") || head == "" {
			tail = strings.TrimPrefix(tail, "\n") // the empty line that parted it from the next
		}
		return head + tail, true
	}
	at, ok := keys[old.Origin().Pos()]
	if !ok {
		return "", false
	}
	key, end := file.Offset(at), valueEnd(file, format, at, old)
	if open := file.Offset(holder.Origin().Pos()); open < key && text[open] == '{' {
		rest := strings.TrimLeft(text[end:], " \t\r\n")
		if strings.HasPrefix(rest, ",") {
			return text[:key] + strings.TrimLeft(rest[1:], " \t\r\n"), true
		}
		head := strings.TrimRight(text[:key], " \t\r\n")
		if strings.HasSuffix(head, ",") {
			return strings.TrimSuffix(head, ",") + text[end:], true
		}
		return head + text[end:], true
	}
	line := strings.LastIndexByte(text[:key], '\n') + 1
	if line == 0 && strings.HasPrefix(text, byteOrderMark) {
		line = min(key, len(byteOrderMark)) // of YAML the first key is where the mark is
	}
	if before := strings.Trim(text[line:key], " \t"); before != "" &&
		(format != TOML || !strings.HasSuffix(before, ".") || strings.ContainsAny(before, "={[,")) {
		return "", false
	}
	if end == key || text[end-1] != '\n' {
		next := strings.IndexByte(text[end:], '\n')
		if next < 0 {
			return text[:line], true
		}
		end += next + 1
	}
	return text[:line] + text[end:], true
}

// valueEnd returns the offset after a value.
func valueEnd(file *source.File, format Format, key source.Pos, v value.Value) int {
	text, start := file.Text, file.Offset(v.Origin().Pos())
	switch {
	case format != YAML, start < len(text) && strings.IndexByte(`"'{[`, text[start]) >= 0:
		return flowEnd(text, start)
	case v.Kind() == value.List && indentOf(text, start) == indentOf(text, file.Offset(key)):
		return edgeEnd(text, start)
	case v.Kind() == value.List || v.Kind() == value.Record:
		return blockEnd(text, start)
	case start < len(text) && (text[start] == '|' || text[start] == '>'):
		return blockScalarEnd(text, start)
	case v.IsNull() && (start >= len(text) || strings.IndexByte("~nN", text[start]) < 0):
		return file.Offset(key) // its line is all that there is
	}
	return plainEnd(text, start)
}

func edited(file *source.File, format Format, keys Keys, root value.Value, path []string, v value.Value) (string,
	error) {
	text := file.Text
	parent, depth := root, 0
	for depth < len(path)-1 && parent.Kind() == value.Record && parent.Get(path[depth]).Kind() == value.Record {
		parent = parent.Get(path[depth])
		depth++
	}
	if parent.Kind() == value.Record {
		if old := parent.Get(path[depth]); !old.IsAbsent() {
			// What is in the way of a longer path is replaced as a whole.
			if depth < len(path)-1 {
				v = value.Put(value.Value{}, path[depth+1:], v)
			}
			return replaced(file, format, keys, old, v)
		}
	}
	rest := path[depth:]
	switch format {
	case TOML:
		return addTOML(file, root, parent, path[:depth], rest, v), nil
	case JSON:
		return addJSON(file, root, parent, rest, v)
	}
	if parent.IsAbsent() || parent.Len() == 0 && depth == 0 {
		cleared := text
		if parent.Kind() == value.Record { // {}
			start := file.Offset(parent.Origin().Pos())
			cleared = text[:start] + text[flowEnd(text, start):]
		}
		if strings.TrimSpace(cleared) == "null" || strings.TrimSpace(cleared) == "~" {
			cleared = ""
		}
		return endLine(cleared) + yamlEntry(rest, v, 0), nil
	}
	return addYAML(file, parent, rest, v)
}

// endLine makes a text end with a line end, unless it is empty.
func endLine(text string) string {
	if text != "" && !strings.HasSuffix(text, "\n") {
		return text + "\n"
	}
	return text
}

// replaced puts another value in the place of one.
func replaced(file *source.File, format Format, keys Keys, old, v value.Value) (string, error) {
	text := file.Text
	start := file.Offset(old.Origin().Pos())
	if format == TOML && old.Kind() == value.Record && (start >= len(text) || text[start] != '{') {
		return "", ErrCannotEdit // a table under a header of its own
	}
	var end int
	literal := ""
	switch format {
	case TOML:
		end, literal = flowEnd(text, start), tomlLiteral(v, text[start])
	case JSON:
		end, literal = flowEnd(text, start), JSONText(v, 0)
		if v.Kind() == value.List || v.Kind() == value.Record {
			literal = CompactJSON(v)
		}
	default:
		quote := byte(0)
		if start < len(text) && (text[start] == '"' || text[start] == '\'') {
			quote = text[start]
		}
		literal = yamlLiteral(v, quote)
		switch {
		case start < len(text) && strings.IndexByte(`"'{[`, text[start]) >= 0:
			end = flowEnd(text, start)
		case old.Kind() == value.List || old.Kind() == value.Record:
			// A block: from its first line to the one before the next that is not indented as far.
			keyLine := strings.LastIndexByte(text[:start], '\n')
			key, ok := keys[old.Origin().Pos()]
			if !ok {
				return "", ErrCannotEdit
			}
			end = valueEnd(file, format, key, old)
			head := strings.TrimRight(text[:keyLine+1], "\n ")
			if !strings.HasSuffix(head, ":") {
				return "", ErrCannotEdit
			}
			return head + " " + literal + "\n" + text[end:], nil
		case start < len(text) && (text[start] == '|' || text[start] == '>'):
			end = blockScalarEnd(text, start)
			return text[:start] + literal + "\n" + text[end:], nil
		case old.IsNull() && (start >= len(text) || strings.IndexByte("~nN", text[start]) < 0):
			// Nothing comes after the key.
			key, ok := keys[old.Origin().Pos()]
			if !ok {
				return "", ErrCannotEdit
			}
			at := file.Offset(key)
			if text[at] == '"' || text[at] == '\'' {
				at = quotedEnd(text, at)
			}
			colon := strings.IndexByte(text[at:], ':')
			if colon < 0 {
				return "", ErrCannotEdit
			}
			at += colon + 1
			return text[:at] + " " + literal + text[at:], nil
		default:
			end = plainEnd(text, start)
		}
	}
	return text[:start] + literal + text[end:], nil
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

// plainEnd returns the offset after a plain scalar of YAML on one line.
func plainEnd(text string, start int) int {
	flow := false
	for _, c := range text[strings.LastIndexByte(text[:start], '\n')+1 : start] {
		flow = flow || c == '{' || c == '['
	}
	for i := start; i < len(text); i++ {
		c := text[i]
		if c == '\n' || c == '\r' || c == '#' && i > start && (text[i-1] == ' ' || text[i-1] == '\t') || flow &&
			(c == ',' || c == '}' || c == ']') {
			return len(strings.TrimRight(text[:i], " \t\r"))
		}
	}
	return len(strings.TrimRight(text, " \t\r\n"))
}

// indentOf returns the column at which the line of an offset begins.
func indentOf(text string, offset int) int {
	line := text[strings.LastIndexByte(text[:offset], '\n')+1:]
	return len(line) - len(strings.TrimLeft(line, " "))
}

// blockEnd returns the offset of the first line after the block that begins at an offset: one that is indented less.
// Comments that are, and empty lines, before that line belong to it.
func blockEnd(text string, start int) int {
	indent := indentOf(text, start)
	last, at, comment := len(text), start, false
	for {
		next := strings.IndexByte(text[at:], '\n')
		switch {
		case next < 0 && comment:
			return last
		case next < 0:
			return len(text) // the empty lines may belong to a text
		}
		at += next + 1
		line := text[at:]
		if i := strings.IndexByte(line, '\n'); i >= 0 {
			line = line[:i]
		}
		trimmed := strings.TrimSpace(line)
		if trimmed == "" || trimmed[0] == '#' && len(line)-len(strings.TrimLeft(line, " ")) < indent {
			last, comment = min(last, at), comment || trimmed != ""
			continue
		}
		if len(line)-len(strings.TrimLeft(line, " ")) < indent || strings.HasPrefix(line, "---") ||
			strings.HasPrefix(line, "...") {
			return min(last, at)
		}
		last, comment = len(text), false
	}
}

// edgeEnd returns the offset of the first line after a list that is indented no further than its key.
func edgeEnd(text string, start int) int {
	indent := indentOf(text, start)
	end, at := len(text), start
	for {
		next := strings.IndexByte(text[at:], '\n')
		if next < 0 {
			return end
		}
		at += next + 1
		line, _, _ := strings.Cut(text[at:], "\n")
		trimmed := strings.TrimLeft(line, " ")
		switch {
		case strings.TrimSpace(line) == "" || trimmed[0] == '#':
			end = min(end, at)
		case len(line)-len(trimmed) > indent || trimmed == "-" || strings.HasPrefix(trimmed, "- "):
			end = len(text)
		default:
			return min(end, at)
		}
	}
}

// blockScalarEnd returns the offset of the first line after a literal or folded text.
func blockScalarEnd(text string, start int) int {
	indent := indentOf(text, start)
	at := start
	for {
		next := strings.IndexByte(text[at:], '\n')
		if next < 0 {
			return len(text)
		}
		at += next + 1
		line := text[at:]
		if i := strings.IndexByte(line, '\n'); i >= 0 {
			line = line[:i]
		}
		if at >= len(text) || strings.TrimSpace(line) != "" && len(line)-len(strings.TrimLeft(line, " ")) <= indent {
			return at
		}
	}
}

// yamlLiteral writes a value on one line; quote is the one that the text before it had, 0 for none.
func yamlLiteral(v value.Value, quote byte) string {
	switch {
	case v.Kind() == value.List || v.Kind() == value.Record:
		return yamlFlow(v)
	case v.Kind() == value.String && quote == '\'' && !strings.ContainsAny(v.Text(), "\n\r\t") &&
		literalBlock(v.Text()+"x"):
		return "'" + strings.ReplaceAll(v.Text(), "'", "''") + "'"
	case v.Kind() == value.String && (quote == '"' || strings.ContainsAny(v.Text(), "\n\r")):
		return CompactJSON(v)
	}
	text, err := writeYAML(v)
	if err != nil {
		return CompactJSON(v)
	}
	return strings.TrimRight(string(text), "\n")
}

// yamlFlow writes a value in the flow style of YAML (1.2.2 section 7.4), strings without quotes where they need none.
func yamlFlow(v value.Value) string {
	switch v.Kind() {
	case value.List:
		parts := make([]string, v.Len())
		for i, x := range v.Elements() {
			parts[i] = yamlFlow(x)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case value.Record:
		if v.Len() == 0 {
			return "{}"
		}
		parts := make([]string, v.Len())
		for i, key := range v.Shape().Keys() {
			parts[i] = yamlFlow(value.StringOf(key, 0)) + ": " + yamlFlow(v.Values()[i])
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	case value.String:
		if strings.ContainsAny(v.Text(), ",[]{}:#\"'\n\r\t") {
			return CompactJSON(v)
		}
	}
	return yamlLiteral(v, 0)
}

// yamlEntry writes a new entry, for keys that lead to it.
func yamlEntry(path []string, v value.Value, indent int) string {
	var b strings.Builder
	for i, key := range path {
		b.WriteString(strings.Repeat(" ", indent+2*i) + yamlLiteral(value.StringOf(key, 0), 0) + ":")
		if i < len(path)-1 {
			b.WriteByte('\n')
		}
	}
	b.WriteString(" " + yamlLiteral(v, 0) + "\n")
	return b.String()
}

// addYAML adds an entry at the end of a mapping.
func addYAML(file *source.File, parent value.Value, path []string, v value.Value) (string, error) {
	text, start := file.Text, file.Offset(parent.Origin().Pos())
	if start < len(text) && text[start] == '{' {
		end := flowEnd(text, start) - 1
		return text[:len(strings.TrimRight(text[:end],
			" \n"))] + separator(parent) + yamlLiteral(value.StringOf(path[0], 0), 0) + ": " +
			yamlLiteral(value.Put(value.Value{}, path[1:], v), 0) + text[end:], nil
	}
	indent := indentOf(text, start)
	end := blockEnd(text, start)
	return endLine(text[:end]) + yamlEntry(path, v, indent) + text[end:], nil
}

func separator(parent value.Value) string {
	if parent.Len() == 0 {
		return " "
	}
	return ", "
}

// addJSON adds a member at the end of an object, on a line of its own when the others have one.
func addJSON(file *source.File, root, parent value.Value, path []string, v value.Value) (string, error) {
	text := file.Text
	if root.IsAbsent() {
		return "{\n  " + jsonMember(path, v) + "\n}\n", nil
	}
	start := file.Offset(parent.Origin().Pos())
	end := flowEnd(text, start) - 1
	if end <= start || text[end] != '}' {
		return "", ErrCannotEdit
	}
	inside := strings.TrimRight(text[:end], " \t\r\n")
	if parent.Len() == 0 {
		return text[:start] + "{" + " " + jsonMember(path, v) + " }" + text[end+1:], nil
	}
	between := " "
	if strings.Contains(text[len(inside):end], "\n") {
		first := file.Offset(parent.Values()[0].Origin().Pos())
		between = "\n" + strings.Repeat(" ", indentOf(text, first))
	}
	return inside + "," + between + jsonMember(path, v) + text[len(inside):], nil
}

func jsonMember(path []string, v value.Value) string {
	return JSONText(value.StringOf(path[0], 0), 0) + ": " + CompactJSON(value.Put(value.Value{}, path[1:], v))
}

// tomlLiteral writes a value; quote is the first byte of what stood there before.
func tomlLiteral(v value.Value, quote byte) string {
	if v.Kind() == value.String && quote == '\'' && !strings.ContainsAny(v.Text(), "'\n\r\t") {
		return "'" + v.Text() + "'"
	}
	w := &tomlWriter{}
	w.inline(v)
	return string(w.b)
}

// addTOML adds a key at the end of its table; a table that is not there yet is added at the end of the file.
func addTOML(file *source.File, root, parent value.Value, at, path []string, v value.Value) string {
	text := file.Text
	entry := func(path []string) string {
		keys := make([]string, len(path))
		for i, key := range path {
			keys[i] = tomlBareKey(key)
		}
		return strings.Join(keys, ".") + " = " + tomlLiteral(v, 0)
	}
	if len(at) > 0 {
		start := file.Offset(parent.Origin().Pos())
		if start < len(text) && text[start] == '{' {
			end := flowEnd(text, start) - 1
			return text[:len(strings.TrimRight(text[:end], " "))] + separator(parent) + entry(path) + " " + text[end:]
		}
		if header := tomlHeader(text, at); header >= 0 {
			end := tomlTableEnd(text, header)
			return endLine(text[:end]) + entry(path) + "\n" + text[end:]
		}
		path = append(append([]string(nil), at...), path...) // its keys are written with points
	}
	end := tomlTableEnd(text, -1)
	if len(path) > 1 && len(at) == 0 {
		keys := make([]string, len(path)-1)
		for i, key := range path[:len(path)-1] {
			keys[i] = tomlBareKey(key)
		}
		gap := ""
		if strings.TrimSpace(text) != "" {
			gap = "\n"
		}
		return endLine(text) + gap + "[" + strings.Join(keys, ".") + "]\n" + entry(path[len(path)-1:]) + "\n"
	}
	gap := ""
	if end == 0 && strings.TrimSpace(text) != "" {
		gap = "\n"
	}
	return endLine(text[:end]) + entry(path) + "\n" + gap + text[end:]
}

// tomlHeader returns the offset of the line of a table, -1 when it has none.
func tomlHeader(text string, path []string) int {
	keys := make([]string, len(path))
	for i, key := range path {
		keys[i] = tomlBareKey(key)
	}
	offset := 0
	for line := range strings.Lines(text) {
		head, _, _ := strings.Cut(strings.TrimSpace(line), "#")
		if strings.ReplaceAll(strings.TrimSpace(head), " ", "") == "["+strings.Join(keys, ".")+"]" {
			return offset
		}
		offset += len(line)
	}
	return -1
}

// tomlTableEnd returns the offset after the last key of the table whose header is at an offset; -1 for those
// before the first header.
func tomlTableEnd(text string, header int) int {
	offset, end, inside := 0, 0, header < 0
	multi := ""
	for line := range strings.Lines(text) {
		trimmed := strings.TrimSpace(line)
		switch {
		case multi != "":
			if strings.Contains(trimmed, multi) {
				multi = ""
			}
		case offset == header:
			inside = true
			end = offset + len(line)
		case inside && strings.HasPrefix(trimmed, "[") && offset > header && !strings.HasPrefix(line, " "):
			return end
		}
		if inside && trimmed != "" && trimmed[0] != '#' {
			end = offset + len(line)
			for _, quotes := range []string{`"""`, "'''"} {
				if multi == "" && strings.Count(trimmed, quotes) == 1 {
					multi = quotes
				}
			}
		}
		offset += len(line)
	}
	return end
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
