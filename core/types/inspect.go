package types

import "slices"

// parts returns the types that a type is made of, in the order in which they are written.
func parts(t Type) []Type {
	switch t := t.(type) {
	case *Union:
		return t.Members
	case *List:
		return []Type{t.Element}
	case *Set:
		return []Type{t.Element}
	case *Tuple:
		return t.Elements
	case *Record:
		fields := make([]Type, 0, len(t.Fields)+1)
		for i := range t.Fields {
			fields = append(fields, t.Fields[i].Type)
		}
		if t.Rest != nil {
			fields = append(fields, t.Rest)
		}
		return fields
	case *Function:
		return append(slices.Clip(t.Parameters), t.Result)
	case *Limited:
		return []Type{t.Base}
	case *Named:
		if base := t.Base(); base != nil {
			return []Type{base}
		}
	}
	return nil
}

// Inspect visits a type and all that it is made of, each once, what contains before what is contained. Where visit
// returns false, the parts of a type are not visited; nor are those of what a schema describes, which is plain data:
// it has no functions, sets, secrets or defaults.
func Inspect(t Type, visit func(Type) bool) {
	seen := map[Type]bool{}
	var inspect func(t Type)
	inspect = func(t Type) {
		if seen[t] {
			return
		}
		if _, basic := t.(*Basic); !basic {
			seen[t] = true
		}
		if named, ok := t.(*Named); !visit(t) || ok && named.described {
			return
		}
		for _, part := range parts(t) {
			inspect(part)
		}
	}
	inspect(t)
}

// contains reports whether wanted holds for a type or for something that it is made of. Where open does not hold, the
// parts of a type are not looked at.
func contains(t Type, wanted, open func(Type) bool) bool {
	found := false
	Inspect(t, func(x Type) bool {
		found = found || wanted(x)
		return !found && open(x)
	})
	return found
}

// IsData reports whether the values of a type are data: they hold no functions.
func IsData(t Type) bool {
	if _, basic := t.(*Basic); basic {
		return true
	}
	return !contains(t, func(x Type) bool {
		switch x.(type) {
		case *Function, *Instance:
			return true
		}
		return false
	}, func(Type) bool { return true })
}

// isData reports whether a type may be a part of data.
func isData(t Type) bool {
	switch t.(type) {
	case *Function, *Instance:
		return false
	}
	return true
}

// HasSet reports whether values of a type may hold sets, which compare without order.
func HasSet(t Type) bool {
	return contains(t, func(x Type) bool {
		_, set := x.(*Set)
		return set
	}, isData)
}

// HoldsSecret reports whether values of a type may have secret fields.
func HoldsSecret(t Type) bool {
	return contains(t, func(x Type) bool {
		record, ok := x.(*Record)
		return ok && slices.ContainsFunc(record.Fields, func(f Field) bool { return f.Secret })
	}, isData)
}

// Variables returns the names of the type variables that a type of a signature holds.
func Variables(t Type) (names []string) {
	Inspect(t, func(x Type) bool {
		if v, is := x.(*Variable); is && !slices.Contains(names, v.Name) {
			names = append(names, v.Name)
		}
		return true
	})
	return names
}

// HasVariables reports whether a type of a signature holds type variables. Declared types have none.
func HasVariables(t Type) bool {
	return contains(t, func(x Type) bool {
		_, variable := x.(*Variable)
		return variable
	}, func(x Type) bool {
		_, named := x.(*Named)
		return !named
	})
}

// MapParts returns a type in which each of the types that it is made of is changed. Names and limits stay as they are.
func (u *Universe) MapParts(t Type, change func(Type) Type) Type {
	all := func(of []Type) []Type {
		changed := make([]Type, len(of))
		for i, part := range of {
			changed[i] = change(part)
		}
		return changed
	}
	switch t := t.(type) {
	case *Union:
		return u.Union(all(t.Members)...)
	case *List:
		return u.List(change(t.Element))
	case *Set:
		return u.Set(change(t.Element))
	case *Tuple:
		return u.Tuple(all(t.Elements)...)
	case *Function:
		return u.Function(all(t.Parameters), t.Required, change(t.Result))
	case *Record:
		fields := slices.Clone(t.Fields)
		for i := range fields {
			fields[i].Type = change(fields[i].Type)
		}
		rest := t.Rest
		if rest != nil {
			rest = change(rest)
		}
		return u.record(fields, rest, t.Loose)
	}
	return t
}
