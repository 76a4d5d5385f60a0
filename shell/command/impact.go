package command

import (
	"cmp"
	"flag"
	"fmt"
	"slices"
	"strings"

	"knothole/core/compare"
	"knothole/core/project"
	"knothole/outside/repository"
	"knothole/shell/present"
)

var impactCommand = &command{
	name:      "impact",
	arguments: "[FROM[..TO]] | --base REVISION [TO] | --input NAME=VALUE… [--format]",
	short:     "show what a change does to every environment",
	long: `Compares what each environment renders to before and after a change: from a revision of git to another, or
to the files as they are; from HEAD if none is named. What changes in the same way in several environments is shown
once, with the changed lines of templates, layers and data files that make it so. It was tried that what differs goes when
these lines are as before, and that it takes each of them.

--base main compares with where main and HEAD, or TO, parted: what a branch does, whatever main does meanwhile.

With --input or --layer it shows instead what these would change in each environment. Where they violate a limit or a
require, that is reported, and the others are compared.

The files that you work on are not touched.

Ends with 0 when nothing changes, 1 when something does, 2 when one of the two cannot be rendered.`,
	example: "knothole impact main",
	define: func(flags *flag.FlagSet) func(c *call) int {
		i := &impactRun{}
		chooseFormat(flags, &i.format, present.Impacts.Names()...)
		flags.BoolVar(&i.full, "full", false, "show whole values, and each row")
		flags.StringVar(&i.base, "base", "", "from where `REVISION` parted from what is compared")
		i.given.define(flags)
		return i.run
	},
}

type impactRun struct {
	given
	format string
	base   string
	full   bool
}

func (i *impactRun) run(c *call) int {
	if len(c.arguments) > 1 {
		return c.wrongUsage("name one range of revisions, such as main or v1..v2")
	}
	if i.base != "" && (i.any() || len(c.arguments) > 0 && strings.Contains(c.arguments[0], "..")) {
		return c.wrongUsage("with --base, no range of revisions and no inputs are given")
	}
	if i.any() {
		return i.would(c)
	}
	from, to := "HEAD", ""
	switch {
	case len(c.arguments) == 1 && i.base != "":
		to = c.arguments[0]
	case len(c.arguments) == 1:
		from, to, _ = strings.Cut(c.arguments[0], "..")
		if from == "" {
			return c.wrongUsage("a range begins with a revision: FROM..TO")
		}
	}
	p, after, status := c.after(to)
	if after == nil {
		return status
	}
	if i.base != "" {
		if from, status = c.parted(p, i.base, cmp.Or(to, "HEAD")); from == "" {
			return status
		}
	}
	before, status := c.atRevision(p, from)
	if before == nil {
		return status
	}
	change := from + " → " + to
	if i.base != "" {
		change = from + ", where " + i.base + " parted → " + to
	}
	if to == "" {
		change += "the files as they are"
	}
	impact, status := c.impact(p, before, after)
	if impact == nil {
		return status
	}
	return i.show(c, p, change, impact)
}

// would tells what layers and inputs that are given would change in each environment.
func (i *impactRun) would(c *call) int {
	switch {
	case len(c.arguments) > 0:
		return c.wrongUsage("name a range of revisions, or what is to be given, not both")
	case slices.Contains(i.layers, "-") || slices.Contains(i.later, "-"):
		return c.wrongUsage("a layer for several environments is a file, not standard input")
	}
	p, status := c.open()
	if p == nil {
		return status
	}
	if p.Findings.HasErrors() {
		return c.unmade(p, p.Findings)
	}
	var names []string
	var comparisons []*compare.Comparison
	worst := exitClean
	for _, e := range p.Concrete() {
		about := i.about(p, e)
		if e.Unit.Module == nil || about == nil {
			continue
		}
		with, status := about.applyTo(c, p, p.Run(e))
		if status != exitClean {
			return status
		}
		comparison, findings, err := compare.Environments(p.Project, []*project.Run{p.Run(e), with}, compare.Options{})
		if err != nil {
			return c.interrupted(err)
		}
		if comparison == nil {
			c.presenter(p, c.err).Findings(findings)
			fmt.Fprintf(c.err, "\n%s is not compared\n", e.Name)
			worst = exitFailed
			continue
		}
		names, comparisons = append(names, e.Name), append(comparisons, comparison)
	}
	if len(comparisons) == 0 {
		return worst
	}
	return max(worst, i.show(c, p, strings.Join(slices.Concat(i.layers, i.inputs), ", "),
		compare.Together(names, comparisons)))
}

