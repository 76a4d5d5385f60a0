package project

import (
	"slices"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/syntax"
)

// TestResult says what became of one test.
type TestResult struct {
	Title       string
	Environment string // empty when it runs without one
	Span        source.Span
	Findings    source.Findings // none when it passed
	Unchecked   int             // how many expectations were not tested, since what they test is not known
}

// Tests runs the tests of the named modules, or of all when none is named, whose title is wanted, in the order of the
// modules. Each runs in a world of its own. Those of modules that come with the program are run when they are named.
func (p *Project) Tests(modules []string, wanted func(title string) bool) []TestResult {
	var results []TestResult
	for _, m := range p.checked.Modules {
		if modules != nil && !slices.Contains(modules, m.Path) || modules == nil && standard.Is(m.Path) {
			continue
		}
		for _, o := range m.Order {
			if d, ok := o.Declaration.(*syntax.Test); ok && !o.Invalid && wanted(d.Title) {
				results = append(results, p.test(o, d))
			}
		}
	}
	return results
}

func (p *Project) test(o *check.Object, d *syntax.Test) TestResult {
	r := TestResult{Title: d.Title, Span: source.At(d.Span.Start)}
	w := p.Program.World(eval.Environment{})
	if d.Environment != nil {
		r.Environment, _ = d.Environment.Plain()
		w = p.World(p.Environment(r.Environment), false)
	}
	w.SetOther(func(name string) *eval.World { return p.World(p.Environment(name), false) })
	w.Visit(o, eval.Visitor{})
	w.Complete(false)
	r.Findings = w.Findings()
	if stopped := w.Stopped(); stopped != nil && !r.Findings.HasErrors() && !p.Program.Constants().HasErrors() &&
		!p.Findings.HasErrors() {
		panic(stopped)
	}
	for _, u := range w.Unchecked() {
		if u.At.Start >= d.Span.Start && u.At.Start < d.Span.End {
			r.Unchecked++
		}
	}
	return r
}
