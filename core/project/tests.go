package project

import (
	"runtime"
	"slices"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/parallel"
	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/syntax"
)

// TestResult says what became of one test.
type TestResult struct {
	Title string
	// Environments are those that it ran in; none when it runs without one.
	Environments []string
	Every        bool // it runs in every environment, or in all of a tag
	Span         source.Span
	// Findings are those of all environments; none when it passed in each.
	Findings  source.Findings
	Unchecked int // how many expectations were not tested in each, since what they test is not known, added up
	// UncheckedAt are the places of these, each once.
	UncheckedAt []source.Pos
}

// Tests runs the tests of the named modules, or of all when none is named, whose title is wanted, in the order of the
// modules. Each runs in a world of its own. Those of modules that come with the program are run when they are named.
// The error is that of the context of the project.
func (p *Project) Tests(modules []string, wanted func(title string) bool) ([]TestResult, error) {
	var results []TestResult
	for _, m := range p.checked.Modules {
		if modules != nil && !slices.Contains(modules, m.Path) || modules == nil && standard.Is(m.Path) {
			continue
		}
		for _, o := range m.Order {
			if d, ok := o.Declaration.(*syntax.Test); ok && !o.Invalid && wanted(d.Title) {
				results = append(results, p.test(o, d))
				if err := p.Context().Err(); err != nil {
					return nil, err
				}
			}
		}
	}
	return results, nil
}

// test runs a test, in all environments that it is for.
func (p *Project) test(o *check.Object, d *syntax.Test) TestResult {
	r := TestResult{Title: d.Title, Span: source.At(d.Span.Start), Every: d.Every}
	for _, e := range p.environmentsOf(o.Module, d) {
		r.Environments = append(r.Environments, e.Name)
	}
	if r.Environments == nil {
		r.Findings, r.UncheckedAt = p.testIn(nil, o, d)
		r.Unchecked = len(r.UncheckedAt)
		r.Findings = bounded(r.Findings)
		return r
	}
	found := make([]source.Findings, len(r.Environments))
	unchecked := make([][]source.Pos, len(r.Environments))
	var group parallel.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range r.Environments {
		group.Go(func() error {
			found[i], unchecked[i] = p.testIn(p.Environment(name), o, d)
			return nil
		})
	}
	_ = group.Wait() // tests report findings, not errors
	for i := range found {
		r.Findings = append(r.Findings, found[i]...)
		r.Unchecked += len(unchecked[i])
		r.UncheckedAt = append(r.UncheckedAt, unchecked[i]...)
	}
	slices.Sort(r.UncheckedAt)
	r.UncheckedAt = slices.Compact(r.UncheckedAt)
	if len(r.Environments) > 1 {
		r.Findings = source.ReportOf(r.Findings...).Findings(p.Sources)
	}
	r.Findings = bounded(r.Findings)
	return r
}

// shownTurns is how often an expectation that fails in turns of a loop is told.
const shownTurns = 4

// bounded leaves out what an expectation says in further turns of a loop, and says how often.
func bounded(findings source.Findings) (kept source.Findings) {
	last, more := map[source.Pos]int{}, map[source.Pos]int{}
	for _, f := range findings {
		if f.Code == source.Expectation {
			if more[f.Span.Start]++; more[f.Span.Start] > shownTurns {
				continue
			}
			last[f.Span.Start] = len(kept)
		}
		kept = append(kept, f)
	}
	for at, i := range last {
		if n := more[at] - shownTurns; n > 0 {
			kept[i].Related = append(slices.Clip(kept[i].Related),
				source.Related{Text: "and in " + source.Count(n, "turn") + " more"})
		}
	}
	return kept
}

// environmentsOf returns the environments that a test runs in; none for one that runs without.
func (p *Project) environmentsOf(m *check.Module, d *syntax.Test) (all []*Environment) {
	for _, written := range d.Environments {
		name, _ := written.Plain()
		all = append(all, p.Environment(name))
	}
	if !d.Every {
		return all
	}
	for _, e := range p.Concrete() {
		if m.Main && !slices.Contains(m.Environments, e.Name) {
			continue // it has another main module
		}
		if d.Tag != nil {
			if tag, _ := d.Tag.Plain(); !slices.Contains(e.Tags, tag) {
				continue
			}
		}
		all = append(all, e)
	}
	return all
}

// testIn runs a test in an environment, or without one. It returns what it found, and the places of the expectations
// that were not tested.
func (p *Project) testIn(e *Environment, o *check.Object, d *syntax.Test) (source.Findings, []source.Pos) {
	w := p.Program.World(eval.Environment{})
	if e != nil {
		w = p.Run(e).World(false)
	}
	w.SetOther(func(name string) *eval.World { return p.RunNamed(name).World(false) })
	w.Visit(o, eval.Visitor{})
	w.Complete(false)
	findings := w.Findings()
	if stopped := w.Stopped(); stopped != nil && !findings.HasErrors() && !p.Program.Constants().HasErrors() &&
		!p.Findings.HasErrors() {
		panic(stopped)
	}
	var unchecked []source.Pos
	for _, u := range w.Unchecked() {
		if u.At.Start >= d.Span.Start && u.At.Start < d.Span.End {
			unchecked = append(unchecked, u.At.Start)
		}
	}
	return findings, unchecked
}
