package types

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

// inferWith finds the type of a record with changes: the fields that are changed, and new ones.
func (c *checker) inferWith(e *syntax.With) *Type {
	t := c.infer(e.Of, nil)
	if e.Over != nil {
		return c.laidOver(e.Of, t, e.Over, c.infer(e.Over, nil))
	}
	written := map[string]source.Span{}
	for _, change := range e.Changes {
		if change.Spread {
			t = c.laidOver(e.Of, t, change.Value, c.inferSpread(&syntax.Entry{Span: change.Span, Value: change.Value,
				Spread: true, Optional: change.Optional}, nil))
			continue
		}
		t = c.withChange(e.Of, t, change, written)
	}
	return t
}

// withChange finds the type of a record with one change.
func (c *checker) withChange(of syntax.Expression, t *Type, change *syntax.Change,
	written map[string]source.Span) *Type {
	var names []string // of the keys; empty for one that is computed
	for _, key := range change.Path {
		c.checkKey(key)
		names = append(names, key.Name)
	}
	path, computed := strings.Join(names, "."), false
	for _, key := range change.Path {
		computed = computed || key.Value != nil
	}
	if first, ok := written[path]; ok && !computed {
		c.add(source.Finding{Code: source.DuplicateKey, Span: change.Path[0].Span,
			Message: fmt.Sprintf("the key %q is written twice", path),
			Help:    "leave one out", Related: []source.Related{{Span: first, Text: "the first"}}})
		c.infer(change.Value, nil)
		return t
	}
	written[path] = change.Path[0].Span
	v := c.entryValue(&syntax.Entry{Span: change.Span, Value: change.Value, Optional: change.Optional}, nil, "")
	if t.Kind == Invalid || v.Kind == Invalid {
		return InvalidType
	}
	changed := c.changed(of, t, change, v, 0)
	if change.Optional && changed.Kind != Invalid {
		return c.either(t, changed)
	}
	return changed
}

// either returns the type of a value that is of one of two types; of two records it is one record.
func (c *checker) either(a, b *Type) *Type {
	if a.Core().Kind == Record && b.Core().Kind == Record {
		return c.mergeBranches(a.Core(), b.Core())
	}
	return c.universe.Union(a, b)
}

// laidOver returns the type of a value over which a record is laid.
func (c *checker) laidOver(of syntax.Expression, t *Type, over syntax.Expression, o *Type) *Type {
	if t.Kind == Invalid || o.Kind == Invalid {
		return InvalidType
	}
	if !c.onlyRecords(of, t) || !c.onlyRecords(over, o) {
		return InvalidType
	}
	return c.overlay().merged(t, o)
}

// onlyRecords reports what is no record and stands on one of the sides of with.
func (c *checker) onlyRecords(e syntax.Expression, t *Type) bool {
	for _, part := range t.Parts() {
		if part.Kind != Record && part.Kind != Any {
			c.report(source.WrongType, e.Place(), withHelp(t), "with changes records, not %s", describeType(t))
			return false
		}
	}
	return true
}

func withHelp(t *Type) string {
	if t.MayBeNull() {
		return "it may be null: give a value for that case with ??"
	}
	return ""
}

// changed returns the type of a value of which the place that a path leads to, from a depth on, was changed to a value.
func (c *checker) changed(of syntax.Expression, t *Type, change *syntax.Change, v *Type, depth int) *Type {
	var results []*Type
	for _, part := range t.Parts() {
		switch part.Kind {
		case Any:
			results = append(results, c.universe.anything(AnyType, v))
		case Invalid:
			return InvalidType
		case Record:
			next := c.changedRecord(of, t, part, change, v, depth)
			if next.Kind == Invalid {
				return next
			}
			results = append(results, next)
		default:
			at := of.Place()
			if depth > 0 {
				at = change.Path[depth].Span
			}
			c.report(source.WrongType, at, withHelp(t), "with changes records, not %s", describeType(t))
			return InvalidType
		}
	}
	return c.universe.Union(results...)
}

// changedRecord is changed for one record type.
func (c *checker) changedRecord(of syntax.Expression, whole, record *Type, change *syntax.Change, v *Type,
	depth int) *Type {
	key, last := change.Path[depth], depth == len(change.Path)-1
	next := func(old *Type) *Type { // of the value under the key; nil when there may be none
		if last && old == nil {
			return v
		}
		if last {
			return c.overlay().merged(old, v)
		}
		return c.changed(of, old, change, v, depth+1)
	}
	fields, loose := withoutDefaults(record.Fields), record.Loose
	if key.Value != nil { // it may be any of the fields
		for i := range fields {
			changed := fields[i].Type
			if last || holdsRecord(changed) {
				changed = next(fields[i].Type)
			}
			if changed.Kind == Invalid {
				return changed
			}
			fields[i].Type = c.universe.Union(fields[i].Type, changed)
		}
		rest := record.Rest
		switch {
		case rest != nil:
			rest = c.universe.Union(rest, next(rest))
		case last:
			rest = v
		}
		if last && rest != nil {
			rest = c.universe.Union(rest, v)
		}
		return c.universe.record(fields, rest, loose)
	}
	for i := range fields {
		f := &fields[i]
		if f.Name != key.Name {
			continue
		}
		if last && f.Optional {
			f.Type = c.universe.Union(v, next(f.Type))
			loose = true // where it was absent, it stands behind the others now
		} else {
			f.Type = next(f.Type)
		}
		f.Optional, f.Secret = false, f.Secret && !last
		if f.Type.Kind == Invalid {
			return InvalidType
		}
		return c.universe.record(fields, record.Rest, loose)
	}
	if record.Rest == nil && !last {
		var names []string
		for _, key := range change.Path {
			names = append(names, key.Name)
		}
		c.report(source.UnknownField, key.Span, fieldHelp(key.Name, record),
			"%s has no field %q, and every record on the way to %s must be there", Article(whole), key.Name,
			strings.Join(names, "."))
		return InvalidType
	}
	t := v
	if record.Rest != nil {
		if t = next(record.Rest); last {
			t = c.universe.Union(v, t)
		}
		if t.Kind == Invalid {
			return t
		}
	}
	return c.universe.record(append(fields, Field{Name: key.Name, Type: t}), record.Rest, loose)
}

