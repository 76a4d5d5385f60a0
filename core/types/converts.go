package types

import "slices"

// Converts reports whether passing a value of one type where another is expected may change the value or fail. A value
// that is not assignable must be converted or checked, for example by `as`.
func Converts(from, to Type) bool {
	return !Assignable(from, to) ||
		answer(convertsInto, false, from, to, func(r *relation) bool { return r.converts(from, to) })
}

func (r *relation) converts(from, to Type) bool {
	if from == to || to == Any {
		return false
	}
	if _, variable := to.(*Variable); variable {
		return false
	}
	return r.ask(from, to, func() bool {
		switch {
		case AsLimited(to) != nil || from == Any, AsSet(to) != nil && AsSet(from) == nil:
			return true
		case AsTuple(to) != nil:
			return r.convertsTuple(AsTuple(from), AsTuple(to))
		}
		return r.convertsCore(Core(from), Core(to))
	})
}

func (r *relation) convertsTuple(from, to *Tuple) bool {
	if from == nil || len(from.Elements) != len(to.Elements) {
		return true
	}
	for i, e := range to.Elements {
		if r.converts(from.Elements[i], e) {
			return true
		}
	}
	return false
}

// convertsCore is converts for types without names and limits.
func (r *relation) convertsCore(from, to Type) bool {
	switch to := to.(type) {
	case *List:
		list, ok := from.(*List)
		return !ok || r.converts(list.Element, to.Element)
	case *Record:
		record, ok := from.(*Record)
		return !ok || r.convertsRecord(record, to)
	case *Function:
		function, ok := from.(*Function)
		return !ok || r.convertsFunction(function, to)
	case *Union:
		return slices.ContainsFunc(Parts(from), func(part Type) bool {
			switch part.(type) {
			case *Record, *List:
				return true
			}
			return part == Any || !slices.ContainsFunc(to.Members, func(m Type) bool {
				return Assignable(part, m) && !Converts(part, m)
			})
		})
	}
	return to == Float && Widen(from) != Float || from == Any
}

// convertsFunction is converts for function types: what it is given passes into its parameters, what it returns into
// the result that is expected.
func (r *relation) convertsFunction(from, to *Function) bool {
	if len(from.Parameters) < len(to.Parameters) || r.converts(from.Result, to.Result) {
		return true
	}
	for i, p := range to.Parameters {
		if r.converts(p, from.Parameters[i]) {
			return true
		}
	}
	return false
}

// convertsLoose is convertsRecord where the order of fields does not matter.
func (r *relation) convertsLoose(from, to *Record) bool {
	for i := range from.Fields {
		f := &from.Fields[i]
		into := to.Possible(f.Name)
		if into.Type == nil || into.Secret || r.converts(f.Type, into.Type) {
			return true
		}
	}
	for i := range to.Fields {
		f := &to.Fields[i]
		if f.Optional && f.Default == nil {
			continue
		}
		if given, ok := from.Field(f.Name); !ok || given.Optional {
			return true
		}
	}
	if from.Rest == nil {
		return false
	}
	return len(to.Fields) > 0 || to.Rest == nil || r.converts(from.Rest, to.Rest)
}

// convertsRecord is converts for record types. A record stays as it is when its fields are in the order of the type,
// the declared ones first, none has to be filled in and none changes.
func (r *relation) convertsRecord(from, to *Record) bool {
	if to.Loose {
		return r.convertsLoose(from, to)
	}
	if len(to.Fields) > 0 && (from.Loose || from.Rest != nil) {
		return true
	}
	others := from.Fields
	for i := range to.Fields {
		f := &to.Fields[i]
		switch {
		case len(others) > 0 && others[0].Name == f.Name:
			if f.Secret || f.Default != nil && others[0].Optional || r.converts(others[0].Type, f.Type) {
				return true
			}
			others = others[1:]
		case !f.Optional:
			return true // it is filled in, or is elsewhere
		default:
			if _, elsewhere := from.Field(f.Name); elsewhere {
				return true
			}
		}
	}
	for i := range others {
		if to.Rest == nil || r.converts(others[i].Type, to.Rest) {
			return true
		}
	}
	return from.Rest != nil && (to.Rest == nil || r.converts(from.Rest, to.Rest))
}
