package syntax

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
)

// Limits on how deep a text may nest, so that no stage after this one has to fear for its stack: maxDepth brackets
// and prefixes inside each other, maxChain operators or steps after each other.
const (
	maxDepth = 1000
	maxChain = 10000
)

// reserved are the words that are no names.
var reserved = map[string]bool{
	"let": true, "fn": true, "match": true, "is": true, "if": true, "then": true, "else": true, "for": true,
	"where": true,
	"as":    true, "with": true, "patch": true, "it": true, "env": true, "and": true, "or": true, "not": true, "in": true,
	"matches": true, "null": true, "true": true, "false": true,
}

type parser struct {
	*scanner
	at    int  // index of the current token
	free  bool // the innermost bracket ignores newlines
	arms  bool // the innermost bracket is that of a match
	mode  context
	each  string // the name of the documents in the current each
	depth int
	// broken says that an error in the current declaration was reported. What follows in it is read without a word, so
	// that as much as possible of its tree is there.
	broken bool
	ids    ID
	module *Module
	first  int // offset at which the current declaration begins
	layout *layout
	// outside says that a path is read that is in no module; named are the places of names of elements in it, which
	// may be no tokens of the language.
	outside bool
	named   map[source.Pos]bool
	inside  []bool // for each token whether it stands inside of brackets; nil when they do not fit each other
}

// bailout ends a declaration that cannot be read further; its finding is reported.
type bailout struct{}

// Parse reads a module. Whatever the text, it ends in time proportional to its length and reports at most one
// mistake of the parser for each declaration.
func Parse(file *source.File) *Module {
	module := &Module{File: file}
	if !utf8.ValidString(file.Text) {
		offset := 0
		for r, size := utf8.DecodeRuneInString(file.Text); r != utf8.RuneError || size != 1; r,
			size = utf8.DecodeRuneInString(file.Text[offset:]) {
			offset += size
		}
		module.Nameless = true
		module.Findings.Add(source.Finding{
			Code: source.NotUTF8, Span: file.Span(offset, offset+1),
			Message: fmt.Sprintf("byte 0x%02X is not UTF-8", file.Text[offset]),
			Help:    "save the file as UTF-8",
		})
		return module
	}
	p := &parser{scanner: scan(file), module: module}
	if p.conflict > 0 {
		module.Nameless = true
		module.Findings.Add(source.Finding{
			Code: source.Syntax, Span: file.Span(p.conflict-len(conflictMarker), p.conflict),
			Message: "two versions of the file were merged, and differ here",
			Help:    "keep what is right, and take out the lines that begin with <<<<<<<, ======= and >>>>>>>",
		})
		return module
	}
	p.inside = p.insideBrackets()
	p.declarations()
	return module
}

// insideBrackets tells for each token whether it stands inside of brackets; nil when a bracket is not closed, or
// another one is.
func (p *parser) insideBrackets() []bool {
	inside := make([]bool, len(p.tokens))
	var open []byte // what closes them
	for i, t := range p.tokens {
		inside[i] = len(open) > 0
		switch t.kind {
		case tokenInsert:
			open = append(open, '}')
		case tokenIllegal:
			return nil
		case tokenSign:
			if t.end == t.start {
				return nil // an insert that is not closed
			}
			switch c := p.text[t.end-1]; c {
			case '(', '[', '{':
				open = append(open, closes[string(c)][0])
			case ')', ']', '}':
				if len(open) == 0 || open[len(open)-1] != c {
					return nil
				}
				open = open[:len(open)-1]
			}
		}
	}
	if len(open) > 0 {
		return nil
	}
	return inside
}

// declarations reads all declarations of the module.
func (p *parser) declarations() {
	module := p.module
	for p.token().kind != tokenEnd {
		if declaration := p.declaration(); declaration != nil {
			module.Declarations = append(module.Declarations, declaration)
		}
	}
	module.Expressions = int(p.ids)
	module.Findings = append(module.Findings, p.findings...)
}

// layout is what the formatter has to know about tokens: which begin an entry, a branch or a declaration, and which are
// the arrows of branches; which follow the token before them without a space, as the parts of runs-on do, or with one,
// as a path after a verb does. Separators are the commas that a line end can stand for; bare are the quoted names
// behind a point that need no quotes.
type layout struct {
	starts, arrows, glued, apart, separators map[int]bool
	bare                                     map[int]string
}

