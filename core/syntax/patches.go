package syntax

import (
	"fmt"
	"strings"

	"knothole/core/source"
)

// Verb is what an operation of a patch does.
type Verb uint8

// The verbs.
const (
	AddVerb Verb = iota
	ReplaceVerb
	PutVerb
	MergeVerb
	RemoveVerb
)

var verbTexts = []string{"add", "replace", "put", "merge", "remove"}

// String returns the verb as it is written.
func (v Verb) String() string { return verbTexts[v] }

// StepKind says what a step of a written path names.
type StepKind uint8

// The kinds of steps.
const (
	KeyStep       StepKind = iota // .name
	ChoiceStep                    // .{a, b}: any of these
	AnyKeyStep                    // .*: every key
	DeepStep                      // .**: any number of steps
	IndexStep                     // [2]
	EndStep                       // [end]: after the last element
	ConditionStep                 // [condition on it]: exactly one element
	EachStep                      // [*], [* where condition]: every element, or at least one
	NamedStep                     // [name]: the element that is known by a name, or the field; not in modules
)

type (
	// Patch is `patch target { … }`.
	Patch struct {
		node
		Target Expression
		Body   []Declaration
	}
	// PatchAll is `patch all documents { … }`.
	PatchAll struct {
		Header
		Body []Declaration
	}
	// Each is `each d at "k8s/**" where … { … }` in a patch. Its name is that of the header.
	Each struct {
		Header
		Optional bool       // `each?`: may match nothing
		At       Expression // a pattern of paths; nil when left out
		Where    Expression // nil when left out
		Body     []Declaration
	}
	// Operation is one operation of a patch, such as `put d.metadata.name: "x"`.
	Operation struct {
		Header
		Verb     Verb
		Optional bool // `?`: leaves alone what does not meet it
		Base     Identifier
		Steps    []*Step
		PathSpan source.Span
		Value    Expression // nil for remove
	}
)

// Step is one step of a written path.
type Step struct {
	Kind  StepKind
	Span  source.Span
	Keys  []*Key     // KeyStep, NamedStep: one; ChoiceStep: all
	Index Expression // IndexStep, ConditionStep, EachStep with a condition; nil otherwise
}

// MergeInstead writes the operation that puts a value where the step at an index, which is not the last, leads to
// nothing: a merge brings the records on the way with it. It is empty for verbs and paths for which there is none.
func (d *Operation) MergeInstead(file *source.File, missing int) string {
	if missing == 0 && d.Base.Name == "" || missing >= len(d.Steps)-1 || d.Verb != PutVerb && d.Verb != AddVerb {
		return ""
	}
	record := "…"
	for i := len(d.Steps) - 1; i >= missing; i-- {
		if d.Steps[i].Kind != KeyStep {
			return ""
		}
		record = fmt.Sprintf("{ %s: %s }", file.Slice(d.Steps[i].Keys[0].Span), record)
	}
	path := d.Base.Name
	if missing > 0 {
		path = file.Slice(d.PathSpan.To(d.Steps[missing-1].Span))
	}
	return fmt.Sprintf("merge %s: %s", path, record)
}

// inMode reads a block in which other things may stand than around it.
func (p *parser) inMode(mode context, each string, where string) []Declaration {
	outer, outerEach := p.mode, p.each
	p.mode, p.each = mode, each
	body := p.block(where)
	p.mode, p.each = outer, outerEach
	return body
}

// patch reads `patch target { … }`.
func (p *parser) patch() Expression {
	start := p.token().start
	p.at++
	p.enter()
	e := &Patch{}
	target := p.token().start
	e.Target = p.steps(target, p.expressionOperand("what is patched"))
	e.Body = p.inMode(inPatch, "", "and operations after what is patched")
	p.leave()
	e.node = p.node(start)
	if t := p.token(); (p.sign(".") || p.sign("?.") || p.sign("as")) && p.continues() ||
		(p.sign("[") || p.sign("(")) && (!t.newline || p.free) {
		p.fail(source.Finding{Code: source.Syntax, Span: p.spanOf(t),
			Message: fmt.Sprintf("%q after patch d { … }", p.textOf(t)), Help: "put patch d { … } into parentheses"})
	}
	return e
}

// patchAll reads what is behind `patch` at the top of a module.
func (p *parser) patchAll(d *PatchAll) {
	if !p.take("all") || !p.take("documents") {
		p.expected(`"all documents"`,
			"at the top of a module, write: patch all documents { … }; data is patched where it is used: let x = "+
				"patch y { … }")
	}
	d.Body = p.inMode(inPatch, "", "and operations")
}

// eachEntry reads `each d at "…" where … { … }`.
func (p *parser) eachEntry(header Header) Declaration {
	d := &Each{Header: header}
	d.Optional = p.take("?")
	d.Name = p.name("a name for each document")
	if p.take("at") {
		d.At = p.quoted("a pattern of paths")
	}
	if p.take("where") {
		d.Where = p.expression()
	}
	d.Body = p.inMode(inEach, d.Name.Name, "and operations")
	return d
}

