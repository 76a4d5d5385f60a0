package command

import (
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"knothole/core/render"
	"knothole/core/source"
	"knothole/shell/present"
)

var checkCommand = &command{
	name: "check", arguments: "[ENV…|PATH…] [--strict] [--format text|json|sarif|junit]",
	short: "everything that is wrong, in all environments",
	long: `Reports everything that can be wrong, in all environments unless some are named: syntax, types, inputs and their
limits, and what only evaluation shows. Each finding stands at the line that has to change. With paths of sources, or of
folders of them, it reports what is wrong in these, whether the project's main module leads to them or not.

Ends with 0 when there is nothing to report, 1 when there is. Warnings count only with --strict.`,
	example: "knothole check north south",
	define: func(flags *flag.FlagSet) func(c *call) int {
		strict := flags.Bool("strict", false, "warnings count as errors do")
		format := flags.String("format", "text", "`FORMAT` of the answer: text, json, sarif or junit")
		return func(c *call) int { return runCheck(c, *strict, *format) }
	},
}

func runCheck(c *call, strict bool, format string) int {
	start := time.Now()
	formats := []string{"text", "json", "sarif", "junit"}
	if !slices.Contains(formats, format) {
		return c.wrongUsage("there is no format %q: %s", format, strings.Join(formats, ", "))
	}
	p, environments, modules, status := c.openModules()
	if p == nil {
		return status
	}
	_, findings := render.All(p.Project, environments, render.Options{Everything: true})
	n, of := len(environments), "environment"
	if modules != nil {
		n, of = len(modules), "module"
		findings = slices.DeleteFunc(findings, func(f source.Finding) bool {
			file := p.Sources.File(f.Span.Start)
			return file == nil || !slices.Contains(modules, file.Path)
		})
	}
	if err := c.show(c.presenter(p, c.out), findings, len(environments), format); err != nil {
		return c.failed("%s", err)
	}
	if !c.quiet {
		if len(findings) > 0 && format == "text" {
			fmt.Fprintln(c.err)
		}
		fmt.Fprintf(c.err, "%s (%.2f s)\n", present.Summary(findings, n, of), time.Since(start).Seconds())
	}
	if findings.HasErrors() || strict && len(findings) > 0 {
		return exitFindings
	}
	return exitClean
}

// show shows findings in a format.
func (c *call) show(p *present.Presenter, findings source.Findings, environments int, format string) error {
	switch format {
	case "json":
		return p.FindingsJSON(findings, environments)
	case "sarif":
		return p.FindingsSARIF(findings, Version)
	case "junit":
		return p.FindingsJUnit(findings)
	}
	p.Findings(findings)
	return nil
}
