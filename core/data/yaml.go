package data

import (
	"bytes"
	"errors"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"knothole/core/source"
	"knothole/core/value"
)

// yamlReader turns nodes into values. It keeps a cursor, since the library counts in lines and columns and files may
// have very long lines.
type yamlReader struct {
	*reader
	line, column, offset int
	expanded             int
	anchors              map[*yaml.Node]anchored // what was read
}

// anchored is a value that aliases refer to, and how many values it is.
type anchored struct {
	value value.Value
	size  int
}

func (r *reader) yaml() value.Value {
	documents := r.yamlStream(1)
	if len(documents) == 0 {
		return value.Value{}
	}
	return documents[0]
}

// yamlStream reads the documents of a file; more than so many are an error, 0 stands for any number.
func (r *reader) yamlStream(most int) []value.Value { return r.yamlPart(r.file.Text, 0, most) }

// yamlPart reads the documents of a part of a file, before which there are so many lines.
func (r *reader) yamlPart(text string, lines, most int) []value.Value {
	r.before = lines
	loader, err := yaml.NewLoader(strings.NewReader(withoutVersions(text)))
	if err != nil {
		r.fail(r.file.Span(0, 0), "", "this is not YAML: %s", err)
	}
	y := &yamlReader{reader: r, line: 1, column: 1, anchors: map[*yaml.Node]anchored{}}
	var documents []value.Value
	for {
		var document yaml.Node
		err := loader.Load(&document)
		if errors.Is(err, io.EOF) {
			return documents
		}
		if err != nil {
			r.yamlMistake(err)
		}
		if most > 0 && len(documents) == most {
			span := r.file.LineSpan(document.Line+r.before, document.Column)
			r.fail(span, "leave one document in the file, or read it with use stream",
				"a second document begins here, but only one can be read")
		}
		// Between two marks there may be nothing but comments; alone in a file that is null.
		empty := len(document.Content) == 0 || most == 0 && document.Content[0].Kind == yaml.ScalarNode &&
			document.Content[0].Value == "" && document.Content[0].Tag == "!!null"
		if !empty {
			documents = append(documents, y.value(document.Content[0], 0))
		}
	}
}

// version matches the directive for the YAML version (YAML 1.2.2, section 6.8.1). Every 1.x is read as 1.2.
var version = regexp.MustCompile(`^%YAML[ \t]+1\.[0-9]+[ \t]*(#.*)?\r?\n?$`)

// withoutVersions turns version directives into comments, because the library supports one version only. All locations
// stay the same. Directives come before the first document marker, or after a marker that ends a document.
func withoutVersions(text string) string {
	if !strings.Contains(text, "%YAML") {
		return text
	}
	var b strings.Builder
	ahead := true // nothing but directives and comments came since the file or a document began
	for line := range strings.Lines(text) {
		bare := strings.TrimSpace(strings.TrimPrefix(line, byteOrderMark))
		switch {
		case ahead && version.MatchString(line):
			line = "#" + line[1:]
		case bare == "...":
			ahead = true
		case bare != "" && bare[0] != '#' && bare[0] != '%':
			ahead = false
		}
		b.WriteString(line)
	}
	return b.String()
}

func (r *reader) yamlMistake(err error) {
	var mistake *yaml.LoadError
	if !errors.As(err, &mistake) {
		r.fail(r.file.Span(0, 0), "", "this is not YAML: %s", err)
	}
	mark := mistake.Mark
	// A quoted text that is never closed is to blame where it begins, not at the end of the file.
	if mistake.ContextMark.Line > 0 && strings.Contains(mistake.Message, "end of stream") {
		mark = mistake.ContextMark
	}
	mark.Line += r.before
	span := r.file.LineSpan(mark.Line, mark.Column)
	help := ""
	switch message := mistake.Message; {
	case strings.Contains(message, "exceeded max depth"):
		r.tooDeep(span)
	case strings.Contains(message, "mapping values are not allowed"):
		help = `put a string that contains ": " in quotes, or check the indentation`
	case strings.Contains(message, "cannot start any token") &&
		strings.HasPrefix(strings.TrimLeft(r.file.Line(mark.Line), " "), "\t"):
		help = "YAML is indented with spaces, not with tabs"
	case strings.Contains(message, "end of stream"):
		help = "close the quotes"
	case strings.Contains(message, "expected ',' or"), strings.Contains(message, "expected node content"):
		help = "close the bracket"
	}
	r.fail(span, help, "this is not YAML: %s", mistake.Message)
}

