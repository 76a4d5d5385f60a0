package syntax

import (
	"reflect"
	"slices"

	"knothole/core/source"
)

// Same reports whether two modules mean the same: their trees are equal, descriptions included, wherever the nodes
// stand.
func Same(a, b *Module) bool {
	return same(reflect.ValueOf(a.Declarations), reflect.ValueOf(b.Declarations))
}

// placeTypes are those that only say where something is.
var placeTypes = []reflect.Type{reflect.TypeFor[source.Span](), reflect.TypeFor[source.Pos](), reflect.TypeFor[node]()}

func same(a, b reflect.Value) bool {
	if a.IsValid() != b.IsValid() || !a.IsValid() {
		return a.IsValid() == b.IsValid()
	}
	if a.Type() != b.Type() {
		return false
	}
	if slices.Contains(placeTypes, a.Type()) {
		return true
	}
	switch a.Kind() {
	case reflect.Pointer, reflect.Interface:
		if a.IsNil() || b.IsNil() {
			return a.IsNil() == b.IsNil()
		}
		return same(a.Elem(), b.Elem())
	case reflect.Struct:
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