func newLayout() *layout {
	return &layout{map[int]bool{}, map[int]bool{}, map[int]bool{}, map[int]bool{}, map[int]bool{}, map[int]string{}}
}

// separator notes that the current token is a comma that a line end can stand for.
func (p *parser) separator() {
	if p.layout != nil {
		p.layout.separators[p.at] = true
	}
}

// markStart notes that an entry begins at the current token.
func (p *parser) markStart() {
	if p.layout != nil {
		p.layout.starts[p.at] = true
	}
}

func (p *parser) token() token          { return p.tokens[p.at] }
func (p *parser) peek(n int) token      { return p.tokens[min(p.at+n, len(p.tokens)-1)] }
func (p *parser) textOf(t token) string { return p.text[t.start:t.end] }
func (p *parser) current() string       { return p.textOf(p.token()) }
func (p *parser) spanOf(t token) source.Span {
	return p.file.Span(t.start, t.end)
}

// span is the text from a start to the last token that was taken.
func (p *parser) span(start int) source.Span {
	end := start
	if p.at > 0 {
		end = max(start, p.tokens[p.at-1].end)
	}
	return p.file.Span(start, end)
}

func (p *parser) node(start int) node {
	id := p.ids
	p.ids++
	return node{span: p.span(start), id: id}
}

func (t token) is(p *parser, text string) bool {
	return (t.kind == tokenSign || t.kind == tokenWord) && p.text[t.start:t.end] == text
}

// sign reports whether the current token is the given sign or word.
func (p *parser) sign(text string) bool {
	t := &p.tokens[p.at]
	return t.end-t.start == len(text) && (t.kind == tokenSign || t.kind == tokenWord) && p.text[t.start:t.end] == text
}

// take takes the current token when it is the given sign or word.
func (p *parser) take(text string) bool {
	if p.sign(text) {
		p.at++
		return true
	}
	return false
}

// found describes the current token for a message.
func (p *parser) found() string {
	switch t := p.token(); t.kind {
	case tokenEnd:
		return "the end of the file"
	case tokenString, tokenOpen:
		return "a string"
	case tokenNumber:
		return "the number " + p.textOf(t)
	default:
		return fmt.Sprintf("%q", p.textOf(t))
	}
}

// fail reports an error and gives up what is being read: that ends where something like it could begin.
func (p *parser) fail(f source.Finding) {
	p.mistake(f)
	panic(bailout{})
}

// mistake reports an error, if it is the first in its declaration. It stays silent when the scanner has already
// reported something in this declaration, up to here: that one is the cause.
func (p *parser) mistake(f source.Finding) {
	if p.broken {
		return
	}
	p.broken = true
	end := max(p.file.Offset(f.Span.Start), p.token().end)
	i := sort.Search(len(p.findings), func(i int) bool { return p.file.Offset(p.findings[i].Span.Start) >= p.first })
	if i == len(p.findings) || p.file.Offset(p.findings[i].Span.Start) > end {
		p.module.Findings.Add(f)
	}
}

// try reads something and reports whether it could be read to its end.
func (p *parser) try(read func()) (ok bool) {
	free, arms, mode, each, depth := p.free, p.arms, p.mode, p.each, p.depth
	defer func() {
		if problem := recover(); problem != nil {
			if _, expected := problem.(bailout); !expected {
				panic(problem)
			}
			p.broken = true
			p.free, p.arms, p.mode, p.each, p.depth = free, arms, mode, each, depth
			ok = false
		}
	}()
	read()
	return true
}

// sync goes on from an entry that begins at the token at index start, and could not be read, to where the next one may
// begin: at a comma, at the beginning of a line, or at the bracket that closes them all. Where the declaration ends
// before, it is given up.
func (p *parser) sync(start int, closing string) {
	depth := 0
	for i := start; ; i++ {
		p.at = max(p.at, i)
		t := p.tokens[i]
		switch {
		case t.kind == tokenEnd:
			panic(bailout{})
		case t.kind == tokenInsert:
			depth++
			continue
		case t.kind != tokenSign || t.end == t.start:
		case strings.Contains("([{", p.textOf(t)):
			depth++
			continue
		case strings.Contains(")]}", p.textOf(t)):
			if depth--; depth < 0 {
				if p.textOf(t) != closing || p.at > i {
					panic(bailout{})
				}
				return
			}
			continue
		}
		if depth > 0 || i < p.at || i == start {
			continue
		}
		if p.declarationAhead() {
			panic(bailout{})
		}
		if t.newline || p.sign(",") {
			return
		}
	}
}

