package core_test

import (
	"fmt"
	"slices"

	"knothole/core/data"
	"knothole/core/syntax"
)

// pass lets a value pass into a type.
func (n *naive) pass(v any, t syntax.Type) any {
	result, ok := n.convert(v, t, true)
	if !ok {
		naiveFail("%v is of another type", naiveShow(v))
	}
	return result
}

func naiveShow(v any) (text string) {
	if _, ok := v.(naiveFunction); ok {
		return "a function"
	}
	return data.CompactJSON(naiveData(v))
}

// convert lets a value pass into a type. Without fill nothing is filled in and no int becomes a float.
func (n *naive) convert(v any, t syntax.Type, fill bool) (any, bool) {
	switch t := t.(type) {
	case *syntax.NamedType:
		return n.convertNamed(v, t.Name.Name, fill)
	case *syntax.LiteralType:
		literal := n.expression(t.Value, nil)
		return v, fmt.Sprintf("%T %v", v, v) == fmt.Sprintf("%T %v", literal, literal)
	case *syntax.OptionalType:
		if v == nil {
			return v, true
		}
		return n.convertUnion(v, []syntax.Type{t.Of}, fill)
	case *syntax.UnionType:
		return n.convertUnion(v, t.Members, fill)
	case *syntax.ListType:
		return n.convertElements(v, func(int) syntax.Type { return t.Element }, -1, fill)
	case *syntax.TupleType:
		return n.convertElements(v, func(i int) syntax.Type { return t.Elements[i] }, len(t.Elements), fill)
	case *syntax.SetType:
		list, ok := n.convertElements(v, func(int) syntax.Type { return t.Element }, -1, fill)
		if !ok {
			return v, false
		}
		elements := slices.Clone(list.(*naiveList).elements)
		slices.SortStableFunc(elements, func(a, b any) int {
			switch {
			case naiveLess(a, b):
				return -1
			case naiveLess(b, a):
				return 1
			}
			return 0
		})
		for i := 1; i < len(elements); i++ {
			if naiveEqual(elements[i-1], elements[i]) {
				return v, false
			}
		}
		return &naiveList{elements: elements, set: true}, true
	case *syntax.RecordType:
		return n.convertRecord(v, t, fill)
	case *syntax.FunctionType:
		f, ok := v.(naiveFunction)
		if !ok {
			return v, false
		}
		return naiveFunction(func(arguments []any) any { return n.pass(f(arguments), t.Result) }), true
	case *syntax.LimitedType:
		result, ok := n.convert(v, t.Of, fill)
		if !ok || result == nil {
			return result, ok
		}
		for _, c := range t.Conditions {
			if !n.truth(c.Test, (*naiveScope)(nil).with("it", result)) {
				return v, false
			}
		}
		return result, true
	}
	panic(fmt.Sprintf("the naive evaluator does not know %T", t))
}

func (n *naive) convertNamed(v any, name string, fill bool) (any, bool) {
	ok := false
	switch name {
	case "any":
		return naivePlain(v), true
	case "null":
		ok = v == nil
	case "bool":
		_, ok = v.(bool)
	case "int":
		_, ok = v.(int64)
	case "string":
		_, ok = v.(string)
	case "float":
		if i, isInt := v.(int64); isInt && fill {
			return float64(i), true
		}
		_, ok = v.(float64)
	default:
		return n.convert(v, n.declarations[name].(*syntax.TypeDeclaration).Type, fill)
	}
	return v, ok
}

// naivePlain is a value of which nothing is known any more: its sets are lists.
func naivePlain(v any) any {
	switch v := v.(type) {
	case *naiveList:
		c := &naiveList{}
		for _, x := range v.elements {
			c.elements = append(c.elements, naivePlain(x))
		}
		return c
	case *naiveRecord:
		c := &naiveRecord{keys: v.keys}
		for _, x := range v.values {
			c.values = append(c.values, naivePlain(x))
		}
		return c
	}
	return v
}

func (n *naive) convertUnion(v any, members []syntax.Type, fill bool) (any, bool) {
	if len(members) == 1 {
		return n.convert(v, members[0], fill)
	}
	for _, m := range members {
		if result, ok := n.convert(v, m, false); ok {
			return result, true
		}
	}
	if !fill {
		return v, false
	}
	var fitting []any
	seen := map[string]bool{} // a member that is written twice is one
	for _, m := range members {
		text := n.file.Slice(m.Place())
		if seen[text] {
			continue
		}
		seen[text] = true
		if result, ok := n.convert(v, m, true); ok {
			fitting = append(fitting, result)
		}
	}
	if len(fitting) != 1 {
		return v, false
	}
	return fitting[0], true
}

func (n *naive) convertElements(v any, of func(i int) syntax.Type, length int, fill bool) (any, bool) {
	list, ok := v.(*naiveList)
	if !ok || length >= 0 && len(list.elements) != length {
		return v, false
	}
	result := &naiveList{}
	for i, x := range list.elements {
		y, ok := n.convert(x, of(i), fill)
		if !ok {
			return v, false
		}
		result.elements = append(result.elements, y)
	}
	return result, true
}

func (n *naive) convertRecord(v any, t *syntax.RecordType, fill bool) (any, bool) {
	r, ok := v.(*naiveRecord)
	if !ok {
		return v, false
	}
	result := &naiveRecord{}
	for _, f := range t.Fields {
		given := r.get(f.Name.Name)
		switch {
		case given != any(naiveAbsent{}):
			x, ok := n.convert(given, f.Type, fill)
			if !ok {
				return v, false
			}
			result = result.set(f.Name.Name, x)
		case f.Default != nil && fill:
			result = result.set(f.Name.Name, n.pass(n.expression(f.Default, nil), f.Type))
		case !f.Optional:
			return v, false
		}
	}
	for i, key := range r.keys {
		if slices.ContainsFunc(t.Fields, func(f *syntax.TypeField) bool { return f.Name.Name == key }) {
			continue
		}
		if t.Rest == nil {
			return v, false
		}
		x, ok := n.convert(r.values[i], t.Rest, fill)
		if !ok {
			return v, false
		}
		result = result.set(key, x)
	}
	return result, true
}
