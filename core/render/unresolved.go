package render

import (
	"knothole/core/place"
	"knothole/core/value"
)

// Unresolved is a value of a document that depends on a later input without a value.
type Unresolved struct {
	Environment string
	Document    string
	Path        *place.Path
	Text        string // what stands for it
}

// unresolved returns the values that depend on later inputs without a value.
func (r *Result) unresolved() (all []Unresolved) {
	for i := range r.Documents {
		d := &r.Documents[i]
		if !d.Open {
			continue
		}
		walk(d.Value, nil, func(path *place.Path, v value.Value) {
			if v.Unknown() && v.Mark()&value.Later != 0 && !v.Secret() {
				all = append(all, Unresolved{r.Run.Name, d.Path, path, v.Placeholder()})
			}
		})
	}
	return all
}

// walk visits all scalars of a value with their paths.
func walk(v value.Value, path *place.Path, visit func(*place.Path, value.Value)) {
	switch v.Kind() {
	case value.List:
		for i, x := range v.Elements() {
			walk(x, path.Index(i), visit)
		}
	case value.Record:
		for i, key := range v.Shape().Keys() {
			walk(v.Values()[i], path.Field(key), visit)
		}
	default:
		visit(path, v)
	}
}
