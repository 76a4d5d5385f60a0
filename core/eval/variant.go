package eval

import (
	"slices"

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
	v.shared, v.own = w, make([]bool, len(w.program.declarations))
	if !e.equal(w.evaluation.environment) {
		others = append(slices.Clip(others), nil)
	}
	for _, o := range others {
		for _, global := range w.program.dependents(o) {
			v.own[global] = true
		}
	}
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

// dependents returns the numbers of the declarations that depend on one, directly or through others, with its own. For
// nil it returns those that depend on the environment.
func (p *Program) dependents(on *check.Object) []int {
	p.mu.Lock()
	defer p.mu.Unlock()
	if known, ok := p.dependent[on]; ok {
		return known
	}
	if p.users == nil {
		p.users, p.dependent = map[*check.Object][]*check.Object{}, map[*check.Object][]int{}
		for _, m := range p.checked.Modules {
			for _, o := range m.Order {
				if o.NeedsEnvironment {
					p.users[nil] = append(p.users[nil], o)
				}
				for _, r := range o.Uses {
					p.users[r.Object] = append(p.users[r.Object], o)
				}
			}
		}
	}
	found, all := map[*check.Object]bool{}, []int{}
	var add func(o *check.Object)
	add = func(o *check.Object) {
		if found[o] {
			return
		}
		if found[o] = true; o != nil && o.Global >= 0 {
			all = append(all, p.global(o))
		}
		for _, user := range p.users[o] {
			add(user)
		}
	}
	add(on)
	p.dependent[on] = all
	return all
}
