package data

import (
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"

	"knothole/core/source"
	"knothole/core/value"
)

// table is a TOML table while it is read, since tables may grow in several places.
type table struct {
	keys    []string
	entries map[string]*tableEntry
	at      source.Pos
	depth   int // how deep it is in the file
	// header says that a [header] has named this table, dotted that a dotted key has made it, closed that it is an
	// inline table: TOML 1.0 forbids to name or extend such tables again.
	header, dotted, closed bool
	inline                 bool
}

type tableEntry struct {
	value  value.Value // of a plain value
	table  *table
	tables []*table // of an array of tables
	key    source.Span
}

func newTable(at source.Pos, depth int) *table {
	return &table{entries: map[string]*tableEntry{}, at: at, depth: depth}
}

func (t *table) add(name string, e *tableEntry) {
	t.keys = append(t.keys, name)
	t.entries[name] = e
}

type tomlReader struct {
	*reader
	parser unstable.Parser
	text   string // of the file, without a byte order mark
	starts []int  // offsets of the lines on which a key of a table, or its header, stands
}

// piece notes that an expression begins with a key.
func (t *tomlReader) piece(first tomlKey) {
	start := strings.LastIndexByte(t.file.Text[:t.file.Offset(first.at.Start)], '\n') + 1
	t.starts = append(t.starts, start)
}

func (r *reader) toml() value.Value {
	t := &tomlReader{reader: r}
	root := newTable(r.file.Pos(0), 0)
	current := root
	text := r.file.Text
	if mark := "\uFEFF"; strings.HasPrefix(text, mark) { // which the library does not know: spaces are as long
		text = strings.Repeat(" ", len(mark)) + text[len(mark):]
	}
	t.text = text
	t.parser.Reset([]byte(text))
	for t.parser.NextExpression() {
		switch e := t.parser.Expression(); e.Kind {
		case unstable.KeyValue:
			t.keyValue(current, e)
		case unstable.Table:
			current = t.header(root, e, false)
		case unstable.ArrayTable:
			current = t.header(root, e, true)
		}
	}
	if err := t.parser.Error(); err != nil {
		t.mistake(err)
	}
	if !r.findings.HasErrors() {
		t.leftToLibrary()
	}
	return t.finish(root)
}

// wholeText is how long a text may be that the library reads at once: what it looks for, keys that stand twice, takes
// it as long as the square of their number.
const wholeText = 64 << 10

// leftToLibrary finds what the rules of the reader do not cover: the forms of values. A long text is read piece by
// piece, each from one line on which a key of a table stands to the next.
func (t *tomlReader) leftToLibrary() {
	pieces, before := []int{0}, 0 // and how many lines are before one
	if len(t.file.Text) > wholeText && len(t.starts) > 0 {
		pieces = t.starts
		pieces[0] = 0
	}
	for i, start := range pieces {
		end := len(t.file.Text)
		if i+1 < len(pieces) {
			end = pieces[i+1]
		}
		var all map[string]any
		var mistake *toml.DecodeError
		if err := toml.Unmarshal([]byte(t.text[start:end]), &all); errors.As(err, &mistake) {
			line, column := mistake.Position()
			t.fail(t.file.LineSpan(before+line, column), "", "this is not TOML: %s",
				strings.TrimPrefix(mistake.Error(), "toml: "))
		}
		before += strings.Count(t.file.Text[start:end], "\n")
	}
}

// tooDeepPath reports a path that leads deeper than values may nest.
func (t *tomlReader) tooDeepPath(in *table, path []tomlKey) {
	if most := maxDepth - in.depth; len(path) > most {
		t.tooDeep(path[most].at)
	}
}

func (t *tomlReader) mistake(err error) {
	var mistake *unstable.ParserError
	if !errors.As(err, &mistake) {
		t.fail(t.file.Span(0, 0), "", "this is not TOML: %s", err)
	}
	offset := int(t.parser.Range(mistake.Highlight).Offset)
	help := ""
	text := t.file.Text
	if end := t.file.TokenEnd(offset); strings.HasSuffix(strings.TrimRight(text[:offset], " "), "=") &&
		end > offset && text[offset] >= 'A' {
		word := text[offset:end]
		t.fail(t.file.Span(offset, end), fmt.Sprintf("strings are written in quotes: %q", word),
			"this is not TOML: %s is not a value", word)
	}
	switch {
	case strings.Contains(mistake.Message, "nested more than"):
		t.tooDeep(t.file.Span(offset, offset+1))
	case strings.Contains(mistake.Message, "start of value"):
		help = "strings are written in quotes"
	case strings.Contains(mistake.Message, "incomplete"):
		help = "close what is open"
	}
	t.fail(t.file.Span(offset, offset+max(1, len(mistake.Highlight))), help, "this is not TOML: %s", mistake.Message)
}

