package check

import (
	"fmt"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// checkTest checks a test: the environments that it runs in, and its body.
func (c *checker) checkTest(d *syntax.Test) {
	environments, tags := c.program.Environments, c.program.Tags
	if c.module.Main {
		environments, tags = c.module.Environments, c.module.Tags
	}
	var named []string
	for _, e := range d.Environments {
		name, _ := e.Plain()
		switch {
		case !slices.Contains(environments, name) && slices.Contains(c.program.Environments, name):
			c.report(source.UnknownEnvironment, e.Place(), "test it in its own main module",
				"the environment %q has another main module than %s", name, c.module.Path)
		case !slices.Contains(environments, name):
			help := c.suggestions.Suggest(name, environments,
				"environments are "+source.FirstQuoted(environments, 8))
			c.report(source.UnknownEnvironment, e.Place(), help, "there is no environment %q to run a test in", name)
		case slices.Contains(named, name):
			c.report(source.DuplicateName, e.Place(), "leave it out", "the environment %q is named twice", name)
		}
		named = append(named, name)
	}
	if d.Every && len(environments) == 0 {
		c.report(source.UnknownEnvironment, source.At(d.Span.Start), "name one in knothole.toml: [environments.…]",
			"there is no environment to run a test in")
	}
	if d.Tag != nil {
		tag, _ := d.Tag.Plain()
		if !slices.Contains(tags, tag) {
			otherwise := "no environment has tags"
			if len(tags) > 0 {
				otherwise = "tags are " + source.FirstQuoted(tags, 8)
			}
			c.report(source.UnknownEnvironment, d.Tag.Place(), c.suggestions.Suggest(tag, tags, otherwise),
				"no environment to run a test in has the tag %q", tag)
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
		c.check(d.Mistake, types.String, "the text of an error")
		// What is written out there is meant to fail, when the test runs.
		literals := len(c.module.Literals)
		c.infer(d.From, nil)
		c.module.Literals = c.module.Literals[:literals]
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
	if len(d.Environments) > 0 || d.Every || o.Constant() {
		return
	}
	finding := source.Finding{Code: source.TestNeeds, Span: source.At(d.Span.Start),
		Help:    fmt.Sprintf("write: test %q in every environment { … }, or in \"…\"", d.Title),
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
