package eval

import (
	"knothole/core/place"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// described validates a value that has the shape which a schema says: what a type cannot say is looked at here.
func (c *conversion) described(v value.Value, by *types.Condition, path *place.Path) {
	result := by.Schema.ValidateShaped(v, by.Object)
	for _, f := range result.Schema {
		c.note(f) // what depends on it was not looked at
	}
	for _, p := range result.Problems {
		if p.Warning {
			continue
		}
		at := path
		for _, step := range p.Path.Steps() {
			if step.Kind == place.Field {
				at = at.Field(step.Name)
			} else {
				at = at.Index(step.Index)
			}
		}
		c.misfit(at, p.Value, codeOf(p.Kind), p.Help, "%s", p.Message)
		last := &c.misfits[len(c.misfits)-1]
		last.key = p.Kind == schema.Surplus
		if !c.trial {
			f := p.Finding("", v, schema.Places{At: c.recorder.Pos,
				Key: func(value.Value, string, value.Value) source.Pos { return source.NoPos }})
			last.related = f.Related
		}
	}
}

// codeOf is the code of a finding for a way in which a value breaks a schema.
func codeOf(kind schema.ProblemKind) source.Code {
	switch kind {
	case schema.WrongType:
		return source.WrongType
	case schema.Missing:
		return source.MissingField
	case schema.Surplus:
		return source.UnknownField
	case schema.Repetition:
		return source.Repetition
	}
	return source.SchemaViolation
}
