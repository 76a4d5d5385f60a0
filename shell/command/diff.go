package command

import (
	"flag"
	"fmt"

	"knothole/core/compare"
	"knothole/core/source"
)

var diffCommand = &command{
	name: "diff", arguments: "A B [--format text|json]",
	short: "what differs between two environments, and which line made it so",
	long: `Compares what two environments render to. Each row is one place that differs, with its cause at the right: the
input and the lines of the layers that gave it its values, or the line of the template and what it depends on. Equal
differences of several documents are folded into one row. Elements of lists are matched by their name, id, key, path,
host or port.

Ends with 0 when nothing differs, 1 when something does, 2 when one of the sides has errors.`,
	example: "knothole diff rehearsal north",
	define: func(flags *flag.FlagSet) func(c *call) int {
		format := flags.String("format", "text", "`FORMAT` of the answer: text or json")
		return func(c *call) int { return runDiff(c, *format) }
	},
}

func runDiff(c *call, format string) int {
	if len(c.arguments) != 2 {
		return c.wrongUsage("two environments are compared, not %d", len(c.arguments))
	}
	if status := c.checkFormat(format, "text", "json"); status != exitClean {
		return status
	}
	p, pair, status := c.openSelected()
	if p == nil {
		return status
	}
	comparison, findings := compare.Environments(p.Project, pair[0], pair[1])
	if comparison == nil {
		c.presenter(p, c.err).Findings(findings)
		fmt.Fprintf(c.err, "\nnothing was compared: check finds all that is wrong\n")
		return exitFailed
	}
	presenter := c.presenter(p, c.answer(format))
	if format == "json" {
		if err := presenter.ComparisonJSON(comparison); err != nil {
			return c.failed("%s", err)
		}
	} else {
		presenter.Comparison(comparison)
	}
	if comparison.Unread > 0 && !c.quiet {
		fmt.Fprintf(c.err, "not compared, since secrets are not read here: %s\n",
			source.Count(comparison.Unread, "value"))
	}
	if comparison.Equal() {
		return exitClean
	}
	return exitFindings
}
