package command

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/outside/folder"
	"knothole/shell/present"
)

var renderCommand = &command{
	name: "render", arguments: "[ENV…] [--to DIR | --stdout] [--only GLOB]",
	short: "plain files for each environment",
	long: `Renders the documents of all environments, or of those that are named, to rendered/ENV/…, or with --to DIR to
DIR/ENV/…. When anything is wrong in one of them, nothing is written. A file that is already as it should be is left
alone. Files that knothole did not write, or that were changed since, are neither replaced nor removed without
--overwrite; the file .knothole-record in each folder says what it wrote.

--stdout prints instead. --only takes a pattern of paths: * stands for part of a name, ** for any folders.`,
	example: "knothole render north --stdout --only 'k8s/bay-map.yaml'",
	define: func(flags *flag.FlagSet) func(c *call) int {
		r := &rendering{}
		flags.StringVar(&r.to, "to", "", "write to `DIR`/ENV instead of the folder that the project names")
		flags.BoolVar(&r.stdout, "stdout", false, "print instead of writing files")
		flags.StringVar(&r.only, "only", "", "only documents whose path matches the pattern `GLOB`")
		flags.BoolVar(&r.overwrite, "overwrite", false, "also replace and remove files that others made or changed")
		return r.run
	},
}

type rendering struct {
	to, only          string
	stdout, overwrite bool
}

// encoded is the documents of one environment, ready to be written.
type encoded struct {
	environment *project.Environment
	files       []folder.File
}

func (r *rendering) run(c *call) int {
	start := time.Now()
	if r.stdout && (r.to != "" || r.overwrite) {
		return c.wrongUsage("--stdout prints, so --to and --overwrite have no meaning")
	}
	p, environments, status := c.openSelected()
	if p == nil {
		return status
	}
	if len(environments) == 0 && !p.Findings.HasErrors() {
		return c.failed("%s has no environments\n  add one: [environments.bench]", project.FileName)
	}
	options := render.Options{}
	if r.only != "" {
		options.Only = func(name string) bool { return place.Match(r.only, name) }
	}
	results, findings := render.All(p.Project, environments, options)
	if len(findings) > 0 {
		c.presenter(p, c.err).Findings(findings)
		fmt.Fprintln(c.err)
	}
	if findings.HasErrors() {
		fmt.Fprintf(c.err, "%s: nothing was written\n", present.Summary(findings, len(environments), "environment"))
		return exitFindings
	}
	all, err := encode(results)
	if err != nil {
		return c.failed("%s", err)
	}
	count := 0
	for _, e := range all {
		count += len(e.files)
	}
	if count == 0 && r.only != "" {
		return c.failed("no document matches %q%s", r.only, nearestDocument(p, environments, r.only))
	}
	if r.stdout {
		r.print(c, all, count)
		return exitClean
	}
	status = r.write(c, p, all, start)
	if status == exitClean && !c.quiet {
		printRemarks(c, results)
	}
	return status
}

// printRemarks prints what the templates have to say to the person, equal remarks of several environments once.
func printRemarks(c *call, results []*render.Result) {
	var texts []string
	environments := map[string][]string{}
	for _, result := range results {
		for _, text := range result.Remarks {
			if environments[text] == nil {
				texts = append(texts, text)
			}
			environments[text] = append(environments[text], result.Environment.Name)
		}
	}
	for _, text := range texts {
		fmt.Fprintf(c.err, "remark (%s): %s\n", strings.Join(environments[text], ", "), present.Clean(text))
	}
}

// nearestDocument suggests a document for a pattern that matches none.
func nearestDocument(p *opened, environments []*project.Environment, only string) string {
	var names []string
	results, _ := render.All(p.Project, environments, render.Options{})
	for _, result := range results {
		for _, d := range result.Documents {
			names = append(names, d.Path)
		}
	}
	if near, ok := source.Nearest(only, names); ok {
		return fmt.Sprintf("\n  did you mean %q?", near)
	}
	return ""
}

