package command

import (
	"flag"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"knothole/core/builtin"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/core/verify"
	"knothole/outside/cache"
	"knothole/outside/folder"
	"knothole/shell/present"
)

var renderCommand = &command{
	name: "render", arguments: "[ENV…] [--to DIR | --stdout | --stream | --annotate] [--only GLOB] [--secrets]",
	short: "write plain files for each environment",
	long: `Renders the documents of all environments, or of those that are named, to rendered/ENV/…, or with --to DIR
to DIR/ENV/…. When anything is wrong in one of them, nothing is written. A file that is already as it should be is
left alone. --prune also removes what is left of environments that are gone. Files that knothole did not write, or
that were changed since, are neither replaced nor removed without --overwrite; the file .knothole-record in each directory
says what it wrote. A run that is stopped is finished or undone by the next, and two runs wait for each other.

Secret documents are not written by default. With --secrets the secrets are read from where the project file says they are, and the
secret documents written to the directory that the project names as secret_out, readable by their owner only; with --to
DIR, to that directory in DIR.

--stdout prints instead, --stream prints all YAML documents as one stream, in dependency order, and --annotate puts
beside each line where it comes from. --only takes a pattern of paths: * matches part of a name, ** any directories.

--layer and --input give values for this run only, --ask asks for those that are missing, --later fills in what is
known only after deployment, and --final refuses unresolved values. --watch renders again whenever a file of the
project changes.`,
	example: "knothole render north --stdout --only 'k8s/bay-map.yaml'",
	rules:   true,
	define: func(flags *flag.FlagSet) func(c *call) int {
		r := &rendering{}
		flags.StringVar(&r.to, "to", "", "write to `DIR`/ENV instead of the directory that the project names")
		flags.BoolVar(&r.stdout, "stdout", false, "print instead of writing files")
		flags.BoolVar(&r.stream, "stream", false, "print all YAML documents of one environment as one stream, in "+
			"dependency order")
		flags.BoolVar(&r.annotate, "annotate", false, "print, with the source of each line beside it")
		r.only.defineOnly(flags)
		choose(flags, &r.format, "format", "output `FORMAT` of the summary", "text", "json")
		flags.BoolVar(&r.overwrite, "overwrite", false, "also replace files that are where a document goes, and "+
			"rendered files "+
			"that were changed by hand; no other file is removed")
		flags.BoolVar(&r.prune, "prune", false, "also remove what is left of environments that are gone")
		flags.BoolVar(&r.secrets, "secrets", false, "read the secrets, and write the secret documents too")
		flags.BoolVar(&r.final, "final", false, "fail if a later input is unresolved")
		flags.BoolVar(&r.ask, "ask", false, "ask for missing inputs of one environment on the terminal")
		flags.BoolVar(&r.watch, "watch", false, "render again whenever a file of the project changes")
		r.today.define(flags)
		r.given.define(flags)
		r.given.defineSecrets(flags)
		return r.run
	},
}

type rendering struct {
	given
	to                                                                           string
	only                                                                         patterns
	today                                                                        today
	format                                                                       string
	done                                                                         []renderedJSON // with --format json
	stdout, stream, annotate, overwrite, prune, secrets, final, ask, watch, show bool
}

// encoded is the documents of one environment, as they are written or printed.
type encoded struct {
	environment   *project.Environment
	plain, secret []folder.File
	withheld      []string            // the paths of documents that are not written because they contain secrets
	kinds         map[string][]string // of the documents, by their paths, until they are counted
	done          tally
	known         *cache.Texts // what is known of the texts of documents; nil when nothing is

	target, secretTarget *target // where they go to; nil when they are printed
	err                  error
}

// targets returns the directories that the documents go to.
func (e *encoded) targets() (all []*target) {
	for _, t := range []*target{e.target, e.secretTarget} {
		if t != nil {
			all = append(all, t)
		}
	}
	return all
}

// prints reports whether documents are printed, not written.
func (r *rendering) prints() bool { return r.stdout || r.stream || r.annotate }