func (t *tomlReader) span(n *unstable.Node) source.Span {
	return t.file.Span(int(n.Raw.Offset), int(n.Raw.Offset+n.Raw.Length))
}

type tomlKey struct {
	name string
	at   source.Span
}

func (t *tomlReader) path(it unstable.Iterator) []tomlKey {
	var keys []tomlKey
	for it.Next() {
		keys = append(keys, tomlKey{string(it.Node().Data), t.span(it.Node())})
	}
	return keys
}

// header finds or makes the table that a [header] or [[header]] names.
func (t *tomlReader) header(root *table, e *unstable.Node, array bool) *table {
	path := t.path(e.Key())
	t.piece(path[0])
	t.tooDeepPath(root, path)
	at := root
	for i, k := range path {
		last := i == len(path)-1
		entry, ok := at.entries[k.name]
		switch {
		case !ok:
			next := newTable(k.at.Start, at.depth+1)
			entry = &tableEntry{key: k.at}
			if last && array {
				entry.tables = []*table{next}
			} else {
				entry.table = next
			}
			next.header = last
			at.add(k.name, entry)
			at = next
		case last && array:
			if entry.tables == nil {
				t.duplicate(k.name, k.at, entry.key)
				return newTable(k.at.Start, at.depth+1)
			}
			at = newTable(k.at.Start, at.depth+1)
			entry.tables = append(entry.tables, at)
		case entry.tables != nil && !last:
			at = entry.tables[len(entry.tables)-1]
		case entry.table != nil && !entry.table.closed && !(last && (entry.table.header || entry.table.dotted)):
			at = entry.table
			at.header = at.header || last
		default:
			t.duplicate(k.name, k.at, entry.key)
			return newTable(k.at.Start, at.depth+1)
		}
	}
	return at
}

// keyValue enters `a.b = value` into a table.
func (t *tomlReader) keyValue(in *table, e *unstable.Node) {
	path := t.path(e.Key())
	if !in.inline {
		t.piece(path[0])
	}
	t.tooDeepPath(in, path)
	last := path[len(path)-1]
	for _, k := range path[:len(path)-1] {
		entry, ok := in.entries[k.name]
		if !ok {
			entry = &tableEntry{table: newTable(k.at.Start, in.depth+1), key: k.at}
			entry.table.dotted = true
			in.add(k.name, entry)
		}
		if entry.table == nil || entry.table.closed || entry.table.header {
			t.duplicate(k.name, k.at, entry.key)
			return
		}
		in = entry.table
	}
	cursor := t.file.Offset(last.at.End)
	entry := t.value(e.Value(), &cursor, in.depth+1)
	entry.key = last.at
	if first, ok := in.entries[last.name]; ok {
		t.duplicate(last.name, last.at, first.key)
		return
	}
	in.add(last.name, entry)
}

// value reads a value. The library does not tell where an array begins, so a cursor that is before it goes along.
func (t *tomlReader) value(n *unstable.Node, cursor *int, depth int) *tableEntry {
	text := t.file.Text
	for *cursor < len(text) && strings.IndexByte(" \t\r\n=,#", text[*cursor]) >= 0 {
		if text[*cursor] == '#' {
			if end := strings.IndexByte(text[*cursor:], '\n'); end >= 0 {
				*cursor += end
				continue
			}
		}
		*cursor++
	}
	if depth > maxDepth {
		t.tooDeep(t.file.Span(*cursor, *cursor+1))
	}
	at := t.span(n)
	if n.Kind == unstable.Array {
		at = t.file.Span(*cursor, *cursor+1)
	}
	origin := value.From(at.Start)
	*cursor = t.file.Offset(at.End)
	raw := t.file.Slice(at)
	switch n.Kind {
	case unstable.Array:
		var elements []value.Value
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.Comment {
				continue
			}
			elements = append(elements, t.entryValue(t.value(it.Node(), cursor, depth+1)))
		}
		if end := strings.IndexByte(text[*cursor:], ']'); end >= 0 {
			*cursor += end + 1
		}
		return &tableEntry{value: value.ListOf(elements, origin)}
	case unstable.InlineTable:
		inner := newTable(at.Start, depth)
		inner.inline = true
		for it := n.Children(); it.Next(); {
			if it.Node().Kind == unstable.KeyValue {
				t.keyValue(inner, it.Node())
				*cursor = int(it.Node().Raw.Offset + it.Node().Raw.Length)
			}
		}
		inner.closed = true
		if end := strings.IndexByte(text[*cursor:], '}'); end >= 0 {
			*cursor += end + 1
		}
		return &tableEntry{table: inner}
	case unstable.String:
		return &tableEntry{value: value.StringOf(string(n.Data), origin)}
	case unstable.Bool:
		return &tableEntry{value: value.BoolOf(n.Data[0] == 't', origin)}
	case unstable.Integer:
		i, err := strconv.ParseInt(strings.ReplaceAll(raw, "_", ""), 0, 64)
		if err != nil {
			return &tableEntry{value: t.large(strings.ReplaceAll(raw, "_", ""), at, notForCounts, tooLargeInt)}
		}
		return &tableEntry{value: value.IntOf(i, origin)}
	case unstable.Float:
		f, err := strconv.ParseFloat(strings.ReplaceAll(raw, "_", ""), 64)
		if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
			t.fail(at, "put it in quotes if it is a string", "%s is not a number that can be computed with", raw)
		}
		return &tableEntry{value: value.FloatOf(f, origin)}
	}
	// Dates and times are strings, as written.
	return &tableEntry{value: value.StringOf(raw, origin)}
}

