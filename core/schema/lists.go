package schema

import (
	"fmt"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

func (c *visit) list() {
	elements := c.value.Elements()
	c.counted(len(elements), c.minItems, c.maxItems, "Items", "element")
	if c.stopped() {
		return
	}
	if c.uniqueItems && len(elements) > 1 {
		if first, second, ok := c.repeated(elements); ok {
			c.repeats(second, fmt.Sprintf("it is equal to element %d: %s", first, elements[second].Show(60)), "uniqueItems")
		}
	}
	if c.extended != nil {
		c.extensions()
	}
	for i, x := range elements {
		s := c.items
		if i < len(c.prefix) {
			s = c.prefix[i]
		}
		if s == nil {
			continue
		}
		if c.seen != nil {
			c.seen.see(i, len(elements))
		}
		if s.raw.Kind() == value.Bool && !s.raw.Bool() && len(c.prefix) > 0 && i >= len(c.prefix) {
			c.fail(Surplus, "", "it must have at most %s, found %s", source.Count(len(c.prefix), "element"),
				source.Count(len(elements), "element"))
			return
		}
		if c.inner(s, x, c.at(i)); c.stopped() {
			return
		}
	}
	if c.contains != nil && !c.stopped() {
		c.containing(elements)
	}
}

// repeats notes an element that is there already.
func (c *visit) repeats(i int, message, keyword string) {
	c.fail(Repetition, "leave one of them out", "%s", message)
	if c.asks(keyword); c.out != nil {
		p := &c.out.problems[len(c.out.problems)-1]
		p.Path, p.Value = c.path.Index(i), c.value.Elements()[i]
	}
}

// at is the path to an element. At the first look nobody asks for it.
func (c *visit) at(i int) *place.Path {
	if c.out == nil {
		return nil
	}
	return c.path.Index(i)
}

func (c *visit) field(name string) *place.Path {
	if c.out == nil {
		return nil
	}
	return c.path.Field(name)
}

// containing looks at how many elements are as contains says.
func (c *visit) containing(elements []value.Value) {
	matches, open := 0, 0
	shaped := c.shaped
	c.run.shaped = false
	defer func() { c.run.shaped = shaped }()
	for i, x := range elements {
		before := c.open
		if !c.check(c.contains, x, nil, c.scope, nil, nil, nil) {
			continue
		}
		if c.open != before {
			open++
		} else {
			matches++
		}
		if c.seen != nil && c.containsSees {
			c.seen.see(i, len(elements))
		}
	}
	least := int64(1)
	if c.minContains != nil {
		least = 0
		if c.minContains.compare(value.IntOf(int64(matches+open), 0), nil) > 0 || c.minContains.isWhole {
			least = c.minContains.whole
		}
	}
	what := "element as it is asked for"
	if title := c.contains.compiled().title; title != "" {
		what = "element that is " + title
	}
	if int64(matches+open) < least {
		c.fail(Limit, "", "it must have at least %d %s, found %d of %d", least, what, matches, len(elements))
		c.asks("contains")
	}
	if c.maxContains != nil && c.maxContains.compare(value.IntOf(int64(matches), 0), nil) > 0 {
		c.fail(Limit, "", "it must have at most %s %s, found %d of %d", c.maxContains.text, what, matches, len(elements))
		c.asks("maxContains")
	}
}
