package check

import (
	"fmt"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// checkTest checks a test: the environment that it runs in, and its body.
func (c *checker) checkTest(d *syntax.Test) {
	if d.Environment != nil {
		name, _ := d.Environment.Plain()
		if !slices.Contains(c.program.Environments, name) {
			help := c.suggestions.Suggest(name, c.program.Environments,
				"environments are "+source.Quoted(c.program.Environments))
			c.report(source.UnknownEnvironment, d.Environment.Place(), help,
				"there is no environment %q to run a test in", name)
		}
	}
	c.checkBlock(d.Body)
	if !holds[*syntax.Expect](d.Body) {
		c.warn(source.NoExpectation, source.At(d.Span.Start), "write expect and what must hold",
			"the test %q expects nothing, so that it cannot fail", d.Title)
	}
}

func (c *checker) checkExpect(d *syntax.Expect) {
	if d.Violation {
		if d.Mistake != nil {
			c.check(d.Mistake, types.String, "the text of a violation")
		}
		c.checkRuleCall(d.From)
		return
	}
	if d.From != nil {
		c.check(d.Mistake, types.String, "the text of a mistake")
		// What is written out there is meant to fail, when the test runs.
		literals := len(c.program.Literals)
		c.infer(d.From, nil)
		c.program.Literals = c.program.Literals[:literals]
		return
	}
	c.check(d.Condition, types.Bool, "what is expected")
	c.messageOf(d.Condition, d.Message)
}

// checkTestNeeds reports a test that reaches inputs or the environment, but does not say in which it runs.
func (c *checker) checkTestNeeds(o *Object) {
	d, ok := o.Declaration.(*syntax.Test)
	if !ok || d.Broken {
		return
	}
	if o.NeedsInput && !o.Module.Main {
		o.Invalid = true
		c.findings.Add(source.Finding{Code: source.NeedsInstance, Span: source.At(d.Span.Start),
			Help:    "test its functions, or put the test into the main module",
			Message: "this test depends on the inputs of its module, which have no values here"})
		return
	}
	if d.Environment != nil || o.Constant() {
		return
	}
	finding := source.Finding{Code: source.TestNeeds, Span: source.At(d.Span.Start),
		Help:    fmt.Sprintf("write: test %q in \"…\" { … }", d.Title),
		Message: "this test depends on an environment, but does not say on which"}
	for _, r := range o.Uses {
		if m := r.Object.Imported(); r.Object.Kind == ObjectModule && m != nil && m.needsEnvironment() {
			finding.Related = append(finding.Related,
				source.Related{Span: r.Span, Text: fmt.Sprintf("what %s gives depends on the environment", m.Path)})
		}
		if !r.Object.Constant() && !(r.Made && !r.Object.NeedsEnvironment) {
			finding.Related = append(finding.Related, source.Related{Span: r.Span, Text: r.Object.Summary()})
		}
	}
	o.Invalid = true
	c.findings.Add(finding)
}
