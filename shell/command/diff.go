package command

import (
	"cmp"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/compare"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var diffCommand = &command{
	name: "diff", arguments: "A B… [--by] [--format]",
	short: "compare environments, files, directories or revisions, with the line that makes each difference",
	long: `Compares what environments render to, data files, directories, or standard input (-), each with the others. Each
row is one difference, with its cause below it or at the right: the inputs, and the lines of the layers that
gave them their values, or the line of the template. It was tried that the difference goes when all that is named is
made equal, and that it takes each of them.

ENV@REVISION is an environment as it was at a revision of git. Of three sides or more each is a column; --all takes
all environments. With --input and --layer the last environment is compared as it would be with them, or another with
its name before them, --input north:NAME=VALUE; one that is named alone, with itself.

Equal differences of several documents, or elements of lists, are one row; of many that are alike but for their values
one is an example, unless --full is given. Elements of lists are matched by their name, id, key, path, host or port,
else by what they have in common.

--format patch is a JSON Patch (RFC 6902) for each document, markdown is for a review, html one page to look through.

Ends with 0 when nothing differs, 1 when something does, 2 when one of the sides cannot be made or read, also
when others are compared.`,
	example: "knothole diff rehearsal north",
	define: func(flags *flag.FlagSet) func(c *call) int {
		d := &difference{}
		d.define(flags)
		chooseFormat(flags, &d.format, present.Comparisons.Names()...)
		choose(flags, &d.by, "by", "group rows by `WHAT`", "document", "cause")
		flags.BoolVar(&d.full, "full", false, "show whole values, and each row")
		flags.BoolVar(&d.columns, "columns", false, "two sides beside each other, as three or more are")
		flags.BoolVar(&d.all, "all", false, "compare all environments")
		flags.BoolVar(&d.unexpected, "unexpected", false,
			"only what the project does not let these environments have different")
		d.only.defineOnly(flags)
		flags.Func("ignore", "take the `PLACE` out of all documents; repeatable", func(text string) error {
			places, err := eval.ParsePlaces(text, builtin.Table)
			d.ignore = append(d.ignore, places)
			return err
		})
		return d.run
	},
}

// difference is what the command diff is asked for.
type difference struct {
	given
	format, by string
	full, all  bool
	columns    bool
	unexpected bool
	only       patterns
	allowance  compare.Allowance
	ignore     []*eval.Places
}

func (d *difference) run(c *call) int {
	switch {
	case d.all && len(c.arguments) > 0:
		return c.wrongUsage("--all takes all environments: name none")
	case !d.all && len(c.arguments) < 2 && !(len(c.arguments) == 1 && d.any()):
		return c.wrongUsage("name two sides or more: environments, files or directories")
	case d.format == "patch" && (d.all || len(c.arguments) > 2):
		return c.wrongUsage("a patch makes one side of another: name two")
	}
	s, status := d.sides(c)
	if s == nil {
		return status
	}
	if status := d.allow(c, s); status != exitClean {
		return status
	}
	comparison, findings, status := d.compare(c, s)
	if comparison == nil {
		return status
	}
	if len(findings) > 0 {
		c.sourcesPresenter(s, c.err).Findings(findings)
	}
	presenter := c.sourcesPresenter(s, c.answer(d.format))
	options := present.ComparisonOptions{GroupOptions: compare.GroupOptions{ByCause: d.by == "cause", Full: d.full},
		Columns: d.columns}
	shown := &present.Compared{Comparison: comparison, ComparisonOptions: options,
		Page: func() *present.Page { return d.page(s, comparison) }}
	if err := present.Comparisons.Show(presenter, d.format, shown); err != nil {
		return c.failed("%s", err)
	}
	if comparison.Unread > 0 && !c.quiet && d.format != "text" {
		fmt.Fprintf(c.err, "not compared, since secrets are not read here: %s\n",
			source.Count(comparison.Unread, "value"))
	}
	if s.secret > 0 && !c.quiet {
		fmt.Fprintf(c.err, "not compared with files, since they are secret: %s\n", source.Count(s.secret, "document"))
	}
	switch {
	case findings.HasErrors():
		fmt.Fprintln(c.err, "not all was compared")
		return exitFailed
	case comparison.Equal():
		return exitClean
	}
	return exitFindings
}

