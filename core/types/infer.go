package types

import "slices"

// Bindings are the types that the variables of a signature stand for in one call.
type Bindings map[string]Type

// Bind matches a type that may hold variables with the type that was found, and reports whether it fits. What a
// variable met more than once is united.
func (u *Universe) Bind(want, got Type, bound Bindings) bool {
	if !HasVariables(want) {
		return Assignable(got, want)
	}
	if variable, ok := want.(*Variable); ok {
		u.bindVariable(variable, got, bound)
		return true
	}
	core := Core(got)
	if core == Never {
		return true
	}
	wanted, isUnion := want.(*Union)
	if union, ok := core.(*Union); ok && !isUnion {
		return !slices.ContainsFunc(union.Members, func(m Type) bool { return !u.Bind(want, m, bound) })
	}
	if isUnion {
		return u.bindUnion(wanted, got, bound)
	}
	switch want := want.(type) {
	case *List:
		if core == Any {
			return u.Bind(want.Element, Any, bound)
		}
		list, ok := core.(*List)
		return ok && u.Bind(want.Element, list.Element, bound)
	case *Function:
		function, ok := core.(*Function)
		return ok && u.bindFunction(want, function, bound)
	case *Record:
		if core == Any {
			for _, f := range want.Fields {
				u.Bind(f.Type, Any, bound)
			}
			return want.Rest == nil || u.Bind(want.Rest, Any, bound)
		}
		record, ok := core.(*Record)
		return ok && u.bindRecord(want, record, bound)
	}
	return false
}

func (u *Universe) bindVariable(want *Variable, got Type, bound Bindings) {
	earlier, known := bound[want.Name]
	if !known && emptyLiteral(got) { // nothing explains what it may hold
		got = u.Explained(got)
	}
	if known {
		got = u.joined(mostRecords, []Type{earlier, got})
	}
	bound[want.Name] = got
}

// bindUnion binds the member of a union that has variables; what is not null is matched with it.
func (u *Universe) bindUnion(want *Union, got Type, bound Bindings) bool {
	for _, m := range want.Members {
		if HasVariables(m) {
			present := u.WithoutNull(got)
			return present == Never || u.Bind(m, present, bound)
		}
	}
	return false
}

func (u *Universe) bindFunction(want, got *Function, bound Bindings) bool {
	if got.Required > len(want.Parameters) || len(got.Parameters) < len(want.Parameters) {
		return false
	}
	for i, p := range want.Parameters {
		if !Assignable(u.Substitute(p, bound), got.Parameters[i]) {
			return false
		}
	}
	return u.Bind(want.Result, got.Result, bound)
}

func (u *Universe) bindRecord(want, got *Record, bound Bindings) bool {
	if want.Rest == nil {
		for _, f := range want.Fields {
			given, ok := got.Field(f.Name)
			if !ok || given.Optional || !u.Bind(f.Type, given.Type, bound) {
				return false
			}
		}
		return got.Rest == nil && len(got.Fields) == len(want.Fields)
	}
	return !slices.ContainsFunc(parts(got), func(part Type) bool { return !u.Bind(want.Rest, part, bound) })
}

// Substitute puts the types that were bound in the place of variables, any for those that were not.
func (u *Universe) Substitute(t Type, bound Bindings) Type {
	return u.substitute(t, func(v *Variable) Type {
		if known, ok := bound[v.Name]; ok {
			return known
		}
		return Any
	})
}

// SubstituteKnown puts the types that were bound in the place of variables and leaves the others.
func (u *Universe) SubstituteKnown(t Type, bound Bindings) Type {
	return u.substitute(t, func(v *Variable) Type {
		if known, ok := bound[v.Name]; ok {
			return known
		}
		return v
	})
}

func (u *Universe) substitute(t Type, of func(*Variable) Type) Type {
	if variable, ok := t.(*Variable); ok {
		return of(variable)
	}
	if !HasVariables(t) {
		return t
	}
	return u.MapParts(t, func(part Type) Type { return u.substitute(part, of) })
}