func (p *parser) failHere(code source.Code, message, help string) {
	p.mistakeHere(code, message, help)
	panic(bailout{})
}

// mistakeHere is error at the current token.
func (p *parser) mistakeHere(code source.Code, message, help string) {
	t := p.token()
	span := p.spanOf(t)
	if t.kind == tokenEnd {
		end := len(strings.TrimRight(p.text, " \t\r\n"))
		span = p.file.Span(end, end)
	}
	p.mistake(source.Finding{Code: code, Span: span, Message: message, Help: help})
}

func (p *parser) expected(what, help string) {
	p.missing(what, help)
	panic(bailout{})
}

// missing is expected for what can be left out of the tree.
func (p *parser) missing(what, help string) {
	if help == "" {
		help = p.habit(what)
	}
	if p.token().kind == tokenSign && p.current() == "" {
		p.broken = true // the scanner closed an insert here and said so
		return
	}
	p.mistakeHere(source.Syntax, fmt.Sprintf("expected %s, found %s", what, p.found()), help)
}

func (p *parser) expect(text, where string) {
	if !p.take(text) {
		p.expected(fmt.Sprintf("%q %s", text, where), "")
	}
}

// closes maps an opening bracket to the closing one.
var closes = map[string]string{"(": ")", "[": "]", "{": "}"}

// unclosed reports the bracket at index open as never closed.
func (p *parser) unclosed(open int, closing string) {
	opener := p.tokens[open]
	p.fail(source.Finding{
		Code: source.UnclosedBracket, Span: p.spanOf(opener),
		Message: fmt.Sprintf("%q is not closed: expected %q before %s", p.textOf(opener), closing, p.found()),
		Help:    fmt.Sprintf("close it with %q", closing),
		Related: []source.Related{{Span: p.spanOf(p.token()),
			Text: fmt.Sprintf("%q is expected before this line", closing)}},
	})
}

// declarationAhead reports whether the current token begins a declaration at the left edge. What stands inside of
// brackets does not, unless one of them is not closed: then a declaration at the left edge is where it ends at the
// latest.
func (p *parser) declarationAhead() bool {
	t := p.token()
	if p.inside != nil && p.inside[p.at] {
		return false
	}
	if t.kind != tokenWord || !t.newline || t.start > 0 && p.text[t.start-1] != '\n' ||
		!beginsDeclaration(p.textOf(t)) {
		return false
	}
	next := p.peek(1)
	return !next.newline && (next.kind == tokenWord || next.kind == tokenString || next.kind == tokenOpen ||
		next.is(p, "("))
}

// description returns the text of the ## lines directly before the token at an index.
func (p *parser) description(index int) string {
	end, _ := slices.BinarySearchFunc(p.comments, index+1, func(c comment, target int) int { return c.token - target })
	var lines []string
	below := p.tokens[index].start
	for i := end - 1; i >= 0 && p.comments[i].token == index; i-- {
		c := p.comments[i]
		if !strings.HasPrefix(p.text[c.start:], "##") || strings.Count(p.text[c.end:below], "\n") != 1 {
			break
		}
		lines = append(lines, strings.TrimSpace(p.text[c.start+2:c.end]))
		below = c.start
	}
	slices.Reverse(lines)
	return strings.TrimSpace(strings.Join(lines, "\n"))
}

