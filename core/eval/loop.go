package eval

import (
	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// each calls visit for every element or entry that a loop goes through; key is the position or key.
func (c *compiler) each(e *syntax.For) func(f *frame, visit func(v, key value.Value)) {
	at := e.In.Place()
	if r, ok := syntax.Bare(e.In).(*syntax.Binary); ok && r.Operator == syntax.Range {
		low, high := c.expression(r.Left), c.expression(r.Right)
		return func(f *frame, visit func(v, key value.Value)) {
			a, b := f.decide(low(f), "a range", at), f.decide(high(f), "a range", at)
			o := f.from(at.Start, a, b)
			for i := a.Int(); i <= b.Int(); i++ {
				visit(value.IntOf(i, o), value.IntOf(i-a.Int(), o))
				if i == b.Int() { // which may be the largest int
					break
				}
			}
		}
	}
	in := c.expression(e.In)
	return func(f *frame, visit func(v, key value.Value)) {
		v := f.known(in(f), at)
		switch v.Kind() {
		case value.List:
			for i, x := range v.Elements() {
				visit(f.choose(x, v.Origin()), value.IntOf(int64(i), v.Origin()))
			}
		case value.Record:
			for i, key := range v.Shape().Keys() {
				x := v.Values()[i]
				visit(f.choose(x, v.Origin()), value.StringOf(key, f.recorder.key(x.Origin())))
			}
		default:
			f.fail(check.NotIterable(at, describeValue(v)))
		}
	}
}

// run goes through a loop, with its names bound. What a loop makes is there because of the element that it was made
// for, and because of the filter: body is given what marks a value so.
func (c *compiler) run(e *syntax.For, at source.Span) func(f *frame, body func(choose func(value.Value) value.Value)) {
	each := c.each(e)
	firstSlot, secondSlot := c.loopSlots(e)
	var where func(f *frame) (bool, value.Origin)
	if e.Where != nil {
		where = c.truth(e.Where)
	}
	return func(f *frame, body func(choose func(value.Value) value.Value)) {
		each(f, func(v, key value.Value) {
			f.spend(1, at)
			element := v.Origin()
			if key.Kind() == value.String { // of a record: what chose an entry is why it is there
				element = key.Origin()
			}
			if secondSlot < 0 {
				f.slots[firstSlot] = v
			} else {
				f.slots[firstSlot], f.slots[secondSlot] = key, v
			}
			var by value.Origin
			if where != nil {
				holds, origin := where(f)
				if !holds {
					return
				}
				by = origin
			}
			if f.recorder == nil {
				body(asItIs)
				return
			}
			body(func(v value.Value) value.Value { return f.choose(f.choose(v, element), by) })
		})
	}
}

// asItIs marks nothing, where nothing is recorded.
func asItIs(v value.Value) value.Value { return v }

func (c *compiler) loop(e *syntax.For) code {
	run := c.run(e, e.Body.Span)
	o := origin(e)
	if e.Body.Key != nil {
		entry := c.entry(e.Body)
		return func(f *frame) value.Value {
			var b entries
			run(f, func(choose func(value.Value) value.Value) {
				before := b.Len()
				entry(f, &b)
				if f.recorder != nil {
					b.Update(before, choose)
				}
			})
			return b.made(o)
		}
	}
	element := c.element(e.Body)
	return func(f *frame) value.Value {
		var s sink
		run(f, func(choose func(value.Value) value.Value) {
			before := len(s.elements)
			element(f, &s)
			if f.recorder != nil {
				for i := before; i < len(s.elements); i++ {
					s.elements[i] = choose(s.elements[i])
				}
			}
		})
		return value.ListOf(s.elements, o)
	}
}

// loopSlots returns the places of the names of a loop in the frame; -1 for a second name that is not written.
func (c *compiler) loopSlots(e *syntax.For) (first, second int) {
	first, second = c.module.Info.Slot(e.First.Span.Start), -1
	if e.Second.Name != "" {
		second = c.module.Info.Slot(e.Second.Span.Start)
	}
	return first, second
}
