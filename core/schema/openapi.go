package schema

import (
	"fmt"
	"slices"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/value"
)

// What custom resource definitions add to the schema objects of OpenAPI 3.0. A server that keeps such objects drops
// fields that the definition does not name, and fills in defaults, before it looks whether an object is right.

// extend compiles the extensions.
func (c *compiler) extend() {
	r := c.rules
	e := &extended{builtIn: c.resource.uri.Scheme == builtInScheme, nullable: c.isTrue("nullable"),
		embedded: c.isTrue("x-kubernetes-embedded-resource")}
	r.extended = e
	if c.isTrue("x-kubernetes-int-or-string") {
		r.types = anInteger | aString
	}
	if e.nullable && r.types != 0 {
		r.types |= aNull
	}
	if e.embedded {
		for _, name := range []string{"apiVersion", "kind"} {
			if !slices.Contains(r.required, name) {
				r.required = append(slices.Clip(r.required), name)
			}
		}
	}
	isObject := r.types&anObject != 0 || r.properties != nil || e.embedded
	e.structural = isObject && !c.loose.Load() && r.additional == nil && r.ref == nil && !c.isTrue(preserve)
	e.rulesAbout = c.expressions()
	switch c.text("x-kubernetes-list-type") {
	case "set":
		e.isSet = true
	case "map":
		e.listKeys = texts(c.raw.Get("x-kubernetes-list-map-keys"))
	}
}

// preserve is the extension by which fields that are not named are kept.
const preserve = "x-kubernetes-preserve-unknown-fields"

func (c *compiler) isTrue(keyword string) bool {
	v := c.raw.Get(keyword)
	return v.Kind() == value.Bool && v.Bool()
}

// implied are the fields that every object with a kind has, also when its definition does not name them.
var implied = []string{"apiVersion", "kind", "metadata"}

// ValidateObject validates an object as a server does that keeps it: with the defaults of the definition filled in.
func (s *Schema) ValidateObject(v value.Value, numbers data.Numbers) *Result {
	return s.validateObject(v, numbers, false)
}

// ValidateShaped validates a value that passed into the type of the schema: only what a type cannot say is looked at.
func (s *Schema) ValidateShaped(v value.Value, asObject bool) *Result {
	switch {
	case !s.says() && !(asObject && s.impliesMetadata()):
		return &Result{}
	case asObject:
		return s.validateObject(v, nil, true)
	}
	return s.validate(v, nil, true)
}

func (s *Schema) validateObject(v value.Value, numbers data.Numbers, shaped bool) *Result {
	if s.isCertain(v, numbers, shaped, true) {
		return &Result{}
	}
	return s.validateWholeObject(v, numbers, shaped)
}

func (s *Schema) validateWholeObject(v value.Value, numbers data.Numbers, shaped bool) *Result {
	f := &filler{shaped: shaped}
	filled := f.object(s, v)
	if f.notes != nil {
		f = &filler{withPaths: true, shaped: shaped}
		filled = f.object(s, v)
	}
	r := s.validateWhole(filled, numbers, shaped)
	r.Problems = append(f.notes, r.Problems...)
	return r
}

// impliesMetadata reports whether what the metadata of an object must be is not for the schema to say: that of a
// custom resource is as that of all objects, whatever its definition says.
func (s *Schema) impliesMetadata() bool { return s.compiled().extended != nil && s.shownAt() != 0 }

// filler fills in defaults. Notes are what a person should know of it; they have their paths when that is asked for.
type filler struct {
	notes     []Problem
	withPaths bool
	shaped    bool // what a type says of the value is so
}

// object fills in the defaults of an object, and of its metadata, which no definition tells.
func (f *filler) object(s *Schema, v value.Value) value.Value {
	v = f.fill(s, v, nil, 0)
	if v.Kind() != value.Record || !s.impliesMetadata() {
		return v
	}
	return value.MapParts(v, func(i int, x value.Value) value.Value {
		if key := v.Shape().Keys()[i]; key == "metadata" {
			return f.fill(s.store.metadata(), x, f.field(nil, key), 1)
		}
		return x
	})
}

func (f *filler) field(path *place.Path, name string) *place.Path {
	if !f.withPaths {
		return nil
	}
	return path.Field(name)
}

