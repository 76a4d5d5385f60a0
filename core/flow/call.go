package flow

import (
	"fmt"
	"slices"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// closure is a function that is a value: one that is declared, or an anonymous one with what was known where it was
// written.
type closure struct {
	declared *check.Object
	in       *frame
	lambda   *syntax.Lambda
	plain    *taint // of the result of an anonymous one that is given nothing to follow
}

func (t *frame) call(e *syntax.Call) *taint {
	o := t.module.Info.Objects[e.ID()]
	given := make([]*taint, len(e.Arguments))
	spread := false
	for i, a := range e.Arguments {
		given[i] = t.expression(a.Value)
		spread = spread || a.Spread
	}
	switch {
	case o == nil:
		if found := t.expression(e.Function); found != nil && found.runs != nil {
			return t.run(found.runs, given, e.Place())
		}
		return nil
	case spread && o.Kind != check.ObjectModule:
		return nil
	case o.Kind == check.ObjectModule:
		t.instance(e, o.Imported(), given)
		return nil
	}
	arguments, written := make([]*taint, len(o.Parameters)), make([]syntax.Expression, len(o.Parameters))
	for i, at := range check.Arrange(o.Parameters, e.Arguments) {
		if at >= 0 {
			arguments[i], written[i] = given[at], e.Arguments[at].Value
		}
	}
	if o.Kind == check.ObjectBuiltin {
		return t.builtin(e, o, arguments, written)
	}
	return t.function(o, arguments, e.Place())
}

// function returns the taint of the result of a declared function.
func (t *frame) function(o *check.Object, arguments []*taint, at source.Span) *taint {
	d, ok := o.Declaration.(*syntax.Function)
	if !ok || o.Invalid || d.Body == nil || t.running[o] {
		return nil
	}
	t.running[o] = true
	defer delete(t.running, o)
	inner := &frame{analysis: t.analysis, module: o.Module, locals: map[int]*taint{}}
	any := false
	for i, p := range o.Parameters {
		if i < len(arguments) && arguments[i] != nil && p.Object != nil {
			any = true
			inner.locals[p.Object.Slot] = into(arguments[i],
				fmt.Sprintf("passes into the parameter %q of %s", p.Name, o.Name), p.Object.Span)
		}
	}
	found := (*taint)(nil)
	if any {
		found = inner.expression(d.Body)
	} else {
		found = t.result(o, d)
	}
	return found.standing(at)
}

// run returns the taint of the result of a function that is a value.
func (t *frame) run(r *closure, arguments []*taint, at source.Span) *taint {
	if r.declared != nil {
		return t.function(r.declared, arguments, at)
	}
	if !slices.ContainsFunc(arguments, func(given *taint) bool { return given != nil }) {
		return r.plain
	}
	inner := &frame{analysis: t.analysis, module: r.in.module, locals: r.in.locals}
	for i, p := range r.lambda.Parameters {
		var given *taint
		if i < len(arguments) {
			given = into(arguments[i], fmt.Sprintf("passes into the parameter %q", p.Name.Name), p.Name.Span)
		}
		inner.locals[r.in.module.Info.Slot(p.Name.Span.Start)] = given
	}
	return inner.expression(r.lambda.Body)
}

// result returns the taint of a function that is given none.
func (t *frame) result(o *check.Object, d *syntax.Function) *taint {
	if found, ok := t.globals[o]; ok {
		return found
	}
	inner := &frame{analysis: t.analysis, module: o.Module, locals: map[int]*taint{}}
	found := inner.expression(d.Body)
	t.globals[o] = found
	return found
}

// instance reports secrets that pass into inputs of a component that are not secret.
func (t *frame) instance(e *syntax.Call, m *check.Module, given []*taint) {
	for i, a := range e.Arguments {
		if m == nil || a.Spread || given[i] == nil {
			continue
		}
		o := m.Objects[a.Name.Name]
		if o == nil || o.Kind != check.ObjectInput {
			continue
		}
		if d, ok := o.Declaration.(*syntax.Input); ok && d.Secret {
			continue
		}
		if trail, path := given[i].find([]types.Type{o.Type}, isSecretTrail, nil); trail != nil {
			t.expose(trail, path, check.OfInput(o), e)
		}
	}
}
