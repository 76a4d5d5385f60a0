package compare

import (
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/value"
)

// maxTold is the longest chain of upstream environments that is followed.
const maxTold = 8

// addTold adds to the reasons of a cause why the outputs of upstream environments differ that they come from.
func addTold(c *explain.Cause, sides [2]*project.Run, depth int) {
	if depth == 0 {
		return
	}
	for i := range c.Because {
		r := &c.Because[i]
		if r.Name == explain.EnvironmentName {
			continue
		}
		var told [2]*project.Output
		for side, run := range sides {
			if told[side] = run.OutputOf(explain.Tokens(r.Name)); told[side] == nil {
				break
			}
		}
		if told[0] == nil || told[1] == nil || told[0].Run == told[1].Run {
			continue
		}
		by := [2]*project.Run{told[0].Run, told[1].Run}
		differs := func(string) bool { return true }
		if by[0].Unit == by[1].Unit {
			differs = differingInputs(by[0].Unit, [2]*eval.World{told[0].World, told[1].World})
		}
		side := func(i int) explain.Side {
			return explain.Side{Recorder: told[i].World.Recorder(), Value: told[i].Value,
				Around: []value.Origin{told[i].Value.Origin()}}
		}
		telling := &explain.Telling{By: [2]string{by[0].Name, by[1].Name},
			Cause: explain.Difference(side(0), side(1), differs)}
		if by[0].Unit == by[1].Unit {
			addTold(&telling.Cause, by, depth-1)
		}
		r.Told = telling
	}
}