// at returns the place of a node.
func (y *yamlReader) at(n *yaml.Node) source.Pos {
	line := n.Line + y.before
	if line < y.line || line == y.line && n.Column < y.column {
		y.line, y.column, y.offset = 1, 1, 0
	}
	text := y.file.Text
	for y.line < line {
		end := strings.IndexByte(text[y.offset:], '\n')
		if end < 0 {
			break
		}
		y.offset += end + 1
		y.line++
		y.column = 1
	}
	for y.column < n.Column && y.offset < len(text) {
		_, size := utf8.DecodeRuneInString(text[y.offset:])
		y.offset += size
		y.column++
	}
	return y.file.Pos(y.offset)
}

func (y *yamlReader) value(n *yaml.Node, depth int) value.Value {
	if n.Anchor == "" || n.Kind == yaml.AliasNode {
		return y.bare(n, depth)
	}
	before := y.expanded
	v := y.bare(n, depth)
	y.anchors[n] = anchored{v, y.expanded - before}
	return v
}

// bare reads a value without looking at its anchor.
func (y *yamlReader) bare(n *yaml.Node, depth int) value.Value {
	if depth > maxDepth {
		y.tooDeep(source.At(y.at(n)))
	}
	at := y.at(n)
	y.expanded++
	origin := value.From(at)
	switch n.Kind {
	case yaml.AliasNode:
		known, ok := y.anchors[n.Alias]
		if !ok { // what an alias refers to is before it, unless it is still being read
			y.fail(source.At(at), "", "the alias *%s is inside the value that it refers to", n.Value)
		}
		if y.expanded += known.size; y.expanded > maxExpansion {
			y.fail(source.At(at), "write less by reference", "the aliases of this file expand to more than %d values",
				maxExpansion)
		}
		return known.value
	case yaml.SequenceNode:
		y.tag(n, at, "!!seq")
		elements := make([]value.Value, len(n.Content))
		for i, c := range n.Content {
			elements[i] = y.value(c, depth+1)
		}
		return value.ListOf(elements, origin)
	case yaml.MappingNode:
		y.tag(n, at, "!!map")
		return y.mapping(n, origin, depth)
	}
	return y.scalar(n, at)
}

func (y *yamlReader) tag(n *yaml.Node, at source.Pos, allowed string) {
	if n.Style&yaml.TaggedStyle != 0 && n.ShortTag() != allowed {
		y.fail(source.At(at), "leave the tag out", "the tag %s is not known", n.Tag)
	}
}

func (y *yamlReader) mapping(n *yaml.Node, origin value.Origin, depth int) value.Value {
	var b, merged value.Builder
	places := map[string]source.Pos{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, child := n.Content[i], n.Content[i+1]
		at := y.at(key)
		if key.Kind == yaml.ScalarNode && key.Tag == "!!merge" &&
			key.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) == 0 {
			y.merge(&merged, child, depth)
			continue
		}
		if key.Kind == yaml.AliasNode {
			key = key.Alias
		}
		if key.Kind != yaml.ScalarNode {
			y.fail(source.At(at), "a key is a string", "a list or record cannot be a key")
		}
		name := key.Value
		v := y.value(child, depth+1)
		if first, ok := places[name]; ok {
			y.duplicate(name, source.At(at), source.At(first))
			continue
		}
		places[name] = at
		if v.IsNull() && child.Value == "" {
			v = v.WithOrigin(value.From(at)) // an empty value is where its key does
		}
		if y.keys != nil {
			y.keys[v.Origin().Pos()] = at
		}
		b.Set(name, v)
	}
	result := b.Record(origin)
	if merged.Len() == 0 {
		return result
	}
	// Own keys win over merged ones, and are before them.
	var all value.Builder
	for i, key := range result.Shape().Keys() {
		all.Set(key, result.Values()[i])
	}
	brought := merged.Record(origin)
	for i, key := range brought.Shape().Keys() {
		if all.Index(key) < 0 {
			all.Set(key, brought.Values()[i])
		}
	}
	return all.Record(origin)
}

