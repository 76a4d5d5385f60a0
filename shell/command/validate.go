package command

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/parallel"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/rule"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var validateCommand = &command{
	name:      "validate",
	arguments: "FILE… [--schema FILE[#PART] | --type TYPE] [--rules MODULE] [--catalogue DIR] [--format]",
	short:     "check plain data files against a schema, by their kinds, or with rules",
	long: `Validates data files (YAML, also streams of documents; JSON; TOML), and all in the directories that are named.
It needs no project.

A document is validated against --schema, if that is given: a JSON Schema (2020-12, 2019-09, draft 7, 6 or 4, as its
$schema says), or the part of one after a #, such as levels.schema.json#/$defs/Level. Else it is validated against the
schema that the file names itself: with $schema, or a first line "# schema: PATH". Else, when it has an apiVersion and
a kind, against the definition of that kind: those that are built in, those among the files, those in the directories given
with --catalogue, and those of the project, if there is one. Objects in lists are validated one by one.

With --type it is checked against a type of the project's main module, such as Level, or of one that this uses: levels.Level.

With --rules, which can be given several times, it also checks the documents against the rules of a module: a .knot file,
or one that comes with the program, such as standard/images; --input gives the inputs of these modules. The links
between the common kinds are checked then, too: a name that leads to none of the documents is a warning, since there may
be others.

Nothing is fetched. A kind that the catalogue lacks is an error, unless --unknown-kinds lets such documents pass. The
last lines say what was not checked. Formats, such as date-time, are checked; --no-formats treats them as annotations.

Ends with 0 when everything is right, 1 when it is not, or nothing was checked at all.`,
	example: "knothole validate rendered/north/k8s --catalogue schemas/kinds",
	define: func(flags *flag.FlagSet) func(c *call) int {
		v := &validation{}
		flags.StringVar(&v.schema, "schema", "", "the schema `FILE` for all documents; # and a JSON Pointer select a part")
		flags.StringVar(&v.typeName, "type", "", "a `TYPE` of the project instead of a schema")
		flags.Func("catalogue", "a directory `DIR` of definitions of kinds, or a file; repeatable", func(s string) error {
			v.catalogues = append(v.catalogues, s)
			return nil
		})
		flags.BoolVar(&v.unknownKinds, "unknown-kinds", false, "documents of kinds that the catalogue lacks may pass")
		flags.BoolVar(&v.noFormats, "no-formats", false, "formats, such as date-time, are notes")
		flags.Func("rules", "also check the rules of a `MODULE`: a file, or one such as standard/images; repeatable",
			func(s string) error {
				v.rules = append(v.rules, s)
				return nil
			})
		flags.Func("input", "`NAME=VALUE` for an input of the modules of rules; repeatable", func(s string) error {
			name, text, ok := strings.Cut(s, "=")
			if !ok || name == "" {
				return errors.New("write NAME=VALUE")
			}
			v.inputs = append(v.inputs, project.GivenText{Name: name, Text: text})
			return nil
		})
		chooseFormat(flags, &v.format, present.Findings.Names()...)
		return v.run
	},
}

type validation struct {
	schema, typeName        string
	format                  string
	catalogues, rules       []string
	inputs                  []project.GivenText
	checked                 *rule.Result     // by --rules
	program                 *project.Project // the rules
	unknownKinds, noFormats bool
}

func (v *validation) run(c *call) int {
	start := time.Now()
	if len(c.arguments) == 0 {
		return c.wrongUsage("name the files to validate")
	}
	files, status := c.dataFiles(c.arguments)
	if status != exitClean {
		return status
	}
	if v.schema != "" && v.typeName != "" {
		return c.wrongUsage("--schema and --type are two ways to say what documents must be: choose one")
	}
	switch {
	case len(v.rules) > 0 && v.typeName != "":
		return c.wrongUsage("--rules and --type cannot be combined: check documents against the one, then against the other")
	case len(v.rules) == 0 && len(v.inputs) > 0:
		return c.wrongUsage("--input gives inputs of modules of rules: name them with --rules")
	}
	sources, report := source.NewSet(), &source.Report{}
	var p *opened
	if len(v.rules) > 0 {
		if v.program, status = c.openRules(v.rules, v.inputs); v.program == nil {
			return status
		}
		sources = v.program.Sources
		if v.program.Findings.HasErrors() {
			report.Add(v.program.Findings...)
			return v.answer(c, sources, report, nil, len(files), start)
		}
	}
	if v.typeName != "" {
		if p, status = c.open(); p == nil {
			return status
		}
		if p.Unit().Module == nil || p.Findings.HasErrors() {
			return c.stopped(p, p.Findings, "nothing was checked")
		}
		sources = p.Sources
	}
	if status := v.addProject(c, p); status != exitClean {
		return status
	}
	validator, findings, status := v.validator(c, sources)
	if status != exitClean {
		return status
	}
	if p != nil {
		object, err := p.TypeNamed(v.typeName)
		if err != nil {
			return c.failed("%s", err)
		}
		validator.SchemaName = v.typeName
		validator.Check = func(d value.Value, keys data.Keys) source.Findings {
			return p.Program.World(eval.Environment{}).Pass(d, eval.Keys(keys), object)
		}
	}
	report.Add(findings...)
	var all []schema.Validated
	if !findings.HasErrors() {
		if all, status = v.validate(c, sources, validator, files, report); status != exitClean {
			return status
		}
	}
	return v.answer(c, sources, report, all, len(files), start)
}

