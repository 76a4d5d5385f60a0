package eval

import (
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// sink takes the elements of a list while it is made.
type sink struct {
	elements []value.Value
}

// elementCode adds what one entry brings into a list.
type elementCode func(f *frame, s *sink)

func (c *compiler) element(e *syntax.Entry) elementCode {
	at := e.Span
	switch {
	case e.Spread:
		body := c.spread(e)
		return func(f *frame, s *sink) {
			v := f.known(body(f), at)
			switch v.Kind() {
			case value.Absent:
			case value.List:
				f.spend(1+v.Len()*elementCost, at)
				for _, x := range v.Elements() {
					s.elements = append(s.elements, f.choose(x, v.Origin()))
				}
			default:
				f.failAt(source.WrongType, at, "", `"..." in a list adds the elements of a list, not of %s`,
					describeValue(v))
			}
		}
	case e.Optional:
		body := c.absent(e.Value)
		return func(f *frame, s *sink) {
			if v := body(f); !v.IsAbsent() && !v.IsNull() {
				f.spend(elementCost, at)
				s.elements = append(s.elements, v)
			}
		}
	}
	body := c.expression(e.Value)
	return func(f *frame, s *sink) {
		v := body(f)
		f.spend(elementCost, at)
		s.elements = append(s.elements, v)
	}
}

// spread compiles what is behind `...`; Absent when it brings in nothing.
func (c *compiler) spread(e *syntax.Entry) code {
	if !e.Optional {
		return c.expression(e.Value)
	}
	body := c.absent(e.Value)
	return func(f *frame) value.Value {
		v := body(f)
		if v.IsNull() {
			return value.Value{}
		}
		return v
	}
}

func (c *compiler) list(e *syntax.List) code {
	parts := make([]elementCode, len(e.Elements))
	for i, element := range e.Elements {
		parts[i] = c.element(element)
	}
	o := origin(e)
	if written, ok := c.written(e); ok {
		list, at, cost := value.ListOf(written, o), e.Place(), len(written)*elementCost
		return func(f *frame) value.Value {
			f.spend(cost, at)
			return list
		}
	}
	if once := c.once[e]; once != notOnce {
		return func(f *frame) value.Value {
			var s sink
			f.each(once, len(parts), func(i int) { parts[i](f, &s) }, func(i int) bool {
				known := !e.Elements[i].Spread && !e.Elements[i].Optional // how many it brings
				if known {
					s.elements = append(s.elements, lost)
				}
				return known
			})
			return value.ListOf(s.elements, o)
		}
	}
	return func(f *frame) value.Value {
		s := sink{elements: make([]value.Value, 0, len(parts))}
		for _, part := range parts {
			part(f, &s)
		}
		return value.ListOf(s.elements, o)
	}
}

// written returns the elements of a list of scalars that are written out, which are the same whenever it is evaluated.
func (c *compiler) written(e *syntax.List) (elements []value.Value, ok bool) {
	if c.program.observer != nil { // who wants to see each of them
		return nil, false
	}
	elements = make([]value.Value, len(e.Elements))
	for i, element := range e.Elements {
		if element.Spread || element.Optional || c.module.Info.Targets[element.Value.ID()] != nil {
			return nil, false
		}
		switch x := element.Value.(type) {
		case *syntax.Null, *syntax.Bool, *syntax.Int, *syntax.Float:
			elements[i] = c.bareExpression(x)(nil)
		case *syntax.String:
			text, plain := x.Plain()
			if !plain || x.Lines != nil {
				return nil, false
			}
			elements[i] = value.StringOf(text, origin(x))
		default:
			return nil, false
		}
	}
	return elements, true
}
