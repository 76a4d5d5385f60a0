package syntax

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
)

// context says where a declaration may stand.
type context uint8

const (
	inModule    context = 1 << iota // at the top of a module
	inDocuments                     // in a block around documents
	inTest
	inRule
	inPatch // among the operations of a patch
	inEach  // among those of an each
)

// form is one form of declaration. What begins with a word, where that may stand and how it is read is in the table of
// forms and nowhere else.
type form struct {
	word    string
	context context
	// marks are the words that may be before it.
	marks []string
	// unnamed says that it has no name: when it cannot be read, no name is missing.
	unnamed bool
	// inside says that the word also begins expressions, so that at the left edge it need not begin a declaration.
	inside bool
	// read reads what is behind the word. It tells keep of the declaration as soon as its name is known, so that it
	// is there when the rest cannot be read.
	read func(p *parser, begun beginning, keep func(Declaration))
}

// beginning is what is before what a form reads.
type beginning struct {
	header Header
	word   string
	mark   string // the word before it; empty when there is none
}

// forms are all forms, in the order in which messages list them.
var forms []*form

// marks are the words that are before the word of a form.
var marks = []string{"secret", "later"}

func init() { // for a cycle: to read a block is to read forms
	forms = []*form{
		{word: "use", context: inModule, read: func(p *parser, b beginning, keep func(Declaration)) {
			d := &Use{Header: b.header}
			p.use(d, func() { keep(d) })
		}},
		{word: "type", context: inModule, read: func(p *parser, b beginning, keep func(Declaration)) {
			d := &TypeDeclaration{Header: b.header}
			d.Name = p.name("the name of the type")
			keep(d)
			p.expect("=", "after the name of the type")
			d.Type = p.limitedType()
		}},
		{word: "input", context: inModule, marks: []string{"secret", "later"},
			read: func(p *parser, b beginning, keep func(Declaration)) {
				d := &Input{Header: b.header, Secret: b.mark == "secret"}
				d.Name = p.name("the name of the input")
				keep(d)
				p.input(d, b.mark == "later")
			}},
		{word: "let", context: inModule | inDocuments | inTest | inRule | inPatch | inEach,
			read: func(p *parser, b beginning, keep func(Declaration)) {
				d := &Let{Header: b.header}
				d.Name = p.name("the name of the value")
				keep(d)
				p.typeAndValue(&d.Type, &d.Value)
			}},
		{word: "fn", context: inModule, read: func(p *parser, b beginning, keep func(Declaration)) {
			d := &Function{Header: b.header}
			d.Name = p.name("the name of the function")
			keep(d)
			p.function(d)
		}},
		{word: "document", context: inModule | inDocuments, marks: []string{"secret"}, unnamed: true, read: readDocument},
		{word: "stream", context: inModule | inDocuments, marks: []string{"secret"}, unnamed: true, read: readDocument},
		{word: "include", context: inModule | inDocuments, unnamed: true,
			read: func(p *parser, b beginning, keep func(Declaration)) {
				d := &Include{Header: b.header, Value: p.expression()}
				if t := p.token(); t.kind == tokenWord && !t.newline && !p.sign("under") {
					p.expected(`"under" and a directory, or the end of the line`, "")
				}
				if p.take("under") {
					d.Under = p.quoted("a directory")
				}
				keep(d)
			}},
		{word: "output", context: inModule, marks: []string{"secret"},
			read: func(p *parser, b beginning, keep func(Declaration)) {
				d := &Output{Header: b.header, Secret: b.mark == "secret"}
				d.Name = p.name("the name of the output")
				keep(d)
				p.typeAndValue(&d.Type, &d.Value)
			}},
		{word: "remark", context: inModule | inDocuments, unnamed: true,
			read: func(p *parser, b beginning, keep func(Declaration)) {
				keep(&Remark{Header: b.header, Value: p.expression()})
			}},
		{word: "require", context: inModule | inDocuments | inRule, unnamed: true, read: readRequire},
		{word: "advise", context: inRule, unnamed: true, inside: true, read: readRequire},
		{word: "rule", context: inModule, read: func(p *parser, b beginning, keep func(Declaration)) {
			d := &Rule{Header: b.header}
			d.Name = p.name("the name of the rule")
			keep(d)
			p.rule(d)
		}},
		{word: "test", context: inModule, unnamed: true, read: func(p *parser, b beginning, keep func(Declaration)) {
			d := &Test{Header: b.header}
			keep(d)
			p.test(d)
		}},
		{word: "patch", context: inModule, unnamed: true, read: func(p *parser, b beginning, keep func(Declaration)) {
			d := &PatchAll{Header: b.header}
			keep(d)
			p.patchAll(d)
		}},
		{word: "expect", context: inTest, unnamed: true, inside: true,
			read: func(p *parser, b beginning, keep func(Declaration)) {
				d := &Expect{Header: b.header}
				p.expectation(d)
				keep(d)
			}},
		{word: "add", context: inPatch | inEach, unnamed: true, inside: true, read: readOperation},
		{word: "replace", context: inPatch | inEach, unnamed: true, inside: true, read: readOperation},
		{word: "put", context: inPatch | inEach, unnamed: true, inside: true, read: readOperation},
		{word: "merge", context: inPatch | inEach, unnamed: true, inside: true, read: readOperation},
		{word: "remove", context: inPatch | inEach, unnamed: true, inside: true, read: readOperation},
		{word: "each", context: inPatch, unnamed: true, inside: true,
			read: func(p *parser, b beginning, keep func(Declaration)) { keep(p.eachEntry(b.header)) }},
		{word: "if", context: inModule | inDocuments | inTest | inRule | inPatch | inEach, unnamed: true, inside: true,
			read: func(p *parser, b beginning, keep func(Declaration)) {
				d := &IfBlock{Header: b.header, Condition: p.expression()}
				d.Then = p.block("after the condition")
				if p.take("else") {
					if p.sign("if") {
						d.Else = []Declaration{p.blockEntry(Header{})}
					} else {
						d.Else = p.block(`after "else"`)
					}
				}
				keep(d)
			}},
		{word: "for", context: inModule | inDocuments | inTest | inRule | inPatch | inEach, unnamed: true,
			inside: true,
			read: func(p *parser, b beginning, keep func(Declaration)) {
				start := p.tokens[p.at-1].start
				loop := &For{}
				p.loopHead(loop)
				loop.node = p.node(start)
				d := &ForBlock{Header: b.header, Loop: loop}
				d.Body = p.block("after what it goes through")
				keep(d)
			}},
	}
}

