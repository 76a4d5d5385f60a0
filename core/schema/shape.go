package schema

import (
	"slices"

	"knothole/core/value"
)

// Shape is what a schema says that a type can say too.
type Shape struct {
	// Kinds that values may be of; Any says that nothing is said of them.
	Any, Null, Bool, String, Int, Float, List, Record bool
	// Values are those that are allowed; nil for any.
	Values []value.Value
	Items  *Schema // of lists; nil for any
	Fields []ShapeField
	// Closed says that there are no other fields; Rest is what they are, nil for any.
	Closed bool
	Rest   *Schema
	// Forms are schemas of which one describes the value, where nothing else does.
	Forms []*Schema
}

// ShapeField is a field of a record.
type ShapeField struct {
	Name        string
	Schema      *Schema
	Required    bool
	Description string
	Deprecated  bool
}

// Shape returns what a schema says that a type can say too. The rest is told only by validating.
func (s *Schema) Shape() Shape {
	if known := s.shape.Load(); known != nil {
		return *known
	}
	shape := s.findShape()
	s.shape.Store(&shape)
	return shape
}

func (s *Schema) findShape() Shape {
	r := s.told()
	// What it refers to, and one schema alone that must hold too, say what it says.
	for range maxReferences {
		if r.types != 0 || r.enum != nil || !r.constant.IsAbsent() || r.properties != nil {
			break
		}
		switch {
		case len(r.allOf) == 1 && r.anyOf == nil && r.oneOf == nil:
			r = r.allOf[0].told()
			continue
		case r.ref != nil:
			r = r.ref.told()
			continue
		}
		break
	}
	if r.never {
		return Shape{}
	}
	var shape Shape
	if shape.Values = r.enum; !r.constant.IsAbsent() {
		shape.Values = []value.Value{r.constant}
	}
	kinds := r.types
	switch {
	case kinds == 0 && r.properties != nil && (r.extended != nil || len(r.required) > 0):
		kinds = anObject // hardly anybody means that other values may be there, too
	case kinds == 0 && shape.Values == nil && r.oneOf != nil:
		shape.Forms = r.oneOf
	case kinds == 0 && shape.Values == nil && r.anyOf != nil:
		shape.Forms = r.anyOf
	case kinds == 0:
		shape.Any = true
	}
	shape.Null, shape.Bool, shape.String = kinds&aNull != 0, kinds&aBoolean != 0, kinds&aString != 0
	shape.Int, shape.Float = kinds&(anInteger|aNumber) != 0, kinds&aNumber != 0
	shape.List, shape.Record = kinds&anArray != 0, kinds&anObject != 0
	if len(r.prefix) == 0 && r.items != nil && r.items.raw.Kind() == value.Record {
		shape.Items = r.items
	}
	if shape.Record {
		s.shapeRecord(r, &shape)
	}
	return shape
}

func (s *Schema) shapeRecord(r *rules, shape *Shape) {
	holder := &Schema{}
	holder.once.Do(func() { holder.rules = r })
	for _, p := range holder.partsOf(nil) {
		if p.name == "[]" || p.name == "*" {
			continue
		}
		required := p.required
		if r.extended != nil && !p.schema.told().fallback.IsAbsent() {
			required = false // a server fills it in
		}
		shape.Fields = append(shape.Fields, ShapeField{p.name, p.schema, required, p.schema.Description(),
			p.schema.deprecated()})
	}
	others := len(r.patternProperties) > 0 || r.unevaluatedProperties != nil
	switch {
	case r.extended != nil && r.structural:
		shape.Closed = true
	case r.additional == nil || others:
	case r.additional.raw.Kind() == value.Bool:
		// Fields that other schemas name are no fields here (JSON Schema 2020-12, section 10.3.2.3).
		if shape.Closed = !r.additional.raw.Bool(); shape.Closed {
			shape.Fields = slices.DeleteFunc(shape.Fields, func(f ShapeField) bool { return r.properties[f.Name] == nil })
		}
	default:
		shape.Rest = r.additional
	}
	// What only some forms ask for need not be there.
	for i := range shape.Fields {
		f := &shape.Fields[i]
		f.Required = f.Required && !shape.Any
	}
}
