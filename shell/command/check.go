package command

import (
	"flag"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"knothole/core/builtin"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/verify"
	"knothole/shell/present"
)

var checkCommand = &command{
	name: "check", arguments: "[ENV…|PATH…] [--rendered] [--strict] [--watch] [--format]",
	short: "check the project in all environments: everything that is wrong, at its line",
	long: `Reports everything that can be wrong, in all environments unless some are named: syntax, types, inputs and
their limits, and what only evaluation shows. Each finding is at the line that has to change. With paths of sources,
or of directories of them, it reports what is wrong in these, whether the project's main module leads to them or not.

--rendered also compares the rendered files of the project with what would be rendered now, and shows the lines that
differ. --only finds what is wrong with some documents, and what they need. Secrets are not read here, so that
conditions on them are not checked; the last lines say which.

Ends with 0 when there is nothing to report, 1 when there is. Warnings count only with --strict. "help exit" has the
table of exit statuses.`,
	example: "knothole check north south",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		r := &checking{}
		flags.BoolVar(&r.strict, "strict", false, "treat warnings as errors")
		flags.BoolVar(&r.rendered, "rendered", false, "also compare the rendered files with what would be rendered")
		flags.BoolVar(&r.watch, "watch", false, "check again whenever a file of the project changes")
		chooseFormat(flags, &r.format, present.Findings.Names()...)
		r.only.defineOnly(flags)
		flags.BoolVar(&r.final, "final", false, "fail if a later input is unresolved")
		r.today.define(flags)
		r.given.define(flags)
		return r.run
	},
}

type checking struct {
	given
	strict, rendered, watch bool
	final                   bool
	only                    patterns
	format                  string
	today                   today
}

func (r *checking) run(c *call) int {
	if r.watch {
		return c.watch(func() int { return r.once(c) })
	}
	return r.once(c)
}

func (r *checking) once(c *call) int {
	start, format := time.Now(), r.format
	p, runs, modules, status := c.openModules()
	if p == nil {
		return status
	}
	if status := r.apply(c, p, runs); status != exitClean {
		return status
	}
	if r.rendered && (modules != nil || r.overrides() || r.only != nil) {
		return c.wrongUsage("--rendered compares what the project itself renders: leave paths, --only and values for " +
			"this run out")
	}
	if modules != nil && r.only != nil {
		return c.wrongUsage("--only is about documents, and a path about sources: give one of the two")
	}
	bar := c.progress("checking", 0)
	options := verify.Options{
		Options: render.Options{Everything: r.only == nil, Validate: true, Made: bar.add, Only: r.only.filter()},
		Rules:   true, Builtins: builtin.Table, Today: r.today.time(),
		Parity: modules == nil && !r.overrides() && len(runs) == len(p.Concrete()),
	}
	rendered := &renderedFiles{c: c, p: p}
	outcome, err := verify.Project(p.Project, runs, options, func(result *render.Result) error {
		if r.rendered {
			return rendered.compare(result)
		}
		return nil
	})
	bar.stop()
	if err != nil {
		return c.interrupted(err)
	}
	if modules == nil {
		outcome.Add(c.trackedSecrets(p)...)
	}
	findings := outcome.Findings()
	n, of := len(runs), "environment"
	if modules != nil {
		n, of = len(modules), "module"
		findings = slices.DeleteFunc(findings, func(f source.Finding) bool {
			file := p.Sources.File(f.Span.Start)
			return file == nil || !slices.Contains(modules, file.Path)
		})
	}
	var differing []committed
	if r.rendered && !findings.HasErrors() {
		differing = append(rendered.differing, c.leftoverFindings(p)...)
		if format != "text" {
			for _, d := range differing {
				findings = append(findings, d.finding)
			}
		}
	}
	unchecked := outcome.Unchecked
	if err := present.Findings.Show(c.presenter(p, c.answer(format)), format, &present.Checked{Findings: findings,
		Environments: len(runs), Unchecked: unchecked, Version: Version}); err != nil {
		return c.failed("%s", err)
	}
	if format == "text" {
		if len(findings) > 0 && len(differing) > 0 {
			fmt.Fprintln(c.out)
		}
		c.showRendered(p, differing)
		for _, d := range differing {
			findings = append(findings, d.finding)
		}
	}
	if !c.quiet {
		if len(findings) > 0 && format == "text" {
			fmt.Fprintln(c.err)
		}
		if !findings.HasErrors() {
			c.printUnchecked(p, unchecked)
		}
		if p.HasSchemas() && modules == nil {
			c.printValidation(outcome.Validation)
		}
		if modules == nil {
			c.printRules(outcome.Rules)
		}
		fmt.Fprintf(c.err, "%s (%.2f s)\n", present.Summary(findings, n, of), time.Since(start).Seconds())
	}
	if findings.HasErrors() || r.strict && len(findings) > 0 {
		return exitFindings
	}
	if r.final && len(outcome.Unresolved) > 0 {
		c.printUnresolved(outcome.Unresolved)
		return exitFindings
	}
	return exitClean
}

// shownUnchecked is how many conditions are named that were not tested.
const shownUnchecked = 4

// printUnchecked says which conditions were not tested, since what they test is not there.
func (c *call) printUnchecked(p *opened, unchecked []source.Pos) {
	var places []string
	for _, at := range unchecked {
		l := p.Sources.Locate(at)
		places = append(places, fmt.Sprintf("%s:%d", path.Join(p.prefix, l.File.Path), l.Line))
	}
	if len(places) == 0 {
		return
	}
	more := ""
	if n := len(places) - shownUnchecked; n > 0 {
		more = fmt.Sprintf(" and %d more", n)
		places = places[:shownUnchecked]
	}
	fmt.Fprintf(c.err, "skipped %s that need secrets or later values: %s%s\n", source.Count(len(unchecked),
		"condition"),
		strings.Join(places, ", "), more)
}
