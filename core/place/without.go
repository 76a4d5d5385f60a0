package place

import (
	"slices"

	"knothole/core/value"
)

// Without returns data without what is at a path; of the data itself nothing is left. Where the path does not lead
// anywhere, nothing is taken away.
func Without(v value.Value, path *Path) value.Value { return without(v, path.Steps()) }

func without(v value.Value, steps []Step) value.Value {
	if len(steps) == 0 {
		return value.NullOf(v.Origin())
	}
	step, last := steps[0], len(steps) == 1
	switch {
	case step.Kind == Field && v.Kind() == value.Record:
		inner := v.Get(step.Name)
		switch {
		case inner.IsAbsent():
			return v
		case last:
			return withField(v, step.Name, value.Value{})
		}
		return withField(v, step.Name, without(inner, steps[1:]))
	case step.Kind != Field && v.Kind() == value.List && step.Index < v.Len():
		elements := slices.Clone(v.Elements())
		if last {
			elements = slices.Delete(elements, step.Index, step.Index+1)
		} else {
			elements[step.Index] = without(elements[step.Index], steps[1:])
		}
		return value.ListOf(elements, v.Origin())
	}
	return v
}
