package command

import (
	"errors"
	"flag"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/verify"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var reportCommand = &command{
	name: "report", arguments: "[ENV…] [--to FILE] [--only GLOB]",
	short: "write one page of HTML: environments, what differs and why, findings, inputs",
	long: `Writes one page of HTML for people who have not the project at hand: how the environments extend each other,
which documents are the same where, each difference with its cause, everything that check reports, and all
inputs with their values. It holds all environments, unless some are named.

The page needs nothing but itself and fetches nothing. In a browser it is filtered by words (-word leaves out), by
what makes places different, and by environment. Secrets are not read, and not in it.

An environment with errors is not compared; the page shows which, and what is wrong.

Ends with 0 when the page is made, whatever it shows, 2 when it is not, or an environment cannot be rendered.`,
	example: "knothole report --to report.html",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		r := &reporting{}
		flags.StringVar(&r.to, "to", "", "write the page to `FILE`, and not to standard output")
		r.only.defineOnly(flags)
		r.today.define(flags)
		return r.run
	},
}

type reporting struct {
	to    string
	only  patterns
	today today
}

func (r *reporting) run(c *call) int {
	p, runs, status := c.openSelected()
	if p == nil {
		return status
	}
	if r.to == "" && c.terminal {
		return c.wrongUsage("a page is for a browser: write it to a file with --to FILE, or into a pipe")
	}
	page := &present.Page{Environments: p.Environments, Footer: "Made by knothole " + Version}
	page.Title = fmt.Sprintf("%s: %s", p.Name, source.Count(len(runs), "environment"))
	if len(runs) == 1 {
		page.Title = fmt.Sprintf("%s: %s", p.Name, runs[0].Name)
	}
	outcome, err := verify.Project(p.Project, runs, verify.Options{
		Options: render.Options{Everything: true, Validate: true}, Rules: true, Builtins: builtin.Table,
		Today: r.today.time(), Parity: len(runs) == len(p.Concrete())}, nil)
	if err != nil {
		return c.interrupted(err)
	}
	findings := outcome.Findings()
	page.Rules, page.Findings, page.Unchecked = outcome.Rules, findings, outcome.Unchecked
	var broken bool
	page.Comparison, page.NotCompared, broken, err = r.compare(p, runs)
	if err != nil {
		return c.interrupted(err)
	}
	columns := runs
	if page.Comparison != nil { // the columns of the page are those that are compared
		columns = nil
		for _, name := range page.Comparison.Sides {
			columns = append(columns, p.RunNamed(name))
		}
	}
	if len(columns) > 0 { // the page has the inputs of one main module
		if m := columns[0].Unit.Module; m != nil {
			page.Inputs = collectInputs(p.Project, m, columns, openedEntries)
		}
	}
	if status := c.writePage(c.presenter(p, nil), page, r.to); status != exitClean {
		return status
	}
	if !c.quiet {
		fmt.Fprintln(c.err, present.Summary(findings, len(runs), "environment"))
	}
	if broken {
		return exitFailed
	}
	return exitClean
}

// compare compares those environments that can be rendered; it says which cannot, and whether that is for errors.
func (r *reporting) compare(p *opened, runs []*project.Run) (found *compare.Comparison, left []string,
	broken bool, err error) {
	runs = slices.DeleteFunc(slices.Clone(runs), func(r *project.Run) bool {
		other := r.Unit != runs[0].Unit
		if other {
			left = append(left, fmt.Sprintf("%s is not compared: it has another main module", r.Name))
		}
		return other
	})
	for len(runs) > 0 {
		comparison, findings, err := compare.Environments(p.Project, runs, compare.Options{Only: r.only.filter()})
		if err != nil || comparison != nil {
			return comparison, left, broken, err
		}
		broken = true
		has := func(r *project.Run) bool {
			return slices.ContainsFunc(findings, func(f source.Finding) bool {
				here := len(f.Environments) == 0 || slices.Contains(f.Environments, r.Name)
				return f.Severity == source.Error && here
			})
		}
		whole := len(runs)
		runs = slices.DeleteFunc(slices.Clone(runs), func(r *project.Run) bool {
			if has(r) {
				left = append(left, fmt.Sprintf("%s is not compared: it has errors, which are under Findings", r.Name))
			}
			return has(r)
		})
		if len(runs) == whole {
			break
		}
	}
	return nil, append(left, "No environment can be rendered."), true, nil
}

// writePage writes a page to a file, as a whole, or to standard output.
func (c *call) writePage(presenter *present.Presenter, page *present.Page, to string) int {
	var text strings.Builder
	presenter.Out = &text
	if err := presenter.Page(page, present.ComparisonOptions{}); err != nil {
		return c.failed("%s", err)
	}
	if to == "" {
		if _, err := fmt.Fprint(c.data, text.String()); err != nil {
			return c.failed("%s", plainError(err))
		}
		return exitClean
	}
	if err := c.putPage(c.path(to), []byte(text.String())); err != nil {
		return c.failed("%s cannot be written: %s", to, plainError(err))
	}
	return exitClean
}

// putPage writes a page to a file, whole or not at all, and makes the directories on the way. Over a file that is
// something else it is not written.
func (c *call) putPage(to string, text []byte) error {
	if folder, ok := c.projectFolder(); ok && !gate.Within(folder, to) {
		if relative, err := filepath.Rel(folder, to); err == nil && filepath.IsLocal(relative) {
			return errors.New("a link leads out of the project, and is not followed")
		}
	}
	unlock, err := gate.Lock(filepath.Dir(to), 0o755, nil) // two runs may write at one time
	if err != nil {
		return err
	}
	defer unlock()
	root, err := c.disk.OpenRoot(filepath.Dir(to))
	if err != nil {
		return err
	}
	defer root.Close()
	name := filepath.Base(to)
	if _, isFolder, err := gate.Exists(to); err == nil && isFolder {
		return errors.New("it is a directory")
	}
	before, err := root.ReadFile(name)
	if err != nil || len(before) == 0 {
		return root.Create(name, text, 0o644)
	}
	if !present.IsPage(before) {
		return errors.New("there is a file already, and it was not made by this command")
	}
	return root.Replace(name, before, text)
}