// addProject adds the catalogue of the project, if there is one, to what flags name.
func (v *validation) addProject(c *call, p *opened) int {
	if p == nil {
		folder, ok := c.projectFolder()
		if !ok || !gate.IsFile(filepath.Join(folder, project.FileName)) {
			return exitClean
		}
		var status int
		if p, status = c.open(); p == nil {
			return status
		}
	}
	for _, name := range p.CatalogueFolders() {
		v.catalogues = append([]string{c.near(filepath.Join(p.folder, filepath.FromSlash(name)))}, v.catalogues...)
	}
	return exitClean
}

// validator reads the schema and the catalogue.
func (v *validation) validator(c *call, sources *source.Set) (*schema.Validator, source.Findings, int) {
	named := slices.Concat(c.arguments, v.catalogues)
	if v.schema != "" {
		name, _, _ := strings.Cut(v.schema, "#")
		named = append(named, name)
	}
	store := c.schemas(sources, named...)
	store.FormatsAreNotes = v.noFormats
	validator := &schema.Validator{Catalogue: schema.NewCatalogue(store), UnknownKinds: v.unknownKinds,
		Address: func(name string) string { return filepath.ToSlash(c.path(name)) },
		Add:     "give the directory of its definition with --catalogue, or let such kinds pass with --unknown-kinds"}
	var findings source.Findings
	for _, name := range v.catalogues {
		found, status := c.addKinds(sources, validator.Catalogue, name)
		if status != exitClean {
			return nil, nil, status
		}
		findings = append(findings, found...)
	}
	if v.schema == "" {
		return validator, findings, exitClean
	}
	name, part, _ := strings.Cut(v.schema, "#")
	if exists, isFolder, err := gate.Exists(c.path(name)); err != nil || !exists || isFolder {
		if err == nil {
			err = gate.ErrNotThere
		}
		if isFolder {
			return nil, nil, c.failed("%s is a directory: name the file of the schema", name)
		}
		return nil, nil, c.failed("%s cannot be read: %s", name, plainError(err))
	}
	uri := schema.FileURI(filepath.ToSlash(c.path(name)))
	document, _ := store.Load(uri)
	if document.Findings.HasErrors() {
		return validator, append(findings, document.Findings...), exitClean
	}
	root := store.Add(uri, document)
	findings = append(findings, root.Mistakes()...)
	if findings.HasErrors() {
		return validator, findings, exitClean
	}
	validator.Schema, validator.SchemaName = root, v.schema
	if part != "" {
		inner, why, help := root.Part(part)
		if inner == nil {
			return nil, nil, c.failed("%s: %s%s", v.schema, why, indented(help))
		}
		validator.Schema = inner
	}
	return validator, findings, exitClean
}

// indented is a hint on a line of its own.
func indented(help string) string {
	if help == "" {
		return ""
	}
	return "\n  " + help
}

// schemas returns a store that reads schemas from the files and directories on the command line, the directories of
// these files, and the project. References in data and schemas cannot lead anywhere else.
func (c *call) schemas(sources *source.Set, named ...string) *schema.Store {
	var folders []string
	if folder, ok := c.projectFolder(); ok {
		folders = append(folders, folder)
	}
	for i, name := range named {
		named[i] = c.path(name)
		if _, isFolder, err := gate.Exists(named[i]); err == nil && isFolder {
			folders = append(folders, named[i])
		} else {
			folders = append(folders, filepath.Dir(named[i]))
		}
	}
	read := func(path string) ([]byte, error) {
		name := filepath.FromSlash(path)
		if slices.Contains(named, name) {
			return gate.ReadGiven(name)
		}
		err := error(gate.ErrNotThere)
		for _, folder := range folders {
			relative, wrong := filepath.Rel(folder, name)
			if wrong != nil || !filepath.IsLocal(relative) {
				continue
			}
			root, wrong := gate.OpenRoot(folder)
			if wrong != nil {
				continue
			}
			text, wrong := root.ReadFile(filepath.ToSlash(relative))
			root.Close()
			if wrong == nil {
				return text, nil
			}
			err = wrong
		}
		return nil, err
	}
	store := schema.NewStore(sources)
	store.NameOf = c.near
	store.Outside = func(path string) bool {
		name := filepath.FromSlash(path)
		return !slices.Contains(named, name) && !slices.ContainsFunc(folders, func(folder string) bool {
			relative, err := filepath.Rel(folder, name)
			return err == nil && filepath.IsLocal(relative)
		})
	}
	store.Load = func(address string) (schema.Document, bool) {
		uri, err := url.Parse(address)
		if err != nil || !schema.IsFile(uri) {
			return schema.Document{}, false
		}
		text, err := read(uri.Path)
		if err != nil {
			return schema.Document{}, false
		}
		file, err := sources.Add(c.near(uri.Path), text)
		if err != nil {
			return schema.Document{}, false
		}
		return schema.ReadDocument(file), true
	}
	return store
}

