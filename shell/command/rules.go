package command

import (
	"flag"
	"fmt"
	"slices"

	"knothole/core/builtin"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/core/verify"
	"knothole/shell/present"
)

var rulesCommand = &command{
	name: "rules", arguments: "[NAME] [--format]",
	short: "list the rules in force: why, where they look, what they find",
	long: `Shows the rules that the project enforces in all its environments: why each is there, which documents it looks
at and how many that were, what it found, and what is exempt until when. With a name it shows one rule whole: the
values of its inputs, how it is written, and what its tests allow and refuse.

check reports violations at the lines that have to change.`,
	example: "knothole rules pinned_images",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		r := &ruling{}
		chooseFormat(flags, &r.format, "text", "json")
		r.today.define(flags)
		return r.run
	},
}

type ruling struct {
	format string
	today  today
}

func (r *ruling) run(c *call) int {
	if len(c.arguments) > 1 {
		return c.wrongUsage("name one rule, or none for all")
	}
	p, status := c.open()
	if p == nil {
		return status
	}
	outcome, err := verify.Project(p.Project, p.Runs(p.Concrete()), verify.Options{
		Options: render.Options{Validate: true}, Rules: true, Builtins: builtin.Table, Today: r.today.time()}, nil)
	if err != nil {
		return c.interrupted(err)
	}
	checked := outcome.Rules
	others := slices.DeleteFunc(outcome.Findings(), func(f source.Finding) bool {
		return f.Severity != source.Error || f.Code == source.RuleViolation || f.Code == source.DanglingReference ||
			f.Code == source.SchemaViolation || f.Code == source.RuleFailed || f.Code == source.ExemptionEnds
	})
	if len(others) > 0 {
		c.presenter(p, c.err).Findings(others)
		fmt.Fprintf(c.err, "\n%s: what is shown of rules is not whole\n",
			present.Summary(others, len(p.Concrete()), "environment"))
	}
	var only *rule.Rule
	if len(c.arguments) == 1 {
		if only = checked.Rule(c.arguments[0]); only == nil {
			var names []string
			for _, one := range checked.Rules {
				names = append(names, one.Object.Name)
			}
			otherwise := "the project has none"
			if len(names) > 0 {
				otherwise = "rules are " + source.FirstQuoted(names, 12)
			}
			return c.failed("there is no rule %q\n  %s", c.arguments[0],
				source.Suggest(c.arguments[0], names, otherwise))
		}
	}
	presenter := c.presenter(p, c.answer(r.format))
	switch {
	case r.format == "json":
		if err := presenter.RulesJSON(checked, only, p.Project); err != nil {
			return c.failed("%s", err)
		}
	case only != nil:
		presenter.Rule(checked, only, p.Project)
	case len(checked.Rules)+len(checked.Links) == 0:
		if !c.quiet {
			fmt.Fprintln(c.err,
				"the project has no rules; put some in force: [[rules]] module = \"standard/images\"")
		}
	default:
		presenter.Rules(checked)
	}
	if len(others) > 0 {
		return exitFindings
	}
	return exitClean
}
