package types

import "slices"

// This file makes types of types: what is known of a value that is one of two, that lost or gained something, or of
// which only a part is looked at.

// manyMembers is the number of members of a union up to which looking through them is faster than a map.
const manyMembers = 16

// members gathers the members of a union.
type members struct {
	list  []Type
	known map[Type]bool // of many members
}

func (m *members) has(t Type) bool {
	if m.known != nil {
		return m.known[t]
	}
	return slices.Contains(m.list, t)
}

func (m *members) add(t Type) {
	if union, ok := t.(*Union); ok {
		for _, member := range union.Members {
			m.add(member)
		}
		return
	}
	if t == Never || m.has(t) {
		return
	}
	m.list = append(m.list, t)
	switch {
	case m.known != nil:
		m.known[t] = true
	case len(m.list) > manyMembers:
		m.known = make(map[Type]bool, 2*len(m.list))
		for _, member := range m.list {
			m.known[member] = true
		}
	}
}

// Union returns the union of types, flattened; literals beside their own type disappear in it.
func (u *Universe) Union(types ...Type) Type {
	var m members
	open := false
	for _, t := range types {
		if t == Invalid {
			return t
		}
		open = open || t == Any
		m.add(t)
	}
	all := m.list
	u.work.Add(int64(len(all)))
	if open { // which is all data, but never a function or an instance
		all = slices.DeleteFunc(all, func(t Type) bool { return t != Any && IsData(t) })
	}
	all = slices.DeleteFunc(all, func(t Type) bool {
		if wide := Widen(t); wide != t {
			return m.has(wide)
		}
		return emptyLiteral(t) && slices.ContainsFunc(all, func(other Type) bool {
			return other != t && sameKind(other, t) && Fits(t, other)
		})
	})
	switch len(all) {
	case 0:
		return Never
	case 1:
		return all[0]
	}
	return intern(u, "union"+numbers(all), func(id identity) *Union { return &Union{identity: id, Members: all} })
}

// emptyLiteral reports whether a type is that of `[]` or `{}`, which fits into any other list, or record without
// required fields.
func emptyLiteral(t Type) bool {
	switch t := t.(type) {
	case *List:
		return t.Element == Never
	case *Record:
		return len(t.Fields) == 0 && t.Rest == nil
	}
	return false
}

// sameKind reports whether two types are both lists or both records.
func sameKind(a, b Type) bool {
	switch a.(type) {
	case *List:
		_, list := b.(*List)
		return list
	case *Record:
		_, record := b.(*Record)
		return record
	}
	return false
}

// WithoutNull returns the type without null.
func (u *Universe) WithoutNull(t Type) Type {
	switch core := t.Underlying().(type) {
	case *Union:
		if !MayBeNull(t) {
			return t
		}
		return u.MapParts(core, u.WithoutNull)
	case *Basic:
		if core == Null {
			return Never
		}
	}
	return t
}

// Explained returns the type of a value that has a name, in which nothing explains empty literals any more: they may
// hold anything.
func (u *Universe) Explained(t Type) Type {
	switch t := t.(type) {
	case *List:
		if t.Element == Never {
			return u.List(Any)
		}
	case *Record:
		if emptyLiteral(t) {
			return u.Map(Any)
		}
	default:
		return t
	}
	return u.derive("explained", t, func() Type { return u.MapParts(t, u.Explained) })
}

// WidenDeep widens the literal types in records and lists too. Records that have a name stay as they are.
func (u *Universe) WidenDeep(t Type) Type {
	return u.derive("widened", t, func() Type {
		switch x := t.(type) {
		case *Literal:
			return Widen(x)
		case *Named, *Limited:
			if AsRecord(x) != nil {
				return x
			}
			return u.WidenDeep(Core(x))
		case *List, *Union, *Record:
			return u.MapParts(x, u.WidenDeep)
		}
		return t
	})
}

// Loose returns the type of the values of which `is` says that they are of a type: they fit without any conversion,
// but have not passed into it, so that lists are no sets yet and fields are in any order.
func (u *Universe) Loose(t Type) Type {
	if !changesPassing(t) {
		return t
	}
	switch t := t.(type) {
	case *Named:
		// What it stands for is made when it is needed, since its parts may contain it.
		return intern(u, "loose "+number(t), func(id identity) *Named {
			return &Named{identity: id, Name: t.Name, described: t.described,
				expand: func() Type { return u.Loose(t.Base()) }}
		})
	case *Limited:
		return u.Loose(t.Base)
	case *Set:
		return u.List(u.Loose(t.Element))
	case *Record:
		record := u.MapParts(t, u.Loose).(*Record)
		return u.record(WithoutDefaults(record.Fields), record.Rest, len(t.Fields) > 0)
	}
	return u.MapParts(t, u.Loose)
}

// changesPassing reports whether a value that fits a type as it is may still change when it passes into it: it
// has a set, or declared fields.
func changesPassing(t Type) bool {
	return contains(t, func(x Type) bool {
		switch x := x.(type) {
		case *Set:
			return true
		case *Record:
			return len(x.Fields) > 0 && !x.Loose
		}
		return false
	}, func(x Type) bool {
		_, function := x.(*Function)
		return !function
	})
}

