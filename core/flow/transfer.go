package flow

import (
	"fmt"
	"math"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// gaveUp counts a visit, and reports whether there were too many. That it goes no further is said once.
func (t *frame) gaveUp() bool {
	t.visits++
	if t.visits == visitLimit+1 {
		t.findings.Add(source.Finding{Code: source.TooMuchWork, Severity: source.Warning,
			Span: source.At(t.owner.Span.Start),
			Message: fmt.Sprintf("secrets were followed through %d million expressions, and not beyond",
				visitLimit/1_000_000),
			Help: "what is left is found when it is evaluated, in the environments in which it is"})
	}
	return t.visits > visitLimit
}

// expression returns the taint of an expression, and reports what is decided in it.
func (t *frame) expression(e syntax.Expression) *taint {
	if e == nil || t.gaveUp() {
		return nil
	}
	found := t.transfer(e)
	if target := t.module.Info.Targets[e.ID()]; target != nil {
		found = either(found, t.declaredTaint(target))
	}
	return found
}

// transfer returns the taint of an expression from those of its parts. What is not told here computes something from
// all of them.
func (t *frame) transfer(e syntax.Expression) *taint {
	switch e := e.(type) {
	case *syntax.Name, *syntax.It:
		return t.name(t.module.Info.Objects[e.ID()], e.Place())
	case *syntax.Env:
		return nil
	case *syntax.Paren:
		return t.expression(e.Inner)
	case *syntax.As:
		return t.expression(e.Operand)
	case *syntax.List:
		return t.list(e)
	case *syntax.Record:
		return t.record(e)
	case *syntax.Binary:
		return t.binary(e)
	case *syntax.If:
		t.decides(t.expression(e.Condition), "this condition", e.Condition.Place())
		return either(t.expression(e.Then), t.expression(e.Else))
	case *syntax.Match:
		return t.match(e)
	case *syntax.LetIn:
		for _, b := range e.Bindings {
			t.locals[t.module.Info.Slot(b.Name.Span.Start)] = t.named(t.expression(b.Value), b.Name)
		}
		return t.expression(e.Body)
	case *syntax.With:
		return t.with(e)
	case *syntax.Lambda:
		return &taint{runs: &closure{in: t, lambda: e, plain: t.expression(e.Body)}}
	case *syntax.For:
		return t.forEach(e)
	case *syntax.Call:
		return t.call(e)
	case *syntax.Patch:
		return t.patch(e)
	case *syntax.Places:
		return t.places(e)
	case *syntax.Field:
		if o := t.module.Info.Objects[e.ID()]; o != nil {
			return t.name(o, e.Place())
		}
		return t.instanceMember(e, t.expression(e.Of).field(e.Name.Name))
	case *syntax.Index:
		return t.index(e)
	case *syntax.Null, *syntax.Bool, *syntax.Int, *syntax.Float, *syntax.String, *syntax.Unary, *syntax.Is, *syntax.Bad:
		return t.computed(e)
	}
	panic(fmt.Sprintf("the flow of secrets does not know %T", e))
}

// computed returns the taint of what is computed from all parts of an expression.
func (t *frame) computed(e syntax.Expression) *taint {
	var parts []*taint
	for part := range syntax.Children(e) {
		if of, ok := part.(syntax.Expression); ok {
			parts = append(parts, t.expression(of))
		}
	}
	return scalars("", e.Place(), parts...)
}

func (t *frame) list(e *syntax.List) *taint {
	var all *taint
	var each []*taint
	spread := false
	for _, entry := range e.Elements {
		found := t.expression(entry.Value)
		if entry.Spread {
			found, spread = found.element(), true
		}
		all, each = either(all, found), append(each, found)
	}
	list := elements(all)
	if list != nil && !spread {
		list.at = each
	}
	return list
}

func (t *frame) with(e *syntax.With) *taint {
	found := t.expression(e.Of)
	if e.Over != nil {
		return found.merge(t.expression(e.Over), t.module.Info.Types[e.Over.ID()])
	}
	for _, c := range e.Changes {
		if c.Spread {
			found = found.merge(t.expression(c.Value), nil)
			continue
		}
		for _, key := range c.Path {
			t.key(key)
		}
		changed := found.changed(c.Path, t.expression(c.Value), t.mayBeRecord(c.Value))
		if c.Optional {
			changed = either(found, changed)
		}
		found = changed
	}
	return found
}

// mayBeRecord reports whether the value of an expression may be a record, which merges into another.
func (t *frame) mayBeRecord(e syntax.Expression) bool {
	of := t.module.Info.Types[e.ID()]
	return of == nil || types.HoldsRecord(of)
}

func (t *frame) forEach(e *syntax.For) *taint {
	t.loop(e)
	t.key(e.Body.Key)
	inner := t.expression(e.Body.Value)
	switch {
	case inner == nil:
		return nil
	case e.Body.Spread:
		return inner.unordered()
	case e.Body.Key == nil:
		return elements(inner)
	}
	return &taint{rest: inner}
}

func (t *frame) index(e *syntax.Index) *taint {
	of := t.expression(e.Of)
	t.decides(t.expression(e.Index), "this index", e.Index.Place())
	if s, ok := e.Index.(*syntax.String); ok {
		if text, plain := s.Plain(); plain {
			return of.field(text)
		}
	}
	if i, ok := position(e.Index); ok {
		return of.index(i)
	}
	return of.element()
}

// position returns the position that an index names, when it is written out.
func position(index syntax.Expression) (i int, ok bool) {
	negative := 1
	if minus, is := index.(*syntax.Unary); is && minus.Operator == syntax.Negate {
		negative, index = -1, minus.Operand
	}
	number, ok := index.(*syntax.Int)
	if !ok || number.Value > math.MaxInt32 {
		return 0, false
	}
	return negative * int(number.Value), true
}

// instanceMember returns the taint of `s.x`, where s is an instance: that of x in its module, in which no input that
// is not secret holds a secret.
func (t *frame) instanceMember(e *syntax.Field, other *taint) *taint {
	of := t.module.Info.Types[e.Of.ID()]
	if of == nil || types.AsInstance(of) == nil {
		return other.standing(e.Place())
	}
	if o := t.program.Module(types.AsInstance(of).Module).Objects[e.Name.Name]; o != nil {
		return t.name(o, e.Place())
	}
	return nil
}

// name returns the taint of the use of a name.
func (t *frame) name(o *check.Object, at source.Span) *taint {
	if o == nil {
		return nil
	}
	if o.Kind == check.ObjectLocal {
		return t.locals[o.Slot].standing(at)
	}
	if o.Kind == check.ObjectFunction {
		return &taint{runs: &closure{declared: o}}
	}
	if o.Global < 0 {
		return nil
	}
	declared := o.Span
	return t.global(o).moved(func(x *trail) *trail {
		if x.at == declared || o.Kind == check.ObjectInput {
			return &trail{x.later, at, x.steps}
		}
		return x.through(source.Related{Span: x.at, Text: fmt.Sprintf("passes into the %s %q", o.Kind, o.Name)}, at)
	})
}

func (t *frame) key(k *syntax.Key) {
	if k != nil && k.Value != nil {
		t.decides(t.expression(k.Value), "this key", k.Span)
	}
}

func (t *frame) record(e *syntax.Record) *taint {
	made := &taint{fields: map[string]*taint{}}
	for _, entry := range e.Entries {
		found := t.expression(entry.Value)
		switch {
		case entry.Spread:
			if found != nil {
				made = either(made, found)
			}
			continue
		case entry.Key.Value != nil:
			t.key(entry.Key)
			made.rest = either(made.rest, found)
			continue
		}
		delete(made.fields, entry.Key.Name)
		if found != nil {
			if made.fields == nil { // a spread has none
				made.fields = map[string]*taint{}
			}
			made.fields[entry.Key.Name] = found
		}
	}
	if len(made.fields) == 0 && made.rest == nil && made.scalar == nil {
		return nil
	}
	return made
}

func (t *frame) binary(e *syntax.Binary) *taint {
	left, right := t.expression(e.Left), t.expression(e.Right)
	switch e.Operator {
	case syntax.Default:
		return either(left, right)
	case syntax.Range:
		t.decides(either(left, right), "a range", e.Place())
		return nil
	case syntax.Equal, syntax.NotEqual:
		// Whether something is there is not hidden.
		if _, null := e.Left.(*syntax.Null); null {
			return nil
		}
		if _, null := e.Right.(*syntax.Null); null {
			return nil
		}
	case syntax.Add:
		if of := t.module.Info.Types[e.ID()]; of != nil && types.AsList(of) != nil {
			return either(left.unordered(), right.unordered())
		}
	}
	return scalars("", e.Place(), left, right)
}

func (t *frame) match(e *syntax.Match) *taint {
	subject := t.expression(e.Subject)
	t.locals[t.module.Info.Slot(e.Place().Start)] = subject
	compares := false
	var found *taint
	for _, arm := range e.Arms {
		for _, p := range arm.Patterns {
			_, null := p.(*syntax.Null)
			compares = compares || !null
		}
		found = either(found, t.expression(arm.Value))
	}
	if compares {
		t.decides(subject, "this match", e.Subject.Place())
	}
	return found
}