// show shows what changes.
func (i *impactRun) show(c *call, p *opened, change string, impact *compare.Impact) int {
	shown := &present.Impact{Impact: impact, Change: change,
		ComparisonOptions: present.ComparisonOptions{GroupOptions: compare.GroupOptions{Full: i.full}}}
	if err := present.Impacts.Show(c.presenter(p, c.answer(i.format)), i.format, shown); err != nil {
		return c.failed("%s", err)
	}
	if len(impact.Blocks)+len(impact.Secrets) == 0 {
		return exitClean
	}
	return exitFindings
}

// after loads the project as it is after a change: at a revision, for which no files need be there, as in a bare
// clone, or as they are.
func (c *call) after(name string) (p *opened, after *revision, status int) {
	if name == "" {
		if p, status = c.open(); p == nil {
			return nil, nil, status
		}
		return p, &revision{"", p.Project}, exitClean
	}
	folder, ok := c.projectFolder()
	if !ok {
		folder = c.folder
	}
	p = &opened{folder: folder, prefix: c.near(folder)}
	if after, status = c.atRevision(p, name); after != nil {
		p.Project = after.project
	}
	return p, after, status
}

// impact compares all environments at two revisions.
func (c *call) impact(p *opened, before, after *revision) (*compare.Impact, int) {
	var names []string
	for _, r := range []*revision{before, after} {
		for _, e := range r.project.Concrete() {
			if !slices.Contains(names, e.Name) {
				names = append(names, e.Name)
			}
		}
	}
	var comparisons []*compare.Comparison
	for _, name := range names {
		comparison, status := c.revisions(p, [2]*revision{before, after}, [2]string{name, name}, compare.Options{})
		if comparison == nil {
			return nil, status
		}
		comparisons = append(comparisons, comparison)
	}
	return compare.Together(names, comparisons), exitClean
}

// revisions compares an environment at two revisions.
func (c *call) revisions(p *opened, at [2]*revision, environments [2]string, o compare.Options) (*compare.Comparison,
	int) {
	var sides [2]compare.Revision
	for i, r := range at {
		sides[i] = compare.Revision{Name: environments[i], Project: r.project, Environment: environments[i]}
		if r.name != "" {
			sides[i].Name += "@" + r.name
		}
	}
	comparison, findings, err := compare.Revisions(sides, o, repository.InMemory)
	if err != nil {
		return nil, c.interrupted(err)
	}
	if comparison != nil {
		return comparison, exitClean
	}
	status := exitFailed
	for i, found := range findings {
		if found.HasErrors() {
			presenter := c.presenter(&opened{Project: at[i].project, prefix: p.prefix}, c.err)
			presenter.Findings(found)
			status = c.broken(sides[i].Name)
		}
	}
	return nil, status
}

// both loads the project at the revisions that two sides name.
func (c *call) both(p *opened, names [2]string) (at [2]*revision, environments [2]string, status int) {
	for i, name := range names {
		var revisionName string
		if environments[i], revisionName = splitRevision(name); revisionName == "" {
			at[i] = &revision{"", p.Project}
		} else if at[i], status = c.atRevision(p, revisionName); at[i] == nil {
			return at, environments, status
		}
		if _, ok := c.environments(&opened{Project: at[i].project}, []string{environments[i]}); !ok {
			return at, environments, exitFailed
		}
	}
	return at, environments, exitClean
}
