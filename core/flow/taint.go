package flow

import (
	"maps"
	"slices"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// trail says how a scalar became secret, or known only after deployment: where it is now, and where
// it came through, from its declaration on.
type trail struct {
	later bool
	at    source.Span
	steps []source.Related
}

// through returns the trail with one more step, and another place where the value is now.
func (t *trail) through(step source.Related, at source.Span) *trail {
	return &trail{t.later, at, append(slices.Clip(t.steps), step)}
}

// mark is what the values of the trail are.
func (t *trail) mark() value.Mark {
	if t.later {
		return value.Later
	}
	return value.Secret
}

// taint is where in a value scalars are that have a trail; nil when none is known to have. What is not followed has
// none here: the marks of values find it when it is evaluated.
type taint struct {
	scalar *trail // of the value, or of all that it holds
	fields map[string]*taint
	rest   *taint   // of the elements, or of fields that are not among fields
	list   bool     // rest is of the elements of a list
	at     []*taint // of each element of a list that is written out; nil when only rest is known
	runs   *closure // what runs when the value is a function that is called
}

// elements returns the taint of a list, of whose elements some have this one.
func elements(found *taint) *taint {
	if found == nil {
		return nil
	}
	return &taint{rest: found, list: true}
}

// field returns the taint of what is under a key.
func (t *taint) field(name string) *taint {
	switch {
	case t == nil:
		return nil
	case t.fields[name] != nil:
		return t.fields[name]
	case t.scalar != nil:
		return &taint{scalar: t.scalar}
	}
	return t.rest
}

// element returns the taint of any of the elements or entries.
func (t *taint) element() *taint {
	if t == nil || t.scalar != nil || t.rest != nil {
		return t.field("")
	}
	return nil
}

// index returns the taint of the element at a position, counted from the end when it is negative.
func (t *taint) index(i int) *taint {
	if t == nil || t.at == nil || t.scalar != nil {
		return t.element()
	}
	if i < 0 {
		i += len(t.at)
	}
	if i < 0 || i >= len(t.at) {
		return nil
	}
	return t.at[i]
}

// unordered returns the taint of a value whose lists may have their elements at other positions now.
func (t *taint) unordered() *taint {
	if t.parts(taintLimit+1) > taintLimit {
		return nil
	}
	return t.withoutPositions()
}

func (t *taint) withoutPositions() *taint {
	if t == nil {
		return nil
	}
	m := *t
	m.at, m.rest = nil, t.rest.withoutPositions()
	if t.fields != nil {
		m.fields = make(map[string]*taint, len(t.fields))
		for name, f := range t.fields {
			m.fields[name] = f.withoutPositions()
		}
	}
	return &m
}

// taintLimit is how many parts of a value are followed. Of one with more, which shares its parts many times, the marks
// of values find what there is.
const taintLimit = 10_000

// parts counts the parts of a taint, as far as there may be.
func (t *taint) parts(most int) int {
	if t == nil || most <= 0 {
		return 0
	}
	n := 1 + t.rest.parts(most-1)
	for _, f := range t.at {
		n += f.parts(most - n)
	}
	for _, f := range t.fields {
		n += f.parts(most - n)
	}
	return n
}

// moved returns the taint with all trails one step further.
func (t *taint) moved(move func(*trail) *trail) *taint {
	if t.parts(taintLimit+1) > taintLimit {
		return nil
	}
	return t.eachMoved(move)
}

func (t *taint) eachMoved(move func(*trail) *trail) *taint {
	if t == nil {
		return nil
	}
	m := &taint{rest: t.rest.eachMoved(move), list: t.list, runs: t.runs}
	if t.scalar != nil {
		m.scalar = move(t.scalar)
	}
	for _, f := range t.at {
		m.at = append(m.at, f.eachMoved(move))
	}
	if t.fields != nil {
		m.fields = make(map[string]*taint, len(t.fields))
		for name, f := range t.fields {
			m.fields[name] = f.eachMoved(move)
		}
	}
	return m
}

// standing returns the taint of what is at a place now, without a step that would be worth telling.
func (t *taint) standing(at source.Span) *taint {
	return t.moved(func(x *trail) *trail { return &trail{x.later, at, x.steps} })
}

// into returns the taint of what passes into a name.
func into(found *taint, step string, at source.Span) *taint {
	return found.moved(func(x *trail) *trail { return x.through(source.Related{Span: x.at, Text: step}, at) })
}

// find returns the first trail in a value for which wanted holds, with the path to it. The value is of one of the
// declared types, if there are any; places that one of them declares secret do not count.
func (t *taint) find(declared []types.Type, wanted func(*trail) bool, path *place.Path) (*trail, *place.Path) {
	if t == nil {
		return nil, nil
	}
	if t.scalar != nil && wanted(t.scalar) {
		return t.scalar, path
	}
	records, elements := types.RecordsOf(declared), types.ElementsOf(declared)
	for _, name := range slices.Sorted(maps.Keys(t.fields)) {
		of, _, secret := types.FieldsOf(records, name)
		if secret {
			continue
		}
		if found, at := t.fields[name].find(of, wanted, path.Field(name)); found != nil {
			return found, at
		}
	}
	for i, element := range t.at {
		if found, at := element.find(elements, wanted, path.Index(i)); found != nil {
			return found, at
		}
	}
	switch {
	case t.rest == nil || t.at != nil:
		return nil, nil
	case t.list:
		return t.rest.find(elements, wanted, path.Keyed("*", 0))
	}
	var rest []types.Type
	for _, record := range records {
		if record.Rest != nil {
			rest = append(rest, record.Rest)
		}
	}
	// Under which key it stands is not known, so that this is as far as the path leads.
	found, _ := t.rest.find(append(rest, elements...), wanted, nil)
	return found, path
}

func isSecretTrail(t *trail) bool { return !t.later }

func anyTrail(*trail) bool { return true }

// scalars returns the taint of something computed from several values.
func scalars(step string, at source.Span, operands ...*taint) *taint {
	for _, o := range operands {
		if found, _ := o.find(nil, anyTrail, nil); found != nil {
			if step != "" {
				return &taint{scalar: found.through(source.Related{Span: found.at, Text: step}, at)}
			}
			return &taint{scalar: &trail{found.later, at, found.steps}}
		}
	}
	return nil
}

// either returns the taint of a value that is one of two.
func either(a, b *taint) *taint {
	switch {
	case a == nil:
		return b
	case b == nil || a == b:
		return a
	}
	joined := &taint{scalar: a.scalar, rest: either(a.rest, b.rest), list: a.list || b.list, runs: a.runs}
	if a.at != nil && b.at != nil {
		joined.at = make([]*taint, max(len(a.at), len(b.at)))
		for i := range joined.at {
			joined.at[i] = either(a.index(i), b.index(i))
		}
	}
	if joined.scalar == nil {
		joined.scalar = b.scalar
	}
	if joined.runs == nil {
		joined.runs = b.runs
	}
	for _, side := range []*taint{a, b} {
		for name, f := range side.fields {
			if joined.fields == nil {
				joined.fields = map[string]*taint{}
			}
			joined.fields[name] = either(joined.fields[name], f)
		}
	}
	return joined
}

// merge returns the taint of a record overlaid with another: scalars that are always there take the
// place of what was. The type may be nil.
func (t *taint) merge(over *taint, of types.Type) *taint {
	if of != nil && types.AsRecord(of) != nil {
		for _, f := range types.AsRecord(of).Fields {
			if !f.Optional && !types.HoldsRecord(f.Type) {
				t = t.changed([]*syntax.Key{{Name: f.Name}}, nil, false)
			}
		}
	}
	return either(t, over)
}

// changed returns the taint of a record of which the place that keys lead to was changed: a record is merged into
// what is there, anything else replaces it.
func (t *taint) changed(keys []*syntax.Key, to *taint, merges bool) *taint {
	if len(keys) == 0 {
		if merges {
			return either(t, to)
		}
		return to
	}
	if keys[0].Value != nil {
		if inner := (*taint)(nil).changed(keys[1:], to, merges); inner != nil {
			return either(t, &taint{rest: inner})
		}
		return t
	}
	name := keys[0].Name
	inner := t.field(name).changed(keys[1:], to, merges)
	if t == nil {
		t = &taint{}
	}
	m := &taint{scalar: t.scalar, rest: t.rest, list: t.list, runs: t.runs, fields: maps.Clone(t.fields)}
	delete(m.fields, name)
	if inner != nil {
		if m.fields == nil {
			m.fields = map[string]*taint{}
		}
		m.fields[name] = inner
	}
	if m.scalar == nil && m.rest == nil && m.runs == nil && len(m.fields) == 0 {
		return nil
	}
	return m
}
