package command

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"knothole/core/parallel"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/outside/cache"
	"knothole/outside/folder"
	"knothole/outside/gate"
	"knothole/shell/present"
)

// target is one directory that documents of an environment go to.
type target struct {
	environment string
	base        string
	files       []folder.File
	options     folder.Options
	plan        *folder.Plan
	err         error // of preparing or staging it
	pruned      bool  // the environment is gone
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
	around       string // what the directory of the secret documents is in
	own          bool   // they are the project's own directories
}

func (r *rendering) destination(c *call, p *opened) (d destination) {
	d.to, d.own = r.base(c, p)
	if d.around = p.folder; !d.own {
		d.around = d.to
	}
	d.secretTo = filepath.Join(d.around, filepath.FromSlash(p.SecretOut))
	return d
}

// staging writes the documents of environments. Those of each are staged as soon as they are rendered, beside their
// final names, and let go. All are put in place together at the end, or none.
type staging struct {
	*destination
	r       *rendering
	c       *call
	p       *opened
	options folder.Options
	made    *texts
	failed  atomic.Bool // something is wrong, so that nothing more is staged

	mu     sync.Mutex
	begun  bool
	unlock func()
	refuse *refusal // why nothing may be written there
	of     map[*render.Result]*encoded
	all    []*encoded // in the order of the environments
}

func (r *rendering) staging(c *call, p *opened) *staging {
	d := r.destination(c, p)
	return &staging{destination: &d, r: r, c: c, p: p, made: &texts{}, unlock: func() {},
		options: folder.Options{Disk: c.disk, Overwrite: r.overwrite, Partial: r.only != nil},
		of:      map[*render.Result]*encoded{}}
}

// stage encodes and stages what an environment renders to. It may be called from any goroutine.
func (s *staging) stage(result *render.Result) {
	if s.failed.Load() || s.p.Findings.HasErrors() || result.Findings.HasErrors() || result.Violations.HasErrors() {
		s.failed.Store(true)
		return
	}
	var known *cache.Texts
	if !s.r.prints() {
		known = cache.Open(s.c.disk, filepath.Join(s.to, result.Run.Name), s.r.only != nil)
	}
	e := s.r.encode(result, known, s.made)
	if !s.r.prints() && e.err == nil && s.begin() {
		e.target = &target{environment: result.Run.Name, base: s.to, files: e.plain, options: s.options}
		if e.target.stage(); e.target.err == nil {
			e.done.add(result.Run.Name, e.target.plan.Summary(), e.kinds)
		}
		e.forget()
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.of[result] = e
}

// forget lets go of what is not needed once the documents of an environment are staged.
func (e *encoded) forget() {
	kinds := map[string][]string{}
	for _, f := range e.secret {
		kinds[f.Path] = e.kinds[f.Path]
	}
	for _, name := range e.withheld {
		kinds[name] = e.kinds[name]
	}
	e.kinds, e.plain, e.target.files = kinds, nil, nil
	e.known.Pack()
}

// take keeps what was staged, in the order of the environments.
func (s *staging) take(result *render.Result) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if e := s.of[result]; e != nil {
		s.all = append(s.all, e)
		delete(s.of, result)
	}
}

// stage finds out what is to be done in the directory, and stages it.
func (t *target) stage() {
	if t.plan, t.err = folder.Prepare(t.base, t.environment, t.files, t.options); t.err == nil {
		t.err = t.plan.Stage()
	}
}

// begin checks the destination and keeps other runs away from it, once. It reports whether anything may be written.
func (s *staging) begin() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.begun {
		s.begun = true
		if s.refuse = s.r.checkDestination(s.c, s.p, s.destination); s.refuse == nil {
			unlock, err := s.c.lock(s.to, 0o755)
			if err != nil {
				s.refuse = &refusal{message: s.c.told(err) + ": nothing was written"}
			} else {
				s.unlock = unlock
				s.c.writing.Store(true) // not before: a run that waits for another one can be stopped at once
			}
		}
	}
	return s.refuse == nil
}

// cancel takes away all that was staged.
func (s *staging) cancel() {
	for _, e := range slices.AppendSeq(s.all, maps.Values(s.of)) { // also what nobody took any more
		if e.target != nil && e.target.plan != nil {
			e.target.plan.Cancel()
		}
	}
	s.unlock()
	s.unlock = func() {}
}

// refusal says why nothing is written, and what to do about it.
type refusal struct{ message, help string }

// refused says why nothing is written.
func (c *call) refused(r *refusal) int {
	if r.help == "" {
		return c.failed("%s", r.message)
	}
	return c.failed("%s\n  %s", r.message, r.help)
}