// WithoutDefaults returns the fields as those of a value, in which defaults are filled in.
func WithoutDefaults(fields []Field) []Field {
	result := make([]Field, len(fields))
	for i, f := range fields {
		f.Default, f.Deprecated = nil, ""
		result[i] = f
	}
	return result
}

// AsLists returns the list type for reading a type. For a union of lists, it is a list of all their elements; for any,
// a list of any. It is nil if the type may be something other than a list.
func (u *Universe) AsLists(t Type) *List {
	var elements []Type
	for _, part := range Parts(t) {
		list := AsList(part)
		switch {
		case list != nil:
			elements = append(elements, list.Element)
		case part != Any || AsUnion(t) == nil:
			return nil
		default:
			elements = append(elements, Any)
		}
	}
	if len(elements) == 1 {
		return AsList(t)
	}
	return AsList(u.List(u.Union(elements...)))
}

// A union of more than manyRecords records is simplified: records that differ only in their fields become one. In a
// union of more than mostRecords, all of them do.
const (
	manyRecords = 8
	mostRecords = 64
)

// Gathered is Union for the values of branches, and for the elements of a list or record. If these are themselves
// chosen from several values, the members multiply. Records that differ only in their fields then become one record
// with optional fields. Records that are written out one by one stay separate.
func (u *Universe) Gathered(types ...Type) Type {
	return u.joined(max(manyRecords, len(types)), types)
}

// Joined is Gathered for the results of an operation on each pair of members of two unions.
func (u *Universe) Joined(types ...Type) Type {
	return u.joined(manyRecords, types)
}

func (u *Universe) joined(many int, types []Type) Type {
	t := u.Union(types...)
	union, is := t.(*Union)
	if !is || len(union.Members) <= many {
		return t
	}
	var others, records []Type
	for _, m := range union.Members {
		if _, is := m.(*Record); is {
			records = append(records, m)
		} else {
			others = append(others, m)
		}
	}
	if len(records) <= many {
		return t
	}
	var joined []*Record
	for _, m := range records {
		r := m.(*Record)
		i := slices.IndexFunc(joined, func(other *Record) bool {
			return len(records) > mostRecords || sameFields(r, other)
		})
		if i < 0 {
			joined = append(joined, r)
		} else {
			joined[i] = u.EitherRecord(joined[i], r)
		}
	}
	for _, r := range joined {
		others = append(others, r)
	}
	return u.Union(others...)
}

// sameFields reports whether the common fields of two records have the same types.
func sameFields(a, b *Record) bool {
	for i := range a.Fields {
		if f, ok := b.Field(a.Fields[i].Name); ok && Widen(f.Type) != Widen(a.Fields[i].Type) {
			return false
		}
	}
	return a.Rest == b.Rest
}

// Partial makes all fields of a record type optional; any other type stays as it is.
func (u *Universe) Partial(t Type) Type {
	record := AsRecord(t)
	if record == nil {
		return t
	}
	fields := slices.Clone(record.Fields)
	for i := range fields {
		fields[i].Optional, fields[i].Default = true, nil
	}
	return u.record(fields, record.Rest, record.Loose)
}

// EitherRecord returns the record type that describes what is one of two records.
func (u *Universe) EitherRecord(a, b *Record) *Record {
	var fields []Field
	add := func(f Field, other *Record) {
		o := other.Possible(f.Name)
		if o.Type != nil {
			f.Type = u.Union(f.Type, o.Type)
		}
		f.Optional, f.Default = f.Optional || o.Optional, nil
		fields = append(fields, f)
	}
	for _, f := range a.Fields {
		add(f, b)
	}
	for _, f := range b.Fields {
		if _, ok := a.Field(f.Name); !ok {
			add(f, a)
		}
	}
	return u.record(fields, u.eitherRest(a, b), true)
}

// Either returns the type of a value that is of one of two types; of two records it is one record.
func (u *Universe) Either(a, b Type) Type {
	if x, y := AsRecord(a), AsRecord(b); x != nil && y != nil {
		return u.EitherRecord(x, y)
	}
	return u.Union(a, b)
}

// eitherRest returns the type of the fields that are not declared in either of two record types; nil when there are
// none.
func (u *Universe) eitherRest(a, b *Record) Type {
	switch {
	case a.Rest == nil:
		return b.Rest
	case b.Rest == nil:
		return a.Rest
	}
	return u.Union(a.Rest, b.Rest)
}

// Anything returns the type of what is made of parts of which some are any: any, or a record of anything and of the
// functions that the others hold.
func (u *Universe) Anything(parts ...Type) Type {
	held := []Type{Any}
	for _, p := range parts {
		if IsData(p) {
			continue
		}
		held = append(held, p)
		if record := AsRecord(p); record != nil {
			for _, f := range record.Fields {
				held = append(held, f.Type)
			}
			if record.Rest != nil {
				held = append(held, record.Rest)
			}
		}
	}
	if len(held) == 1 {
		return Any
	}
	return u.Map(u.Union(held...))
}
