package eval

import (
	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// entries takes the entries of a record while it is made. written says which were written, not spread.
type entries struct {
	value.Builder
	written []bool
	// base is a record with which it begins, as long as nothing has to be changed in it; Absent for none.
	base value.Value
}

// put adds a written entry.
func (b *entries) put(f *frame, key string, v value.Value, at source.Span) {
	if b.inBase(key) {
		b.copyBase()
	}
	if i := b.Index(key); i >= 0 && i < len(b.written) && b.written[i] {
		f.failAt(source.DuplicateKey, at, "each key of a record is written once", "the key %q is there already", key)
	}
	b.mark(b.Set(key, v), true)
}

func (b *entries) inBase(key string) bool { return !b.base.IsAbsent() && !b.base.Get(key).IsAbsent() }

// begin makes a record the base, unless there are entries already.
func (b *entries) begin(v value.Value) bool {
	if b.Len() > 0 || !b.base.IsAbsent() {
		return false
	}
	b.base = v
	return true
}

// copyBase brings the entries of the base in as those that are made here.
func (b *entries) copyBase() {
	if b.base.IsAbsent() {
		return
	}
	var all value.Builder
	all.Grow(b.base.Len() + b.Len())
	for i, key := range b.base.Shape().Keys() {
		all.Set(key, b.base.Values()[i])
	}
	added := b.Record(0)
	written := make([]bool, b.base.Len(), b.base.Len()+len(b.written))
	for i, key := range added.Shape().Keys() {
		all.Set(key, added.Values()[i])
	}
	b.Builder, b.written, b.base = all, append(written, b.written...), value.Value{}
}

// made returns the record.
func (b *entries) made(o value.Origin) value.Value {
	if b.base.IsAbsent() {
		return b.Record(o)
	}
	added := b.Record(o)
	return b.base.Extend(added.Shape().Keys(), added.Values(), o)
}

func (b *entries) mark(i int, written bool) {
	for len(b.written) <= i {
		b.written = append(b.written, false)
	}
	b.written[i] = b.written[i] || written
}

type entryCode func(f *frame, b *entries)

func (c *compiler) entry(e *syntax.Entry) entryCode {
	if e.Spread {
		return c.spreadEntry(e)
	}
	body := c.expression(e.Value)
	if e.Optional {
		body = c.absent(e.Value)
	}
	optional := e.Optional
	key, keyAt, written := c.key(e.Key), e.Key.Span, e.Value.Place()
	return func(f *frame, b *entries) {
		k := key(f)
		v := body(f)
		if optional && (v.IsAbsent() || v.IsNull()) {
			return
		}
		f.spend(elementCost, keyAt)
		v = f.recorder.placed(v, keyAt, written)
		b.put(f, k.Text(), f.choose(v, k.Origin()), keyAt)
	}
}

func (c *compiler) key(k *syntax.Key) code {
	if k.Value != nil {
		body, at := c.expression(k.Value), k.Span
		return func(f *frame) value.Value { return f.decide(body(f), "this key", at) }
	}
	return constant(value.StringOf(k.Name, value.From(k.Span.Start)))
}

func (c *compiler) spreadEntry(e *syntax.Entry) entryCode {
	body, at := c.spread(e), e.Span
	return func(f *frame, b *entries) {
		v := f.known(body(f), at)
		switch v.Kind() {
		case value.Absent:
			return
		case value.Record:
		default:
			f.failAt(source.WrongType, at, "", notSpread, describeValue(v))
		}
		if f.recorder == nil && b.begin(v) {
			f.spend(1, at)
			return
		}
		b.copyBase()
		f.spend(1+v.Len()*elementCost, at)
		for i, key := range v.Shape().Keys() {
			if at := b.Index(key); at >= 0 && at < len(b.written) && b.written[at] {
				f.fail(check.SpreadOver(e.Span, key))
			}
			b.mark(b.Set(key, f.choose(v.Values()[i], v.Origin())), false)
		}
	}
}

func (c *compiler) recordLiteral(e *syntax.Record) code {
	if body, ok := c.fixedRecord(e); ok {
		return body
	}
	o := origin(e)
	if len(e.Entries) == 1 && e.Entries[0].Spread {
		return c.copied(e.Entries[0], o)
	}
	parts := make([]entryCode, len(e.Entries))
	for i, entry := range e.Entries {
		parts[i] = c.entry(entry)
	}
	if once := c.once[e]; once != notOnce {
		return func(f *frame) value.Value {
			var b entries
			f.each(once, len(parts), func(i int) { parts[i](f, &b) }, func(i int) bool {
				entry := e.Entries[i]
				known := !entry.Spread && entry.Key.Value == nil
				if known {
					b.put(f, entry.Key.Name, lost, entry.Key.Span)
				}
				return known
			})
			return b.made(o)
		}
	}
	return func(f *frame) value.Value {
		var b entries
		b.Grow(len(parts))
		for _, part := range parts {
			part(f, &b)
		}
		return b.made(o)
	}
}

// copied compiles a record with nothing but one spread: it is that record, and comes from where it does.
func (c *compiler) copied(e *syntax.Entry, o value.Origin) code {
	body, at := c.spread(e), e.Span
	return func(f *frame) value.Value {
		v := f.known(body(f), at)
		switch v.Kind() {
		case value.Absent:
			return value.RecordOf(value.NewShape(nil), nil, o)
		case value.Record:
			return v
		}
		f.failAt(source.WrongType, at, "", notSpread, describeValue(v))
		return v
	}
}

const notSpread = `"..." in a record adds the entries of a record, not of %s`

// fixedRecord compiles a record whose keys are all written out and always there: its shape is made once.
func (c *compiler) fixedRecord(e *syntax.Record) (code, bool) {
	keys := make([]string, 0, len(e.Entries))
	seen := map[string]bool{}
	for _, entry := range e.Entries {
		if entry.Spread || entry.Optional || entry.Key.Value != nil || seen[entry.Key.Name] {
			return nil, false
		}
		seen[entry.Key.Name] = true
		keys = append(keys, entry.Key.Name)
	}
	shape, bodies := value.NewShape(keys), make([]code, len(keys))
	for i, entry := range e.Entries {
		bodies[i] = c.expression(entry.Value)
	}
	o, at, once := origin(e), e.Place(), c.once[e]
	return func(f *frame) value.Value {
		f.spend(1+len(bodies)*elementCost, at)
		values := make([]value.Value, len(bodies))
		if once != notOnce {
			f.each(once, len(bodies), func(i int) { values[i] = bodies[i](f) }, func(i int) bool {
				values[i] = lost
				return true
			})
		} else {
			for i, body := range bodies {
				values[i] = body(f)
			}
		}
		if f.recorder != nil {
			for i, v := range values {
				values[i] = f.recorder.placed(v, e.Entries[i].Key.Span, e.Entries[i].Value.Place())
			}
		}
		return value.RecordOf(shape, values, o)
	}, true
}