// allow finds out what the environments may have different.
func (d *difference) allow(c *call, s *sidesOf) int {
	if !d.unexpected {
		return exitClean
	}
	found := false
	if s.project != nil {
		for _, group := range s.project.Parity() {
			other := func(name string) bool { return !slices.Contains(group.Environments, name) }
			if slices.ContainsFunc(s.names, other) {
				continue
			}
			found = true
			allowance, findings := compare.NewAllowance(group.MayDiffer, builtin.Table)
			if findings.HasErrors() {
				return c.unmade(s.project, findings)
			}
			d.allowance = append(d.allowance, allowance...)
		}
	}
	if !found {
		return c.failed("no [[parity]] in %s names all of %s", project.FileName, strings.Join(s.names, ", "))
	}
	return exitClean
}

// sidesOf are the sides of a comparison, before they are rendered or read.
type sidesOf struct {
	project   *opened // nil without one
	sources   *source.Set
	runs      []*project.Run // nil where a side is files
	files     []map[string]compare.File
	names     []string
	compared  []compare.Side
	secret    int // how many documents are not compared, since they are
	revisions [2]*revision
	at        [2]string // the environments at the revisions
}

// sides finds out what the arguments name.
func (d *difference) sides(c *call) (s *sidesOf, status int) {
	s = &sidesOf{sources: source.NewSet()}
	named := "" // what can be nothing but an environment
	for _, name := range c.arguments {
		if exists, _, err := gate.Exists(c.path(name)); name != "-" && (err != nil || !exists) {
			named = cmp.Or(named, name)
		}
	}
	_, ok := c.projectFolder()
	if !ok && named != "" {
		return nil, c.failed("%s is not there, and no project here has an environment of that name", named)
	}
	if ok || d.all {
		if s.project, status = c.open(); s.project == nil {
			return nil, status
		}
		s.sources = s.project.Sources
	}
	arguments := c.arguments
	if d.all {
		var others []string
		for _, e := range s.project.Concrete() {
			if e.Unit != s.project.Concrete()[0].Unit {
				others = append(others, e.Name)
				continue
			}
			arguments = append(arguments, e.Name)
		}
		if others != nil && !c.quiet {
			fmt.Fprintf(c.err, "not compared, since they have another main module: %s\n", strings.Join(others, ", "))
		}
		if len(arguments) < 2 {
			return nil, c.failed("there is one environment: nothing to compare it with")
		}
	}
	if len(arguments) == 1 {
		arguments = []string{arguments[0], arguments[0]}
	}
	if slices.ContainsFunc(arguments, func(name string) bool { return c.isRevision(name) }) {
		if len(arguments) != 2 || d.any() {
			return nil, c.failed("an environment at a revision is compared with one other, without --input and " +
				"--layer")
		}
		s.names = arguments
		if s.revisions, s.at, status = c.both(s.project, [2]string(arguments)); status != exitClean {
			return nil, status
		}
		return s, exitClean
	}
	for i, name := range arguments {
		given := d.forSide(arguments, i)
		if status := given.side(c, s, name); status != exitClean {
			return nil, status
		}
	}
	return s, exitClean
}

// isRevision reports whether an argument is an environment at a revision, ENV@REVISION.
func (c *call) isRevision(name string) bool {
	exists, _, err := gate.Exists(c.path(name))
	_, at := splitRevision(name)
	return at != "" && (err != nil || !exists)
}

