package command

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"knothole/core/parallel"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/outside/cache"
	"knothole/outside/folder"
	"knothole/outside/gate"
	"knothole/shell/present"
)

// target is one directory that documents of an environment go to.
type target struct {
	*encoded
	base    string
	files   []folder.File
	options folder.Options
	plan    *folder.Plan
	pruned  bool // the environment is gone
}

// base returns the directory that the environments are rendered to, and whether it is the project's own.
func (r *rendering) base(c *call, p *opened) (name string, own bool) {
	name = filepath.Join(p.folder, filepath.FromSlash(p.Out))
	if r.to == "" {
		return name, true
	}
	to := c.path(r.to)
	return to, filepath.Clean(to) == name
}

// destination is where the documents of a run go to.
type destination struct {
	to, secretTo string // the directories of documents, and of secret ones
	around       string // what the directory of the secret documents stands in
	own          bool   // they are the project's own directories
	secret       bool   // there are secret documents to write
}

// write puts the documents in place: all of them, or none when something stands against one.
func (r *rendering) write(c *call, p *opened, all []encoded, start time.Time) int {
	d := destination{}
	d.to, d.own = r.base(c, p)
	d.around = p.folder
	if !d.own {
		d.around = d.to
	}
	d.secretTo = filepath.Join(d.around, filepath.FromSlash(p.SecretOut))
	options := folder.Options{Overwrite: r.overwrite, Partial: r.only != nil}
	var left leftovers
	if d.own {
		left = c.leftovers(p)
	}
	var targets []*target
	for i := range all {
		targets = append(targets, &target{encoded: &all[i], base: d.to, files: all[i].plain, options: options})
		if r.secrets {
			options := options
			options.Secret = true
			options.Memory = cache.OpenWritten(filepath.Join(realName(d.secretTo), all[i].environment.Name))
			targets = append(targets, &target{encoded: &all[i], base: d.secretTo, files: all[i].secret, options: options})
			d.secret = d.secret || len(all[i].secret) > 0
		}
	}
	wrote := d.secret
	if r.prune {
		d.secret = d.secret || len(left.secret) > 0
		targets = append(targets, left.targets(c, p, d, options)...)
	}
	if status := r.checkDestination(c, p, d, targets); status != exitClean {
		return status
	}
	unlock, err := c.lock(d)
	if err != nil {
		return c.failed("%s: nothing was written", c.told(err))
	}
	defer unlock()
	if status := c.put(targets); status != exitClean {
		return status
	}
	if d.own {
		folder.Attributes(d.to)
	}
	if r.prune {
		left.remove(c, d, targets)
	} else if !c.quiet {
		for _, name := range left.shown(c, p) {
			fmt.Fprintf(c.err, "%s is left over from an environment that no longer exists: --prune removes it\n", name)
		}
	}
	if r.format == "json" {
		r.done = doneJSON(all, targets)
	}
	if c.quiet {
		return exitClean
	}
	r.sum(c, all, targets)
	fmt.Fprintf(c.err, "written to %s (%.2f s)\n", c.relative(d.to), time.Since(start).Seconds())
	if wrote {
		fmt.Fprintf(c.err, "secret documents written to %s\n", c.relative(d.secretTo))
	}
	return exitClean
}

// checkDestination says why nothing may be written to a destination, if that is so.
func (r *rendering) checkDestination(c *call, p *opened, d destination, targets []*target) int {
	if d.own && (r.overrides() || r.ask) {
		return c.failed("one-off values (--layer, --input) must not be written to the project's own directory, which %s is: "+
			"nothing was written", c.relative(d.to))
	}
	for _, base := range []string{d.to, d.secretTo} {
		if exists, folder, err := gate.Exists(base); err == nil && exists && !folder {
			return c.failed("%s is a file, not a directory: nothing was written", c.relative(base))
		}
	}
	if d.own {
		for _, base := range []string{d.to, d.secretTo} {
			if name := holdsSources(p, base); name != "" {
				return c.failed("%s contains sources of a project, such as %s: nothing was written\n  "+
					"set another directory for rendered files in knothole.toml", c.relative(base), c.relative(name))
			}
		}
	}
	if d.own && !gate.Within(p.folder, d.to) {
		return c.failed("%s leads out of the project: nothing was written\n  write elsewhere with --to DIR",
			c.relative(d.to))
	}
	if d.own && reservedName(p.folder, d.to) ||
		reservedName(d.around, d.secretTo) && !strings.HasPrefix(p.SecretOut, ".knothole") {
		return c.failed("%s leads into a directory of git or of the program: nothing was written", c.relative(d.to))
	}
	switch {
	case !d.secret:
		return exitClean
	case d.own && !gate.Within(p.folder, d.secretTo):
		return c.failed("%s leads out of the project: nothing was written", c.relative(d.secretTo))
	case gate.Same(d.to, d.secretTo):
		return c.failed("%s and %s are one directory: nothing was written\n"+
			"  secret documents need a directory of their own", c.relative(d.to), c.relative(d.secretTo))
	}
	return c.checkIgnored(d.around, d.secretTo, p.SecretOut, targets)
}