// fill returns a value with the defaults of a schema filled in where nothing is given, and for null where that is not
// allowed.
func (f *filler) fill(s *Schema, v value.Value, path *place.Path, depth int) value.Value {
	r := s.told()
	if depth > maxDefaults || f.shaped && !s.says() {
		return v
	}
	switch v.Kind() {
	case value.List:
		if r.items == nil {
			return v
		}
		return value.MapParts(v, func(i int, x value.Value) value.Value {
			if !f.withPaths {
				return f.fill(r.items, x, nil, depth+1)
			}
			return f.fill(r.items, x, path.Index(i), depth+1)
		})
	case value.Record:
		return f.fillRecord(r, v, path, depth)
	}
	return v
}

func (f *filler) fillRecord(r *rules, v value.Value, path *place.Path, depth int) value.Value {
	v = f.withoutNulls(r, v, path)
	v = value.MapParts(v, func(i int, x value.Value) value.Value {
		key := v.Shape().Keys()[i]
		inner, ok := r.properties[key]
		if !ok {
			if inner = r.additional; inner == nil {
				return x
			}
		}
		if rules := inner.compiled(); ok && x.IsNull() && rules.replacesNull() {
			f.notes = append(f.notes, Problem{Kind: WrongType, Warning: true, Path: f.field(path, key), Value: x,
				Message: "null is not allowed here, and a server replaces it with the default: " + rules.fallback.Show(60),
				Help:    "leave it out", Schema: inner.shownAt(), Description: rules.description})
			x = rules.fallback
		}
		if k := x.Kind(); k != value.Record && k != value.List {
			return x
		}
		return f.fill(inner, x, f.field(path, key), depth+1)
	})
	var names []string
	var values []value.Value
	for _, name := range r.withDefaults() {
		if v.Get(name).IsAbsent() {
			inner := r.properties[name]
			names = append(names, name)
			values = append(values, f.fill(inner, inner.compiled().fallback, f.field(path, name), depth+1))
		}
	}
	if names == nil {
		return v
	}
	return v.Extend(names, values, v.Origin())
}

// withoutNulls leaves out the fields of an object of a built-in kind that are null: servers take them as if they were
// not there.
func (f *filler) withoutNulls(r *rules, v value.Value, path *place.Path) value.Value {
	if r.extended == nil || !r.builtIn {
		return v
	}
	var nulls []string
	for i, key := range v.Shape().Keys() {
		x := v.Values()[i]
		inner, ok := r.properties[key]
		if !ok || !x.IsNull() || x.Unknown() {
			continue
		}
		if inner.told().types&aNull == 0 {
			nulls = append(nulls, key)
			f.notes = append(f.notes, Problem{Kind: WrongType, Warning: true, Path: f.field(path, key), Value: x,
				Message: "null says nothing here: a server takes the field as if it were not there", Help: "leave it out",
				Description: inner.Description()})
		}
	}
	if nulls == nil {
		return v
	}
	return without(v, nulls...)
}

// withDefaults returns the fields that have a default.
func (r *rules) withDefaults() []string {
	r.defaultsOnce.Do(func() {
		for _, name := range r.names {
			inner := r.properties[name].compiled()
			if inner.fallback.IsAbsent() || inner.fallback.IsNull() && inner.types != 0 && inner.types&aNull == 0 {
				continue
			}
			r.defaults = append(r.defaults, name)
		}
	})
	return r.defaults
}

// maxDefaults is how deep defaults are filled in.
const maxDefaults = 1000

// replacesNull reports whether a default takes the place of null.
func (r *rules) replacesNull() bool {
	return !r.fallback.IsAbsent() && r.types&aNull == 0 && r.types != 0
}

// extensions looks at what custom resource definitions ask for besides.
func (c *visit) extensions() {
	if c.value.Kind() != value.List {
		return
	}
	elements := c.value.Elements()
	switch {
	case c.isSet:
		if first, second, ok := c.repeated(elements); ok {
			c.repeats(second, fmt.Sprintf("it is equal to element %d, in a list that is a set: %s", first,
				elements[second].Show(60)), "x-kubernetes-list-type")
		}
	case len(c.listKeys) > 0:
		c.keyed(elements)
	}
}

// keyed looks for elements with equal keys.
func (c *visit) keyed(elements []value.Value) {
	first, second, ok := c.repeated(elements, c.listKeys...)
	if !ok {
		return
	}
	var b value.Builder
	for _, name := range c.listKeys {
		if key := elements[second].Get(name); !key.IsAbsent() {
			b.Set(name, key)
		}
	}
	c.repeats(second, fmt.Sprintf("it has the same %s as element %d", b.Record(0).Show(80), first),
		"x-kubernetes-list-map-keys")
}
