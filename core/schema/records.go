package schema

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

func (c *visit) record() {
	v := c.value
	c.counted(v.Len(), c.minProperties, c.maxProperties, "Properties", "field")
	if c.missing(); c.stopped() {
		return
	}
	keys, values := v.Shape().Keys(), v.Values()
	for i, key := range keys {
		s, known := c.properties[key]
		if key == "metadata" && c.extended != nil && c.isImplied(key) && c.schema.shownAt() != 0 {
			s, known = c.store.metadata(), true // what a definition says of it hardly matters
		}
		if known {
			c.inner(s, values[i], c.field(key))
		}
		for _, p := range c.patternProperties {
			if c.matches(p.pattern, key) {
				known = true
				c.inner(p.schema, values[i], c.field(key))
			}
		}
		if !known && c.extended != nil && c.structural {
			if !c.isImplied(key) {
				c.surplus(key, values[i], "properties")
			}
			continue
		}
		if !known && c.additional != nil {
			known = true
			c.other(c.additional, key, values[i], "additionalProperties")
		}
		if known && c.seen != nil {
			c.seen.see(i, len(keys))
		}
		if c.stopped() {
			return
		}
	}
	if c.propertyNames != nil {
		c.fieldNames(keys)
	}
}

// isImplied reports whether a field is there without being named: at the top of an object with a kind.
func (c *visit) isImplied(key string) bool {
	return (c.embedded || c.isTop) && slices.Contains(implied, key)
}

// other checks a field that is not among those that are named.
func (c *visit) other(s *Schema, key string, v value.Value, keyword string) {
	if s.raw.Kind() != value.Bool || s.raw.Bool() {
		c.inner(s, v, c.field(key))
		return
	}
	c.surplus(key, v, keyword)
}

// surplus notes a field that must not be there.
func (c *visit) surplus(key string, v value.Value, keyword string) {
	if c.failed = true; c.out == nil {
		return
	}
	names := c.known()
	help, meant := "it has no fields at all", ""
	if near, ok := source.Nearest(key, names); ok && !c.given(near) {
		help, meant = source.DidYouMean(near), near
	} else if len(names) > 0 {
		help = "it has " + someOf(names)
	} else if len(c.patternProperties) > 0 {
		help = "the names of its fields match " + c.patternProperties[0].text
	}
	p := Problem{Kind: Surplus, Path: c.path.Field(key), Value: v, Field: key, Meant: meant, Holder: c.value,
		Message: fmt.Sprintf("there is no field %q here", key), Help: help, Schema: c.schema.shownAt(),
		Description: c.description}
	c.out.add(p)
	c.asks(keyword)
}

// given reports whether the value itself has a field, not only by its default.
func (c *visit) given(name string) bool {
	v := c.value.Get(name)
	if v.IsAbsent() {
		return false
	}
	s := c.properties[name]
	return s == nil || s.told().fallback.IsAbsent() || s.told().fallback.Origin() != v.Origin()
}

// someOf lists the first of some names.
func someOf(names []string) string {
	const some = 15
	if len(names) > some {
		return strings.Join(names[:some], ", ") + fmt.Sprintf(" and %d more", len(names)-some)
	}
	return strings.Join(names, ", ")
}

// known returns the names of the fields that the schemas about this value name.
func (c *visit) known() []string {
	var names []string
	var gather func(s *Schema, depth int)
	gather = func(s *Schema, depth int) {
		if s == nil || depth > 5 {
			return
		}
		r := s.compiled()
		for _, name := range r.names {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		gather(r.ref, depth+1)
		for _, all := range [][]*Schema{r.allOf, r.anyOf, r.oneOf} {
			for _, inner := range all {
				gather(inner, depth+1)
			}
		}
		gather(r.then, depth+1)
		gather(r.otherwise, depth+1)
	}
	gather(c.schema, 0)
	return names
}

// missing looks for fields that must be there.
func (c *visit) missing() {
	lack := func(name, because, keyword string) {
		if c.failed = true; c.out == nil {
			return
		}
		p := Problem{Kind: Missing, Path: c.path, Value: c.value, Field: name, Help: "add it", Schema: c.schema.shownAt(),
			Message: fmt.Sprintf("the field %q is missing%s", name, because)}
		if s := c.properties[name]; s != nil {
			rules := s.told()
			p.Description = rules.description
			switch {
			case rules.enum != nil:
				p.Help = "add it: " + rules.enumText()
			case rules.types != 0:
				p.Help = "add it: " + rules.types.words()
			}
		}
		c.out.add(p)
		c.asks(keyword)
	}
	for _, name := range c.required {
		if c.value.Get(name).IsAbsent() {
			lack(name, "", "required")
		}
	}
	for _, d := range c.dependentRequired {
		if !c.value.Get(d.field).IsAbsent() {
			for _, name := range d.names {
				if !c.value.Get(name).IsAbsent() {
					continue
				}
				lack(name, fmt.Sprintf(", which must be there when %q is", d.field), "dependentRequired")
			}
		}
	}
}

// fieldNames looks at the names of fields.
func (c *visit) fieldNames(keys []string) {
	shaped := c.shaped
	c.run.shaped = false
	defer func() { c.run.shaped = shaped }()
	for i, key := range keys {
		name := value.StringOf(key, c.value.Values()[i].Origin())
		if c.check(c.propertyNames, name, nil, c.scope, nil, nil, nil) {
			continue
		}
		if c.failed = true; c.out == nil {
			return
		}
		out := &sink{}
		c.check(c.propertyNames, name, c.path.Field(key), c.scope, nil, nil, out)
		for _, p := range out.problems {
			p.Message = "the name of a field: " + p.Message
			p.Field = key
			c.out.add(p)
		}
	}
}

// unevaluatedParts looks at what nothing else has looked at.
func (c *visit) unevaluatedParts() {
	if c.unsure && c.out != nil {
		return // what has failed beside would have looked at some of it
	}
	switch {
	case c.value.Kind() == value.List && c.unevaluatedItems != nil:
		for i, x := range c.value.Elements() {
			if c.seen.seen(i) {
				continue
			}
			if s := c.unevaluatedItems; s.raw.Kind() == value.Bool && !s.raw.Bool() {
				c.fail(Surplus, "leave it out", "element %d has no meaning here", i)
				c.asks("unevaluatedItems")
			} else {
				c.inner(s, x, c.at(i))
			}
		}
		c.seen.all = true
	case c.value.Kind() == value.Record && c.unevaluatedProperties != nil:
		for i, key := range c.value.Shape().Keys() {
			if !c.seen.seen(i) {
				c.other(c.unevaluatedProperties, key, c.value.Values()[i], "unevaluatedProperties")
			}
		}
		c.seen.all = true
	}
}
