package eval

import (
	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// looper goes through a loop, with its names bound.
type looper struct {
	in            func(f *frame) elements
	where         func(f *frame) (bool, value.Origin) // nil without a filter
	first, second int                                 // places of the names; second is -1 when it is not written
	at            source.Span
}

// elements are what a loop goes through, and how far it is.
type elements struct {
	list   []value.Value
	keys   []string     // of a record
	low    int64        // of a range
	n      uint64       // how many they are
	next   uint64       // of them
	origin value.Origin // of the whole
	kind   value.Kind   // Int for a range
	// element and filter are why what is made for the current one is there.
	element, filter value.Origin
}

// elements compiles what a loop goes through.
func (c *compiler) elements(e *syntax.For) func(f *frame) elements {
	at := e.In.Place()
	if r, ok := syntax.Bare(e.In).(*syntax.Binary); ok && r.Operator == syntax.Range {
		low, high := c.expression(r.Left), c.expression(r.Right)
		return func(f *frame) elements {
			a, b := f.decide(low(f), "a range", at), f.decide(high(f), "a range", at)
			return elements{kind: value.Int, low: a.Int(), n: rangeLength(a.Int(), b.Int()), origin: f.from(at.Start, a, b)}
		}
	}
	in := c.expression(e.In)
	return func(f *frame) elements {
		v := f.known(in(f), at)
		switch v.Kind() {
		case value.List:
			return elements{kind: value.List, list: v.Elements(), n: uint64(v.Len()), origin: v.Origin()}
		case value.Record:
			return elements{kind: value.Record, list: v.Values(), keys: v.Shape().Keys(), n: uint64(v.Len()),
				origin: v.Origin()}
		}
		f.fail(check.NotIterable(at, describeValue(v)))
		return elements{}
	}
}

// looper compiles a loop, but for what it does with each element.
func (c *compiler) looper(e *syntax.For, at source.Span) *looper {
	l := &looper{in: c.elements(e), at: at}
	l.first, l.second = c.loopSlots(e)
	if e.Where != nil {
		l.where = c.truth(e.Where)
	}
	return l
}

// next binds the names to the next element that the filter lets through; false when there is none.
func (l *looper) next(f *frame, e *elements) bool {
	for e.next < e.n {
		i := e.next
		e.next++
		f.spend(1, l.at)
		var v, key value.Value
		switch e.kind {
		case value.Int:
			v, key = value.IntOf(e.low+int64(i), e.origin), value.IntOf(int64(i), e.origin)
			e.element = e.origin
		case value.List:
			v, key = f.choose(e.list[i], e.origin), value.IntOf(int64(i), e.origin)
			e.element = v.Origin()
		default: // what chose an entry is why it is there
			v = f.choose(e.list[i], e.origin)
			key = value.StringOf(e.keys[i], f.recorder.key(e.list[i].Origin()))
			e.element = key.Origin()
		}
		if l.second < 0 {
			f.slots[l.first] = v
		} else {
			f.slots[l.first], f.slots[l.second] = key, v
		}
		if l.where == nil {
			return true
		}
		holds, by := l.where(f)
		if e.filter = by; holds {
			return true
		}
	}
	return false
}

// choose marks a value as there because of the element that it was made for, and because of the filter.
func (e *elements) choose(f *frame, v value.Value) value.Value {
	return f.choose(f.choose(v, e.element), e.filter)
}

func (c *compiler) loop(e *syntax.For) code {
	loop := c.looper(e, e.Body.Span)
	o := origin(e)
	if e.Body.Key != nil {
		entry := c.entry(e.Body)
		return func(f *frame) value.Value {
			var b entries
			for all := loop.in(f); loop.next(f, &all); {
				before := b.Len()
				entry(f, &b)
				if f.recorder != nil {
					b.Update(before, func(v value.Value) value.Value { return all.choose(f, v) })
				}
			}
			return b.made(o)
		}
	}
	element := c.element(e.Body)
	return func(f *frame) value.Value {
		var s sink
		for all := loop.in(f); loop.next(f, &all); {
			before := len(s.elements)
			element(f, &s)
			if f.recorder != nil {
				for i := before; i < len(s.elements); i++ {
					s.elements[i] = all.choose(f, s.elements[i])
				}
			}
		}
		return value.ListOf(s.elements, o)
	}
}

// namesOf returns the names of a loop that are used.
func (c *compiler) namesOf(e *syntax.For) (names []loopName) {
	first, second := c.loopSlots(e)
	for _, one := range []loopName{{e.First.Name, first}, {e.Second.Name, second}} {
		if one.name != "" && one.name != "_" {
			names = append(names, one)
		}
	}
	return names
}

// loopSlots returns the places of the names of a loop in the frame; -1 for a second name that is not written.
func (c *compiler) loopSlots(e *syntax.For) (first, second int) {
	first, second = c.module.Info.Slot(e.First.Span.Start), -1
	if e.Second.Name != "" {
		second = c.module.Info.Slot(e.Second.Span.Start)
	}
	return first, second
}