// addKinds adds the definitions in a file or directory to a catalogue.
func (c *call) addKinds(sources *source.Set, catalogue *schema.Catalogue, name string) (source.Findings, int) {
	files, status := c.dataFiles([]string{name})
	if status != exitClean {
		return nil, status
	}
	var findings source.Findings
	for _, name := range files {
		file, status := c.readData(sources, name)
		if file == nil {
			return nil, status
		}
		findings = append(findings, catalogue.AddFile(file)...)
	}
	return findings, exitClean
}

// dataFiles returns the data files that arguments name; directories stand for all data files in them.
func (c *call) dataFiles(arguments []string) ([]string, int) {
	var names []string
	for _, argument := range arguments {
		exists, isFolder, err := gate.Exists(c.path(argument))
		if err == nil && !exists {
			err = gate.ErrNotThere
		}
		if err != nil {
			return nil, c.failed("%s cannot be read: %s", argument, plainError(err))
		}
		if !isFolder {
			if _, ok := data.ReadableFormatOf(argument); !ok {
				return nil, c.failed("%s has no file extension of a format that can be read: %s", argument,
					source.Either(data.ReadableExtensions()))
			}
			names = append(names, argument)
			continue
		}
		_ = gate.Walk(c.path(argument), func(name string, entry fs.DirEntry, err error) error {
			if err != nil || !entry.Type().IsRegular() || gate.IsStaged(entry.Name()) {
				return nil
			}
			if _, ok := data.ReadableFormatOf(entry.Name()); ok {
				names = append(names, c.near(name))
			}
			return nil
		})
	}
	return names, exitClean
}

// readData reads a file that was named on the command line; nil when that failed.
func (c *call) readData(sources *source.Set, name string) (*source.File, int) {
	text, err := gate.ReadGiven(c.path(name))
	if err != nil {
		return nil, c.failed("%s cannot be read: %s", name, plainError(err))
	}
	file, err := sources.Add(filepath.ToSlash(name), text)
	if err != nil {
		return nil, c.failed("%s", err)
	}
	return file, exitClean
}

// validate validates files, many at a time. What is found goes into the report.
func (v *validation) validate(c *call, sources *source.Set, validator *schema.Validator, files []string,
	report *source.Report) (all []schema.Validated, status int) {
	results, found := make([][]schema.Validated, len(files)), make([]source.Findings, len(files))
	read := make([]*source.File, len(files))
	for i, name := range files {
		if read[i], status = c.readData(sources, name); read[i] == nil {
			return nil, status
		}
		if strings.Contains(read[i].Text, schema.DefinitionKind) { // which counts for the objects beside it
			_ = validator.Catalogue.AddFile(read[i]) // what is wrong with it is found when it is validated
		}
	}
	bar := c.progress("validating", len(files))
	var group parallel.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, file := range read {
		group.Go(func() error {
			if err := c.ctx.Err(); err != nil {
				return err
			}
			format, _ := data.ReadableFormatOf(file.Path)
			results[i], found[i] = validator.File(file, format)
			bar.add()
			return nil
		})
	}
	err := group.Wait()
	bar.stop()
	if err != nil {
		return nil, c.interrupted(err)
	}
	report.Add(slices.Concat(found...)...)
	if v.program != nil {
		report.Add(v.program.Findings...)
		v.checked = checkFiles(v.program, read, report)
	}
	return slices.Concat(results...), exitClean
}