// declaration reads one declaration; nil when there is not even a name.
func (p *parser) declaration() (result Declaration) {
	start := p.at
	p.markStart()
	p.broken = false
	p.first, p.free, p.arms, p.mode, p.each, p.depth = p.token().start, false, false, inDocuments, "", 0
	var begun *form
	finish := func(broken bool) {
		if result == nil {
			p.module.Nameless = p.module.Nameless || begun == nil || !begun.unnamed // what has no name cannot be missed
			return
		}
		h := result.Declared()
		h.Broken = broken
		h.Span = p.span(p.tokens[start].start)
	}
	defer func() {
		if problem := recover(); problem != nil {
			if _, ok := problem.(bailout); !ok {
				panic(problem)
			}
			finish(true)
			p.skip(start)
		}
	}()
	f, b := p.form(Header{Description: p.description(start)}, inModule)
	begun = f
	f.read(p, b, func(d Declaration) { result = d })
	if t := p.token(); t.kind != tokenEnd && !t.newline {
		p.expected("the end of the line", p.behindValue())
	}
	finish(p.broken)
	if p.broken {
		p.skip(start)
	}
	return result
}

// anyOf lists words of which one is expected.
func anyOf(words []string) string {
	if len(words) == 1 {
		return fmt.Sprintf("%q", words[0])
	}
	return "one of " + strings.Join(words, ", ")
}

// skip goes on to the next declaration after the token at index start.
func (p *parser) skip(start int) {
	if p.at <= start {
		p.at = start + 1
	}
	for p.token().kind != tokenEnd && !p.declarationAhead() {
		p.at++
	}
}

// name takes a name.
func (p *parser) name(what string) Identifier {
	t := p.token()
	if t.kind != tokenWord {
		p.expected(what, "")
	}
	if word := p.textOf(t); reserved[word] {
		p.failHere(source.ReservedWord, fmt.Sprintf("%q is a reserved word and cannot be %s", word, what),
			"choose another name, such as "+word+"_")
	}
	p.at++
	return Identifier{Name: p.textOf(t), Span: p.spanOf(t)}
}

func (p *parser) use(d *Use, named func()) {
	for _, form := range []string{"stream", "text", "bytes"} {
		if p.sign(form) && p.peek(1).kind != tokenEnd && !p.peek(1).is(p, "as") {
			d.Form = form
			p.at++
			break
		}
	}
	path, ok := p.expressionOperand("the path of a file, in quotes").(*String)
	if !ok {
		p.at--
		p.expected("the path of a file, in quotes", "")
	}
	d.PathSpan = path.span
	text, plain := path.Plain()
	if !plain {
		p.fail(source.Finding{Code: source.Syntax, Span: path.span,
			Message: "the path of a file is a plain string, without ${…}", Help: "write the path out"})
	}
	d.Path = text
	if !p.take("as") {
		p.expected(`"as" and a name after the path`, fmt.Sprintf("write: use %q as %s", text, suggestedAlias(text)))
	}
	d.Name = p.name("a name for the file")
	named()
	if p.take(":") {
		d.Type = p.limitedType()
	}
}

// suggestedAlias makes a name out of the path of a file.
func suggestedAlias(path string) string {
	base := path[strings.LastIndexByte(path, '/')+1:]
	if i := strings.IndexByte(base, '.'); i > 0 {
		base = base[:i]
	}
	if base == "" || !isLetter(base[0]) || wordEnd(base, 0) != len(base) || reserved[base] {
		return "name"
	}
	return base
}

// Plain returns the text of a string without interpolation, and whether it is one.
func (s *String) Plain() (string, bool) {
	switch len(s.Parts) {
	case 0:
		return "", true
	case 1:
		return s.Parts[0].Text, s.Parts[0].Value == nil
	}
	return "", false
}

func (p *parser) input(d *Input, later bool) {
	p.expect(":", "and the type of the input")
	d.Type = p.unionType()
	if later {
		p.expect("as", "and the placeholder for the value until it is known, in quotes")
		d.Placeholder = p.quoted("the placeholder for the value until it is known")
		if text, plain := d.Placeholder.Plain(); !plain || text == "" {
			p.fail(source.Finding{Code: source.Syntax, Span: d.Placeholder.span,
				Message: "a placeholder is a plain string, not empty and without ${…}",
				Help:    "write a string that does not occur elsewhere, such as \"<" + d.Name.Name + ">\""})
		}
	}
	if p.sign("=") && (later || d.Secret) {
		help := "leave it out: the placeholder is used until the value is known"
		if d.Secret {
			help = "leave it out: a value in a file of the project is not secret; = null says that there need " +
				"not be one"
		}
		if next := p.peek(1); later || p.textOf(next) != "null" {
			p.failHere(source.Syntax, "this input has no default", help)
		}
	}
	if p.take("=") {
		d.Default = p.expression()
	}
	d.Type = p.conditions(d.Type)
	if p.take("example") {
		d.Example = p.expression()
	}
	d.Deprecated = p.deprecation()
}

