package eval

import (
	"errors"
	"fmt"
	"strings"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// Places is a path that was written outside of a module, on the command line or in the project file, ready to be
// followed. It may be used by several goroutines.
type Places struct {
	operation *operation // nil for a JSON Pointer
	program   *Program
	owner     *check.Object
	pointer   []string
}

// Whole is the place that is all of the data: the empty JSON Pointer (RFC 6901).
func Whole() *Places { return &Places{} }

// ParsePlaces reads a path: steps as patches have them, or [NAME] for the element that is known by a name; or, when
// it begins with a slash, a JSON Pointer (RFC 6901). The error says what is wrong with it, and at which column.
func ParsePlaces(text string, builtins *Builtins) (*Places, error) {
	written := strings.TrimSpace(text)
	if strings.HasPrefix(written, "/") {
		pointer, err := place.ParsePointer(written)
		if err != nil {
			return nil, fmt.Errorf("%q is not a JSON Pointer (RFC 6901): %w", text, err)
		}
		return &Places{pointer: pointer}, nil
	}
	if written == "" || strings.ContainsAny(written, "\n\r") {
		return nil, fmt.Errorf("a path into data is written like spec.replicas or spec.containers[*].image")
	}
	set := source.NewSet()
	file, err := set.Add("path", []byte(written))
	if err != nil {
		return nil, err
	}
	wrong := func(f source.Finding) error {
		if f.Code == source.UnknownName {
			f.Help = "in brackets, it is the element in question: [it.name == \"…\"]"
		}
		message := fmt.Sprintf("%q is not a valid path: %s, at column %d", text, f.Message, set.Locate(f.Span.Start).Column)
		if f.Help != "" {
			message += "\n  " + f.Help
		}
		return errors.New(message)
	}
	tree := syntax.ParsePath(file)
	if tree.Findings.HasErrors() {
		return nil, wrong(tree.Findings[0])
	}
	m := &check.Module{Path: "path", Tree: tree, Main: true}
	program := &check.Program{Sources: set, Store: check.NewStore(), Builtins: builtins.Builtins,
		Modules: []*check.Module{m}}
	if findings := check.Check(program); findings.HasErrors() {
		return nil, wrong(findings[0])
	}
	p := New(program, builtins, nil, nil)
	owner := m.Order[0]
	c := &compiler{program: p, module: m}
	return &Places{operation: c.compileOperation(tree.Declarations[0].(*syntax.Operation)), program: p,
		owner: owner}, nil
}

// Find returns the places in data to which the path leads, in order. When there is none, or the data does not meet a
// step that must be met, why says so.
func (p *Places) Find(data value.Value) (found []place.Found, why string) {
	found, why, _ = p.Look(data)
	return found, why
}

// Look is Find that also says over how many steps the path leads, where it leads nowhere.
func (p *Places) Look(data value.Value) (found []place.Found, why string, steps int) {
	if p.operation == nil {
		one, missing := place.Follow(data, p.pointer)
		if missing != "" {
			return nil, "there is nothing at " + missing, strings.Count(missing, "/")
		}
		return []place.Found{one}, "", 0
	}
	t := p.program.World(Environment{}).thread(p.owner)
	ok := guard(func() {
		t.run(func(f *frame) {
			var chosen []value.Origin
			pattern := p.operation.pattern(f, &chosen)
			var miss *place.Miss
			if found, miss = place.Find(data, pattern,
				func(n int) { f.spend(n, p.operation.tree.PathSpan) }); miss != nil {
				steps = miss.Step
				finding := p.operation.explain(f, miss, "")
				why = strings.TrimPrefix(finding.Message, p.operation.tree.Verb.String()+": ")
				if finding.Help != "" {
					why += "; " + finding.Help
				}
			}
		}, p.owner.Frame)
	})
	if findings := t.reports.findings; !ok && len(findings) > 0 {
		return nil, findings[len(findings)-1].Message, 0
	}
	return found, why, steps
}
