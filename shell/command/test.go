package command

import (
	"flag"
	"fmt"
	"regexp"
	"strings"

	"knothole/core/render"
	"knothole/core/source"
	"knothole/shell/present"
)

var testCommand = &command{
	name: "test", arguments: "[PATH…] [--only TITLE] [--format]",
	short: "run the tests in the project",
	long: `Runs the tests of all modules of the project, or those in the sources or directories that are named, and of
these those whose title contains TITLE, in which * matches anything.

Ends with 0 when all pass, and with 1 when one fails or the project has errors that keep tests from running.`,
	example: "knothole test --only labels",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		only := flags.String("only", "", "only tests whose title contains `TITLE`; * matches anything")
		format := new(string)
		chooseFormat(flags, format, present.Tests.Names()...)
		return func(c *call) int { return runTests(c, *only, *format) }
	},
}

func runTests(c *call, pattern, format string) int {
	parts := strings.Split(pattern, "*")
	for i, part := range parts {
		parts[i] = regexp.QuoteMeta(part)
	}
	matches := regexp.MustCompile(strings.Join(parts, ".*"))
	p, environments, modules, status := c.openModules()
	if p == nil {
		return status
	}
	if modules == nil && len(c.arguments) > 0 {
		return c.wrongUsage("%s is an environment; a test says itself in which it runs", environments[0].Name)
	}
	_, findings, err := render.All(p.Project, p.Runs(p.Concrete()), render.Options{})
	if err != nil {
		return c.interrupted(err)
	}
	if findings.HasErrors() {
		if format != "text" { // who reads the answer must not take nothing for nothing wrong
			wrong := &present.Checked{Findings: findings, Environments: len(p.Concrete()), Version: Version}
			if err := present.Findings.Show(c.presenter(p, c.answer(format)), format, wrong); err != nil {
				return c.failed("%s", err)
			}
		}
		return c.stopped(p, findings, "no test was run")
	}
	results, err := p.Tests(modules, matches.MatchString)
	if err != nil {
		return c.interrupted(err)
	}
	switch {
	case len(results) == 0 && pattern != "":
		return c.failed("no test has a title with %q in it", pattern)
	case len(results) == 0 && modules != nil && !c.quiet:
		fmt.Fprintf(c.err, "there are no tests in %s\n", strings.Join(c.arguments, ", "))
	case len(results) == 0 && !c.quiet:
		fmt.Fprintln(c.err, `the project has no tests; write one: test "what holds" { expect 1 + 1 == 2 }`)
	}
	failed := 0
	for _, r := range results {
		if len(r.Findings) > 0 {
			failed++
		}
	}
	if err := present.Tests.Show(c.presenter(p, c.answer(format)), format, results); err != nil {
		return c.failed("%s", err)
	}
	if !c.quiet {
		fmt.Fprintf(c.err, "%s: %d passed, %d failed\n", source.Count(len(results), "test"), len(results)-failed,
			failed)
	}
	if failed > 0 {
		return exitFindings
	}
	return exitClean
}
