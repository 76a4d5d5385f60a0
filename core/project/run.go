package project

import (
	"slices"
	"sync"

	"knothole/core/eval"
	"knothole/core/value"
)

// Run is one evaluation of an environment: with what is given to it, its secrets if they were read, and the runs of
// its upstream environments. It does not change: the methods With… return another run. What upstream environments
// pass on is evaluated once for each run.
type Run struct {
	*Environment
	Given    []*Layer                   // layers of this run, over all others
	read     map[*Reference]value.Value // the secrets that were read
	upstream *upstream                  // nil for the runs of the project, to which nothing is given
	outputs  *outputs
}

// upstream holds the runs of upstream environments that a run uses, by the names of the environments.
type upstream struct {
	mu    sync.Mutex
	given map[string]*Run
	made  map[string]*Run
}

// newUpstream returns upstream runs of which some are given. These use each other, too.
func newUpstream(given map[string]*Run) *upstream {
	up := &upstream{given: map[string]*Run{}, made: map[string]*Run{}}
	for name, r := range given {
		up.given[name] = r.uses(up)
	}
	return up
}

// run returns the run of an environment. All but those that are given are made when they are needed.
func (up *upstream) run(e *Environment) *Run {
	up.mu.Lock()
	defer up.mu.Unlock()
	if r := up.given[e.Name]; r != nil {
		return r
	}
	if up.made[e.Name] == nil {
		up.made[e.Name] = &Run{Environment: e, upstream: up, outputs: newOutputs()}
	}
	return up.made[e.Name]
}

// Run returns the run of an environment to which nothing is given.
func (p *Project) Run(e *Environment) *Run { return p.runs[e] }

// Runs returns the runs of environments to which nothing is given.
func (p *Project) Runs(environments []*Environment) []*Run {
	runs := make([]*Run, len(environments))
	for i, e := range environments {
		runs[i] = p.runs[e]
	}
	return runs
}

// RunNamed returns the run of the environment with a name, to which nothing is given; nil when there is none.
func (p *Project) RunNamed(name string) *Run { return p.runs[p.Environment(name)] }

// makeRuns makes the runs of the project.
func (p *Project) makeRuns() {
	p.runs = map[*Environment]*Run{}
	for _, e := range p.Environments {
		p.runs[e] = &Run{Environment: e, outputs: newOutputs()}
	}
}

// fork returns a run that has everything but what was evaluated.
func (r *Run) fork() *Run {
	return &Run{Environment: r.Environment, Given: r.Given, read: r.read, upstream: r.upstream,
		outputs: newOutputs()}
}

// with returns the run with one more layer over all others.
func (r *Run) with(l *Layer) *Run {
	other := r.fork()
	other.Given = append(slices.Clip(r.Given), l)
	return other
}

// uses returns the run with other upstream runs.
func (r *Run) uses(up *upstream) *Run {
	other := r.fork()
	other.upstream = up
	return other
}

// WithUpstream returns the run with some of its upstream runs replaced, also where they feed others that feed it.
func (r *Run) WithUpstream(given map[string]*Run) *Run { return r.uses(newUpstream(given)) }

// of returns the run of an environment that this one reads outputs of.
func (r *Run) of(e *Environment) *Run {
	if r.upstream == nil {
		return e.Unit.Project.runs[e]
	}
	return r.upstream.run(e)
}

// AllLayers returns the layers of the run and of the environments that its environment extends, weakest first. Those
// that are outputs of other environments are evaluated.
func (r *Run) AllLayers() Layers {
	layers := r.written()
	for i, l := range layers {
		if l.Outputs != nil {
			layers[i] = l.filled(r)
		}
	}
	return layers
}

// written is AllLayers as the project file has them: what is an output of another environment has no value.
func (r *Run) written() Layers { return slices.Concat(r.Environment.written(), r.Given) }

// written returns the layers that the project file gives the environment, weakest first.
func (e *Environment) written() Layers {
	var layers Layers
	if e.Extends != nil {
		layers = e.Extends.written()
	}
	return slices.Concat(layers, e.Layers)
}

// World returns a world with the inputs of the run. Values that do not fit are among its findings. A recording world
// knows what its values depend on.
func (r *Run) World(recording bool) *eval.World {
	return r.Unit.Project.WorldOf(eval.Environment{Name: r.Name, Tags: r.Tags}, r.Assignments(), recording)
}
