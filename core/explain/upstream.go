package explain

import (
	"slices"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/project"
	"knothole/core/value"
)

// UpstreamValue is what a value from the outputs of an upstream environment depends on there.
type UpstreamValue struct {
	Name     string // of the input, with the path in it
	By       *project.Run
	Leaves   []Leaf
	Upstream []UpstreamValue // of that environment
}

// maxUpstream is the longest chain of upstream environments that is followed.
const maxUpstream = 8

// upstreamOf returns what inputs depend on in upstream environments.
func upstreamOf(run *project.Run, leaves []Leaf, depth int) (all []UpstreamValue) {
	for _, leaf := range leaves {
		if leaf.Path == nil || depth == 0 {
			continue
		}
		output := run.OutputOf(leaf.Path.Tokens())
		if output == nil {
			continue
		}
		further := deep(output.World.Recorder(), output.Value)
		all = append(all, UpstreamValue{Name: leaf.Name, By: output.Run, Leaves: further,
			Upstream: upstreamOf(output.Run, further, depth-1)})
	}
	return all
}

// Differing reports whether an input has another value on the other side.
type Differing func(in *eval.InputPart) bool

// DifferingInputs returns what compares the inputs of a unit in two worlds.
func DifferingInputs(u *project.Unit, a, b *eval.World) Differing {
	known := map[string]bool{}
	return func(in *eval.InputPart) bool {
		differs, ok := known[in.Name]
		if !ok {
			fields := in.Path.Fields()
			differs = !samePart(inputOf(u, a, fields[0]), inputOf(u, b, fields[0]), fields[1:])
			known[in.Name] = differs
		}
		return differs
	}
}

// inputOf returns the value of an input; Absent when there is none.
func inputOf(u *project.Unit, w *eval.World, name string) value.Value {
	at := slices.IndexFunc(u.Inputs(), func(o *check.Object) bool { return o.Name == name })
	if at < 0 {
		return value.Value{}
	}
	v, _ := w.Value(u.Inputs()[at])
	return v
}

// samePart reports whether what fields lead to is the same in two values. The fields of a list are those of all its
// elements.
func samePart(a, b value.Value, fields []string) bool {
	switch {
	case len(fields) == 0:
		return value.Identical(a, b)
	case a.Kind() == value.List && b.Kind() == value.List:
		return slices.EqualFunc(a.Elements(), b.Elements(), func(x, y value.Value) bool {
			return samePart(x, y, fields)
		})
	case a.Kind() == value.List || b.Kind() == value.List:
		return false
	}
	return samePart(a.Get(fields[0]), b.Get(fields[0]), fields[1:])
}

// FollowUpstream adds to the reasons of a cause why the outputs of upstream environments differ that they come from.
func (c *Cause) FollowUpstream(sides [2]*project.Run) { c.followUpstream(sides, maxUpstream) }

func (c *Cause) followUpstream(sides [2]*project.Run, depth int) {
	for i := range c.Because {
		r := &c.Because[i]
		if r.Path == nil || depth == 0 {
			continue
		}
		left := sides[0].OutputOf(r.Path.Tokens())
		if left == nil {
			continue
		}
		right := sides[1].OutputOf(r.Path.Tokens())
		if right == nil || left.Run == right.Run {
			continue
		}
		one := left.Run.Unit == right.Run.Unit
		var differs Differing
		if one {
			differs = DifferingInputs(left.Run.Unit, left.World, right.World)
		}
		r.Upstream = &UpstreamCause{By: [2]string{left.Run.Name, right.Run.Name},
			Cause: Difference(sideOf(left), sideOf(right), differs)}
		if one {
			r.Upstream.Cause.followUpstream([2]*project.Run{left.Run, right.Run}, depth-1)
		}
	}
}

func sideOf(o *project.Output) Side {
	return Side{Recorder: o.World.Recorder(), Value: o.Value, Around: []value.Origin{o.Value.Origin()}}
}
