package check

import (
	"knothole/core/syntax"
	"knothole/core/types"
)

func (c *checker) inferFor(e *syntax.For, want types.Type) types.Type {
	in := c.infer(e.In, nil)
	key, element := c.loopTypes(e, in)
	outer, facts := c.scope, c.facts
	c.bindLoop(e, key, element)
	var result types.Type
	if e.Body.Key != nil {
		c.checkKey(e.Body.Key)
		var element types.Type
		if want != nil {
			if record := types.OnlyRecord(want); record != nil && len(record.Fields) == 0 {
				element = record.Rest
			}
		}
		result = c.universe.Map(c.entryValue(e.Body, element, "an entry"))
	} else {
		var element types.Type
		if want != nil {
			if list := types.OnlyList(want); list != nil {
				element = list.Element
			}
		}
		switch {
		case e.Body.Spread:
			result = c.inferSpreadList(e.Body, element)
		default:
			result = c.universe.List(c.entryValue(e.Body, element, "an element"))
		}
	}
	c.facts = facts
	c.unbind(outer, e.Place().End)
	return result
}

// bindLoop binds the names of a loop and checks its filter. One name is the element; of two the first is its key or
// position.
func (c *checker) bindLoop(e *syntax.For, key, element types.Type) {
	if e.Second.Name == "" {
		c.bind(e.First, element)
	} else {
		c.bind(e.First, key)
		c.bind(e.Second, element)
	}
	if e.Where != nil {
		c.check(e.Where, types.Bool, "a condition")
		c.assume(e.Where, true)
	}
}

// loopTypes returns the types of the keys or positions, and of the elements, that a loop goes through.
func (c *checker) loopTypes(e *syntax.For, in types.Type) (key, element types.Type) {
	var keys, elements []types.Type
	for _, part := range types.Parts(in) {
		list, record := types.AsList(part), types.AsRecord(part)
		switch {
		case part == types.Invalid:
			return types.Invalid, types.Invalid
		case part == types.Any:
			keys = append(keys, types.String, types.Int)
			elements = append(elements, types.Any)
		case list != nil:
			keys = append(keys, types.Int)
			elements = append(elements, list.Element)
		case record != nil:
			keys = append(keys, types.String)
			for _, f := range record.Fields {
				elements = append(elements, f.Type)
			}
			if record.Rest != nil {
				elements = append(elements, record.Rest)
			}
		default:
			help := ""
			if types.MayBeNull(in) {
				help = "it may be null: write (… ?? [])"
			}
			c.addWith(help, NotIterable(e.In.Place(), types.Describe(in)))
			return types.Invalid, types.Invalid
		}
	}
	return c.universe.Union(keys...), c.universe.Gathered(elements...)
}