func (r *rendering) run(c *call) int {
	modes := 0
	for _, on := range []bool{r.stdout, r.stream, r.annotate} {
		if on {
			modes++
		}
	}
	r.stdout = r.stdout && !r.stream && !r.annotate // which print anyway
	switch {
	case r.stream && r.annotate:
		return c.wrongUsage("--stream prints one stream to apply, and --annotate the source beside each line: " +
			"choose one")
	case modes > 0 && (r.to != "" || r.overwrite || r.prune):
		return c.wrongUsage("--stdout, --stream and --annotate print, so --to, --overwrite and --prune have no meaning")
	case modes > 0 && r.format != "text":
		return c.wrongUsage("--format applies to the report on written files, and --stdout, --stream and --annotate " +
			"write none")
	case r.reveal != "" && !r.prints():
		return c.wrongUsage("--reveal shows secrets in what is printed: add --stdout, --stream or --annotate; " +
			"--secrets writes " +
			"secret documents to a directory of their own")
	case r.annotate && r.reveal != "":
		return c.wrongUsage("--annotate shows no secrets: leave --reveal out, or print with --stdout")
	case r.prune && r.to != "":
		return c.wrongUsage("--prune removes what is left in the project's own directories: leave --to out")
	case r.watch && (r.ask || len(r.layers) > 0 && r.layers[0] == "-"):
		return c.wrongUsage("--watch renders more than once, and cannot ask or read standard input each time")
	case (r.overrides() || r.ask) && r.to == "" && !r.prints():
		return c.wrongUsage("one-off values (--layer, --input) must not be written to the project's own directory: " +
			"add --to DIR or --stdout")
	}
	var status int
	if r.show, status = r.revealed(c); status != exitClean {
		return status
	}
	if r.watch {
		return c.watch(func() int { return r.once(c) })
	}
	return r.once(c)
}

func (r *rendering) once(c *call) int {
	start := time.Now()
	p, runs, status := c.openSelected()
	if p == nil {
		return status
	}
	if len(runs) == 0 && !p.Findings.HasErrors() {
		return c.failed("%s has no environments\n  add one: [environments.bench]", project.FileName)
	}
	if r.stream && len(runs) != 1 {
		return c.wrongUsage("--stream prints one environment: name it")
	}
	if status := r.apply(c, p, runs); status != exitClean {
		return status
	}
	if r.ask {
		if status := c.askMissing(p, runs); status != exitClean {
			return status
		}
	}
	found, status := r.evaluate(c, p, runs)
	defer found.cancel() // what is not put in place
	if status != exitClean {
		return status
	}
	if r.final && len(found.Unresolved) > 0 {
		c.printUnresolved(found.Unresolved)
		fmt.Fprintln(c.err, "nothing was written: fill them in with --later FILE, or leave --final out")
		return exitFindings
	}
	if found.Documents == 0 && r.only != nil {
		return c.failed("no document matches %q%s", r.only.String(), nearestDocument(p, runs, r.only[0]))
	}
	switch {
	case r.stream:
		status = r.printStream(c, found.results[0])
	case r.annotate:
		status = r.printAnnotated(c, p, found.results)
	case r.stdout:
		status = r.print(c, found.staging.all)
	default:
		status = found.staging.commit(start)
	}
	if status != exitClean {
		return status
	}
	// What is printed in place of values is told in every way of rendering: it may be on its way to a deployment.
	c.printUnresolved(found.Unresolved)
	printRemarks(c, found.remarks)
	if !r.prints() && !c.quiet {
		if p.HasSchemas() {
			c.printValidation(found.Validation)
		}
		c.printRules(found.Rules)
	}
	if r.format == "json" {
		if err := present.JSON(c.data, renderingJSON(r.done, found.Unresolved, found.remarks)); err != nil {
			return c.failed("%s", err)
		}
	}
	return exitClean
}

// rendered is what came of rendering environments.
type rendered struct {
	*verify.Outcome
	staging *staging
	results []*render.Result // where they are printed with more than their texts
	remarks []remarkJSON     // what the templates have to say to the person
}

func (r *rendered) cancel() {
	if r != nil {
		r.staging.cancel()
	}
}

