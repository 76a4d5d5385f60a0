package compare

import (
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/value"
)

// maxUpstream is the longest chain of upstream environments that is followed.
const maxUpstream = 8

// addUpstream adds to the reasons of a cause why the outputs of upstream environments differ that they come from.
func addUpstream(c *explain.Cause, sides [2]*project.Run, depth int) {
	if depth == 0 {
		return
	}
	for i := range c.Because {
		r := &c.Because[i]
		if r.Name == explain.EnvironmentName {
			continue
		}
		var outputs [2]*project.Output
		for side, run := range sides {
			if outputs[side] = run.OutputOf(explain.Tokens(r.Name)); outputs[side] == nil {
				break
			}
		}
		if outputs[0] == nil || outputs[1] == nil || outputs[0].Run == outputs[1].Run {
			continue
		}
		by := [2]*project.Run{outputs[0].Run, outputs[1].Run}
		differs := func(string) bool { return true }
		if by[0].Unit == by[1].Unit {
			differs = differingInputs(by[0].Unit, [2]*eval.World{outputs[0].World, outputs[1].World})
		}
		side := func(i int) explain.Side {
			return explain.Side{Recorder: outputs[i].World.Recorder(), Value: outputs[i].Value,
				Around: []value.Origin{outputs[i].Value.Origin()}}
		}
		cause := &explain.UpstreamCause{By: [2]string{by[0].Name, by[1].Name},
			Cause: explain.Difference(side(0), side(1), differs)}
		if by[0].Unit == by[1].Unit {
			addUpstream(&cause.Cause, by, depth-1)
		}
		r.Upstream = cause
	}
}
