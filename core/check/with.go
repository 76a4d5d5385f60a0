package check

import (
	"fmt"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// inferWith finds the type of a record with changes: the fields that are changed, and new ones.
func (c *checker) inferWith(e *syntax.With) types.Type {
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
func (c *checker) withChange(of syntax.Expression, t types.Type, change *syntax.Change,
	written map[string]source.Span) types.Type {
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
	if t == types.Invalid || v == types.Invalid {
		return types.Invalid
	}
	changed := c.changed(of, t, change, v, 0)
	if change.Optional && changed != types.Invalid {
		return c.universe.Either(t, changed)
	}
	return changed
}

// laidOver returns the type of a value over which a record is laid.
func (c *checker) laidOver(of syntax.Expression, t types.Type, over syntax.Expression, o types.Type) types.Type {
	if t == types.Invalid || o == types.Invalid {
		return types.Invalid
	}
	if !c.onlyRecords(of, t) || !c.onlyRecords(over, o) {
		return types.Invalid
	}
	return c.universe.Overlay(t, o)
}

// onlyRecords reports what is no record and is on one of the sides of with.
func (c *checker) onlyRecords(e syntax.Expression, t types.Type) bool {
	for _, part := range types.Parts(t) {
		if types.AsRecord(part) == nil && part != types.Any {
			c.addWith(withHelp(t), NotChanged(e.Place(), types.Describe(t)))
			return false
		}
	}
	return true
}

func withHelp(t types.Type) string {
	if types.MayBeNull(t) {
		return "it may be null: give a value for that case with ??"
	}
	return ""
}

// changed returns the type of a value of which the place that a path leads to, from a depth on, was changed to a value.
func (c *checker) changed(of syntax.Expression, t types.Type, change *syntax.Change, v types.Type,
	depth int) types.Type {
	var results []types.Type
	for _, part := range types.Parts(t) {
		record, isRecord := part.(*types.Record)
		switch {
		case part == types.Any:
			results = append(results, c.universe.Anything(types.Any, v))
		case part == types.Invalid:
			return types.Invalid
		case isRecord:
			next := c.changedRecord(of, t, record, change, v, depth)
			if next == types.Invalid {
				return next
			}
			results = append(results, next)
		default:
			at := of.Place()
			if depth > 0 {
				at = change.Path[depth].Span
			}
			c.addWith(withHelp(t), NotChanged(at, types.Describe(t)))
			return types.Invalid
		}
	}
	return c.universe.Joined(results...)
}

// changedRecord is changed for one record type.
func (c *checker) changedRecord(of syntax.Expression, whole types.Type, record *types.Record, change *syntax.Change,
	v types.Type, depth int) types.Type {
	key, last := change.Path[depth], depth == len(change.Path)-1
	next := func(old types.Type) types.Type { // of the value under the key; nil when there may be none
		if last && old == nil {
			return v
		}
		if last {
			return c.universe.Overlay(old, v)
		}
		return c.changed(of, old, change, v, depth+1)
	}
	fields, loose := types.WithoutDefaults(record.Fields), record.Loose
	if key.Value != nil { // it may be any of the fields
		for i := range fields {
			changed := fields[i].Type
			if last || types.HoldsRecord(changed) {
				changed = next(fields[i].Type)
			}
			if changed == types.Invalid {
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
		return c.universe.RecordOf(fields, rest, loose)
	}
	for i := range fields {
		f := &fields[i]
		if f.Name != key.Name {
			continue
		}
		if last && f.Optional {
			f.Type = c.universe.Union(v, next(f.Type))
			loose = true // where it was absent, it comes after the others now
		} else {
			f.Type = next(f.Type)
		}
		f.Optional, f.Secret = false, f.Secret && !last
		if f.Type == types.Invalid {
			return types.Invalid
		}
		return c.universe.RecordOf(fields, record.Rest, loose)
	}
	if record.Rest == nil && !last {
		var names []string
		for _, key := range change.Path {
			names = append(names, key.Name)
		}
		c.report(source.UnknownField, key.Span, fieldHelp(key.Name, record),
			"%s has no field %q, and every record on the way to %s must be there", types.Article(whole), key.Name,
			strings.Join(names, "."))
		return types.Invalid
	}
	t := v
	if record.Rest != nil {
		if t = next(record.Rest); last {
			t = c.universe.Union(v, t)
		}
		if t == types.Invalid {
			return t
		}
	}
	return c.universe.RecordOf(append(fields, types.Field{Name: key.Name, Type: t}), record.Rest, loose)
}
