package flow

import (
	"fmt"

	"knothole/core/check"
	"knothole/core/syntax"
	"knothole/core/types"
)

func (t *frame) statements(all []syntax.Declaration) {
	for _, d := range all {
		t.statement(d)
	}
}

func (t *frame) statement(d syntax.Declaration) {
	if d.Declared().Broken {
		return
	}
	switch d := d.(type) {
	case *syntax.Document:
		t.decides(t.expression(d.Path), "the path of this document", d.Path.Place())
		found := t.expression(d.Value)
		if o := t.documentType(d); o != nil {
			found = either(found, t.declaredTaint(o))
		}
		if d.Secret {
			return
		}
		if trail, path := found.find(nil, isSecretTrail, nil); trail != nil {
			name := "this document"
			if s, ok := d.Path.(*syntax.String); ok {
				if text, plain := s.Plain(); plain {
					name = text
				}
			}
			f := check.ExposedInDocument(trail.at, name, path.String())
			f.Related = trail.steps
			t.add(f)
			t.seen[d.Path.Place().Start] = true
		}
	case *syntax.Remark:
		if trail, _ := t.expression(d.Value).find(nil, isSecretTrail, nil); trail != nil {
			t.expose(trail, nil, check.ARemark, d.Value)
		}
	case *syntax.Require:
		t.expression(d.Condition)
	case *syntax.Expect:
		for _, e := range []syntax.Expression{d.Condition, d.From} {
			if e != nil && d.From == nil { // what must fail may be just this
				t.expression(e)
			}
		}
	case *syntax.Include:
		t.expression(d.Value)
		if d.Under != nil {
			t.decides(t.expression(d.Under), "the directory of documents", d.Under.Place())
		}
	case *syntax.Test:
		t.statements(d.Body)
	case *syntax.Rule:
		if d.At != nil {
			t.decides(t.expression(d.At), "what a rule looks at", d.At.Place())
		}
		if d.Where != nil {
			t.decides(t.expression(d.Where), "this condition", d.Where.Place())
		}
		t.block(d.Body)
	case *syntax.PatchAll:
		t.statements(d.Body)
	case *syntax.Each:
		if d.Where != nil {
			t.decides(t.expression(d.Where), "this condition", d.Where.Place())
		}
		t.block(d.Body)
	case *syntax.Operation:
		t.operation(d)
	case *syntax.Let:
		found := t.named(t.expression(d.Value), d.Name)
		t.locals[t.module.Info.Slot(d.Name.Span.Start)] = found
	case *syntax.IfBlock:
		t.decides(t.expression(d.Condition), "this condition", d.Condition.Place())
		t.block(d.Then)
		t.block(d.Else)
	case *syntax.ForBlock:
		t.loop(d.Loop)
		t.block(d.Body)
	}
}

// block follows statements that need not happen.
func (t *frame) block(all []syntax.Declaration) {
	outer := t.sometimes
	t.sometimes = true
	t.statements(all)
	t.sometimes = outer
}

// documentType returns the type that is written for a document at the top of a module.
func (t *frame) documentType(d *syntax.Document) types.Type {
	for _, o := range t.module.Order {
		if o.Declaration == syntax.Declaration(d) {
			return o.Type
		}
	}
	return nil
}

// named returns the taint of a local value.
func (t *frame) named(found *taint, name syntax.Identifier) *taint {
	return into(found, fmt.Sprintf("passes into %q", name.Name), name.Span)
}

func (t *frame) loop(e *syntax.For) {
	element := t.expression(e.In).element()
	first := t.module.Info.Slot(e.First.Span.Start)
	t.locals[first] = element
	if e.Second.Name != "" { // the first is the key or the position
		t.locals[first], t.locals[t.module.Info.Slot(e.Second.Span.Start)] = nil, element
	}
	if e.Where != nil {
		t.decides(t.expression(e.Where), "this condition", e.Where.Place())
	}
}