// encode writes all documents in their formats, those of several environments at the same time.
func encode(results []*render.Result) ([]encoded, error) {
	all := make([]encoded, len(results))
	var group errgroup.Group
	for i, result := range results {
		group.Go(func() error {
			all[i] = encoded{environment: result.Environment, files: make([]folder.File, len(result.Documents))}
			for j, d := range result.Documents {
				text, err := d.Text()
				if err != nil {
					return fmt.Errorf("%s: %w", d.Path, err)
				}
				all[i].files[j] = folder.File{Path: d.Path, Data: text}
			}
			return nil
		})
	}
	return all, group.Wait()
}

// print prints documents. One alone is printed as it is, several each behind a line with its path.
func (r *rendering) print(c *call, all []encoded, count int) {
	first := true
	for _, e := range all {
		for _, f := range e.files {
			if count > 1 {
				if !first {
					fmt.Fprintln(c.out)
				}
				fmt.Fprintf(c.out, "# %s\n", path.Join(e.environment.Name, f.Path))
				first = false
			}
			_, _ = c.out.Write(f.Data)
		}
	}
}

func (r *rendering) write(c *call, p *opened, all []encoded, start time.Time) int {
	to := filepath.Join(p.folder, filepath.FromSlash(p.Out))
	if r.to != "" {
		to = r.to
		if !filepath.IsAbs(to) {
			to = filepath.Join(c.folder, to)
		}
	}
	if info, err := os.Stat(to); err == nil && !info.IsDir() {
		return c.failed("%s is a file, not a folder: nothing was written", to)
	}
	options := folder.Options{Overwrite: r.overwrite, Partial: r.only != ""}
	plans := make([]*folder.Plan, len(all))
	var refusals []*folder.Refusal
	for i, e := range all {
		plan, err := folder.Prepare(filepath.Join(to, e.environment.Name), e.files, options)
		var refusal *folder.Refusal
		switch {
		case errors.As(err, &refusal):
			refusals = append(refusals, refusal)
		case err != nil:
			return c.failed("%s: nothing was written", err)
		}
		plans[i] = plan
	}
	if refusals != nil {
		for _, refusal := range refusals {
			for _, name := range refusal.Paths {
				fmt.Fprintf(c.err, "%s: error: not written by knothole, or changed since [%s]\n", c.relative(filepath.Join(refusal.Folder, name)), source.ForeignFile)
			}
		}
		fmt.Fprintln(c.err, "nothing was written: move these files, or replace them with --overwrite")
		return exitFindings
	}
	var total folder.Summary
	for i, plan := range plans {
		summary, err := plan.Apply()
		if err != nil {
			return c.failed("%s", err)
		}
		total.Written += summary.Written
		total.Unchanged += summary.Unchanged
		total.Removed += summary.Removed
		if !c.quiet {
			fmt.Fprintf(c.err, "%-12s %s\n", all[i].environment.Name, summaryText(summary))
		}
	}
	if !c.quiet && len(plans) > 1 {
		fmt.Fprintf(c.err, "%-12s %s\n", "together", summaryText(total))
	}
	if !c.quiet {
		fmt.Fprintf(c.err, "in %s (%.2f s)\n", c.relative(to), time.Since(start).Seconds())
	}
	return exitClean
}

func summaryText(s folder.Summary) string {
	var parts []string
	for _, part := range []struct {
		n    int
		text string
	}{{s.Written, "written"}, {s.Unchanged, "unchanged"}, {s.Removed, "removed"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", part.n, part.text))
		}
	}
	if parts == nil {
		return "no documents"
	}
	return present.Count(s.Written+s.Unchanged, "document") + ": " + strings.Join(parts, ", ")
}

// relative shows a path as seen from the working folder, when that is shorter.
func (c *call) relative(name string) string {
	if short, err := filepath.Rel(c.folder, name); err == nil && len(short) < len(name) {
		return filepath.ToSlash(short)
	}
	return filepath.ToSlash(name)
}
