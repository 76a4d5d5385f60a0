package eval

import (
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

func (c *compiler) conditional(e *syntax.If) code {
	condition, then := c.truth(e.Condition), c.expression(e.Then)
	other := func(*frame) value.Value { return value.Value{} } // behind `...`: nothing
	if e.Else != nil {
		other = c.expression(e.Else)
	}
	return func(f *frame) value.Value {
		holds, by := condition(f)
		if holds {
			return f.choose(then(f), by)
		}
		return f.choose(other(f), by)
	}
}

func (c *compiler) match(e *syntax.Match) code {
	type arm struct {
		patterns []value.Value
		types    []types.Type
		value    code
	}
	subject, slot := c.expression(e.Subject), c.module.Info.Slot(e.Place().Start)
	arms := make([]arm, len(e.Arms))
	for i, a := range e.Arms {
		for _, p := range a.Patterns {
			if is, ok := p.(*syntax.Is); ok {
				arms[i].types = append(arms[i].types, c.module.Info.Asked[is.ID()])
				continue
			}
			arms[i].patterns = append(arms[i].patterns, c.bareExpression(p)(nil))
		}
		arms[i].value = c.expression(a.Value)
	}
	at, subjectAt, compares := e.Place(), e.Subject.Place(), false
	for _, a := range arms {
		compares = compares || a.types != nil ||
			slices.ContainsFunc(a.patterns, func(p value.Value) bool { return !p.IsNull() })
	}
	return func(f *frame) value.Value {
		v := subject(f)
		if v.Mark() != 0 && compares {
			f.decides(v, "this match", subjectAt)
		}
		f.slots[slot] = v
		for i := range arms {
			a := &arms[i]
			hit := a.patterns == nil && a.types == nil
			for _, p := range a.patterns {
				hit = hit || value.Equal(v, p, func(int) {})
			}
			for _, t := range a.types {
				if hit {
					break
				}
				is, tested := f.isA(v, t)
				if !tested.IsAbsent() {
					f.decides(tested, "this match", subjectAt)
				}
				hit = is
			}
			if hit {
				return f.choose(a.value(f), v.Origin())
			}
		}
		f.failAt(source.IncompleteMatch, at, "add a branch for it, or else -> …", "no branch of this match is for %s",
			describeValue(v))
		return v
	}
}