// deprecation reads `deprecated "what to do instead"`, if it is there.
func (p *parser) deprecation() string {
	if p.entryAhead() || !p.take("deprecated") {
		return ""
	}
	if p.token().kind != tokenString {
		p.expected("what to use instead, in quotes", "")
	}
	text, _ := p.stringLiteral().Plain()
	return text
}

// typeAndValue reads `: T = value`, the type being optional.
func (p *parser) typeAndValue(t *Type, v *Expression) {
	if p.take(":") {
		*t = p.limitedType()
	}
	if p.sign("<") {
		p.expected(`"=" and a value`, "a list of a type is written [T], a record with any keys { *: T }")
	}
	p.expect("=", "and a value")
	*v = p.value()
}

// value reads the value of a declaration; what cannot be read of it is Bad.
func (p *parser) value() (e Expression) {
	start := p.token().start
	if !p.try(func() { e = p.expression() }) {
		e = &Bad{node: p.node(start)}
	}
	return e
}

func (p *parser) function(d *Function) {
	parameters := p.parameters(false)
	if p.broken { // nothing is known of what it takes
		panic(bailout{})
	}
	d.Parameters = parameters
	if p.take("->") {
		d.Result = p.unionType()
	}
	if p.sign("where") {
		p.expected(`"=" and the body of the function`, "put the type and its conditions in parentheses: -> (T where …)")
	}
	p.bodySign()
	d.Body = p.value()
}

// bodySign takes the sign between the head of a function and its body.
func (p *parser) bodySign() {
	if !p.take("=") {
		p.expected(`"=" and the body of the function`, "")
	}
	if p.sign(">") && p.token().start == p.tokens[p.at-1].end {
		p.at--
		p.failHere(source.Syntax, `expected "=" and the body of the function, found "=>"`,
			"write fn(x: T) -> R = …: the arrow comes before the type of the result")
	}
}

// parameters reads the parameters of a function in their parentheses; anonymous functions may leave types out.
func (p *parser) parameters(anonymous bool) []*Parameter {
	var parameters []*Parameter
	open := p.at
	p.expect("(", "and the parameters")
	p.entries(open, func() {
		parameter := &Parameter{Name: p.name("the name of a parameter")}
		if !anonymous || p.sign(":") {
			if !p.take(":") {
				p.expected(fmt.Sprintf(`":" and the type of the parameter %q`, parameter.Name.Name),
					fmt.Sprintf("write %s: T; only anonymous functions may leave types out", parameter.Name.Name))
			}
			parameter.Type = p.limitedType()
		}
		if p.take("=") {
			parameter.Default = p.expression()
		}
		parameters = append(parameters, parameter)
	})
	return parameters
}

func (p *parser) document(d *Document) {
	switch t := p.token(); {
	case t.kind == tokenString || t.kind == tokenOpen:
		d.Path = p.stringLiteral()
	case p.sign("("):
		d.Path = p.primary()
	default:
		p.expected("the path of the document: a string, or an expression in parentheses", "")
	}
	if !d.Stream && p.take("as") {
		d.Format = p.name("a format")
	}
	p.typeAndValue(&d.Type, &d.Value)
}

