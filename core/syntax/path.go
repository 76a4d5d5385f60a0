package syntax

import (
	"fmt"
	"regexp"

	"knothole/core/source"
)

// ParsePath reads a path that stands outside of a module, on the command line or in the project file: steps as patches
// have them, the point before the first left out where it is a key, and [NAME] for the element of a list that is known
// by a name. The only declaration of the module that it returns is a replacement at the path, without a value; it is
// there when there are no findings. Whatever the text, it ends in time proportional to its length.
func ParsePath(file *source.File) *Module {
	module := &Module{File: file}
	p := &parser{scanner: scan(file), module: module, outside: true, named: map[source.Pos]bool{}}
	d := &Operation{Verb: ReplaceVerb, Optional: true}
	ok := p.try(func() { p.path(d) })
	module.Expressions = int(p.ids)
	for _, f := range p.findings { // of the scanner
		if !p.named[f.Span.Start] {
			module.Findings = append(module.Findings, f)
		}
	}
	if ok && len(module.Findings) == 0 {
		d.Span = d.PathSpan
		module.Declarations = []Declaration{d}
	}
	return module
}

// path reads the steps of a path up to the end of the text.
func (p *parser) path(d *Operation) {
	start := p.token().start
	if !p.sign(".") && !p.sign("[") {
		d.Steps = append(d.Steps, p.keyStep(start, &Step{}))
	}
	for p.sign(".") || p.sign("[") {
		if len(d.Steps) >= maxChain {
			p.failHere(source.TooDeep, fmt.Sprintf("more than %d steps in a row", maxChain), "")
		}
		d.Steps = append(d.Steps, p.step())
	}
	d.PathSpan = p.span(start)
	p.checkPath(d)
	if p.token().kind != tokenEnd {
		p.expected(`a step that begins with "." or "["`, "")
	}
}

// bareElement is an element's name that is written without quotes, such as [bay-map] or [Deployment bay-map]; ofIt is
// what looks like one, but is a condition.
var (
	bareElement = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_./:@-]*(?: [A-Za-z0-9_./:@-]+)*)\]`)
	ofIt        = regexp.MustCompile(`(^| )(it|it\..*|end)( |$)`)
)

// namedStep reads the name of an element after the opening bracket of a step, if it is one, and the closing bracket.
func (p *parser) namedStep(s *Step) bool {
	t := p.token()
	if t.kind == tokenString && p.peek(1).is(p, "]") {
		name := p.stringLiteral()
		text, _ := name.Plain()
		s.Kind, s.Keys = NamedStep, []*Key{{Name: text, Span: name.span}}
		p.at++
		return true
	}
	found := bareElement.FindStringSubmatch(p.text[t.start:])
	if found == nil || ofIt.MatchString(found[1]) {
		return false
	}
	end := t.start + len(found[1])
	s.Kind, s.Keys = NamedStep, []*Key{{Name: found[1], Span: p.file.Span(t.start, end)}}
	for p.token().start < end { // a name may hold what is no sign of the language
		p.named[p.file.Pos(p.token().start)] = true
		p.at++
	}
	p.at++
	return true
}