// merge reads what `<<` brings in: a mapping or a list of them, of which the earlier wins.
func (y *yamlReader) merge(b *value.Builder, n *yaml.Node, depth int) {
	v := y.value(n, depth+1)
	sources := []value.Value{v}
	if v.Kind() == value.List {
		sources = v.Elements()
	}
	for _, s := range sources {
		if s.Kind() != value.Record {
			y.fail(source.At(s.Origin().Pos()), "", "<< adds a mapping or a list of mappings, not %s", s.Kind().Article())
		}
		for i, key := range s.Shape().Keys() {
			if b.Index(key) < 0 {
				b.Set(key, s.Values()[i])
			}
		}
	}
}

// Plain scalars of the core schema, YAML 1.2.2 section 10.3.2.
var (
	yamlInt   = regexp.MustCompile(`^[-+]?[0-9]+$`)
	yamlOctal = regexp.MustCompile(`^0o[0-7]+$`)
	yamlHex   = regexp.MustCompile(`^0x[0-9a-fA-F]+$`)
	yamlFloat = regexp.MustCompile(`^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$`)
	yamlOdd   = regexp.MustCompile(`^([-+]?\.(inf|Inf|INF)|\.(nan|NaN|NAN))$`)
)

func (y *yamlReader) scalar(n *yaml.Node, at source.Pos) value.Value {
	origin := value.From(at)
	tag := ""
	if n.Style&yaml.TaggedStyle != 0 {
		tag = n.ShortTag()
	}
	quoted := n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0
	text := n.Value
	switch tag {
	case "":
		if quoted {
			return value.StringOf(text, origin)
		}
	case "!!str", "!":
		return value.StringOf(text, origin)
	case "!!int", "!!float", "!!bool", "!!null":
	default:
		y.fail(source.At(at), "leave the tag out", "the tag %s is not known", n.Tag)
	}
	v := y.plain(text, at)
	if tag == "" && y.keys != nil {
		y.otherwise(text, at)
	}
	if tag == "!!float" && v.Kind() == value.Int {
		v = value.FloatOf(v.Float(), origin)
	}
	if tag != "" && tag != "!!"+v.Kind().String() {
		y.fail(source.At(at), "", "%q is not what its tag %s says", text, tag)
	}
	return v
}

// What readers of YAML 1.1 take for something else than YAML 1.2 says (YAML 1.1, type repository: int, bool). They
// hold no word of what is written: it may be a secret that is in a file by error.
var otherwise = []struct {
	pattern       *regexp.Regexp
	message, help string
}{
	{regexp.MustCompile(`^[-+]?0[0-9]*[89][0-9]*$`), "this is a number here, and a string for readers of YAML 1.1",
		"leave the 0 out, or put it in quotes if it is a string"},
	{regexp.MustCompile(`^[-+]?0[0-7]+$`), "this is a decimal number here, and an octal one for readers of YAML 1.1",
		"write 0o… for an octal number, leave the 0 out for a decimal one, or put it in quotes if it is a string"},
	{regexp.MustCompile(`^(?i)(yes|no|on|off)$`), "this is a string here, and a bool for readers of YAML 1.1",
		"write true or false, or put it in quotes if it is a string"},
	{regexp.MustCompile(`^[-+]?[1-9][0-9_]*(:[0-5]?[0-9])+$`),
		"this is a string here, and a number to the base of 60 for readers of YAML 1.1", "put it in quotes"},
	{regexp.MustCompile(`^([-+]?(0b[01_]+|[0-9]+_[0-9_]*|0x[0-9a-fA-F_]*_[0-9a-fA-F_]*)|[-+]0x[0-9a-fA-F]+)$`),
		"this is a string here, and a number for readers of YAML 1.1",
		"write the digits alone, or put it in quotes if it is a string"},
}

// otherwise warns of a scalar without quotes that other readers take for something else.
func (y *yamlReader) otherwise(text string, at source.Pos) {
	if len(text) > 30 || text == "" || text[0] >= 'a' && len(text) > 3 {
		return // as most are
	}
	for _, o := range otherwise {
		if o.pattern.MatchString(text) {
			y.warnings.Add(source.Finding{Severity: source.Warning, Code: source.ReadOtherwise, Span: source.At(at),
				Message: o.message, Help: o.help})
			return
		}
	}
}

