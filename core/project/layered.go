package project

import (
	"iter"
	"slices"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// Layers are records of what inputs are, each of which overlays the ones before it: they are in order, weakest first.
// Everything that asks what layers give goes through the functions of this file: the values of a run, the settings that
// are shown, edits, layers to fill in, and layers of a new environment.
//
// What null means depends on the type (see effectOf). Records overlay each other field by field where the type is a
// record or any; every other value is given as a whole.
type Layers []*Layer

// At returns what a layer has at a path of keys; Absent when it has nothing there.
func (l *Layer) At(path []string) value.Value { return at(l.Root, path) }

// at returns what records have at a path, Absent when it leads nowhere.
func at(v value.Value, path []string) value.Value {
	for _, key := range path {
		if v.Kind() != value.Record {
			return value.Value{}
		}
		v = v.Get(key)
	}
	return v
}

// With returns the layers that have something at a path, null too, and what it is, strongest first.
func (all Layers) With(path []string) iter.Seq2[*Layer, value.Value] {
	return func(yield func(*Layer, value.Value) bool) {
		for _, l := range slices.Backward(all) {
			if v := l.At(path); !v.IsAbsent() && !yield(l, v) {
				return
			}
		}
	}
}

// Has reports whether a layer has something at a path.
func (all Layers) Has(path []string) bool {
	for range all.With(path) {
		return true
	}
	return false
}

// effect is what a value of a layer does.
type effect uint8

const (
	givesNothing effect = iota // the value is absent, or null, which then says "not given here"
	gives                      // its value counts, unless a stronger layer has another
	takesAway                  // it is null, and takes away what weaker layers give
)

// effectOf returns what a value of a layer does. Null is a value where the type has it; removable says that it takes
// weaker values away elsewhere, as it does for entries of maps and optional fields.
func effectOf(v value.Value, t types.Type, removable bool) effect {
	switch {
	case v.IsAbsent():
		return givesNothing
	case !v.IsNull() || types.MayBeNull(t):
		return gives
	case removable:
		return takesAway
	}
	return givesNothing
}

// Of returns what the layers give an input, Absent when nothing. With nulls, those that take away what weaker layers
// give stay, so that the value may be a layer itself.
func (all Layers) Of(o *check.Object, nulls bool) (v value.Value) {
	for _, l := range all {
		v = overlaid(v, l.At([]string{o.Name}), o.Type, false, nulls)
	}
	return v
}

// overlaid returns a value of a weaker layer overlaid by one of a stronger.
func overlaid(weak, strong value.Value, t types.Type, removable, nulls bool) value.Value {
	switch effectOf(strong, t, removable) {
	case givesNothing:
		return weak
	case takesAway:
		if !nulls {
			return value.Value{}
		}
		return strong
	}
	record := recordOf(t)
	if strong.Kind() != value.Record || types.Core(t) != types.Any && record == nil {
		return strong
	}
	var b value.Builder
	add := func(key string, weak value.Value) {
		field, optional := fieldOf(record, key)
		if x := overlaid(weak, strong.Get(key), field, optional, nulls); !x.IsAbsent() {
			b.Set(key, x)
		}
	}
	if weak.Kind() == value.Record {
		for i, key := range weak.Shape().Keys() {
			add(key, weak.Values()[i])
		}
	}
	for _, key := range strong.Shape().Keys() {
		if weak.Kind() != value.Record || weak.Get(key).IsAbsent() {
			add(key, value.Value{})
		}
	}
	return b.Record(strong.Origin())
}

// recordOf returns the record type that a type is, null aside; nil when it is another union or no record.
func recordOf(t types.Type) *types.Record {
	isOther := func(p types.Type) bool { return p != types.Null && types.AsRecord(p) == nil }
	if slices.ContainsFunc(types.Parts(t), isOther) {
		return nil
	}
	return types.OnlyRecord(t)
}

// fieldOf returns the type of a field, and whether null removes it.
func fieldOf(record *types.Record, key string) (t types.Type, removable bool) {
	if record == nil {
		return types.Any, true
	}
	if f, ok := record.Field(key); ok {
		return f.Type, f.Optional
	}
	if record.Rest != nil {
		return record.Rest, true
	}
	return types.Any, false
}

// TakenAway returns where a layer takes away what weaker ones give at a path of keys in an input, with null, or the
// record that it is in; not a valid position when none does.
func (all Layers) TakenAway(path []string) source.Pos {
	for _, l := range slices.Backward(all) {
		for n := len(path); n > 0; n-- {
			if v := l.At(path[:n]); v.IsNull() {
				return v.Origin().Pos()
			}
		}
		if !l.At(path).IsAbsent() {
			break
		}
	}
	return source.NoPos
}

// takenAwayBy returns the null with which a layer takes away the input, or the entry of a map that it is in; Absent
// when it does not.
func (in *Input) takenAwayBy(l *Layer) value.Value {
	for of := in; of != nil; of = of.Parent {
		if v := l.At(of.Path); of.entry && effectOf(v, of.Type, true) == takesAway {
			return v
		}
	}
	return value.Value{}
}
