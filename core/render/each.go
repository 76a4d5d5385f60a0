package render

import (
	"fmt"
	"runtime"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/parallel"
	"knothole/core/project"
	"knothole/core/source"
)

// Results pass in a stream: an environment is evaluated, what was found in it goes into the report, whoever asked for
// it takes what it needs, and the rest is let go. As many environments are evaluated at once as there are cores.

// Each renders the environments of runs. Emit is called with each result in the order of the runs, by one goroutine at
// a time; it may change the result, and keep it. What was found in all environments and in the project goes into the
// report. The error is that of emit, or of the context of the project.
func Each(p *project.Project, runs []*project.Run, options Options, report *Report,
	emit func(*Result) error) error {
	environments, lost := NewReport(p), NewReport(p)
	var stopped *eval.Silent
	reached := map[*project.Association]bool{}
	err := parallel.Ordered(p.Context(), len(runs), runtime.GOMAXPROCS(0), func(i int) *Result {
		r := Environment(runs[i], options)
		if options.Then != nil {
			options.Then(r)
		}
		return r
	}, func(_ int, r *Result) error {
		environments.Add(r.Violations...)
		environments.Add(r.Findings...)
		if r.World != nil {
			if options.Everything {
				lost.Add(r.World.Lost()...)
			}
			if now := r.World.Stopped(); stopped == nil {
				stopped = now
			}
		}
		if options.Validate && p.HasSchemas() {
			r.reach(p, reached)
		}
		return emit(r)
	})
	if err == nil {
		err = p.Context().Err() // what was evaluated last may not be whole
	}
	if err != nil {
		return err
	}
	found := NewReport(p)
	given := append(append(source.Findings(nil), p.Findings...), p.CheckLayers(runs)...)
	nameReadUpstream(runs, given)
	found.Add(given...)
	if options.Validate && p.HasSchemas() {
		found.Add(p.Schemas().Findings...)
	}
	if p.Program != nil {
		if options.Everything && len(runs) == 0 {
			constants(p)
		}
		found.Add(p.Program.Constants()...)
	}
	found.Merge(&environments.Report)
	found.Merge(&lost.Report)
	if options.Everything && p.Program != nil {
		found.Add(p.Program.LostConstants()...)
	}
	if !found.HasErrors() {
		if options.Validate && p.HasSchemas() && options.Only == nil && len(runs) == len(p.Concrete()) {
			found.Add(reachNothing(p, reached)...)
		}
		if stopped != nil {
			panic(stopped)
		}
	}
	report.Merge(&found.Report)
	return nil
}

// Report is a report on a project. It leaves out what the checker has found on its own, and names no environment where
// there is only one.
type Report struct {
	source.Report
	project *project.Project
	single  bool
}

// NewReport returns an empty report on a project.
func NewReport(p *project.Project) *Report {
	return &Report{project: p, single: len(p.Concrete()) == 1}
}

// Add adds findings.
func (r *Report) Add(findings ...source.Finding) {
	for _, f := range findings {
		if r.project.Tracked(f) {
			continue
		}
		r.project.Unit().HelpTable(&f)
		if r.single {
			f.Environments = nil // the only one goes without saying
		}
		r.Report.Add(f)
	}
}

// Findings returns the findings in the order in which they are shown.
func (r *Report) Findings() source.Findings { return r.Report.Findings(r.project.Sources) }

// All renders the environments of several runs, and returns the results in the order of the runs. The error is that of
// the context of the project.
func All(p *project.Project, runs []*project.Run, options Options) ([]*Result, source.Findings, error) {
	results := make([]*Result, 0, len(runs))
	report := NewReport(p)
	err := Each(p, runs, options, report, func(r *Result) error {
		results = append(results, r)
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	return results, report.Findings(), nil
}

// constants evaluates what needs no environment, where there is none.
func constants(p *project.Project) {
	w := p.Program.World(eval.Environment{})
	for _, m := range p.Modules() {
		others(w, m, true, (*check.Object).Constant)
	}
	w.Complete(true)
}

// reach notes the patterns of schemas that choose a document.
func (r *Result) reach(p *project.Project, reached map[*project.Association]bool) {
	for _, a := range p.Schemas().Associations {
		for i := 0; i < len(r.Documents) && !reached[a]; i++ {
			reached[a] = a.Matches(r.Documents[i].Path)
		}
	}
}

// reachNothing warns of patterns that choose no document of any environment.
func reachNothing(p *project.Project, reached map[*project.Association]bool) (findings source.Findings) {
	for _, a := range p.Schemas().Associations {
		if !reached[a] {
			findings.Add(source.Finding{Code: source.Unused, Severity: source.Warning, Span: a.Span,
				Message: fmt.Sprintf("no document matches %q", a.Documents), Help: "fix the pattern, or leave the entry out"})
		}
	}
	return findings
}
