// Package verify checks a project: it evaluates environments, validates what they render to, checks rules and parity,
// and puts everything that is wrong into one report. It exists so that every command, and whatever else shows
// findings, gets the same ones.
package verify

import (
	"crypto/sha256"
	"slices"
	"sync"
	"time"

	"knothole/core/compare"
	"knothole/core/eval"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/core/standard"
)

// Options say what to check.
type Options struct {
	render.Options
	// Rules also checks the rules and links of the project, when Validate is set, too.
	Rules bool
	// Parity also compares environments that must be the same, when nothing else is wrong.
	Parity   bool
	Builtins *eval.Builtins // for the paths that the project file names
	Today    time.Time      // the day on which exemptions are judged
}

// Outcome is what came of checking.
type Outcome struct {
	*render.Report
	Rules      *rule.Result
	Validation render.Validation // of all environments
	Unchecked  []source.Pos      // of conditions that need secrets or later values, in order; those of our own rules aside
	Unresolved []render.Unresolved
	Documents  int
}

// Project evaluates and checks the environments of runs. Emit is called with each result in the order of the runs, by
// one goroutine at a time; nil for nobody. What it does not keep is let go. The error is that of emit, or of the
// context of the project.
func Project(p *project.Project, runs []*project.Run, options Options,
	emit func(*render.Result) error) (*Outcome, error) {
	out := &Outcome{Rules: &rule.Result{}, Report: render.NewReport(p)}
	var rules *rule.Checking
	if options.Rules && options.Validate && rule.Any(p) && p.Program != nil {
		rules = rule.Begin(p, rule.Options{Today: options.Today, Builtins: options.Builtins, Part: options.Only != nil,
			Whole: options.Only == nil && len(runs) == len(p.Concrete())}, out)
		then := options.Then
		options.Then = func(r *render.Result) {
			if rules.Look(r); then != nil {
				then(r)
			}
		}
	}
	digests := compare.Digests{}
	if options.Parity = options.Parity && len(p.Parity()) > 0; options.Parity {
		options.Then = digesting(p, digests, options.Then)
	}
	err := render.Each(p, runs, options.Options, out.Report, func(r *render.Result) error {
		if rules != nil {
			rules.Take(r)
		}
		out.Documents += len(r.Documents)
		out.Validation.Add(r.Validation)
		out.Unresolved = append(out.Unresolved, r.Unresolved...)
		for _, u := range r.Unchecked {
			// What the rules that come with the program would say of a secret, nobody has to know.
			file := p.Sources.File(u.At.Start)
			if !slices.Contains(out.Unchecked, u.At.Start) && file != nil && !standard.Is(file.Path) {
				out.Unchecked = append(out.Unchecked, u.At.Start)
			}
		}
		if emit == nil {
			return nil
		}
		return emit(r)
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(out.Unchecked)
	if rules != nil {
		out.Rules = rules.Finish()
		out.Add(p.Program.Constants()...)
	}
	if options.Parity && !out.HasErrors() {
		found, err := compare.CheckParity(p, digests, options.Builtins)
		if err != nil {
			return nil, err
		}
		out.Add(found...)
	}
	return out, nil
}

// digesting returns what digests the documents of environments that must be the same, before something else is done.
func digesting(p *project.Project, digests compare.Digests, then func(*render.Result)) func(*render.Result) {
	var mu sync.Mutex
	return func(r *render.Result) {
		if slices.ContainsFunc(p.Parity(), func(g project.Parity) bool {
			return slices.Contains(g.Environments, r.Run.Name)
		}) {
			of := make(map[string][sha256.Size]byte, len(r.Documents))
			for i := range r.Documents {
				of[r.Documents[i].Path] = r.Documents[i].Content("")
			}
			mu.Lock()
			digests[r.Run.Name] = of
			mu.Unlock()
		}
		if then != nil {
			then(r)
		}
	}
}
