package explain

import (
	"knothole/core/project"
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
func upstreamOf(run *project.Run, names []string, depth int) (all []UpstreamValue) {
	if depth == 0 {
		return nil
	}
	for _, name := range names {
		if name == EnvironmentName {
			continue
		}
		output := run.OutputOf(Tokens(name))
		if output == nil {
			continue
		}
		one := UpstreamValue{Name: name, By: output.Run, Leaves: deep(output.World.Recorder(), output.Value)}
		var further []string
		for _, leaf := range one.Leaves {
			further = append(further, leaf.Name)
		}
		one.Upstream = upstreamOf(output.Run, further, depth-1)
		all = append(all, one)
	}
	return all
}
