package compare

import (
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/value"
)

// maxTold bounds how far it is followed which environment told another.
const maxTold = 8

// addTold adds to the reasons of a cause why the outputs of other environments differ that they are.
func addTold(c *explain.Cause, p *project.Project, sides [2]*project.Environment, depth int) {
	if depth == 0 {
		return
	}
	for i := range c.Because {
		r := &c.Because[i]
		if r.Name == explain.EnvironmentName {
			continue
		}
		var told [2]*project.Told
		for side, e := range sides {
			if told[side] = p.Told(e, explain.Tokens(r.Name)); told[side] == nil {
				break
			}
		}
		if told[0] == nil || told[1] == nil || told[0].By == told[1].By {
			continue
		}
		by := [2]*project.Environment{told[0].By, told[1].By}
		view := p.Of(by[0])
		differs := func(string) bool { return true }
		if view == p.Of(by[1]) {
			differs = differingInputs(view, [2]*eval.World{told[0].World, told[1].World})
		}
		side := func(i int) explain.Side {
			return explain.Side{Recorder: told[i].World.Recorder(), Value: told[i].Value,
				Around: []value.Origin{told[i].Value.Origin()}}
		}
		telling := &explain.Telling{By: [2]string{by[0].Name, by[1].Name},
			Cause: explain.Difference(side(0), side(1), differs)}
		if view == p.Of(by[1]) {
			addTold(&telling.Cause, view, by, depth-1)
		}
		r.Told = telling
	}
}