// forSide returns what is given for one of the sides: what begins with its name and a colon; for the last also what
// names no side.
func (d *difference) forSide(names []string, i int) given {
	last := i == len(names)-1
	of := func(all []string) (own []string) {
		for _, text := range all {
			side, rest, ok := strings.Cut(text, ":")
			switch {
			case !ok || !slices.Contains(names, side):
				if last {
					own = append(own, text)
				}
			case side == names[i] && !slices.Contains(names[i+1:], side):
				own = append(own, rest)
			}
		}
		return own
	}
	own := given{layers: of(d.layers), inputs: of(d.inputs)}
	if last {
		own.later = d.later
	}
	return own
}

// side adds one side: an environment with what is given, or else files.
func (g *given) side(c *call, s *sidesOf, name string) int {
	exists, isFolder, err := gate.Exists(c.path(name))
	isEnvironment := s.project != nil && s.project.Environment(name) != nil
	if !isEnvironment && (name == "-" || err == nil && exists) {
		if g.any() {
			return c.wrongUsage("--input, --layer and --later are for an environment, not for %s: name it before a "+
				"colon, such as --input north:NAME=VALUE", name)
		}
		files, status := c.readSide(s, name, isFolder)
		if status != exitClean {
			return status
		}
		s.names, s.files = append(s.names, name), append(s.files, files)
		s.runs = append(s.runs, nil)
		return exitClean
	}
	chosen, ok := c.environments(s.project, []string{name})
	if !ok {
		return exitFailed
	}
	if g.any() {
		c.arguments = []string{name}
		if status := g.apply(c, s.project, chosen); status != exitClean {
			return status
		}
		name += " with what is given"
	}
	s.names, s.files = append(s.names, name), append(s.files, nil)
	s.runs = append(s.runs, chosen[0])
	return exitClean
}

// readSide reads the files of a side, by their paths in a directory; one alone has the empty path.
func (c *call) readSide(s *sidesOf, name string, isFolder bool) (map[string]compare.File, int) {
	files := map[string]compare.File{}
	add := func(key, shown string, text []byte) {
		f := compare.File{Text: string(text)}
		if file, err := s.sources.Add(filepath.ToSlash(shown), text); err == nil {
			f.Source = file
		}
		files[key] = f
	}
	switch {
	case name == "-":
		text, err := io.ReadAll(c.in)
		if err != nil {
			return nil, c.failed("standard input cannot be read: %s", plainError(err))
		}
		if len(strings.TrimSpace(string(text))) == 0 {
			return nil, c.failed("standard input is empty")
		}
		add("", "standard-input.yaml", text)
	case !isFolder:
		text, err := gate.ReadGiven(c.path(name))
		if err != nil {
			return nil, c.failed("%s cannot be read: %s", name, plainError(err))
		}
		add("", name, text)
	default:
		err := gate.Walk(c.path(name), func(at string, entry fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case entry.IsDir() && (entry.Name() == ".git" || project.Reserved(entry.Name())):
				return fs.SkipDir
			case !entry.Type().IsRegular() || gate.IsStaged(entry.Name()) || project.Reserved(entry.Name()):
				return nil
			}
			text, err := gate.ReadGiven(at)
			if err != nil {
				return err
			}
			key, err := filepath.Rel(c.path(name), at)
			add(filepath.ToSlash(key), c.near(at), text)
			return err
		})
		if err != nil {
			return nil, c.failed("%s cannot be read: %s", name, plainError(err))
		}
	}
	return files, exitClean
}

// alignFiles gives files that stand alone the path by which they are compared: that of the document which another side
// has and their own paths end with, else one name for all of them. It returns that path; empty when none is alone.
func (s *sidesOf) alignFiles() (key string) {
	alone := func(i int) bool { _, is := s.files[i][""]; return is }
	for i, name := range s.names {
		if !alone(i) {
			continue
		}
		name = filepath.ToSlash(name)
		if key == "" && name != "-" {
			key = path.Base(name)
		}
		for j := range s.names {
			var others []string
			if s.runs[j] != nil {
				others = slices.Collect(maps.Keys(s.compared[j].Contents))
			} else {
				others = slices.Collect(maps.Keys(s.files[j]))
			}
			for _, other := range others {
				if other != "" && strings.HasSuffix("/"+name, "/"+other) && len(other) > len(key) {
					key = other
				}
			}
		}
	}
	for i := range s.names {
		if alone(i) {
			key = cmp.Or(key, "standard input")
			s.files[i] = map[string]compare.File{key: s.files[i][""]}
		}
	}
	return key
}

