package render

import (
	"knothole/core/place"
	"knothole/core/value"
)

// OpenValue is a place in a document whose value is known only after deployment.
type OpenValue struct {
	Environment string
	Document    string
	Path        *place.Path
	Text        string // what stands for it
}

// Open returns the places whose values are known only after deployment and are not given yet.
func (r *Result) Open() []OpenValue {
	var all []OpenValue
	for i := range r.Documents {
		d := &r.Documents[i]
		if !d.Open {
			continue
		}
		walk(d.Value, nil, func(path *place.Path, v value.Value) {
			if v.Unknown() && v.Mark()&value.Later != 0 && !v.Secret() {
				all = append(all, OpenValue{r.Run.Name, d.Path, path, v.Placeholder()})
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
