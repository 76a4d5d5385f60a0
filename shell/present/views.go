package present

import (
	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/source"
)

// Views are the forms in which an answer of one kind is shown, by name, the first for people. A command takes the names
// for its --format and shows its answer with Show, so a new view is one line in a table below.
type Views[T any] []struct {
	Name string
	show func(p *Presenter, answer T) error
}

// Names returns the names of the views.
func (v Views[T]) Names() []string {
	names := make([]string, len(v))
	for i, one := range v {
		names[i] = one.Name
	}
	return names
}

// Only returns the views with some names.
func (v Views[T]) Only(names ...string) (some Views[T]) {
	for _, name := range names {
		for _, one := range v {
			if one.Name == name {
				some = append(some, one)
			}
		}
	}
	return some
}

// Show shows an answer. The error is that of writing it.
func (v Views[T]) Show(p *Presenter, name string, answer T) error {
	return v.Only(name)[0].show(p, answer)
}

// Checked is what checking came to.
type Checked struct {
	Findings     source.Findings
	Environments int
	Unchecked    []source.Pos // conditions on secrets and later values
	Version      string       // of the program
}

// Findings are the views of findings.
var Findings = Views[*Checked]{
	{"text", func(p *Presenter, c *Checked) error {
		p.Findings(c.Findings)
		return nil
	}},
	{"json", func(p *Presenter, c *Checked) error { return writeJSON(p.Out, p.model(c)) }},
	{"sarif", func(p *Presenter, c *Checked) error { return p.sarif(p.model(c), c.Version) }},
	{"junit", func(p *Presenter, c *Checked) error { return p.findingsJUnit(p.model(c)) }},
}

// Tests are the views of the results of tests.
var Tests = Views[[]project.TestResult]{
	{"text", func(p *Presenter, results []project.TestResult) error {
		p.tests(results)
		return nil
	}},
	{"json", (*Presenter).testsJSON},
	{"junit", (*Presenter).testsJUnit},
}

// Compared is a comparison to be shown.
type Compared struct {
	*compare.Comparison
	ComparisonOptions
	Page func() *Page // around it; for html
}

// Comparisons are the views of comparisons.
var Comparisons = Views[*Compared]{
	{"text", func(p *Presenter, c *Compared) error {
		p.Comparison(c.Comparison, c.ComparisonOptions)
		return nil
	}},
	{"json", func(p *Presenter, c *Compared) error {
		return writeJSON(p.Out, p.comparisonModel(c.Comparison, c.ComparisonOptions))
	}},
	{"patch", func(p *Presenter, c *Compared) error { return p.comparisonPatch(c.Comparison) }},
	{"markdown", func(p *Presenter, c *Compared) error {
		p.comparisonMarkdown(c.Comparison, c.ComparisonOptions)
		return nil
	}},
	{"html", func(p *Presenter, c *Compared) error { return p.Page(c.Page(), c.ComparisonOptions) }},
}

// Impact is what a change comes to, in all environments.
type Impact struct {
	*compare.Impact
	ComparisonOptions
	Change string // what it is called
}

// Impacts are the views of impacts.
var Impacts = Views[*Impact]{
	{"text", func(p *Presenter, i *Impact) error {
		p.impact(i.Change, i.Impact, i.ComparisonOptions)
		return nil
	}},
	{"json", func(p *Presenter, i *Impact) error { return p.impactJSON(i.Change, i.Impact, i.ComparisonOptions) }},
	{"markdown", func(p *Presenter, i *Impact) error {
		p.impactMarkdown(i.Change, i.Impact, i.ComparisonOptions)
		return nil
	}},
}