// compare renders and reads the sides, and compares them.
func (d *difference) compare(c *call, s *sidesOf) (*compare.Comparison, source.Findings, int) {
	o := compare.Options{Ignore: d.without(), Only: d.only.filter()}
	if s.revisions[0] != nil {
		comparison, status := c.revisions(s.project, s.revisions, s.at, o)
		return comparison, nil, status
	}
	if !slices.Contains(s.runs, nil) {
		comparison, findings, err := compare.Environments(s.project.Project, s.runs, o)
		if err != nil {
			return nil, nil, c.interrupted(err)
		}
		if comparison == nil {
			return nil, nil, c.unmade(s.project, findings)
		}
		comparison.Sides = s.names
		return comparison, nil, exitClean
	}
	s.compared = make([]compare.Side, len(s.names))
	for i, e := range s.runs {
		if e != nil {
			results, found, err := render.All(s.project.Project, []*project.Run{e},
				render.Options{Recording: true, Only: o.Only})
			if err != nil {
				return nil, nil, c.interrupted(err)
			}
			if found.HasErrors() {
				return nil, nil, c.unmade(s.project, found)
			}
			s.compared[i] = compare.Rendered(results[0], o)
			s.secret += s.compared[i].AsFiles()
		}
	}
	alone := s.alignFiles()
	var findings source.Findings
	for i, name := range s.names {
		if s.runs[i] == nil {
			var found source.Findings
			s.compared[i], found = compare.Files(name, s.files[i], o)
			findings = append(findings, found...)
		}
		if alone != "" {
			maps.DeleteFunc(s.compared[i].Contents, func(name string, _ *compare.Content) bool { return name != alone })
		}
	}
	comparison, err := compare.Compared(c.ctx, s.compared)
	if err == nil {
		err = comparison.Explain(c.ctx, s.compared, o)
	}
	if err != nil {
		return nil, nil, c.interrupted(err)
	}
	return comparison, findings, exitClean
}

// without returns what takes the places that are to be ignored out of a document; nil when there are none.
func (d *difference) without() func(path string, v value.Value) value.Value {
	if d.ignore == nil && d.allowance == nil {
		return nil
	}
	return func(path string, v value.Value) value.Value {
		v = d.allowance.Filtered(path, v)
		for _, places := range d.ignore {
			found, _ := places.Find(v)
			for _, f := range slices.Backward(found) {
				v = place.Without(v, f.Path)
			}
		}
		return v
	}
}

// page is what a page shows of the comparison. Environments as they are bring their inputs along.
func (d *difference) page(s *sidesOf, comparison *compare.Comparison) *present.Page {
	page := &present.Page{Title: strings.Join(comparison.Sides, " → "), Comparison: comparison,
		Footer: "Made by knothole " + Version}
	if len(comparison.Sides) > 2 {
		page.Title = strings.Join(comparison.Sides, ", ")
	}
	if s.project != nil && s.project.Unit().Module != nil && s.revisions[0] == nil && !slices.Contains(s.runs, nil) {
		page.Inputs = collectInputs(s.project.Project, s.project.Unit().Module, s.runs, openedEntries)
	}
	return page
}

// sourcesPresenter presents what files and a project hold.
func (c *call) sourcesPresenter(s *sidesOf, out io.Writer) *present.Presenter {
	if s.project != nil {
		return c.presenter(s.project, out)
	}
	return c.presenter(&opened{Project: &project.Project{Snapshot: &project.Snapshot{Sources: s.sources}}}, out)
}
