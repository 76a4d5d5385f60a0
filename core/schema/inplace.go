package schema

import (
	"fmt"

	"knothole/core/source"
	"knothole/core/value"
)

// This file looks at the schemas that are about the same value: references, allOf and its kin, conditions.

// inPlace looks at the schemas that are about the same value.
func (c *visit) inPlace() {
	if c.ref != nil {
		c.follow(c.ref)
	}
	if c.dynamicRef != nil {
		c.follow(c.dynamicTarget())
	}
	// What these say of the shape, the type does not.
	shaped := c.shaped
	c.run.shaped = false
	defer func() { c.run.shaped = shaped }()
	for _, s := range c.allOf {
		if c.must(s); c.stopped() {
			return
		}
	}
	if c.anyOf != nil {
		c.any()
	}
	if c.oneOf != nil && !c.stopped() {
		c.one()
	}
	if c.not != nil && !c.stopped() {
		c.forbidden()
	}
	if c.condition != nil && !c.stopped() {
		c.branch()
	}
	if c.value.Kind() == value.Record {
		for _, d := range c.dependentSchemas {
			if !c.value.Get(d.field).IsAbsent() {
				c.must(d.schema)
			}
		}
	}
}

// follow goes on with another schema, unless that is looking at the value already.
func (c *visit) follow(s *Schema) {
	if c.here.includes(s) {
		c.cuts++
		if !c.told[c.schema] {
			if c.told == nil {
				c.told = map[*Schema]bool{}
			}
			c.told[c.schema] = true
			c.result.Schema.Add(c.schema.circle())
		}
		return
	}
	outer := c.here
	c.node = here{s, outer}
	c.here = &c.node
	c.must(s)
	c.here = outer
}

// dynamicTarget is where a dynamic reference leads: to the outermost schema with its anchor that validation has gone
// through (JSON Schema 2020-12, section 8.2.3.2, and 2019-09, section 8.2.4.2).
func (c *visit) dynamicTarget() *Schema {
	target := c.dynamicRef
	switch {
	case c.dynamicAnchor != "":
		for at := c.scope; at != nil; at = at.outer {
			if v, ok := at.resource.dynamic[c.dynamicAnchor]; ok {
				target = c.store.part(v, at.resource)
			}
		}
	case c.recursiveRef:
		for at := c.scope; at != nil; at = at.outer {
			if at.resource.recursive {
				target = c.store.part(at.resource.root, at.resource)
			}
		}
	}
	return target
}

// forbidden looks at what must not hold.
func (c *visit) forbidden() {
	open := c.open
	if !c.check(c.not, c.value, c.path, c.scope, c.here, nil, nil) || c.open != open {
		return
	}
	help := ""
	rules := c.not.compiled()
	what := "this value is not allowed"
	switch {
	case c.value.Kind() == value.Record && len(rules.required) == 1:
		what, help = fmt.Sprintf("the field %q must not be here", rules.required[0]), "leave it out"
	case c.value.Kind() == value.Record && len(rules.required) > 1:
		what = "the fields " + source.Quoted(rules.required) + " must not be here together"
	case rules.enum != nil || !rules.constant.IsAbsent():
		what = "it must not be " + c.found(c.value)
	case rules.types != 0:
		what = "it must not be " + rules.types.words()
	case rules.pattern != nil:
		what = fmt.Sprintf("it must not match the pattern %s, found %s", rules.patternText, c.found(c.value))
	case rules.title != "":
		what = "it must not be " + rules.title
	}
	c.fail(Forbidden, help, "%s", what)
	c.asks("not")
}

// branch looks at if, then and else.
func (c *visit) branch() {
	open := c.open
	holds := c.beside(c.condition, nil)
	switch {
	case c.open != open: // it is not known which of the two holds
	case holds && c.then != nil:
		c.must(c.then)
	case !holds && c.otherwise != nil:
		c.must(c.otherwise)
	}
}