// answer shows what is wrong, and what was and was not checked.
func (v *validation) answer(c *call, sources *source.Set, report *source.Report, all []schema.Validated, files int,
	start time.Time) int {
	findings := report.Findings(sources)
	presenter := &present.Presenter{Out: c.answer(v.format), Sources: sources, Color: c.system.color, Width: c.width,
		Fit: c.fit}
	shown := &present.Checked{Findings: findings, Version: Version}
	if err := present.Findings.Show(presenter, v.format, shown); err != nil {
		return c.failed("%s", err)
	}
	checked := 0
	for _, d := range all {
		if d.By != "" {
			checked++
		}
	}
	if !c.quiet {
		if len(findings) > 0 && v.format == "text" {
			fmt.Fprintln(c.err)
		}
		printValidated(c, all)
		c.printRules(v.checked)
		fmt.Fprintf(c.err, "%s: %d of %s checked (%.2f s)\n", present.Summary(findings, files, "file"), checked,
			source.Count(len(all), "document"), time.Since(start).Seconds())
	}
	if checked == 0 && !findings.HasErrors() && v.checked == nil {
		fmt.Fprintln(c.err, "nothing was checked: name a schema with --schema, or definitions with --catalogue")
		return exitFindings
	}
	if findings.HasErrors() {
		return exitFindings
	}
	return exitClean
}

// printValidated says of which documents there were how many, and which were not checked, and why.
func printValidated(c *call, all []schema.Validated) {
	type row struct {
		text  string
		count int
	}
	var checked, unchecked []row
	count := func(rows *[]row, text string) {
		at := slices.IndexFunc(*rows, func(r row) bool { return r.text == text })
		if at < 0 {
			at = len(*rows)
			*rows = append(*rows, row{text: text})
		}
		(*rows)[at].count++
	}
	for _, d := range all {
		if d.By != "" {
			count(&checked, d.By)
		} else {
			count(&unchecked, d.Why)
		}
	}
	for _, rows := range [][]row{checked, unchecked} {
		slices.SortFunc(rows, func(a, b row) int {
			return cmp.Or(cmp.Compare(b.count, a.count), strings.Compare(a.text, b.text))
		})
	}
	const most = 12
	print := func(what, form string, rows []row) {
		var texts []string
		for _, r := range rows[:min(len(rows), most)] {
			texts = append(texts, fmt.Sprintf(form, r.count, present.Clean(r.text)))
		}
		if len(rows) > most {
			texts = append(texts, fmt.Sprintf("and %d more", len(rows)-most))
		}
		if texts != nil {
			fmt.Fprintf(c.err, "%s: %s\n", what, strings.Join(texts, ", "))
		}
	}
	transitions := 0
	for _, d := range all {
		transitions += d.Transitions
	}
	print("checked", "%d %s", checked)
	if transitions > 0 {
		fmt.Fprintf(c.err, "not judged: %s\n", notJudged(transitions))
	}
	print("not checked", "%d (%s)", unchecked)
}

// notJudged says how many rules could not be judged.
func notJudged(rules int) string {
	return source.Count(rules, "rule") + " over a change (oldSelf)"
}

// printRules says how many rules and links were checked, and what is exempt from them.
func (c *call) printRules(checked *rule.Result) {
	if checked == nil || len(checked.Rules)+len(checked.Links) == 0 {
		return
	}
	var parts []string
	waiting := 0
	for _, r := range checked.Rules {
		if r.Waiting {
			waiting++
		}
	}
	if len(checked.Rules) > 0 {
		parts = append(parts, source.Count(len(checked.Rules)-waiting, "rule")+" checked")
	}
	if len(checked.Links) > 0 {
		parts = append(parts, source.Count(checked.References, "link")+" between documents followed")
	}
	if n := checked.Exempt(); n > 0 {
		parts = append(parts, source.Count(n, "violation")+" exempt")
	}
	text := "rules: " + strings.Join(parts, ", ")
	if checked.Waiting {
		var waits []string
		if waiting > 0 {
			waits = append(waits, source.Count(waiting, "rule")+" over all documents")
		}
		if len(checked.Links) > 0 {
			waits = append(waits, "links")
		}
		if len(waits) > 0 {
			text += "\nnot checked everywhere because documents are missing: " + strings.Join(waits, ", ")
		}
	}
	fmt.Fprintln(c.err, text)
	var broken []string
	for _, r := range checked.Rules {
		if n := r.Errors + r.Warnings; n > 0 {
			broken = append(broken, fmt.Sprintf("%s %d", present.Clean(r.Object.Name), n))
		}
	}
	if len(broken) > 0 {
		fmt.Fprintf(c.err, "violations in all documents and environments: %s\n", strings.Join(broken, ", "))
	}
}

// printValidation says how many of the rendered documents were validated against schemas.
func (c *call) printValidation(all render.Validation) {
	fmt.Fprintf(c.err, "schemas: %s checked", source.Count(all.Checked, "document"))
	if all.Without > 0 {
		fmt.Fprintf(c.err, ", %d without a schema", all.Without)
	}
	if all.NotKnown > 0 {
		fmt.Fprintf(c.err, "; %s not known here", source.Count(all.NotKnown, "value"))
	}
	if all.Transitions > 0 {
		fmt.Fprintf(c.err, "; %s", notJudged(all.Transitions))
	}
	fmt.Fprintln(c.err)
}