// plain resolves a scalar without quotes. Dates are strings.
func (y *yamlReader) plain(text string, at source.Pos) value.Value {
	origin := value.From(at)
	switch text {
	case "", "~", "null", "Null", "NULL":
		return value.NullOf(origin)
	case "true", "True", "TRUE":
		return value.BoolOf(true, origin)
	case "false", "False", "FALSE":
		return value.BoolOf(false, origin)
	}
	if c := text[0]; c != '-' && c != '+' && c != '.' && (c < '0' || c > '9') {
		return value.StringOf(text, origin)
	}
	base, digits := 0, text
	switch {
	case yamlInt.MatchString(text):
		base = 10
	case yamlOctal.MatchString(text):
		base, digits = 8, text[2:]
	case yamlHex.MatchString(text):
		base, digits = 16, text[2:]
	case yamlOdd.MatchString(text):
		y.fail(source.At(at), notNumber, "%s is not a number that can be computed with", text)
	case yamlFloat.MatchString(text):
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsInf(f, 0) {
			return y.large(text, source.At(at), notNumber, tooLargeFloat)
		}
		return value.FloatOf(f, origin)
	default:
		return value.StringOf(text, origin)
	}
	i, err := strconv.ParseInt(digits, base, 64)
	if err != nil {
		return y.large(text, source.At(at), notForCounts, tooLargeInt)
	}
	return value.IntOf(i, origin)
}

// WriteStream writes a list as the documents of one YAML file.
func WriteStream(list value.Value) ([]byte, error) {
	var b []byte
	for i, v := range list.Elements() {
		if i > 0 {
			b = append(b, "---\n"...)
		}
		document, err := writeYAML(v)
		if err != nil {
			return nil, err
		}
		b = append(b, document...)
	}
	return b, nil
}

// writeYAML writes block style with two spaces.
func writeYAML(v value.Value) ([]byte, error) {
	var b bytes.Buffer
	b.Grow(1024)
	dumper, err := yaml.NewDumper(&b, yaml.WithIndent(2), yaml.WithLineWidth(-1), yaml.WithCompactSeqIndent(false),
		yaml.WithUnicode(true), yaml.WithQuotePreference(yaml.QuoteDouble))
	if err != nil {
		return nil, err
	}
	nodes := yamlMemory.Get().(*yamlNodes)
	err = dumper.Dump(nodes.of(v))
	nodes.clear()
	yamlMemory.Put(nodes)
	if err != nil {
		return nil, err
	}
	if err := dumper.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// yamlMemory is what nodes are made of, which documents take by turns.
var yamlMemory = sync.Pool{New: func() any { return new(yamlNodes) }}

// yamlNodes makes the nodes of one document out of two pieces of memory.
type yamlNodes struct {
	all      []yaml.Node
	contents []*yaml.Node
	taken    int // how many of all
	used     int // how much of contents
}

// of returns the nodes of a value.
func (y *yamlNodes) of(v value.Value) *yaml.Node {
	n := countNodes(v)
	if cap(y.all) < n {
		y.all, y.contents = make([]yaml.Node, n), make([]*yaml.Node, n)
	}
	y.all, y.contents = y.all[:n], y.contents[:n]
	return y.node(v)
}

// clear forgets what the nodes hold.
func (y *yamlNodes) clear() {
	clear(y.all)
	clear(y.contents)
	y.taken, y.used = 0, 0
}

// content returns room for the nodes inside of one.
func (y *yamlNodes) content(n int) []*yaml.Node {
	y.used += n
	return y.contents[y.used-n : y.used : y.used]
}

// countNodes counts the nodes of a value, keys too.
func countNodes(v value.Value) int {
	n := 1
	switch v.Kind() {
	case value.List:
		for _, x := range v.Elements() {
			n += countNodes(x)
		}
	case value.Record:
		for _, x := range v.Values() {
			n += 1 + countNodes(x)
		}
	}
	return n
}

// take returns the next node. It has no tag: that of a string is needed only where the library has to find out
// whether it needs quotes.
func (y *yamlNodes) take(kind yaml.Kind, text string) *yaml.Node {
	n := &y.all[y.taken]
	y.taken++
	n.Kind, n.Value = kind, text
	return n
}

func (y *yamlNodes) node(v value.Value) *yaml.Node {
	switch v.Kind() {
	case value.List:
		n := y.take(yaml.SequenceNode, "")
		if v.Len() == 0 {
			n.Style = yaml.FlowStyle
		}
		n.Content = y.content(v.Len())
		for i, x := range v.Elements() {
			n.Content[i] = y.node(x)
		}
		return n
	case value.Record:
		n := y.take(yaml.MappingNode, "")
		if v.Len() == 0 {
			n.Style = yaml.FlowStyle
		}
		n.Content = y.content(2 * v.Len())
		for i, key := range v.Shape().Keys() {
			k := y.text(key)
			k.Style &^= yaml.LiteralStyle
			if strings.Contains(key, "\n") {
				k.Style = yaml.DoubleQuotedStyle
			}
			n.Content[2*i], n.Content[2*i+1] = k, y.node(v.Values()[i])
		}
		return n
	case value.String:
		return y.text(v.Text())
	case value.Null:
		return y.take(yaml.ScalarNode, "null")
	}
	text, _ := v.Scalar()
	return y.take(yaml.ScalarNode, text)
}

func (y *yamlNodes) text(s string) *yaml.Node {
	n := y.take(yaml.ScalarNode, s)
	several := strings.IndexByte(s, '\n') >= 0
	switch {
	case several && literalBlock(s):
		n.Style = yaml.LiteralStyle
	case several || odd(s):
		n.Style = yaml.DoubleQuotedStyle
	case isWord(s):
	case ambiguous(s):
		n.Style = yaml.DoubleQuotedStyle
	default:
		n.Tag = "!!str"
	}
	return n
}

// odd reports whether a text has white space other than blanks, which some readers fold.
func odd(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c == '\r' || c == '\t' || c >= 0x80 {
			return strings.ContainsAny(s, "\r\t\u0085\u2028\u2029")
		}
	}
	return false
}