// evaluate renders environments, stages their documents, and shows what is wrong. With --secrets the environments get
// them.
func (r *rendering) evaluate(c *call, p *opened, runs []*project.Run) (*rendered, int) {
	found := &rendered{staging: r.staging(c, p)}
	var secrets source.Findings
	if r.secrets {
		from, status := r.source(c, p)
		if from == nil {
			return nil, status
		}
		defer from.Root.Close()
		for i, run := range runs {
			with, unread := run.WithSecrets(from)
			runs[i], secrets = with, append(secrets, unread...)
		}
		found.staging.failed.Store(secrets.HasErrors())
	}
	bar := c.progress("rendering", 0)
	options := verify.Options{Options: render.Options{Recording: r.annotate, Validate: true, Made: bar.add,
		Only: r.only.filter()}, Rules: true, Builtins: builtin.Table, Today: r.today.time()}
	whole := r.stream || r.annotate // more is printed than the texts of documents
	var mu sync.Mutex
	var missing source.Findings
	options.Then = func(result *render.Result) {
		if r.secrets {
			without := result.MissingSecrets()
			mu.Lock()
			missing = append(missing, without...)
			mu.Unlock()
		}
		if !whole {
			found.staging.stage(result)
		}
	}
	outcome, err := verify.Project(p.Project, runs, options, func(result *render.Result) error {
		found.staging.take(result)
		if whole {
			found.results = append(found.results, result)
		}
		for _, text := range result.Remarks {
			found.remarks = append(found.remarks, remarkJSON{result.Run.Name, text})
		}
		return nil
	})
	bar.stop()
	if err != nil {
		return found, c.interrupted(err)
	}
	found.Outcome = outcome
	if !outcome.HasErrors() && !secrets.HasErrors() {
		outcome.Add(missing...)
	}
	outcome.Add(secrets...)
	findings := outcome.Findings()
	if shown := findings; len(shown) > 0 {
		if !shown.HasErrors() && len(shown) > shownWarnings {
			shown = shown[:shownWarnings]
		}
		c.presenter(p, c.err).Findings(shown)
		if n := len(findings) - len(shown); n > 0 {
			fmt.Fprintf(c.err, "\nand %s more; run knothole check for all\n", source.Count(n, "warning"))
		}
		fmt.Fprintln(c.err)
	}
	if findings.HasErrors() {
		fmt.Fprintf(c.err, "%s: nothing was written\n", present.Summary(findings, len(runs), "environment"))
		if unavailable(findings) {
			return found, exitFailed
		}
		return found, exitFindings
	}
	return found, exitClean
}

// shownWarnings is how many warnings render tells when nothing is wrong; check tells all.
const shownWarnings = 20

// unavailable reports whether nothing is wrong with a project but that secrets cannot be read.
func unavailable(findings source.Findings) bool {
	return !slices.ContainsFunc(findings, func(f source.Finding) bool {
		return f.Severity == source.Error && f.Code != source.SecretUnavailable
	})
}

// printRemarks prints what the templates have to say to the person, equal remarks of several environments once.
func printRemarks(c *call, remarks []remarkJSON) {
	var texts []string
	environments := map[string][]string{}
	for _, remark := range remarks {
		if environments[remark.Text] == nil {
			texts = append(texts, remark.Text)
		}
		environments[remark.Text] = append(environments[remark.Text], remark.Environment)
	}
	for _, text := range texts {
		fmt.Fprintf(c.err, "remark (%s): %s\n", strings.Join(environments[text], ", "), present.Clean(text))
	}
}

// nearestDocument suggests a document for a pattern that matches none.
func nearestDocument(p *opened, runs []*project.Run, only string) string {
	var names []string
	results, _, _ := render.All(p.Project, runs, render.Options{})
	for _, result := range results {
		for _, d := range result.Documents {
			names = append(names, d.Path)
		}
	}
	if near, ok := source.Nearest(only, names); ok {
		return "\n  " + source.DidYouMean(near)
	}
	return ""
}

// encode writes the documents of an environment in their formats. Those of which it is known what they come to be left
// to be written when they are needed; known may be nil.
func (r *rendering) encode(result *render.Result, known *cache.Texts, made *texts) *encoded {
	e := &encoded{environment: result.Run.Environment, kinds: make(map[string][]string, len(result.Documents)),
		known: known}
	for j := range result.Documents {
		d := &result.Documents[j]
		e.kinds[d.Path] = d.Kinds()
		if d.Secret && !r.secrets {
			e.withheld = append(e.withheld, d.Path)
			continue
		}
		ofTexts := known
		if d.Secret {
			ofTexts = nil
		}
		f, err := fileOf(d, render.Header(result.Run.Environment, d.Format), ofTexts, made)
		if err != nil {
			e.err = fmt.Errorf("%s: %w", d.Path, err)
			return e
		}
		if d.Secret {
			e.secret = append(e.secret, f)
		} else {
			e.plain = append(e.plain, f)
		}
	}
	return e
}

