// Package flow follows secrets, and what is known only after deployment, through the expressions of checked modules,
// from their declarations to where they must not be. It exists so that a secret that would get out is reported where it
// does, with the way that it took, before anything is evaluated; what it does not follow the marks of values find.
package flow

import (
	"fmt"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// Secrets returns the places at which a secret, or what is known only after deployment, gets where it must not be. Its
// program must have been checked; it fills in Tracked.
func Secrets(p *check.Program) source.Findings {
	if !p.Marked() {
		return nil
	}
	t := &analysis{program: p, globals: map[*check.Object]*taint{}, running: map[*check.Object]bool{},
		seen: map[source.Pos]bool{}, declared: map[types.Type]*taint{}}
	for _, m := range p.Modules {
		for _, o := range m.Order {
			if o.Invalid || o.Declaration.Declared().Broken {
				continue
			}
			t.owner = o
			t.declaration(m, o)
		}
	}
	p.Tracked = t.seen
	return t.findings
}

// analysis follows secrets, and what is known only after deployment, from their declarations to where they must not be.
type analysis struct {
	program  *check.Program
	findings source.Findings
	globals  map[*check.Object]*taint
	running  map[*check.Object]bool
	visits   int
	owner    *check.Object         // the current declaration
	declared map[types.Type]*taint // of values whose types have secret fields
	seen     map[source.Pos]bool   // where something was reported
}

// visitLimit is how many expressions are followed. Beyond it the marks of values find what there is.
const visitLimit = 2_000_000

func (t *analysis) declaration(m *check.Module, o *check.Object) {
	in := &frame{analysis: t, module: m, locals: map[int]*taint{}}
	switch d := o.Declaration.(type) {
	case *syntax.Let, *syntax.Input:
		t.global(o)
	case *syntax.Output:
		found := t.global(o)
		if d.Secret {
			return
		}
		if trail, path := found.find(nil, isSecretTrail, nil); trail != nil {
			in.expose(trail, path, check.OfOutput(o), d.Value)
		}
	case *syntax.Function:
		if d.Body != nil {
			in.expression(d.Body)
		}
	default:
		in.statement(d)
	}
}

// global returns the taint of a declaration that has a value.
func (t *analysis) global(o *check.Object) *taint {
	if found, ok := t.globals[o]; ok || t.running[o] || o.Invalid || o.Module == nil {
		return found
	}
	t.running[o] = true
	in := &frame{analysis: t, module: o.Module, locals: map[int]*taint{}}
	var found *taint
	switch d := o.Declaration.(type) {
	case *syntax.Input:
		what := &trail{at: o.Span,
			steps: []source.Related{{Span: o.Span, Text: fmt.Sprintf("the secret input %q", o.Name)}}}
		switch {
		case d.Secret:
			found = &taint{scalar: what}
		case d.Placeholder != nil:
			what.later, what.steps[0].Text = true, fmt.Sprintf("the later input %q", o.Name)
			found = &taint{scalar: what}
		default:
			found = t.declaredTaint(o.Type)
		}
	case *syntax.Let:
		found = either(in.expression(d.Value), t.declaredTaint(o.Type))
	case *syntax.Output:
		found = either(in.expression(d.Value), t.declaredTaint(o.Type))
		if d.Secret {
			found = &taint{scalar: &trail{at: o.Span,
				steps: []source.Related{{Span: o.Span, Text: fmt.Sprintf("the secret output %q", o.Name)}}}}
		}
	}
	delete(t.running, o)
	t.globals[o] = found
	return found
}

// declaredTaint returns the taint of a value whose type has secret fields.
func (tr *analysis) declaredTaint(t types.Type) (found *taint) {
	if t == nil {
		return nil
	}
	if known, ok := tr.declared[t]; ok {
		return known
	}
	tr.declared[t] = nil // in a type that contains itself, the first level is followed
	defer func() { tr.declared[t] = found }()
	for _, part := range types.Parts(t) {
		switch part := part.(type) {
		case *types.List:
			found = either(found, elements(tr.declaredTaint(part.Element)))
		case *types.Record:
			one := &taint{fields: map[string]*taint{}, rest: tr.declaredTaint(part.Rest)}
			for _, f := range part.Fields {
				inner := tr.declaredTaint(f.Type)
				if f.Secret {
					inner = &taint{scalar: &trail{at: f.Span,
						steps: []source.Related{{Span: f.Span, Text: fmt.Sprintf("the secret field %q", f.Name)}}}}
				}
				if inner != nil {
					one.fields[f.Name] = inner
				}
			}
			if len(one.fields) > 0 || one.rest != nil {
				found = either(found, one)
			}
		}
	}
	return found
}

// frame is what is followed at present: the module, and the taints of its local values by their places in the frame.
type frame struct {
	*analysis
	module *check.Module
	locals map[int]*taint
	// patched is what the current patch has made of its target so far; sometimes says that an operation may not
	// happen, since it is in a block.
	patched   *taint
	sometimes bool
}

func (t *frame) add(f source.Finding) {
	if !t.seen[f.Span.Start] {
		t.seen[f.Span.Start] = true
		t.findings.Add(f)
	}
}

// expose reports a secret that gets into something that is not. The marks of values would find it there too.
func (t *frame) expose(found *trail, path *place.Path, to check.Audience, whole syntax.Expression) {
	f := to.Exposed(found.at, path.String())
	f.Related = found.steps
	t.add(f)
	t.seen[whole.Place().Start] = true
}

// decides reports a trail that ends where something is decided.
func (t *frame) decides(by *taint, what string, at source.Span) {
	if by == nil || by.scalar == nil {
		return
	}
	f := check.Decides(at, what, by.scalar.mark())
	f.Related = by.scalar.steps
	t.add(f)
}
