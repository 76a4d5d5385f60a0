package types

import (
	"slices"

	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

// Described returns the type of what a schema describes, under a name. It is found out level by level, when it is
// needed. What a type cannot say, such as a pattern, is validated when a value passes into it.
func (u *Universe) Described(name string, s *schema.Schema) Type {
	return u.describedBy(description{s, true}, func() Type {
		return u.lazy(name, func() Type { return u.validated(u.shape(name, s), s, false) })
	})
}

// DescribedKind returns the type of objects of a kind.
func (u *Universe) DescribedKind(k *schema.Kind) Type {
	return u.describedBy(description{k.Schema, true}, func() Type {
		return u.lazy(k.Key(), func() Type {
			base := u.shape(k.Key(), k.Schema)
			if record := AsRecord(base); record != nil {
				fields := []Field{{Name: "apiVersion", Type: u.Literal(k.APIVersion)},
					{Name: "kind", Type: u.Literal(k.Name)}}
				if _, ok := record.Field("metadata"); !ok {
					fields = append(fields, Field{Name: "metadata", Type: u.part(k.Key()+".metadata", k.Schema.Metadata())})
				}
				for _, f := range record.Fields {
					switch f.Name {
					case "apiVersion", "kind":
						continue
					case "metadata":
						f.Type = u.part(k.Key()+".metadata", k.Schema.Metadata())
					}
					fields = append(fields, f)
				}
				base = u.RecordOf(fields, record.Rest, true)
			}
			return u.validated(base, k.Schema, true)
		})
	})
}

// lazy returns a new type with a name, of what a schema describes.
func (u *Universe) lazy(name string, expand func() Type) Type {
	made := u.Lazy(name, expand)
	made.described = true
	return made
}

// description is a schema as a type: by itself, whose values are validated, or as a part of another, with which it is.
type description struct {
	schema *schema.Schema
	whole  bool
}

// describedBy returns the type of a schema, which is made once.
func (u *Universe) describedBy(s description, describe func() Type) Type {
	u.mu.Lock()
	known, ok := u.described[s]
	u.mu.Unlock()
	if ok {
		return known
	}
	made := describe()
	u.mu.Lock()
	defer u.mu.Unlock()
	if known, ok := u.described[s]; ok {
		return known
	}
	if u.described == nil {
		u.described = map[description]Type{}
	}
	u.described[s] = made
	return made
}

// validated returns a type whose values are validated against a schema.
func (u *Universe) validated(base Type, s *schema.Schema, object bool) Type {
	u.mu.Lock()
	u.validations--
	number := u.validations
	u.mu.Unlock()
	return u.Limit(base, []*Condition{{Number: number, Text: "its schema", Span: source.At(s.Origin().Pos()), Schema: s,
		Object: object}})
}

// part returns the type of a part of what a schema describes. Records have a name, so that they are found out only when
// somebody looks into them, and may contain themselves; so has what else contains itself.
func (u *Universe) part(name string, s *schema.Schema) Type {
	if len(s.Shape().Fields) == 0 && !containsItself(s) {
		return u.shape(name, s)
	}
	return u.describedBy(description{s, false}, func() Type {
		return u.lazy(name, func() Type { return u.shape(name, s) })
	})
}

// elements returns the schemas of what lists and maps of no named fields hold.
func elements(shape schema.Shape) (all []*schema.Schema) {
	for _, s := range []*schema.Schema{shape.Items, shape.Rest} {
		if s != nil {
			all = append(all, s)
		}
	}
	return all
}

// containsItself says whether a schema describes lists or maps of itself, with no record of named fields between.
func containsItself(s *schema.Schema) bool {
	return leadsToItself(s, func(shape schema.Shape) []*schema.Schema {
		if len(shape.Fields) > 0 {
			return nil
		}
		return append(elements(shape), shape.Forms...)
	})
}

// isItsOwnForm says whether one of the forms of a value is the value itself, an error that validating tells.
func isItsOwnForm(s *schema.Schema) bool {
	return leadsToItself(s, func(shape schema.Shape) []*schema.Schema { return shape.Forms })
}

func leadsToItself(s *schema.Schema, next func(schema.Shape) []*schema.Schema) bool {
	seen := map[*schema.Schema]bool{}
	var reaches func(from *schema.Schema) bool
	reaches = func(from *schema.Schema) bool {
		return slices.ContainsFunc(next(from.Shape()), func(to *schema.Schema) bool {
			if to == s || seen[to] {
				return to == s
			}
			seen[to] = true
			return reaches(to)
		})
	}
	return reaches(s)
}

// shape returns the type that says what a schema says of the shape of values.
func (u *Universe) shape(name string, s *schema.Schema) Type {
	shape := s.Shape()
	switch {
	case shape.Values != nil:
		return u.values(shape.Values)
	case shape.Forms != nil:
		return u.forms(name, shape.Forms)
	case shape.Any:
		return Any
	}
	var members []Type
	for _, k := range []struct {
		has bool
		t   Type
	}{{shape.Null, Null}, {shape.Bool, Bool}, {shape.String, String}, {shape.Int, Int}, {shape.Float, Float}} {
		if k.has {
			members = append(members, k.t)
		}
	}
	if shape.List {
		element := Any
		if shape.Items != nil {
			element = u.part(name+"[]", shape.Items)
		}
		members = append(members, u.List(element))
	}
	if shape.Record {
		members = append(members, u.recordOf(name, shape))
	}
	if members == nil {
		return Never
	}
	return u.Union(members...)
}

func (u *Universe) recordOf(name string, shape schema.Shape) Type {
	var fields []Field
	for _, f := range shape.Fields {
		field := Field{Name: f.Name, Type: u.part(name+"."+f.Name, f.Schema), Optional: !f.Required,
			Description: f.Description, Span: source.At(f.Schema.Shown().Pos())}
		if f.Deprecated {
			field.Deprecated = "the schema says that it is"
		}
		fields = append(fields, field)
	}
	var rest Type
	switch {
	case shape.Closed:
	case shape.Rest != nil:
		rest = u.part(name+".*", shape.Rest)
	default:
		rest = Any
	}
	return u.RecordOf(fields, rest, true) // a schema says nothing of their order
}

// values returns the type of some values; Any when one of them is more than a type can name.
func (u *Universe) values(all []value.Value) Type {
	var members []Type
	for _, v := range all {
		switch v.Kind() {
		case value.Null:
			members = append(members, Null)
		case value.Bool:
			members = append(members, u.Literal(v.Bool()))
		case value.Int:
			members = append(members, u.Literal(v.Int()))
		case value.String:
			members = append(members, u.Literal(v.Text()))
		default:
			return Any
		}
	}
	if members == nil {
		return Never
	}
	return u.Union(members...)
}

// forms returns the type of values of one of several forms; Any where a type could not tell these apart.
func (u *Universe) forms(name string, forms []*schema.Schema) Type {
	var members []Type
	records := 0
	for _, s := range forms {
		if isItsOwnForm(s) {
			return Any
		}
		t := u.part(name, s)
		if t == Any {
			return Any
		}
		if shape := s.Shape(); shape.Record || shape.List || shape.Forms != nil {
			records++
		}
		members = append(members, t)
	}
	if records > 1 {
		return Any
	}
	return u.Union(members...)
}
