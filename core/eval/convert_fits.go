package eval

import (
	"slices"

	"knothole/core/types"
	"knothole/core/value"
)

// maxFits is how deep fits looks.
const maxFits = 100

// fits reports whether a value certainly is of a type already, so that passing it there changes nothing and says
// nothing. It is a short way through data that is typed by a schema: no paths, no trials. False says nothing.
func (c *conversion) fits(v value.Value, to types.Type, depth int) bool {
	if v.Unknown() || depth > maxFits {
		return false
	}
	switch to := to.(type) {
	case *types.Basic:
		return isOfBasic(v, to)
	case *types.Literal:
		return v.Mark() == 0 && isLiteral(v, to.Value)
	case *types.Named:
		base := to.Base()
		return base != nil && c.fits(v, base, depth+1)
	case *types.Union:
		return v.Mark() == 0 && v.Kind() != value.Record && v.Kind() != value.List &&
			slices.ContainsFunc(to.Members, func(m types.Type) bool { return c.fits(v, m, depth+1) })
	case *types.List:
		return v.Kind() == value.List && to.Element == types.Any || v.Kind() == value.List &&
			!slices.ContainsFunc(v.Elements(), func(x value.Value) bool { return !c.fits(x, to.Element, depth+1) })
	case *types.Record:
		return v.Kind() == value.Record && (isAnyRecord(to) || to.Loose && c.fitsRecord(v, to, depth))
	}
	return false
}

// isAnyRecord reports whether a type says nothing of its records: neither which fields they have nor what is in them.
func isAnyRecord(t *types.Record) bool { return len(t.Fields) == 0 && t.Rest == types.Any }

// plainly reports whether a value is of a type when its kind alone says so, and whether it does.
func plainly(v value.Value, t types.Type) (is, told bool) {
	if v.Mark() != 0 {
		return false, false
	}
	switch t := t.(type) {
	case *types.Basic:
		return isOfBasic(v, t), t != types.Float || v.Kind() != value.Int
	case *types.List:
		return v.Kind() == value.List, t.Element == types.Any || v.Kind() != value.List
	case *types.Record:
		return v.Kind() == value.Record, isAnyRecord(t) || v.Kind() != value.Record
	case *types.Union:
		told = true
		for _, m := range t.Members {
			is, known := plainly(v, m)
			if is && known {
				return true, true
			}
			told = told && known
		}
		return false, told
	}
	return false, false
}

func isOfBasic(v value.Value, to *types.Basic) bool {
	switch types.Type(to) {
	case types.Any:
		return true
	case types.Null:
		return v.IsNull()
	case types.Bool:
		return v.Kind() == value.Bool
	case types.Int:
		return v.Kind() == value.Int
	case types.Float:
		return v.Kind() == value.Float
	case types.String:
		return v.Kind() == value.String
	}
	return false
}

func (c *conversion) fitsRecord(v value.Value, to *types.Record, depth int) bool {
	for i := range to.Fields {
		if f := &to.Fields[i]; !f.Optional && v.Get(f.Name).IsAbsent() {
			return false
		}
	}
	for i, key := range v.Shape().Keys() {
		into := to.Rest
		if f, declared := to.Field(key); declared {
			if into = f.Type; f.Deprecated != "" {
				return false // it may have to be told
			}
		}
		if into == nil || !c.fits(v.Values()[i], into, depth+1) {
			return false
		}
	}
	return true
}
