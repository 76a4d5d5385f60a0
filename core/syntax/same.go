package syntax

import (
	"reflect"

	"knothole/core/source"
)

// Same reports whether two modules mean the same: their trees are equal, descriptions included, wherever the nodes
// stand.
func Same(a, b *Module) bool {
	return same(reflect.ValueOf(a.Declarations), reflect.ValueOf(b.Declarations))
}

var spanType, nodeType = reflect.TypeFor[source.Span](), reflect.TypeFor[node]()

func same(a, b reflect.Value) bool {
	if a.IsValid() != b.IsValid() || !a.IsValid() {
		return a.IsValid() == b.IsValid()
	}
	if a.Type() != b.Type() {
		return false
	}
	switch a.Kind() {
	case reflect.Pointer, reflect.Interface:
		if a.IsNil() || b.IsNil() {
			return a.IsNil() == b.IsNil()
		}
		return same(a.Elem(), b.Elem())
	case reflect.Struct:
		if a.Type() == spanType || a.Type() == nodeType {
			return true
		}
		for i := range a.NumField() {
			if !same(a.Field(i), b.Field(i)) {
				return false
			}
		}
		return true
	case reflect.Slice:
		if a.Len() != b.Len() {
			return false
		}
		for i := range a.Len() {
			if !same(a.Index(i), b.Index(i)) {
				return false
			}
		}
		return true
	}
	return a.Equal(b)
}