// operation reads one operation of a patch.
func (p *parser) operation(header Header, verb Verb) Declaration {
	d := &Operation{Header: header, Verb: verb}
	d.Optional = p.take("?")
	start := p.token().start
	switch t := p.token(); {
	case p.each == "" && (p.sign(".") || p.sign("[")):
		if p.layout != nil {
			p.layout.apart[p.at] = true
		}
	case p.each == "" && (p.sign("?.") || p.sign("?[")) && !d.Optional:
		d.Optional = true // written without a space before the path
	case t.kind == tokenWord && p.textOf(t) == p.each:
		p.at++
		d.Base = Identifier{Name: p.textOf(t), Span: p.spanOf(t)}
	case p.each == "":
		help := "outside of each, a path begins at what is patched: " + d.Verb.String() + " .metadata.name"
		if t.kind == tokenWord {
			help = "outside of each, a path begins at what is patched: " + d.Verb.String() + " ." + p.textOf(t)
		}
		p.expected(`a path that begins with "." or "["`, help)
	default:
		p.expected(fmt.Sprintf("a path that begins with %q", p.each), fmt.Sprintf("write: %s %s.…", d.Verb, p.each))
	}
	for p.sign(".") || p.sign("[") || len(d.Steps) == 0 && (p.sign("?.") || p.sign("?[")) && d.Base.Name == "" {
		if len(d.Steps) >= maxChain {
			p.failHere(source.TooDeep, fmt.Sprintf("more than %d steps in a row", maxChain), "")
		}
		d.Steps = append(d.Steps, p.step())
	}
	d.PathSpan = p.span(start)
	p.checkPath(d)
	if d.Verb == RemoveVerb {
		if p.sign(":") {
			p.failHere(source.Syntax, "remove takes no value", "write replace or put to change it")
		}
		return d
	}
	p.expect(":", "and a value after the path")
	d.Value = p.expression()
	return d
}

// step reads one step of a path.
func (p *parser) step() *Step {
	start := p.token().start
	s := &Step{}
	if p.take("[") || p.take("?[") {
		p.elementStep(s, p.at-1)
		s.Span = p.span(start)
		return s
	}
	p.at++
	return p.keyStep(start, s)
}

// keyStep reads what is behind the point of a step.
func (p *parser) keyStep(start int, s *Step) *Step {
	glue := func() {
		if p.layout != nil {
			p.layout.glued[p.at] = true
		}
	}
	switch {
	case p.sign("*"):
		s.Kind = AnyKeyStep
		p.at++
		if p.sign("*") && p.token().start == p.tokens[p.at-1].end {
			glue()
			s.Kind = DeepStep
			p.at++
		}
	case p.sign("{"):
		s.Kind = ChoiceStep
		open := p.at
		p.at++
		glue()
		p.entries(open, func() { s.Keys = append(s.Keys, p.key()) })
		p.at--
		glue()
		p.at++
		if len(s.Keys) == 0 {
			p.fail(source.Finding{Code: source.Syntax, Span: p.span(start), Message: "a choice of no keys",
				Help: "write .{a, b}, or .* for every key"})
		}
	default:
		s.Keys = []*Key{p.key()}
	}
	s.Span = p.span(start)
	return s
}

// elementStep reads a step in brackets; the opening one has the index open.
func (p *parser) elementStep(s *Step, open int) {
	switch {
	case p.outside && p.namedStep(s):
	case p.sign("end") && p.peek(1).is(p, "]"):
		s.Kind = EndStep
		p.at += 2
	case p.sign("*") && p.peek(1).is(p, "]"):
		s.Kind = EachStep
		p.at += 2
	case p.sign("*") && p.peek(1).is(p, "where"):
		s.Kind = EachStep
		p.at += 2
		s.Index = p.enclosed(open, "]")
	default:
		s.Kind, s.Index = IndexStep, p.enclosed(open, "]")
		if mentionsIt(s.Index) {
			s.Kind = ConditionStep
		}
	}
}

// mentionsIt reports whether an expression speaks of the `it` around it: that of a branch of a match is what the match
// looks at, and that of a condition in a type is the value that it is on.
func mentionsIt(e Expression) bool {
	found := false
	var visit func(n Node) bool
	visit = func(n Node) bool {
		switch n := n.(type) {
		case *It:
			found = true
		case *Match:
			Inspect(n.Subject, visit)
			return false
		case *LimitedType:
			Inspect(n.Of, visit)
			return false
		}
		return !found
	}
	Inspect(e, visit)
	return found
}

// checkPath reports paths that no operation, or not this one, can meet.
func (p *parser) checkPath(d *Operation) {
	mistake := func(s *Step, message, help string) {
		p.fail(source.Finding{Code: source.ImpossiblePath, Span: s.Span, Message: message, Help: help})
	}
	for i, s := range d.Steps {
		last := i == len(d.Steps)-1
		switch {
		case s.Kind == EndStep && !last:
			mistake(s, "nothing comes after [end]", "[end] is where add puts a new element")
		case s.Kind == EndStep && d.Verb != AddVerb && d.Verb != PutVerb:
			mistake(s, fmt.Sprintf("there is nothing at [end] to %s", d.Verb), "the last element is [-1]")
		case s.Kind == DeepStep && last:
			mistake(s, `".**" does not say what is looked for`, "go on with a step, such as .**.image")
		case s.Kind == DeepStep && d.Steps[i+1].Kind == DeepStep:
			mistake(d.Steps[i+1], `".**" twice in a row`, "leave one out: it matches any number of steps")
		case d.Verb == AddVerb && last && s.Kind != KeyStep && s.Kind != IndexStep && s.Kind != EndStep:
			mistake(s, fmt.Sprintf("add puts something where nothing is, but %s finds what is there",
				p.file.Slice(s.Span)), "replace changes what is there, [end] adds to a list")
		case d.Verb == AddVerb && last && i > 0 && d.Steps[i-1].Kind == DeepStep:
			mistake(s, "add puts something where nothing is, but a step after .** finds what is there",
				"write the path")
		}
	}
	if len(d.Steps) == 0 && d.Verb == AddVerb {
		p.fail(source.Finding{Code: source.ImpossiblePath, Span: d.PathSpan,
			Message: fmt.Sprintf("%q is there already", strings.TrimSpace(p.file.Slice(d.PathSpan))),
			Help:    "write the path in it: add d.name: …"})
	}
}
