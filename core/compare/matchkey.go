package compare

import (
	"slices"

	"knothole/core/value"
)

// matchKey says by which fields elements of lists are known.
type matchKey struct {
	fields []string // in all lists, before all others
	// at returns those of the list to which fields lead in an object, [] for elements; nil where nothing says so.
	at     func(object value.Value, path []string) []string
	object value.Value
	path   *knownPath
	stream bool // the elements are objects of their own
}

// knownPath is a path of fields, innermost first.
type knownPath struct {
	outer *knownPath
	name  string
}

// within is what is known of a field of what is looked at, or with [] of an element. There are many fields, and lists
// in few of them.
func (k matchKey) within(name string, cells []value.Value) matchKey {
	holds := func(v value.Value) bool { return v.Kind() == value.Record || v.Kind() == value.List }
	if k.at != nil && slices.ContainsFunc(cells, holds) {
		k.path, k.stream = &knownPath{k.path, name}, false
	}
	return k
}

// element is what is known of an element, of which these are the cells.
func (k matchKey) element(cells []value.Value) matchKey {
	if !k.stream || k.at == nil {
		return k.within("[]", cells)
	}
	there := slices.IndexFunc(cells, func(v value.Value) bool { return !v.IsAbsent() })
	k.object, k.path, k.stream = cells[there], nil, false
	return k
}

// keys are the fields by which, as its schema says, the elements of the list that is looked at are known.
func (k matchKey) keys() []string {
	if k.at == nil || k.stream {
		return nil
	}
	var path []string
	for at := k.path; at != nil; at = at.outer {
		path = append(path, at.name)
	}
	slices.Reverse(path)
	return k.at(k.object, path)
}
