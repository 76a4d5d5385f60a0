package eval

import (
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// expect compiles an expectation of a test.
func (c *compiler) expect(d *syntax.Expect) statement {
	if d.From != nil {
		return c.expectMistake(d)
	}
	condition, at := c.assertion(d.Condition), d.Condition.Place()
	var message func(f *frame) string
	if d.Message != nil {
		message = c.message(d.Message)
	}
	text := c.module.Tree.File.Slice(at)
	// What a comparison compared tells more than that it did not hold.
	var sides []code
	if comparison, ok := syntax.Bare(d.Condition).(*syntax.Binary); ok && comparison.Operator >= syntax.Equal &&
		comparison.Operator <= syntax.NotMatches {
		sides = []code{c.expression(comparison.Left), c.expression(comparison.Right)}
	}
	return func(f *frame, _ Visitor) {
		if condition(f) {
			return
		}
		help := ""
		if sides != nil {
			help = "found " + sides[0](f).Show(60) + " and " + sides[1](f).Show(60)
		}
		m := "expected " + text
		if message != nil {
			m = message(f)
		}
		f.fail(source.Finding{Code: source.Expectation, Span: at, Message: m, Help: help})
	}
}

// expectMistake compiles an expectation that something fails, with a text in what is then found.
func (c *compiler) expectMistake(d *syntax.Expect) statement {
	text, from, at := c.expression(d.Mistake), c.expression(d.From), d.From.Place()
	return func(f *frame, _ Visitor) {
		wanted := f.decide(text(f), "what is expected", d.Mistake.Place()).Text()
		depth, calls, before, instances := f.depth, len(f.calls), len(f.reports.findings), len(f.world.evaluation.instances)
		stopped := f.reports.stopped.Load()
		ok := guard(func() {
			if v := from(f); v.Kind() == value.Instance {
				f.complete(v.Instance().(*World), true)
			}
		}) && len(f.reports.findings) == before
		found := f.reports.findings[before:]
		f.reports.findings, f.depth, f.calls = f.reports.findings[:before:before], depth, f.calls[:calls]
		f.reports.stopped.Store(stopped)
		f.world.evaluation.instances = f.world.evaluation.instances[:instances] // what is wrong with them is known
		if ok {
			f.failAt(source.Expectation, at, "", "expected a mistake that says %q, but there was none", wanted)
		}
		messages := make([]string, len(found))
		for i, finding := range found {
			messages[i] = finding.Message
			if strings.Contains(finding.Message, wanted) {
				return
			}
		}
		f.failAt(source.Expectation, at, "", "expected a mistake that says %q, found: %s", wanted,
			strings.Join(messages, "; "))
	}
}

// environmentCall compiles `environment("name")` in a test.
func (c *compiler) environmentCall(e *syntax.Call) code {
	name, at, main := c.expression(e.Arguments[0].Value), e.Place(), c.module
	return func(f *frame) value.Value {
		all, text := f.world.evaluation, f.decide(name(f), "the environment", at).Text()
		w, ok := all.others[text]
		if !ok && all.other != nil {
			if w = all.other(text); w != nil {
				w.instance, w.evaluation.reports = &instance{module: main}, all
				all.findings = append(all.findings, w.evaluation.findings...)
			}
			if all.others == nil {
				all.others = map[string]*World{}
			}
			all.others[text] = w
		}
		if w == nil {
			f.failAt(source.UnknownEnvironment, at, "", "there is no environment %q", text)
		}
		return value.InstanceOf(w, value.From(at.Start))
	}
}