func readRequire(p *parser, b beginning, keep func(Declaration)) {
	d := &Require{Header: b.header, Advice: b.word == "advise", Condition: p.expression()}
	if p.take("else") {
		d.Message = p.quoted("a message")
	}
	keep(d)
}

func readDocument(p *parser, b beginning, keep func(Declaration)) {
	d := &Document{Header: b.header, Secret: b.mark == "secret", Stream: b.word == "stream"}
	keep(d)
	p.document(d)
}

func readOperation(p *parser, b beginning, keep func(Declaration)) {
	keep(p.operation(b.header, Verb(slices.Index(verbTexts, b.word))))
}

// formOf returns the form that a word begins in a context; nil when there is none.
func formOf(word string, in context) *form {
	for _, f := range forms {
		if f.word == word && f.context&in != 0 {
			return f
		}
	}
	return nil
}

// words lists the words with which a declaration may begin in a context: marks are before what also begins
// expressions.
func words(in context) []string {
	var plain, marked, inside []string
	for _, f := range forms {
		switch {
		case f.context&in == 0:
			continue
		case f.inside:
			inside = append(inside, f.word)
		default:
			plain = append(plain, f.word)
		}
		for _, mark := range marks {
			if slices.Contains(f.marks, mark) && !slices.Contains(marked, mark) {
				marked = append(marked, mark)
			}
		}
	}
	slices.SortFunc(marked, func(a, b string) int { return slices.Index(marks, a) - slices.Index(marks, b) })
	if in == inModule {
		return slices.Concat(plain, marked, inside)
	}
	return slices.Concat(inside[:max(0, len(inside)-2)], plain, marked, inside[max(0, len(inside)-2):])
}

