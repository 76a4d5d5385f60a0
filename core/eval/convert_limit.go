package eval

import (
	"fmt"
	"slices"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

func (c *conversion) defaultOf(f *types.Field) value.Value {
	program := c.world.program
	d := program.checked.Default(f.Default)
	if d.Owner != nil && d.Owner.Invalid {
		panic(abort{})
	}
	if slices.Contains(c.filling, f.Default) {
		c.failAt(source.Cycle, d.Expression.Place(), "write the value out, or let it end with null",
			"the default of %q needs itself: it would be filled in again and again", f.Name)
	}
	c.filling = append(c.filling, f.Default)
	defer func() { c.filling = c.filling[:len(c.filling)-1] }()
	size := 0
	if d.Owner != nil {
		size = d.Owner.Frame
	}
	body := program.defaultCode(f.Default.Number)
	var v value.Value
	c.run(func(inner *frame) { v = body(inner) }, size)
	return v
}

// conditions checks the limits of a type. On null they are skipped.
func (c *conversion) conditions(v value.Value, t *types.Limited, path *place.Path) {
	if v.IsNull() && !slices.ContainsFunc(t.Conditions, func(x *types.Condition) bool { return x.Schema != nil }) {
		return // where null is allowed, conditions are about what is not null
	}
	var tested value.Value
	if c.trial {
		if tested = c.marked(v); tested.Unknown() {
			c.test(tested)
			return
		}
		c.test(tested)
	}
	c.calls = append(c.calls, caller{source.At(c.recorder.Pos(v.Origin())), true})
	defer func() { c.calls = c.calls[:len(c.calls)-1] }()
	for _, condition := range t.Conditions {
		if condition.Schema != nil {
			c.described(v, condition, path)
			continue
		}
		program := c.world.program
		declared := program.checked.Condition(condition)
		if declared.Object.Invalid {
			panic(abort{})
		}
		test, size := program.testCode(condition.Number), declared.Object.Frame
		holds, reason := c.tests(func() (holds bool) {
			c.run(func(f *frame) {
				f.slots[0] = v
				holds = f.holds(test(f), declared.Tree.Span)
			}, size)
			return holds
		})
		if holds {
			continue
		}
		message := fmt.Sprintf("must satisfy %s, found %s", condition.Text, v.Show(60))
		if declared.Tree.Message != nil && !c.trial {
			text := program.messageCode(condition.Number)
			c.run(func(f *frame) {
				f.slots[0] = v
				message = text(f).Text()
			}, size)
		}
		c.misfit(path, v, source.Limit, reason, "%s", message)
		last := &c.misfits[len(c.misfits)-1]
		last.related = []source.Related{{Span: declared.Tree.Span, Text: "the limit"}}
		last.hidden = !tested.IsAbsent()
	}
}