// mostLooked is the maximum number of files that are checked for being sources.
const mostLooked = 10_000

// holdsSources returns a source of a project in a directory for rendered files, or an empty string. It skips the
// directories of environments, which have records of their files.
func holdsSources(p *opened, base string) (found string) {
	looked := 0
	_ = gate.Walk(base, func(name string, entry fs.DirEntry, err error) error {
		if looked++; err != nil || looked > mostLooked {
			return fs.SkipAll
		}
		if entry.IsDir() && filepath.Dir(name) == base && p.Environment(entry.Name()) != nil {
			return fs.SkipDir
		}
		if !entry.IsDir() && (filepath.Ext(name) == ".knot" || entry.Name() == project.FileName) {
			found = name
			return fs.SkipAll
		}
		return nil
	})
	return found
}

// lock keeps other runs away from a destination until unlock is called.
func (c *call) lock(d destination) (unlock func(), err error) {
	one := func(name string, mode fs.FileMode) (func(), error) {
		return gate.Lock(name, mode,
			func() { fmt.Fprintf(c.err, "waiting for another run that writes to %s\n", c.relative(name)) })
	}
	plain, err := one(d.to, 0o755)
	if err != nil || !d.secret {
		return plain, err
	}
	secret, err := one(d.secretTo, 0o700)
	if err != nil {
		plain()
		return nil, err
	}
	return func() { secret(); plain() }, nil
}

// put prepares, stages and commits: what fails before the last leaves everything as it was.
func (c *call) put(targets []*target) int {
	// Each environment has a directory of its own, so that they do not stand in each other's way.
	each := func(do func(t *target) error) []error {
		errs := make([]error, len(targets))
		var group parallel.Group
		group.SetLimit(4 * runtime.GOMAXPROCS(0))
		for i, t := range targets {
			group.Go(func() error {
				errs[i] = do(t)
				return nil
			})
		}
		_ = group.Wait() // the errors are kept in the order of the environments
		return errs
	}
	count := 0
	for _, t := range targets {
		count += len(t.files)
	}
	bar := c.progress("comparing with what is there", count)
	errs := each(func(t *target) (err error) {
		t.options.Done = func() { bar.add() }
		t.plan, err = folder.Prepare(t.base, t.environment.Name, t.files, t.options)
		return err
	})
	bar.stop()
	var refusals []*folder.Refusal
	for _, err := range errs {
		var refusal *folder.Refusal
		switch {
		case errors.As(err, &refusal):
			refusals = append(refusals, refusal)
		case err != nil:
			return c.failed("%s: nothing was written", c.told(err))
		}
	}
	if refusals != nil {
		return c.refuse(refusals)
	}
	count = 0
	for _, t := range targets {
		count += t.plan.Steps()
	}
	bar = c.progress("writing", count)
	errs = each(func(t *target) error { return t.plan.Stage() })
	for _, err := range errs {
		if err != nil {
			bar.stop()
			for _, t := range targets {
				t.plan.Cancel()
			}
			return c.failed("%s: nothing was written", c.told(err))
		}
	}
	errs = each(func(t *target) error { return t.plan.Commit() })
	bar.stop()
	for _, err := range errs {
		if err != nil {
			return c.failed("%s", c.told(err))
		}
	}
	return exitClean
}

// refuse says which files stand in the way.
func (c *call) refuse(refusals []*folder.Refusal) int {
	say := func(refusal *folder.Refusal, name, what string) {
		fmt.Fprintf(c.err, "%s: error: %s [%s]\n", c.relative(filepath.Join(refusal.Folder, name)), what,
			source.ForeignFile)
	}
	help := "move what is there"
	for _, refusal := range refusals {
		for _, name := range refusal.Changed {
			say(refusal, name, "was not written by knothole, or was edited afterwards")
			help = "move these files, or replace them with --overwrite"
		}
	}
	for _, refusal := range refusals {
		for _, b := range refusal.Blocked {
			say(refusal, b.Path, b.By)
		}
	}
	fmt.Fprintln(c.err, "nothing was written: "+help)
	return exitFindings
}

