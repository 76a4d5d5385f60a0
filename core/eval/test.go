package eval

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// expect compiles an expectation of a test.
func (c *compiler) expect(d *syntax.Expect) statement {
	if d.Violation {
		return c.expectViolation(d)
	}
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
	names := c.loopNames
	return func(f *frame, _ Visitor) {
		if f.passesOver(at, func() bool { return condition(f) }) {
			return
		}
		help := ""
		if sides != nil {
			help = "found " + sides[0](f).Show(60) + " and " + sides[1](f).Show(60)
		}
		m := "expected " + text + f.inLoops(names)
		if message != nil {
			m = message(f)
		}
		f.fail(source.Finding{Code: source.Expectation, Span: at, Message: m, Help: help})
	}
}

// passesOver reports whether an expectation holds, or cannot be tested: one that would have to decide on what is hidden
// or not known yet, anywhere in it, is passed over, and noted. A test over all documents is about those that are known.
func (f *frame) passesOver(at source.Span, holds func() bool) (passed bool) {
	depth, calls, before := f.depth, len(f.calls), len(f.reports.findings)
	stopped := f.reports.stopped.Load()
	if guard(func() { passed = holds() }) {
		return passed
	}
	for _, found := range f.reports.findings[before:] {
		within := found.Span.Start >= at.Start && found.Span.Start < at.End
		if !within || found.Code != source.NotKnown && found.Code != source.HiddenDecision {
			panic(abort{})
		}
	}
	if len(f.reports.findings) == before {
		panic(abort{}) // what it needs failed before
	}
	f.reports.findings, f.depth, f.calls = f.reports.findings[:before:before], depth, f.calls[:calls]
	f.reports.stopped.Store(stopped)
	f.notChecked(Unchecked{at, true})
	return true
}

// inLoops says in which turn of loops something is.
func (f *frame) inLoops(names []loopName) string {
	var parts []string
	for _, one := range names {
		parts = append(parts, one.name+" = "+f.slots[one.slot].Show(40))
	}
	if len(parts) == 0 {
		return ""
	}
	return ", with " + strings.Join(parts, ", ")
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
			f.failAt(source.Expectation, at, "", "expected an error that says %q, but there was none", wanted)
		}
		messages := make([]string, len(found))
		for i, finding := range found {
			messages[i] = finding.Message
			if strings.Contains(finding.Message, wanted) {
				return
			}
		}
		f.failAt(source.Expectation, at, "", "expected an error that says %q, found: %s", wanted,
			strings.Join(messages, "; "))
	}
}

// expectViolation compiles an expectation that a rule finds a violation, with a text in what it says, or that it finds
// none.
func (c *compiler) expectViolation(d *syntax.Expect) statement {
	call, ok := syntax.Bare(d.From).(*syntax.Call)
	rule := (*check.Object)(nil)
	if ok {
		rule = c.module.Info.Objects[call.ID()]
	}
	if rule == nil || rule.Kind != check.ObjectRule || len(call.Arguments) == 0 {
		return func(*frame, Visitor) { panic(abort{}) }
	}
	all, at := rule.Declaration.(*syntax.Rule).All, d.From.Place()
	world := c.ruleWorld(call, rule)
	document, path := c.expression(call.Arguments[0].Value), code(nil)
	for _, a := range call.Arguments {
		if a.Name.Name == "path" && !all {
			path = c.expression(a.Value)
		}
	}
	var text code
	if d.Mistake != nil {
		text = c.expression(d.Mistake)
	}
	return func(f *frame, _ Visitor) {
		wanted := ""
		if text != nil {
			wanted = f.decide(text(f), "what is expected", d.Mistake.Place()).Text()
		}
		r := world(f).Rule(rule)
		seen := Subject{Data: document(f)}
		var looked Outcome
		switch {
		case all:
			looked = r.Documents(Together(seenIn(seen.Data)))
		case path == nil:
			looked = r.Document(&seen)
		default:
			seen.Path = f.decide(path(f), "the path of a document", at).Text()
			pattern, failures, ok := r.Pattern()
			looked = Outcome{Failures: failures, Failed: !ok}
			if ok && (pattern == "" || place.Match(pattern, seen.Path)) {
				looked = r.Document(&seen)
			}
		}
		f.steps += r.thread.steps
		f.spend(1, at)
		f.judge(d, rule, looked, wanted)
	}
}

