package data

import (
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"

	"knothole/core/value"
)

// tomlEntry is where an entry of a table is in a file, or the header of a table.
type tomlEntry struct {
	path            []string // from the top; of what is in an array, nil
	key, value, end int      // offsets; of a header, key is that of its line, end the one after it, and value is -1
}

// tomlEntries returns what is in a file, in its order, also in inline tables. The file has been read without errors.
func tomlEntries(text string) (all []tomlEntry) {
	if strings.HasPrefix(text, byteOrderMark) {
		text = strings.Repeat(" ", len(byteOrderMark)) + text[len(byteOrderMark):]
	}
	keysOf := func(it unstable.Iterator) (keys []string, first int) {
		first = -1
		for it.Next() {
			if keys = append(keys, string(it.Node().Data)); first < 0 {
				first = int(it.Node().Raw.Offset)
			}
		}
		return keys, first
	}
	var parser unstable.Parser
	var enter func(in []string, n *unstable.Node)
	enter = func(in []string, n *unstable.Node) {
		keys, key := keysOf(n.Key())
		end := int(n.Raw.Offset + n.Raw.Length)
		one := tomlEntry{path: slices.Concat(in, keys), key: key,
			end: key + len(strings.TrimRight(text[key:end], " \t"))}
		v := n.Value()
		if one.value = int(v.Raw.Offset); v.Kind == unstable.Array { // whose beginning the library does not give
			one.value = arrayStart(text, n.Key())
		}
		all = append(all, one)
		if v.Kind == unstable.InlineTable {
			for it := v.Children(); it.Next(); {
				if it.Node().Kind == unstable.KeyValue {
					enter(one.path, it.Node())
				}
			}
		}
	}
	var table []string
	parser.Reset([]byte(text))
	for parser.NextExpression() {
		switch n := parser.Expression(); n.Kind {
		case unstable.KeyValue:
			enter(table, n)
		case unstable.Table, unstable.ArrayTable:
			keys, first := keysOf(n.Key())
			line := strings.LastIndexByte(text[:first], '\n') + 1
			one := tomlEntry{path: keys, key: line, value: -1, end: lineEnd(text, first)}
			if table = keys; n.Kind == unstable.ArrayTable {
				one.path, table = nil, []string{} // of which there are several
			}
			all = append(all, one)
		}
	}
	return all
}

// arrayStart returns the offset of the array after keys.
func arrayStart(text string, keys unstable.Iterator) int {
	at := 0
	for keys.Next() {
		at = int(keys.Node().Raw.Offset + keys.Node().Raw.Length)
	}
	return at + strings.IndexByte(text[at:], '[')
}

// lineEnd returns the offset of the line after the one that an offset is in.
func lineEnd(text string, at int) int {
	if next := strings.IndexByte(text[at:], '\n'); next >= 0 {
		return at + next + 1
	}
	return len(text)
}

// table returns the offsets of the header of a table and after its last key; those before the first header are the
// table without a path. Ok is false when the header is missing.
func (e *edit) table(path []string) (header, end int, ok bool) {
	ok = len(path) == 0
	for _, one := range e.toml {
		switch {
		case one.value >= 0 && ok:
			end = max(end, lineEnd(e.text, one.end))
		case one.value >= 0:
		case ok:
			return header, end, true
		case slices.Equal(one.path, path):
			header, end, ok = one.key, one.end, true
		}
	}
	return header, end, ok
}

// removeTable takes a table with a header of its own out of the text.
func (e *edit) removeTable(path []string) (string, bool) {
	header, end, ok := e.table(path)
	if !ok {
		return "", false
	}
	head, tail := e.text[:header], e.text[end:]
	if strings.HasSuffix(head, "\n\n") || head == "" {
		tail = strings.TrimPrefix(tail, "\n") // the empty line that parted it from the next
	}
	return head + tail, true
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

func tomlKeys(path []string) string {
	keys := make([]string, len(path))
	for i, key := range path {
		keys[i] = tomlBareKey(key)
	}
	return strings.Join(keys, ".")
}

// addTOML adds a key at the end of its table; a table that is not there yet is added at the end of the file.
func (e *edit) addTOML(holder value.Value, at, path []string, v value.Value) (string, error) {
	text := e.text
	entry := func(path []string) string { return tomlKeys(path) + " = " + tomlLiteral(v, 0) }
	if e.inBrackets(holder) {
		return e.addInBrackets(holder, entry(path))
	}
	gap := ""
	if strings.TrimSpace(text) != "" {
		gap = "\n"
	}
	if len(path) > 1 && len(at) == 0 {
		return endLine(text) + gap + "[" + tomlKeys(path[:len(path)-1]) + "]\n" + entry(path[len(path)-1:]) + "\n", nil
	}
	_, end, ok := e.table(at)
	for !ok { // a table without a header has keys with points, in the one that it is in
		at, path = at[:len(at)-1], slices.Concat(at[len(at)-1:], path)
		_, end, ok = e.table(at)
	}
	if end > 0 {
		gap = ""
	}
	return endLine(text[:end]) + entry(path) + "\n" + gap + text[end:], nil
}
