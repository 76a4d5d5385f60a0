package data

import (
	"regexp"
	"strings"

	"knothole/core/value"
)

// blockKind says which lines belong to a block of YAML (1.2.2 section 8).
type blockKind uint8

const (
	collection blockKind = iota // comments that are indented as far as it is belong to it
	edge                        // a list that is indented no further than its key: its elements are
	literal                     // a text, to which empty lines belong, and what looks like a comment
	plain                       // a scalar without quotes: a comment ends it
)

// blockEnd returns the offset of the first line after a block, of which the first line begins at an offset and the
// others are indented at least so far. Comments that are indented less, and empty lines, belong to it only where more
// of it follows.
func blockEnd(text string, start, indent int, kind blockKind) int {
	end := len(text) // of what certainly belongs to it
	certain, comment := true, false
	for at := start; ; {
		next := strings.IndexByte(text[at:], '\n')
		if next < 0 || at+next+1 == len(text) {
			if certain || kind == literal || kind == collection && !comment {
				return len(text) // empty lines at the end of a file may belong to a text in it
			}
			return end
		}
		at += next + 1
		line, _, _ := strings.Cut(text[at:], "\n")
		content := strings.TrimLeft(line, " ")
		is := len(line) - len(content)
		empty := strings.TrimSpace(line) == ""
		isComment := !empty && content[0] == '#'
		switch {
		case kind == literal && empty:
		case empty, isComment && (kind == plain || kind != literal && is < indent):
			if certain {
				end, certain = at, false
			}
			comment = comment || isComment
			if kind == plain && isComment {
				return end
			}
		case is > indent, is == indent && (kind != edge || content == "-" || strings.HasPrefix(content, "- ")):
			if indent == 0 && (strings.HasPrefix(line, "---") || strings.HasPrefix(line, "...")) {
				return min(end, at)
			}
			end, certain, comment = len(text), true, false
		case certain:
			return at
		default:
			return end
		}
	}
}

// yamlEnd returns the offset after a value that is not in brackets or quotes, and whose key is at an offset.
func (e *edit) yamlEnd(key int, v value.Value) int {
	text, start := e.text, e.file.Offset(v.Origin().Pos())
	below := indentOf(text, key) + 1 // how far what belongs to the key is indented
	switch {
	case v.Kind() == value.List && indentOf(text, start) < below:
		return blockEnd(text, start, below-1, edge)
	case v.Kind() == value.List || v.Kind() == value.Record:
		return blockEnd(text, start, indentOf(text, start), collection)
	case start < len(text) && (text[start] == '|' || text[start] == '>'):
		return blockEnd(text, start, below, literal)
	case e.isUnwritten(v):
		return key // its line is all that there is
	}
	return plainEnd(text, start, below)
}

// writtenNull is null as it is written (1.2.2 section 10.3.2).
var writtenNull = regexp.MustCompile(`^(~|null|Null|NULL)([\s,\]}]|$)`)

// isUnwritten reports whether a value is the null of a key after which nothing is written. It is located at the key.
func (e *edit) isUnwritten(v value.Value) bool {
	return v.IsNull() && !writtenNull.MatchString(e.text[e.file.Offset(v.Origin().Pos()):])
}

// plainEnd returns the offset after a plain scalar (1.2.2 section 7.3.3), of which further lines are indented.
func plainEnd(text string, start, indent int) int {
	line, _, _ := strings.Cut(text[start:], "\n")
	end := start + len(line)
	for at := range line {
		if line[at] == '#' && (at == 0 || line[at-1] == ' ' || line[at-1] == '\t') {
			return start + len(strings.TrimRight(line[:at], " \t"))
		}
	}
	if block := blockEnd(text, start, indent, plain); block > end {
		last := strings.LastIndexByte(strings.TrimRight(text[:block], " \t\r\n"), '\n') + 1
		if last > start {
			return plainEnd(text, last, 1<<30)
		}
	}
	return start + len(strings.TrimRight(line, " \t\r"))
}

// replaceYAML writes another value where one is.
func (e *edit) replaceYAML(old, v value.Value, x extent) (string, error) {
	text, quote := e.text, byte(0)
	if x.start < len(text) {
		quote = text[x.start]
	}
	literal := yamlLiteral(v, quote)
	switch {
	case e.isDelimited(old):
	case old.Kind() == value.List || old.Kind() == value.Record:
		at, ok := e.afterColon(x.key)
		if !ok {
			return "", ErrCannotEdit
		}
		comment, _, _ := strings.Cut(text[at:], "\n")
		return text[:at] + " " + literal + strings.TrimRight(comment, " \r") + "\n" + text[x.end:], nil
	case quote == '|' || quote == '>':
		literal += "\n"
	case e.isUnwritten(old):
		at, ok := e.afterColon(x.key)
		if !ok {
			return "", ErrCannotEdit
		}
		return text[:at] + " " + literal + text[at:], nil
	}
	return text[:x.start] + literal + text[x.end:], nil
}

// afterColon returns the offset after the colon of the key at an offset.
func (e *edit) afterColon(at int) (int, bool) {
	if e.text[at] == '"' || e.text[at] == '\'' {
		at = quotedEnd(e.text, at)
	}
	colon := strings.IndexByte(e.text[at:], ':')
	return at + colon + 1, colon >= 0
}

// addYAML adds an entry at the end of a mapping.
func (e *edit) addYAML(holder value.Value, path []string, v value.Value) (string, error) {
	text := e.text
	switch isFlow := e.inBrackets(holder); {
	case holder.IsAbsent() || isFlow && e.root.Len() == 0:
		if isFlow {
			start := e.file.Offset(holder.Origin().Pos())
			text = text[:start] + text[flowEnd(text, start):]
		}
		if only := strings.TrimSpace(text); only == "null" || only == "~" {
			text = ""
		}
		return endLine(text) + yamlEntry(path, v, 0), nil
	case isFlow:
		return e.addInBrackets(holder, yamlFlow(value.StringOf(path[0], 0))+": "+
			yamlFlow(value.Put(value.Value{}, path[1:], v)))
	}
	start := e.file.Offset(holder.Origin().Pos())
	indent := indentOf(text, start)
	end := blockEnd(text, start, indent, collection)
	return endLine(text[:end]) + yamlEntry(path, v, indent) + text[end:], nil
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
