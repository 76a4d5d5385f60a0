package command

import (
	"flag"
	"fmt"
	"time"

	"knothole/core/render"
	"knothole/shell/present"
)

var checkCommand = &command{
	name: "check", arguments: "[ENV…] [--strict]",
	short: "everything that is wrong, in all environments",
	long: `Reports everything that can be wrong, in all environments unless some are named: syntax, types, inputs and their
limits, and what only evaluation shows. Each finding stands at the line that has to change.

Ends with 0 when there is nothing to report, 1 when there is. Warnings count only with --strict.`,
	example: "knothole check north south",
	define: func(flags *flag.FlagSet) func(c *call) int {
		strict := flags.Bool("strict", false, "warnings count as errors do")
		return func(c *call) int { return runCheck(c, *strict) }
	},
}

func runCheck(c *call, strict bool) int {
	start := time.Now()
	p, status := c.open()
	if p == nil {
		return status
	}
	environments, ok := c.environments(p, c.arguments)
	if !ok {
		return exitFailed
	}
	_, findings := render.All(p.Project, environments, render.Options{Everything: true})
	c.presenter(p, c.out).Findings(findings)
	if !c.quiet {
		if len(findings) > 0 {
			fmt.Fprintln(c.err)
		}
		fmt.Fprintf(c.err, "%s (%.2f s)\n", present.Summary(findings, len(environments)), time.Since(start).Seconds())
	}
	if findings.HasErrors() || strict && len(findings) > 0 {
		return exitFindings
	}
	return exitClean
}