func (t *tomlReader) entryValue(e *tableEntry) value.Value {
	switch {
	case e.table != nil:
		return t.finish(e.table)
	case e.tables != nil:
		var elements []value.Value
		for _, element := range e.tables {
			elements = append(elements, t.finish(element))
		}
		return value.ListOf(elements, value.From(e.key.Start))
	}
	return e.value
}

// finish turns a table into a record.
func (t *tomlReader) finish(in *table) value.Value {
	var b value.Builder
	for _, key := range in.keys {
		e := in.entries[key]
		v := t.entryValue(e)
		if t.keys != nil {
			t.keys[v.Origin().Pos()] = e.key.Start
		}
		b.Set(key, v)
	}
	return b.Record(value.From(in.at))
}

// writeTOML writes scalars and arrays of a table before its tables.
func writeTOML(v value.Value) []byte {
	w := &tomlWriter{}
	w.table(v, nil)
	return w.b
}

type tomlWriter struct{ b []byte }

// tableLike says how an entry is written: as a [table], as [[tables]], or in line.
func tableLike(v value.Value) (single, many bool) {
	if v.Kind() == value.Record {
		return true, false
	}
	if v.Kind() != value.List || v.Len() == 0 {
		return false, false
	}
	for _, x := range v.Elements() {
		if x.Kind() != value.Record {
			return false, false
		}
	}
	return false, true
}

func (w *tomlWriter) table(v value.Value, path []string) {
	for i, key := range v.Shape().Keys() {
		if single, many := tableLike(v.Values()[i]); single || many {
			continue
		}
		w.b = append(append(w.b, tomlBareKey(key)...), " = "...)
		w.inline(v.Values()[i])
		w.b = append(w.b, '\n')
	}
	for i, key := range v.Shape().Keys() {
		x := v.Values()[i]
		inner := append(path[:len(path):len(path)], tomlBareKey(key))
		single, many := tableLike(x)
		switch {
		case single:
			if !onlyTables(x) {
				w.header("["+strings.Join(inner, ".")+"]", len(w.b) > 0)
			}
			w.table(x, inner)
		case many:
			for _, element := range x.Elements() {
				w.header("[["+strings.Join(inner, ".")+"]]", len(w.b) > 0)
				w.table(element, inner)
			}
		}
	}
}

// onlyTables reports whether a record consists of tables alone, so that its own header says nothing.
func onlyTables(v value.Value) bool {
	for _, x := range v.Values() {
		if single, many := tableLike(x); !single && !many {
			return false
		}
	}
	return v.Len() > 0
}

func (w *tomlWriter) header(text string, gap bool) {
	if gap {
		w.b = append(w.b, '\n')
	}
	w.b = append(append(w.b, text...), '\n')
}

func (w *tomlWriter) inline(v value.Value) {
	switch v.Kind() {
	case value.List:
		w.b = append(w.b, '[')
		for i, x := range v.Elements() {
			if i > 0 {
				w.b = append(w.b, ", "...)
			}
			w.inline(x)
		}
		w.b = append(w.b, ']')
	case value.Record:
		w.b = append(w.b, '{')
		for i, key := range v.Shape().Keys() {
			if i > 0 {
				w.b = append(w.b, ',')
			}
			w.b = append(append(append(w.b, ' '), tomlBareKey(key)...), " = "...)
			w.inline(v.Values()[i])
		}
		if v.Len() > 0 {
			w.b = append(w.b, ' ')
		}
		w.b = append(w.b, '}')
	case value.String:
		w.b = append(w.b, tomlQuoted(v.Text())...)
	default:
		text, _ := v.Scalar()
		w.b = append(w.b, text...)
	}
}

// tomlBareKey returns a key, in quotes unless it is a bare one (TOML 1.0, Keys).
func tomlBareKey(key string) string {
	for i := 0; i < len(key); i++ {
		c := key[i]
		if !(c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z') {
			return tomlQuoted(key)
		}
	}
	if key == "" {
		return `""`
	}
	return key
}

// tomlQuoted returns a basic string. TOML also forbids the character DEL in it.
func tomlQuoted(s string) string {
	return strings.ReplaceAll(string(appendQuoted(nil, s)), "\x7f", `\u007f`)
}