// commit puts the documents in place: all of them, or none when something stands against one.
func (s *staging) commit(start time.Time) int {
	c, p, r := s.c, s.p, s.r
	for _, e := range s.all {
		if e.err != nil {
			return c.failed("%s", e.err)
		}
	}
	if !s.begin() { // which checks the destination when there is no environment, too
		return c.refused(s.refuse)
	}
	var left leftovers
	if s.own {
		left = c.leftovers(p)
	}
	var targets []*target
	wrote := false
	for _, e := range s.all {
		targets = append(targets, e.target)
		if r.secrets {
			options := s.options
			options.Secret = true
			options.Memory = cache.OpenWritten(c.disk, filepath.Join(realName(s.secretTo), e.environment.Name))
			e.secretTarget = &target{environment: e.environment.Name, base: s.secretTo, files: e.secret, options: options}
			targets = append(targets, e.secretTarget)
			wrote = wrote || len(e.secret) > 0
		}
	}
	secret := wrote
	if r.prune {
		secret = secret || len(left.secret) > 0
		targets = append(targets, left.targets(c, p, s.destination, s.options)...)
	}
	if secret {
		if refuse := s.checkSecret(targets); refuse != nil {
			return c.refused(refuse)
		}
		unlock, err := c.lock(s.secretTo, 0o700)
		if err != nil {
			return c.failed("%s: nothing was written", c.told(err))
		}
		defer unlock()
	}
	if status := c.put(targets); status != exitClean {
		return status
	}
	defer func() { s.all = nil }() // of which nothing is to be taken away
	for _, e := range s.all {
		e.known.Save()
	}
	if s.own {
		folder.Attributes(c.disk, s.to)
	}
	if r.prune {
		left.remove(c, targets)
	} else if !c.quiet {
		for _, name := range left.shown(c, p) {
			fmt.Fprintf(c.err, "%s is left over from an environment that no longer exists: --prune removes it\n", name)
		}
	}
	if r.format == "json" {
		r.done = doneJSON(s.all, targets)
	}
	if c.quiet {
		return exitClean
	}
	s.sum()
	fmt.Fprintf(c.err, "written to %s (%.2f s)\n", c.relative(s.to), time.Since(start).Seconds())
	if wrote {
		fmt.Fprintf(c.err, "secret documents written to %s\n", c.relative(s.secretTo))
	}
	return exitClean
}

// checkDestination says why nothing may be written to a destination, if that is so.
func (r *rendering) checkDestination(c *call, p *opened, d *destination) *refusal {
	refuse := func(help, format string, arguments ...any) *refusal {
		return &refusal{fmt.Sprintf(format, arguments...) + ": nothing was written", help}
	}
	if d.own && (r.overrides() || r.ask) {
		return refuse("", "one-off values (--layer, --input) must not be written to the project's own directory, which "+
			"%s is", c.relative(d.to))
	}
	for _, base := range []string{d.to, d.secretTo} {
		if exists, folder, err := gate.Exists(base); err == nil && exists && !folder {
			return refuse("", "%s is a file, not a directory", c.relative(base))
		}
	}
	if d.own {
		for _, base := range []string{d.to, d.secretTo} {
			if name := holdsSources(p, base); name != "" {
				return refuse("set another directory for rendered files in knothole.toml",
					"%s contains sources of a project, such as %s", c.relative(base), c.relative(name))
			}
		}
	}
	if d.own && !gate.Within(p.folder, d.to) {
		return refuse("write elsewhere with --to DIR", "%s leads out of the project", c.relative(d.to))
	}
	if d.own && reservedName(p.folder, d.to) ||
		reservedName(d.around, d.secretTo) && !strings.HasPrefix(p.SecretOut, ".knothole") {
		return refuse("", "%s leads into a directory of git or of the program", c.relative(d.to))
	}
	return nil
}