// literalBlock reports whether a text of several lines survives a literal block in every reader.
func literalBlock(s string) bool {
	if strings.HasPrefix(s, " ") || strings.HasPrefix(s, "\n") || strings.Trim(s, "\n") == "" {
		return false
	}
	for line := range strings.SplitSeq(s, "\n") {
		if strings.HasSuffix(line, " ") || strings.HasSuffix(line, "\t") {
			return false
		}
	}
	for _, r := range s {
		if r != '\n' && (r < ' ' && r != '\t' || r == 0x7F || r >= 0x80 && r < 0xA0 || r == '\u2028' ||
			r == '\u2029' || r == '\uFEFF') {
			return false
		}
	}
	return true
}

// yaml11 are the words that readers of YAML 1.1 take for a bool or null (YAML 1.1, type repository).
var yaml11 = map[string]bool{
	"": true, "~": true, "null": true, "true": true, "false": true, "yes": true, "no": true, "on": true, "off": true,
	"y": true, "n": true,
	"=": true, "<<": true, ".inf": true, "-.inf": true, "+.inf": true, ".nan": true,
}

// numberLike matches whatever any reader might take for a number, a time or a date: decimal, octal, hexadecimal,
// binary, sexagesimal, with underscores or exponents.
var numberLike = regexp.MustCompile(`^[-+]?\.?[0-9][-+0-9a-fA-FxXoOtTzZ_.: ]*$`)

// isWord reports whether every reader takes a text for a string, as nearly all are: it begins with a letter and is
// longer than the words that mean something else.
func isWord(s string) bool { return len(s) > 5 && s[0] >= 'A' && s[0] != '~' && s[len(s)-1] != ':' }

// ambiguous reports whether some common reader would not take a text without quotes for a string. It is not asked for
// words.
func ambiguous(s string) bool {
	return yaml11[strings.ToLower(s)] || s[0] < 'A' && numberLike.MatchString(s) || strings.HasPrefix(s, ":") ||
		strings.HasSuffix(s, ":") || strings.HasPrefix(s, "---") || strings.HasPrefix(s, "...")
}
