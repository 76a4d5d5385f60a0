package command

import (
	"flag"
	"fmt"
	"regexp"

	"knothole/core/render"
	"knothole/core/source"
)

var testCommand = &command{
	name: "test", arguments: "[PATH…] [--run PATTERN] [--format text|junit]",
	short: "the tests in the project",
	long: `Runs the tests of all modules of the project, or those in the sources or folders that are named, and of
these those whose title matches the pattern (RE2).

Ends with 0 when all pass, 1 when one fails, 2 when the project has mistakes that keep tests from running.`,
	example: "knothole test --run labels",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		run := flags.String("run", "", "only tests whose title matches the pattern `PATTERN`")
		format := flags.String("format", "text", "`FORMAT` of the answer: text or junit")
		return func(c *call) int { return runTests(c, *run, *format) }
	},
}

func runTests(c *call, pattern, format string) int {
	if status := c.checkFormat(format, "text", "junit"); status != exitClean {
		return status
	}
	matches, err := regexp.Compile(pattern)
	if err != nil {
		return c.wrongUsage("%q is not a pattern", pattern)
	}
	p, environments, modules, status := c.openModules()
	if p == nil {
		return status
	}
	if modules == nil && len(c.arguments) > 0 {
		return c.wrongUsage("%s is an environment; a test says itself in which it runs", environments[0].Name)
	}
	_, findings := render.All(p.Project, p.Concrete(), render.Options{})
	if findings.HasErrors() {
		return c.stopped(p, findings, "no test was run")
	}
	results := p.Tests(modules, matches.MatchString)
	switch {
	case len(results) == 0 && pattern != "":
		return c.failed("no test has a title that matches %q", pattern)
	case len(results) == 0 && !c.quiet:
		fmt.Fprintln(c.err, `the project has no tests; write one: test "what holds" { expect 1 + 1 == 2 }`)
	}
	failed := 0
	for _, r := range results {
		if len(r.Findings) > 0 {
			failed++
		}
	}
	presenter := c.presenter(p, c.answer(format))
	if format == "junit" {
		if err := presenter.TestsJUnit(results); err != nil {
			return c.failed("%s", err)
		}
	} else {
		presenter.Tests(results)
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