// entries reads what is between the bracket at index open and the one that closes it: entries separated by
// commas or newlines. It takes both brackets; the opening one is taken already.
func (p *parser) entries(open int, entry func()) {
	free, arms := p.free, p.arms
	p.free, p.arms = false, false
	closing := closes[p.textOf(p.tokens[open])]
	for first := true; ; first = false {
		if p.sign(closing) {
			break
		}
		if p.sign(",") {
			if first {
				p.failHere(source.Syntax, "a comma without an entry before it", "leave it out")
			}
			p.separator()
			p.at++
			if p.sign(",") {
				p.failHere(source.Syntax, "two commas without an entry between them", "leave one out")
			}
			if p.sign(closing) {
				break
			}
		} else if !first && !p.token().newline {
			if p.token().kind == tokenEnd || p.sign(")") || p.sign("]") || p.sign("}") {
				p.unclosed(open, closing)
			}
			p.missing(fmt.Sprintf(`",", the end of the line or %q`, closing), p.behindValue())
			p.sync(p.at, closing)
			continue
		}
		if p.token().kind == tokenEnd || p.sign(")") || p.sign("]") || p.sign("}") || p.declarationAhead() {
			p.unclosed(open, closing)
		}
		if t := p.token(); closing != "}" && t.newline && !first && p.sign("-") && p.peek(1).start > t.end {
			p.failHere(source.Syntax,
				`a line that begins with "-" and a space could go on with the line above or be an element`,
				"put the minus at the end of the line above to subtract, or directly before the number")
		}
		p.markStart()
		if at := p.at; !p.try(entry) || p.at == at {
			p.sync(at, closing)
		}
	}
	p.at++
	p.free, p.arms = free, arms
}

// behindValue is the help for a value that goes on where it should have ended: how it is written here what other
// languages write with the current token, or what is on its line, from where it begins, as a text in quotes.
func (p *parser) behindValue() string {
	if help := p.wordHabit(); help != "" {
		return help
	}
	before := p.tokens[max(0, p.at-1)]
	switch {
	case p.sign("|") && p.peek(1).is(p, "|"):
		return `"or" joins conditions of which one has to hold`
	case p.sign("|"):
		return "a function is called with its arguments in parentheses: f(x)"
	case p.sign("?") && (p.peek(1).is(p, ",") || p.peek(1).is(p, ")")):
		return `"?" leaves an entry of a record or list out; what may be missing is null in an argument: r?.name`
	case p.sign("?") || before.is(p, "?") && before.end < p.token().start:
		return "a choice is written: if c then a else b"
	case p.sign("for"):
		return "a loop makes a list by itself: for x in xs where c -> x; among other elements: ...for x in xs -> x"
	case p.sign("if"):
		return "a choice is written: if c then a else b"
	case (p.token().kind == tokenString || p.token().kind == tokenOpen) && before.kind == tokenWord &&
		before.end == p.token().start:
		return `values are put into any string in double quotes: "${name}"`
	case before.is(p, "lambda"):
		return "a function is written: fn(" + p.current() + ") = …"
	}
	return p.unquotedText()
}

// unquotedText is the help for a text that lost its quotes: all that is on the line of a value, in quotes. It is
// empty when that is none.
func (p *parser) unquotedText() string {
	line := strings.LastIndexByte(p.text[:p.token().start], '\n') + 1
	i := p.at
	for i > 0 && p.tokens[i-1].start >= line && !strings.Contains("([{,=", p.textOf(p.tokens[i-1])) {
		i--
	}
	if end, ok := p.keyEndAt(i); ok && end < p.at && p.tokens[end].is(p, ":") {
		i = end + 1
	}
	first := p.tokens[i]
	if first.is(p, "-") && p.tokens[i+1].start > first.end {
		return "the elements of a list are written in brackets: [a, b]"
	}
	if i == 0 || p.tokens[i-1].start < line || p.tokens[i-1].is(p, "{") {
		return "" // not a value
	}
	goesOn := p.sign(":") || p.token().kind == tokenWord || p.token().kind == tokenNumber
	begins := first.kind == tokenWord && !reserved[p.textOf(first)] || first.kind == tokenNumber &&
		p.tokens[i+1].start == first.end
	if i == p.at || !goesOn || !begins {
		return ""
	}
	text, _, _ := strings.Cut(p.text[first.start:], "\n")
	for _, end := range []string{" #", ", ", " }", " ]", " )"} {
		text, _, _ = strings.Cut(text, end)
	}
	text = strings.TrimRight(text, " \t\r,)]}")
	if strings.ContainsAny(text, `"'(){}\`) {
		return ""
	}
	return fmt.Sprintf(`a string is written in quotes: "%s"`, text)
}

func (p *parser) enter() {
	p.depth++
	if p.depth > maxDepth {
		p.failHere(source.TooDeep, fmt.Sprintf("nested deeper than %d levels", maxDepth),
			"give inner parts a name with let")
	}
}

func (p *parser) leave() { p.depth-- }
