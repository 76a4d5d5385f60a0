package eval

import (
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// change is one change of a with, compiled. written are the paths that were written before, the keys of each joined.
type change func(f *frame, v value.Value, written *[]string) value.Value

// keySeparator joins keys, in which it does not stand.
const keySeparator = "\x00"

// with compiles a record with changes.
func (c *compiler) with(e *syntax.With) code {
	of, at := c.expression(e.Of), e.Place()
	if e.Over != nil {
		over, ofAt, overAt := c.expression(e.Over), e.Of.Place(), e.Over.Place()
		return func(f *frame) value.Value { return f.lay(of(f), over(f), ofAt, overAt, at) }
	}
	changes := make([]change, len(e.Changes))
	for i, tree := range e.Changes {
		changes[i] = c.change(tree, e.Of.Place(), at)
	}
	return func(f *frame) value.Value {
		v := of(f)
		var written []string
		for _, change := range changes {
			v = change(f, v, &written)
		}
		return v
	}
}

func (c *compiler) change(tree *syntax.Change, ofAt, at source.Span) change {
	if tree.Spread {
		body := c.spread(&syntax.Entry{Span: tree.Span, Value: tree.Value, Spread: true, Optional: tree.Optional})
		return func(f *frame, v value.Value, written *[]string) value.Value {
			over := body(f)
			if over.IsAbsent() {
				return v
			}
			for _, path := range *written {
				key, _, _ := strings.Cut(path, keySeparator)
				if over.Kind() == value.Record && !over.Get(key).IsAbsent() {
					f.fail(check.SpreadOver(tree.Span, key))
				}
			}
			return f.lay(v, over, ofAt, tree.Value.Place(), at)
		}
	}
	var path []code
	var spans []source.Span
	for _, key := range tree.Path {
		path = append(path, c.key(key))
		spans = append(spans, key.Span)
	}
	body := c.expression(tree.Value)
	if tree.Optional {
		body = c.absent(tree.Value)
	}
	return func(f *frame, v value.Value, written *[]string) value.Value {
		keys, chosenBy := make([]string, len(path)), []value.Origin(nil)
		for i, key := range path {
			k := key(f)
			if keys[i] = k.Text(); f.recorder != nil {
				chosenBy = append(chosenBy, k.Origin())
			}
		}
		to := body(f)
		if tree.Optional && (to.IsAbsent() || to.IsNull()) {
			return v
		}
		for _, by := range chosenBy {
			to = f.choose(to, by)
		}
		whole := strings.Join(keys, keySeparator)
		if slices.Contains(*written, whole) {
			f.failAt(source.DuplicateKey, spans[0], "each key is written once", "the key %q is there already",
				strings.Join(keys, "."))
		}
		*written = append(*written, whole)
		return f.change(v, keys, spans, to, ofAt, at)
	}
}

// lay returns a record over which another is laid.
func (f *frame) lay(v, over value.Value, ofAt, overAt, at source.Span) value.Value {
	if f.known(v, ofAt).Kind() != value.Record {
		f.fail(check.NotChanged(ofAt, describeValue(v)))
	}
	if f.known(over, overAt).Kind() != value.Record {
		f.fail(check.NotChanged(overAt, describeValue(over)))
	}
	return f.merge(v, over, at).WithOrigin(v.Origin())
}

// change returns a record in which the place that keys lead to was changed. The way to it must exist.
func (f *frame) change(v value.Value, keys []string, spans []source.Span, to value.Value, ofAt,
	at source.Span) value.Value {
	if f.known(v, ofAt).Kind() != value.Record {
		f.fail(check.NotChanged(ofAt, describeValue(v)))
	}
	old := v.Get(keys[0])
	next := to
	if len(keys) > 1 {
		if old.IsAbsent() {
			f.missingKey(v, keys[0], spans[0])
		}
		next = f.change(old, keys[1:], spans[1:], to, spans[1], at)
	} else if old.Kind() == value.Record && to.Kind() == value.Record {
		next = f.merge(old, to, at)
	}
	return f.put(v, keys[0], next, at)
}

// put returns a record with one entry set.
func (t *thread) put(v value.Value, key string, to value.Value, at source.Span) value.Value {
	i := v.Shape().Index(key)
	if i < 0 {
		t.spend(1+elementCost, at)
		return v.Extend([]string{key}, []value.Value{to}, v.Origin())
	}
	t.spend(1+v.Len(), at)
	values := append([]value.Value(nil), v.Values()...)
	values[i] = to
	return value.RecordOf(v.Shape(), values, v.Origin())
}

// merge lays a record over another: records merge into records, anything else replaces.
func (t *thread) merge(under, over value.Value, at source.Span) value.Value {
	m := merging{thread: t, at: at}
	return m.merge(under, over)
}

// merging is one record on its way over another. When there are many records in them, it remembers what it has made:
// some may be shared so often that making each again would never end.
type merging struct {
	*thread
	at    source.Span
	count int
	made  map[[2]uintptr]value.Value
}

func (m *merging) merge(under, over value.Value) value.Value {
	if under.Identity() == over.Identity() {
		return over
	}
	pair := [2]uintptr{under.Identity(), over.Identity()}
	if known, ok := m.made[pair]; ok {
		m.spend(1, m.at)
		return known
	}
	result := m.lay(under, over)
	if m.count++; m.count > manyVisits {
		if m.made == nil {
			m.made = map[[2]uintptr]value.Value{}
		}
		m.made[pair] = result
	}
	return result
}

// lay is merge for two records that were not met before.
func (m *merging) lay(under, over value.Value) value.Value {
	t, at := m.thread, m.at
	t.spend(1+over.Len()*elementCost, at)
	var values []value.Value // those of under, once one of them changes
	var keys []string        // what is added
	var added []value.Value
	for i, key := range over.Shape().Keys() {
		v := over.Values()[i]
		place := under.Shape().Index(key)
		if place < 0 {
			keys, added = append(keys, key), append(added, v)
			continue
		}
		if old := under.Values()[place]; old.Kind() == value.Record && v.Kind() == value.Record {
			v = m.merge(old, v)
		}
		if values == nil {
			t.spend(under.Len(), at)
			values = slices.Clone(under.Values())
		}
		values[place] = v
	}
	result := under
	if values != nil {
		result = value.RecordOf(under.Shape(), values, over.Origin())
	}
	return result.Extend(keys, added, over.Origin())
}