// texts are texts that were made of documents, by content: other environments may have just the same. No more are kept
// than fit.
type texts struct {
	mu    sync.Mutex
	files map[cache.Content]folder.File
	bytes int
}

// mostTexts is how many bytes of texts are kept.
const mostTexts = 2 << 20

func (t *texts) get(content cache.Content) (f folder.File, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f, ok = t.files[content]
	return f, ok
}

func (t *texts) put(content cache.Content, f folder.File) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.bytes += len(f.Data); t.bytes > mostTexts || t.files == nil {
		t.files, t.bytes = map[cache.Content]folder.File{}, len(f.Data)
	}
	t.files[content] = f
}

// fileOf returns a document as it is to be written. When it is known what it comes to, that is left until it is needed.
func fileOf(d *render.Document, header string, known *cache.Texts, made *texts) (f folder.File, err error) {
	f.Path = d.Path
	whole := func() ([]byte, error) {
		text, err := d.Text()
		d.Value = value.Value{} // which may be large, and is not needed any more
		return append([]byte(header), text...), err
	}
	if known == nil {
		f.Data, err = whole()
		return f, err
	}
	content := d.Content(header)
	if f.Digest = known.Digest(content); f.Digest != "" {
		f.Make = whole
		return f, nil
	}
	if same, ok := made.get(content); ok {
		f.Data, f.Digest = same.Data, same.Digest
	} else {
		if f.Data, err = whole(); err != nil {
			return f, err
		}
		f.Digest = folder.Digest(f.Data)
		made.put(content, f)
	}
	known.Put(content, f.Digest)
	return f, nil
}

// print prints documents. One alone is printed as it is, several each after a line with its path.
func (r *rendering) print(c *call, all []*encoded) int {
	count, withheld := 0, 0
	for _, e := range all {
		if !r.show {
			// Secret documents are shown with all that is secret hidden, which only their values tell.
			withheld += len(e.secret) + len(e.withheld)
			e.secret = nil
		}
		count += len(e.plain) + len(e.secret)
	}
	first := true
	for _, e := range all {
		for _, f := range append(e.plain, e.secret...) {
			if count > 1 {
				if !first {
					fmt.Fprintln(c.data)
				}
				fmt.Fprintf(c.data, "# %s\n", path.Join(e.environment.Name, f.Path))
				first = false
			}
			_, _ = c.data.Write(f.Data)
		}
	}
	c.noteWithheld(withheld)
	return exitClean
}

// noteWithheld says how many documents are not printed since they are secret.
func (c *call) noteWithheld(withheld int) {
	reveal := "--reveal=always"
	if c.terminal {
		reveal = "--reveal"
	}
	if withheld > 0 {
		fmt.Fprintf(c.err, "%s not printed: --secrets %s prints them\n", source.Count(withheld, "secret document"), reveal)
	}
}

// printStream prints the YAML documents of an environment as one stream.
func (r *rendering) printStream(c *call, result *render.Result) int {
	withheld := 0
	var documents []render.Document
	for _, d := range result.Documents {
		if d.Secret && !(r.secrets && r.show) {
			withheld++
			continue
		}
		documents = append(documents, d)
	}
	objects, others := render.Stream(documents)
	values := make([]value.Value, len(objects))
	for i, o := range rule.Ordered(result.Run.Unit.Project, objects, builtin.Table) {
		values[i] = o.Value
	}
	text, err := data.WriteStream(value.WithPlaceholders(value.ListOf(values, 0)))
	if err != nil {
		return c.failed("%s", err)
	}
	_, _ = c.data.Write(text)
	if others > 0 {
		fmt.Fprintf(c.err, "%s not in the stream: of other formats than YAML\n", source.Count(others, "document"))
	}
	c.noteWithheld(withheld)
	return exitClean
}
