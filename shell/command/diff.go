package command

import (
	"flag"
	"fmt"

	"knothole/core/compare"
	"knothole/core/source"
	"knothole/shell/present"
)

var diffCommand = &command{
	name: "diff", arguments: "A B… [--by document|cause] [--format text|json]",
	short: "what differs between environments, and which line made it so",
	long: `Compares what environments render to. Each row is one place that differs, with its cause below it or at the right:
the inputs, and the lines of the layers that gave them their values, or the line of the template. It was tried that the
difference goes when all that is named is made equal, and that it takes each of them. Of three environments or more
each is a column; --all takes all.

Equal differences of several documents, or elements of lists, are one row; of many that are alike but for their values one
is an example, unless --full is given. Elements of lists are matched by their name, id, key, path, host or port, else by
what they have in common.

Ends with 0 when nothing differs, 1 when something does, 2 when one of the sides has errors.`,
	example: "knothole diff rehearsal north",
	define: func(flags *flag.FlagSet) func(c *call) int {
		d := &difference{}
		flags.StringVar(&d.format, "format", "text", "`FORMAT` of the answer: text or json")
		flags.StringVar(&d.by, "by", "document", "rows are grouped by `WHAT`: document or cause")
		flags.BoolVar(&d.full, "full", false, "show whole values, and each row")
		flags.BoolVar(&d.all, "all", false, "compare all environments")
		return d.run
	},
}

// difference is what the command diff is asked for.
type difference struct {
	format, by string
	full, all  bool
}

func (d *difference) run(c *call) int {
	switch {
	case d.all && len(c.arguments) > 0:
		return c.wrongUsage("--all takes all environments: name none")
	case !d.all && len(c.arguments) < 2:
		return c.wrongUsage("two environments or more are compared, not %d", len(c.arguments))
	case d.by != "document" && d.by != "cause":
		return c.wrongUsage("rows are grouped by document or by cause, not by %s", d.by)
	}
	if status := c.checkFormat(d.format, "text", "json"); status != exitClean {
		return status
	}
	p, environments, status := c.openSelected()
	if p == nil {
		return status
	}
	if len(environments) < 2 {
		return c.failed("there is one environment: nothing to compare it with")
	}
	comparison, findings := compare.Environments(p.Project, environments...)
	if comparison == nil {
		c.presenter(p, c.err).Findings(findings)
		fmt.Fprintf(c.err, "\nnothing was compared: check finds all that is wrong\n")
		return exitFailed
	}
	presenter := c.presenter(p, c.answer(d.format))
	if d.format == "json" {
		if err := presenter.ComparisonJSON(comparison); err != nil {
			return c.failed("%s", err)
		}
	} else {
		presenter.Comparison(comparison, present.ComparisonOptions{
			GroupOptions: compare.GroupOptions{ByCause: d.by == "cause", Full: d.full}})
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
