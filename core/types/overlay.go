package types

import "slices"

// overlay finds the types of values that are laid over others: records merge into records, anything else replaces.
type overlay struct {
	*Universe
	asked map[pair]bool // what is being answered: types may contain themselves
	pairs int
}

// overlayLimit is how many pairs of types are laid over each other before the result is any.
const overlayLimit = 1000

// Overlay returns the type of a value of one type over which one of another is laid.
func (u *Universe) Overlay(under, over Type) Type {
	return (&overlay{Universe: u, asked: map[pair]bool{}}).merged(under, over)
}

func (o *overlay) merged(under, over Type) Type {
	if under == Invalid || over == Invalid {
		return Invalid
	}
	question := pair{under, over}
	if o.pairs++; o.asked[question] || o.pairs > overlayLimit {
		return Any
	}
	o.asked[question] = true
	defer delete(o.asked, question)
	var results []Type
	for _, b := range Alternatives(over) {
		y := Core(b)
		top, record := y, AsRecord(b)
		if record == nil && top != Any {
			results = append(results, b) // replaces, whatever is there
			continue
		}
		for _, a := range Alternatives(under) {
			x, below := Core(a), AsRecord(a)
			switch {
			case top == Any:
				results = append(results, Any) // it replaces, or merges
				if below != nil && !IsData(x) {
					results = append(results, o.Anything(x, y))
				}
			case x == Any:
				results = append(results, o.Anything(x, y))
			case below != nil:
				results = append(results, o.records(below, record))
			default:
				results = append(results, b)
			}
		}
	}
	return o.Joined(results...)
}

// records is merged for two record types.
func (o *overlay) records(a, b *Record) Type {
	var fields []Field
	add := func(name string) {
		under, over := a.Possible(name), b.Possible(name)
		f := Field{Name: name, Optional: under.Optional && over.Optional}
		var types []Type
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
		f.Type = o.Union(types...)
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
		rest = o.Union(rest, o.merged(a.Rest, b.Rest))
	}
	absent := func(f Field) bool { return f.Optional }
	loose := a.Loose || b.Loose || slices.ContainsFunc(a.Fields, absent) || slices.ContainsFunc(b.Fields, absent)
	return o.record(fields, rest, loose)
}