// told returns what an error says, with the place named as seen from the working directory.
func (c *call) told(err error) string {
	var failure *gate.Failure
	if errors.As(err, &failure) {
		return c.relative(failure.Path) + ": " + failure.Err.Error()
	}
	return err.Error()
}

// notWritten is the state of a secret document that nobody asked for.
const notWritten = "not written"

// states are what can have become of a document, in the order in which they are shown.
var states = []string{"written", "unchanged", "removed", notWritten}

// manyEnvironments is of how many each is told for itself.
const manyEnvironments = 12

// fewChanges is how many files are named that were written or removed; more are counted by their kinds.
const fewChanges = 8

// sum prints what was done in each environment, and which documents were written or removed: by name when they are few,
// else by kind.
func (r *rendering) sum(c *call, all []encoded, targets []*target) {
	kinds := map[string]map[string]int{}
	changed := map[string][]string{}
	var texts []string
	same := map[string][]string{} // the environments of which it is told, by text
	total := map[string]int{}
	for i := range all {
		counts := map[string]int{}
		add := func(state string, names []string) {
			counts[state] += len(names)
			for _, name := range names {
				changed[state] = append(changed[state], path.Join(all[i].environment.Name, name))
				of := all[i].kinds[name]
				if of == nil {
					of = []string{cmp.Or(strings.TrimPrefix(path.Ext(name), "."),
						"file")} // one that is no longer rendered
				}
				for _, kind := range of {
					if kinds[state] == nil {
						kinds[state] = map[string]int{}
					}
					kinds[state][kind]++
				}
			}
		}
		for _, t := range targets {
			if t.encoded == &all[i] {
				s := t.plan.Summary()
				add("written", s.Written)
				add("unchanged", s.Unchanged)
				add("removed", s.Removed)
			}
		}
		var withheld []string
		for _, d := range all[i].withheld {
			withheld = append(withheld, d.Path)
		}
		add(notWritten, withheld)
		for state, n := range counts {
			total[state] += n
		}
		text := countsText(counts)
		if len(all) <= manyEnvironments {
			fmt.Fprintf(c.err, "%-12s %s\n", all[i].environment.Name, text)
			continue
		}
		if same[text] == nil {
			texts = append(texts, text)
		}
		same[text] = append(same[text], all[i].environment.Name)
	}
	for _, text := range texts {
		if names := same[text]; len(names) > 1 {
			fmt.Fprintf(c.err, "%d environments, each %s: %s\n", len(names), text, present.Names(names))
		} else {
			fmt.Fprintf(c.err, "%-12s %s\n", names[0], text)
		}
	}
	if len(all) > 1 {
		fmt.Fprintf(c.err, "%-12s %s\n", "total", countsText(total))
	}
	for _, state := range states {
		why := ""
		if state == notWritten {
			why = " (contains secrets)"
		}
		switch {
		case len(changed[state]) == 0 || state == "unchanged":
		case len(changed[state]) <= fewChanges:
			for _, name := range changed[state] {
				fmt.Fprintf(c.err, "%-12s %s%s\n", state, present.Clean(name), why)
			}
		default:
			fmt.Fprintf(c.err, "%-12s %s%s\n", state, kindsText(kinds[state]), why)
		}
	}
}

func countsText(counts map[string]int) string {
	var parts []string
	for _, state := range states {
		if n := counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	if parts == nil {
		return "no documents"
	}
	return source.Count(counts["written"]+counts["unchanged"]+counts[notWritten],
		"document") + ": " + strings.Join(parts, ", ")
}

// kindsText lists kinds with their numbers, most first.
func kindsText(kinds map[string]int) string {
	var names []string
	for kind := range kinds {
		names = append(names, kind)
	}
	slices.SortFunc(names, func(a, b string) int {
		if kinds[a] != kinds[b] {
			return kinds[b] - kinds[a]
		}
		return strings.Compare(a, b)
	})
	var parts []string
	for _, kind := range names {
		parts = append(parts, fmt.Sprintf("%d %s", kinds[kind], present.Clean(kind)))
	}
	return strings.Join(parts, ", ")
}

// relative shows a path as seen from the working directory, when that is shorter.
func (c *call) relative(name string) string { return present.Clean(c.near(name)) }

// near returns a path as seen from the working directory, when that is shorter.
func (c *call) near(name string) string {
	if short, err := filepath.Rel(c.folder, name); err == nil && len(short) < len(name) {
		name = short
	}
	return filepath.ToSlash(name)
}