// judge fails when a rule did not find what a test expects.
func (f *frame) judge(d *syntax.Expect, rule *check.Object, looked Outcome, wanted string) {
	at := d.From.Place()
	if looked.Failed {
		for _, finding := range looked.Failures {
			f.report(finding)
		}
		f.failAt(source.Expectation, at, "", "the rule %q failed itself", rule.Name)
	}
	var messages []string
	for _, v := range looked.Violations {
		if d.Mistake != nil && strings.Contains(v.Message, wanted) {
			return
		}
		messages = append(messages, v.Message)
	}
	switch {
	case d.Mistake == nil && len(messages) > 0:
		f.failAt(source.Expectation, at, "", "expected no violation of %q, found: %s", rule.Name,
			strings.Join(messages, "; "))
	case d.Mistake == nil:
	case !looked.Met:
		f.failAt(source.Expectation, at, "it looks at what its at and where say",
			"expected a violation of %q that says %q, but the rule does not look at this document", rule.Name, wanted)
	case len(messages) == 0:
		f.failAt(source.Expectation, at, "", "expected a violation of %q that says %q, but there was none", rule.Name,
			wanted)
	default:
		f.failAt(source.Expectation, at, "", "expected a violation of %q that says %q, found: %s", rule.Name, wanted,
			strings.Join(messages, "; "))
	}
}

// seenIn returns the documents that a test gives to a rule that sees all of them.
func seenIn(list value.Value) []Subject {
	if list.Kind() != value.List {
		return nil
	}
	all := make([]Subject, list.Len())
	for i, v := range list.Elements() {
		all[i] = Subject{Path: fmt.Sprintf("%d.yaml", i), Data: v.Get("data")}
		if path := v.Get("path"); path.Kind() == value.String {
			all[i].Path = path.Text()
		}
	}
	return all
}

// ruleWorld compiles what finds the world of a rule that a test calls: the test's own for a rule of the main module,
// that of the instance whose rule it is, or else an instance that is made for the call.
func (c *compiler) ruleWorld(call *syntax.Call, rule *check.Object) func(f *frame) *World {
	if field, ok := call.Function.(*syntax.Field); ok && c.module.Info.Objects[field.ID()] == rule {
		of := c.expression(field.Of)
		return func(f *frame) *World { return of(f).Instance().(*World) }
	}
	if rule.Module.Main {
		return func(f *frame) *World { return f.world }
	}
	each := map[string]argument{}
	for _, a := range call.Arguments[1:] {
		if input := rule.Module.Objects[a.Name.Name]; input != nil && input.Kind == check.ObjectInput {
			each[a.Name.Name] = c.argument(a.Value)
		}
	}
	m, at := rule.Module, call.Place()
	return func(f *frame) *World {
		w := f.world
		return &World{program: w.program, recorder: w.recorder, evaluation: w.evaluation, base: w.program.first[m],
			states: make([]state, m.Globals), instance: &instance{module: m, making: &making{at: at, thread: f.thread,
				slots: slices.Clone(f.slots), each: each}}}
	}
}

// environmentsCall compiles `environments()` in a test.
func (c *compiler) environmentsCall(e *syntax.Call) code {
	o := origin(e)
	names := make([]value.Value, len(c.module.Environments))
	for i, name := range c.module.Environments {
		names[i] = value.StringOf(name, o)
	}
	return constant(value.ListOf(names, o))
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