// checkSecret says why no secret documents may be written to a destination, if that is so.
func (s *staging) checkSecret(targets []*target) *refusal {
	switch {
	case s.own && !gate.Within(s.p.folder, s.secretTo):
		return &refusal{message: s.c.relative(s.secretTo) + " leads out of the project: nothing was written"}
	case gate.Same(s.to, s.secretTo):
		return &refusal{fmt.Sprintf("%s and %s are one directory: nothing was written", s.c.relative(s.to),
			s.c.relative(s.secretTo)), "secret documents need a directory of their own"}
	}
	return s.c.checkIgnored(s.around, s.secretTo, s.p.SecretOut, targets)
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

// lock keeps other runs away from a directory until unlock is called.
func (c *call) lock(name string, mode fs.FileMode) (unlock func(), err error) {
	return gate.Lock(name, mode,
		func() { fmt.Fprintf(c.err, "waiting for another run that writes to %s\n", c.relative(name)) })
}

// put stages what is not staged yet, and commits: what fails before that leaves everything as it was.
func (c *call) put(targets []*target) int {
	// Each environment has a directory of its own, so they do not interfere with each other.
	each := func(do func(t *target)) {
		var group parallel.Group
		group.SetLimit(4 * runtime.GOMAXPROCS(0))
		for _, t := range targets {
			group.Go(func() error {
				do(t)
				return nil
			})
		}
		_ = group.Wait() // the errors are kept in the targets
	}
	each(func(t *target) {
		if t.plan == nil && t.err == nil {
			t.stage()
		}
	})
	cancel := func() {
		for _, t := range targets {
			if t.plan != nil {
				t.plan.Cancel()
			}
		}
	}
	var refusals []*folder.Refusal
	for _, t := range targets {
		var refusal *folder.Refusal
		switch {
		case errors.As(t.err, &refusal):
			refusals = append(refusals, refusal)
		case t.err != nil:
			cancel()
			return c.failed("%s: nothing was written", c.told(t.err))
		}
	}
	if refusals != nil {
		cancel()
		return c.refuse(refusals)
	}
	each(func(t *target) { t.err = t.plan.Sync() })
	for _, t := range targets {
		if t.err != nil {
			cancel()
			return c.failed("%s: nothing was written", c.told(t.err))
		}
	}
	count := 0
	for _, t := range targets {
		count += t.plan.Steps()
	}
	bar := c.progress("writing", count)
	each(func(t *target) { t.err = t.plan.Commit(bar.add) })
	bar.stop()
	for _, t := range targets {
		if t.err != nil {
			return c.failed("%s", c.told(t.err))
		}
	}
	return exitClean
}

// refuse says which files are in the way.
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

// tally counts what became of documents.
type tally struct {
	counts map[string]int            // by state
	kinds  map[string]map[string]int // of those that changed, by state
	names  map[string][]string       // of those that changed, by state: no more than are shown, and one
}

// add counts the documents of an environment that a plan is about. The kinds are those of documents by path.
func (t *tally) add(environment string, done folder.Summary, kinds map[string][]string) {
	t.count("written", environment, done.Written, kinds)
	t.count("unchanged", environment, done.Unchanged, kinds)
	t.count("removed", environment, done.Removed, kinds)
}

func (t *tally) count(state, environment string, names []string, kinds map[string][]string) {
	if t.counts == nil {
		t.counts, t.kinds, t.names = map[string]int{}, map[string]map[string]int{}, map[string][]string{}
	}
	if len(names) == 0 {
		return
	}
	if t.counts[state] += len(names); state == "unchanged" {
		return
	}
	if t.kinds[state] == nil {
		t.kinds[state] = map[string]int{}
	}
	for _, name := range names {
		if len(t.names[state]) <= fewChanges {
			t.names[state] = append(t.names[state], path.Join(environment, name))
		}
		of := kinds[name]
		if of == nil {
			of = []string{cmp.Or(strings.TrimPrefix(path.Ext(name), "."), "file")} // one that is no longer rendered
		}
		for _, kind := range of {
			t.kinds[state][kind]++
		}
	}
}

// join adds what another tally has counted.
func (t *tally) join(other *tally) {
	for state, n := range other.counts {
		t.counts[state] += n
		t.names[state] = append(t.names[state], other.names[state]...)
		for kind, n := range other.kinds[state] {
			if t.kinds[state] == nil {
				t.kinds[state] = map[string]int{}
			}
			t.kinds[state][kind] += n
		}
	}
}

// sum prints what was done in each environment, and which documents were written or removed: by name when they are few,
// else by kind.
func (s *staging) sum() {
	c := s.c
	total := &tally{}
	total.count("", "", nil, nil)
	var texts []string
	same := map[string][]string{} // the environments with the same counts, by text
	for _, e := range s.all {
		if e.secretTarget != nil {
			e.done.add(e.environment.Name, e.secretTarget.plan.Summary(), e.kinds)
		}
		e.done.count(notWritten, e.environment.Name, e.withheld, e.kinds)
		total.join(&e.done)
		text := countsText(e.done.counts)
		if len(s.all) <= manyEnvironments {
			fmt.Fprintf(c.err, "%-12s %s\n", e.environment.Name, text)
			continue
		}
		if same[text] == nil {
			texts = append(texts, text)
		}
		same[text] = append(same[text], e.environment.Name)
	}
	for _, text := range texts {
		if names := same[text]; len(names) > 1 {
			fmt.Fprintf(c.err, "%d environments, each %s: %s\n", len(names), text, present.Names(names))
		} else {
			fmt.Fprintf(c.err, "%-12s %s\n", names[0], text)
		}
	}
	if len(s.all) > 1 {
		fmt.Fprintf(c.err, "%-12s %s\n", "total", countsText(total.counts))
	}
	for _, state := range states {
		why := ""
		if state == notWritten {
			why = " (contains secrets)"
		}
		switch {
		case state == "unchanged" || total.counts[state] == 0:
		case total.counts[state] <= fewChanges:
			for _, name := range total.names[state] {
				fmt.Fprintf(c.err, "%-12s %s%s\n", state, present.Clean(name), why)
			}
		default:
			fmt.Fprintf(c.err, "%-12s %s%s\n", state, kindsText(total.kinds[state]), why)
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