// holdsRecord reports whether some values of a type are records.
func holdsRecord(t *Type) bool {
	for _, part := range t.Parts() {
		if part.Kind == Record || part.Kind == Any {
			return true
		}
	}
	return false
}

// withoutDefaults returns the fields as those of a value, in which defaults are filled in.
func withoutDefaults(fields []Field) []Field {
	result := make([]Field, len(fields))
	for i, f := range fields {
		f.Default, f.Deprecated = nil, ""
		result[i] = f
	}
	return result
}

// overlay finds the types of values that are laid over others: records merge into records, anything else replaces.
type overlay struct {
	*checker
	asked map[pair]bool // what is being answered: types may contain themselves
	pairs int
}

// overlayLimit is how many pairs of types are laid over each other before the result is any.
const overlayLimit = 1000

func (c *checker) overlay() *overlay { return &overlay{checker: c, asked: map[pair]bool{}} }

// merged returns the type of a value of one type over which one of another is laid.
func (o *overlay) merged(under, over *Type) *Type {
	if under.Kind == Invalid || over.Kind == Invalid {
		return InvalidType
	}
	question := pair{under, over}
	if o.pairs++; o.asked[question] || o.pairs > overlayLimit {
		return AnyType
	}
	o.asked[question] = true
	defer delete(o.asked, question)
	var results []*Type
	for _, b := range over.alternatives() {
		if b.Core().Kind != Record && b.Core().Kind != Any {
			results = append(results, b) // replaces, whatever is there
			continue
		}
		for _, a := range under.alternatives() {
			switch x, y := a.Core(), b.Core(); {
			case y.Kind == Any:
				results = append(results, AnyType) // it replaces, or merges
				if x.Kind == Record && !IsData(x) {
					results = append(results, o.universe.anything(x, y))
				}
			case x.Kind == Any:
				results = append(results, o.universe.anything(x, y))
			case x.Kind == Record:
				results = append(results, o.records(x, y))
			default:
				results = append(results, b)
			}
		}
	}
	return o.universe.Union(results...)
}

// anything returns the type of what is made of parts of which some are any: any, or a record of anything and of the
// functions that the others hold.
func (u *Universe) anything(parts ...*Type) *Type {
	held := []*Type{AnyType}
	for _, p := range parts {
		if IsData(p) {
			continue
		}
		held = append(held, p)
		for _, f := range p.Core().Fields {
			held = append(held, f.Type)
		}
		if rest := p.Core().Rest; rest != nil {
			held = append(held, rest)
		}
	}
	if len(held) == 1 {
		return AnyType
	}
	return u.Map(u.Union(held...))
}

// records is merged for two record types.
func (o *overlay) records(a, b *Type) *Type {
	var fields []Field
	add := func(name string) {
		under, over := possible(a, name), possible(b, name)
		f := Field{Name: name, Optional: under.Optional && over.Optional}
		var types []*Type
		if over.Type != nil {
			if under.Type != nil {
				types = append(types, o.merged(under.Type, over.Type))
			}
			if under.Optional {
				types = append(types, over.Type)
			}
		}
		if under.Type != nil && over.Optional {
			types = append(types, under.Type)
		}
		f.Type = o.universe.Union(types...)
		f.Secret = under.Secret && over.Optional || over.Secret
		f.Span, f.Description = under.Span, under.Description
		fields = append(fields, f)
	}
	for _, f := range a.Fields {
		add(f.Name)
	}
	for _, f := range b.Fields {
		if _, ok := a.Field(f.Name); !ok {
			add(f.Name)
		}
	}
	rest := o.eitherRest(a, b)
	if a.Rest != nil && b.Rest != nil {
		rest = o.universe.Union(rest, o.merged(a.Rest, b.Rest))
	}
	absent := func(f Field) bool { return f.Optional }
	loose := a.Loose || b.Loose || slices.ContainsFunc(a.Fields, absent) || slices.ContainsFunc(b.Fields, absent)
	return o.universe.record(fields, rest, loose)
}

// possible returns what a record type says of a field: its type, nil when it is never there, and whether it may be
// absent.
func possible(t *Type, name string) Field {
	if f, ok := t.Field(name); ok {
		return *f
	}
	return Field{Type: t.Rest, Optional: true}
}