// beginsDeclaration reports whether a word at the left edge begins a declaration.
func beginsDeclaration(word string) bool {
	return slices.Contains(marks, word) || slices.ContainsFunc(forms, func(f *form) bool {
		return f.word == word && f.context&inModule != 0 && !f.inside
	})
}

// markBefore takes the mark at the current token and returns the form of the declaration after it.
func (p *parser) markBefore(mark string, in context) *form {
	var allowed []string
	for _, f := range forms {
		if f.context&in != 0 && slices.Contains(f.marks, mark) {
			allowed = append(allowed, f.word)
		}
	}
	p.at++
	t := p.token()
	if t.kind != tokenWord || t.newline || !slices.Contains(allowed, p.textOf(t)) {
		help := ""
		if t.kind == tokenWord && p.textOf(t) == "let" {
			help = "a value computed from a secret is secret anyway: leave the word out"
		} else if in != inModule {
			help = "other declarations are written outside of the braces"
		}
		p.expected(fmt.Sprintf("%s after %q", anyOf(allowed), mark), help)
	}
	return formOf(p.textOf(t), in)
}

// form reads the word of a declaration, with a mark before it, in a context.
func (p *parser) form(header Header, in context) (*form, beginning) {
	b := beginning{header: header}
	if p.token().kind == tokenWord {
		b.word = p.current()
	}
	f := formOf(b.word, in)
	if slices.Contains(marks, b.word) && slices.Contains(words(in), b.word) {
		b.mark = b.word
		f = p.markBefore(b.mark, in)
		b.word = f.word
	}
	if f == nil {
		p.noForm(b.word, in)
	}
	p.at++
	if p.layout != nil && (p.sign("(") || p.sign("[")) { // what the word is about, and no call of it
		p.layout.apart[p.at] = true
	}
	return f, b
}

// noForm reports a word that begins no declaration in a context.
func (p *parser) noForm(word string, in context) {
	all := words(in)
	near, isNear := source.Nearest(word, all)
	if in != inModule {
		help := "other declarations are written outside of the braces"
		if verb := verbHabits[word]; verb != "" && in >= inPatch {
			help = source.DidYouMean(verb)
		} else if isNear {
			help = source.DidYouMean(near)
		} else if in >= inPatch {
			help = "put, replace, add, merge and remove change what a path names"
		}
		p.expected("one of "+strings.Join(all, ", "), help)
	}
	help := "a declaration begins with one of " + strings.Join(all, ", ")
	if isNear && near != "if" && near != "for" {
		help = source.DidYouMean(near)
	}
	switch next := p.peek(1); {
	case next.is(p, "="):
		help = fmt.Sprintf("a named value is written: let %s = …", word)
	case slices.Contains([]string{"var", "const", "val", "local", "locals", "set", "def"}, word) &&
		next.kind == tokenWord && p.peek(2).is(p, "="):
		help = fmt.Sprintf("a named value is written: let %s = …", p.textOf(next))
	case slices.Contains([]string{"function", "func", "def", "fun"}, word) && next.kind == tokenWord:
		help = fmt.Sprintf("a function is written: fn %s(x: T) -> T = …", p.textOf(next))
	case slices.Contains([]string{"import", "from", "load"}, word) && next.kind == tokenString:
		help = "another file is read with: use " + p.textOf(next) + " as name"
	case p.sign("/") && (next.is(p, "/") || next.is(p, "*")), p.sign("-") && next.is(p, "-"):
		help = "a comment begins with #"
	case declarationHabits[word] != "":
		help = declarationHabits[word]
	}
	if p.token().kind == tokenIllegal {
		panic(bailout{}) // reported by the scanner
	}
	p.expected("a declaration", help)
}
