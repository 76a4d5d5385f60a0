package eval

import (
	"knothole/core/check"
	"knothole/core/value"
)

// Variant returns a world that differs from this one in some inputs and perhaps in the environment. These inputs have
// no value in it yet, and neither has any other that Shares denies. A declaration that depends on none of them is
// evaluated in this world, once for all its variants. Only one goroutine may use a world and its variants at a time.
// None of them may record.
func (w *World) Variant(e Environment, others []*check.Object) *World {
	v := w.program.newWorld(e, nil)
	v.evaluation.done = w.evaluation.done
	v.shared, v.own = w, w.program.dependents(others, !e.equal(w.evaluation.environment))
	return v
}

// LoseParts lets a document be evaluated when some of its entries and elements cannot be: each of those becomes an
// unknown value that equals no other. A caller that asks for one path in a document gets an answer although something
// fails elsewhere in it.
func (w *World) LoseParts() { w.evaluation.loses = true }

// lost replaces what cannot be evaluated. It is unknown in the way of a value that is known only after deployment.
var lost = value.UnknownOf(value.String, "‹lost›", value.Later, 0)

// Shares reports whether a declaration has its value in the world of which this one is a variant.
func (w *World) Shares(o *check.Object) bool { return w.shared != nil && !w.own[w.program.global(o)] }

// dependents says of each declaration that has a value whether it is one of some, or depends on one of them, or on the
// environment if that is asked for, directly or through others.
func (p *Program) dependents(on []*check.Object, environment bool) []bool {
	p.usersOnce.Do(func() {
		p.users = map[*check.Object][]*check.Object{}
		for _, m := range p.checked.Modules {
			for _, o := range m.Order {
				for _, r := range o.Uses {
					p.users[r.Object] = append(p.users[r.Object], o)
				}
			}
		}
	})
	found, dependent := map[*check.Object]bool{}, make([]bool, len(p.declarations))
	var add func(o *check.Object)
	add = func(o *check.Object) {
		if found[o] {
			return
		}
		if found[o] = true; o.Global >= 0 {
			dependent[p.global(o)] = true
		}
		for _, user := range p.users[o] {
			add(user)
		}
	}
	for _, o := range on {
		add(o)
	}
	if environment {
		for _, m := range p.checked.Modules {
			for _, o := range m.Order {
				if o.NeedsEnvironment {
					add(o)
				}
			}
		}
	}
	return dependent
}
