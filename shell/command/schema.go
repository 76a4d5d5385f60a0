package command

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
	"knothole/outside/gate"
	"knothole/shell/present"
)

var schemaCommand = &command{
	name: "schema", arguments: "list|show|example|extract|add|export …",
	short: "show the catalogue of kinds and what is in a schema; export schemas of layers",
	long: `"schema list [TEXT]" lists the kinds of objects that are known: those that are built in, those of the project's
catalogue and those of --catalogue DIR. With TEXT only those that have it in their names.

"schema show KIND [PATH]" shows the fields of a kind as a tree: types, what is required, defaults, values and
descriptions. KIND is a name (Deployment), a version and a name (apps/v1/Deployment), or the file of a JSON Schema,
which may have a part after a #. PATH selects a part of it: spec.template.spec.containers[]; --depth says how many
levels are shown.

"schema example KIND" writes a document to fill in: what is required, and as comments what is not.

"schema extract FILE… --to DIR" takes custom resource definitions out of files, directories and exported streams (- is
standard input), one file for each. "schema add FILE…" does the same into the catalogue of the project, which is named
in the project file if it is not yet.

"schema export TYPE" writes a JSON Schema (2020-12) of a type of the main module; "schema export --inputs [MODULE]" one
of the layers of the project, or of those of a module: with it an editor completes the names of inputs and marks
values that do not fit. Limits that JSON Schema cannot express are written as comments; check has the last word.`,
	example: "knothole schema show Deployment spec.template.spec.containers[]",
	define: func(flags *flag.FlagSet) func(c *call) int {
		s := &schemaRun{}
		flags.BoolVar(&s.inputs, "inputs", false, "export: the schema of a layer")
		flags.Func("catalogue", "a directory `DIR` of definitions of kinds, or a file; repeatable", func(text string) error {
			s.catalogues = append(s.catalogues, text)
			return nil
		})
		flags.IntVar(&s.depth, "depth", 2, "show: how many levels, `N`")
		flags.StringVar(&s.to, "to", "", "extract: the directory `DIR` to write to")
		flags.BoolVar(&s.overwrite, "overwrite", false, "extract, add: also replace files that are there and differ")
		choose(flags, &s.format, "format", "list: `FORMAT` of the answer", "text", "json")
		return s.run
	},
}

type schemaRun struct {
	inputs, overwrite bool
	catalogues        []string
	depth             int
	to, format        string
}

func (s *schemaRun) run(c *call) int {
	if len(c.arguments) == 0 {
		return c.wrongUsage("say what: schema list, show, example, extract, add or export")
	}
	what := c.arguments[0]
	c.arguments = c.arguments[1:]
	switch what {
	case "list":
		return s.list(c)
	case "show", "example":
		return s.describe(c, what)
	case "extract":
		if s.to == "" {
			return c.wrongUsage("say where to: --to DIR")
		}
		return s.extract(c, c.path(s.to))
	case "add":
		return s.add(c)
	case "export":
		return s.export(c)
	}
	return c.wrongUsage("there is no schema %s: write list, show, example, extract, add or export", what)
}

// catalogue returns the catalogue of the project, if there is one, with what flags add.
func (s *schemaRun) catalogue(c *call) (*schema.Catalogue, *source.Set, string, int) {
	sources, prefix := source.NewSet(), ""
	catalogue := schema.NewCatalogue(c.schemas(sources, slices.Clone(s.catalogues)...))
	if folder, ok := c.projectFolder(); ok {
		if exists, _, err := gate.Exists(filepath.Join(folder, project.FileName)); err == nil && exists {
			p, status := c.open()
			if p == nil {
				return nil, nil, "", status
			}
			read := p.Schemas()
			catalogue, sources, prefix = read.Catalogue, p.Sources, p.prefix
			if read.Findings.HasErrors() {
				c.presenter(p, c.err).Findings(read.Findings)
				return nil, nil, "", exitFindings
			}
		}
	}
	for _, name := range s.catalogues {
		findings, status := c.addKinds(sources, catalogue, name)
		if status != exitClean {
			return nil, nil, "", status
		}
		if findings.HasErrors() {
			(&present.Presenter{Out: c.err, Sources: sources, Color: c.errColor, Width: c.width}).
				Findings(findings)
			return nil, nil, "", exitFindings
		}
	}
	return catalogue, sources, prefix, exitClean
}

func (s *schemaRun) list(c *call) int {
	if len(c.arguments) > 1 {
		return c.wrongUsage("schema list takes one text to look for")
	}
	catalogue, sources, prefix, status := s.catalogue(c)
	if catalogue == nil {
		return status
	}
	kinds := catalogue.Kinds()
	if len(c.arguments) == 1 {
		text := strings.ToLower(c.arguments[0])
		kinds = slices.DeleteFunc(kinds, func(k *schema.Kind) bool {
			return !strings.Contains(strings.ToLower(k.Key()), text)
		})
	}
	presenter := &present.Presenter{Out: c.answer(s.format), Sources: sources, Prefix: prefix, Color: c.system.color,
		Width: c.width, Fit: c.fit}
	if s.format == "json" {
		if err := presenter.KindsJSON(kinds); err != nil {
			return c.failed("%s", err)
		}
	} else {
		presenter.Kinds(kinds)
	}
	if len(kinds) == 0 {
		fmt.Fprintln(c.err, "no kind has that in its name")
		return exitFindings
	}
	return exitClean
}

// find returns the schema that an argument names: that of a kind, or of a file. Kind is nil for a file.
func (s *schemaRun) find(c *call, name string) (found *schema.Schema, kind *schema.Kind, status int) {
	file, _, _ := strings.Cut(name, "#")
	if _, ok := data.ReadableFormatOf(file); ok {
		sources := source.NewSet()
		v := &validation{schema: name}
		validator, findings, status := v.validator(c, sources)
		if status != exitClean {
			return nil, nil, status
		}
		if findings.HasErrors() {
			(&present.Presenter{Out: c.err, Sources: sources, Color: c.errColor, Width: c.width}).
				Findings(findings)
			return nil, nil, exitFindings
		}
		return validator.Schema, nil, exitClean
	}
	catalogue, _, _, status := s.catalogue(c)
	if catalogue == nil {
		return nil, nil, status
	}
	var fits []*schema.Kind
	var names []string
	for _, k := range catalogue.Kinds() {
		if strings.EqualFold(k.Name, name) || strings.EqualFold(k.Key(), name) {
			fits = append(fits, k)
		}
		names = append(names, k.Name, k.Key())
	}
	if len(fits) == 0 {
		help := "schema list shows all that are known"
		if near, ok := source.Nearest(name, names); ok {
			help = source.DidYouMean(near)
		}
		return nil, nil, c.failed("the catalogue has no kind %s\n  %s", name, help)
	}
	groups := map[string]bool{}
	for _, k := range fits {
		group, _, _ := strings.Cut(k.APIVersion, "/")
		groups[group] = true
	}
	if len(groups) > 1 {
		var keys []string
		for _, k := range fits {
			keys = append(keys, k.Key())
		}
		return nil, nil, c.failed("there are several kinds %s: name one of %s", name, strings.Join(keys, ", "))
	}
	// The newest version that is served.
	slices.SortStableFunc(fits, func(a, b *schema.Kind) int {
		served := func(k *schema.Kind) int { return map[bool]int{true: 1}[k.NotServed] }
		return cmp.Or(served(a)-served(b), schema.CompareVersions(b.APIVersion, a.APIVersion))
	})
	return fits[0].Schema, fits[0], exitClean
}

// describe shows a schema, or a document to fill in.
func (s *schemaRun) describe(c *call, what string) int {
	if len(c.arguments) == 0 || len(c.arguments) > 2 || what == "example" && len(c.arguments) > 1 {
		return c.wrongUsage("write: schema %s KIND, or the file of a schema", what)
	}
	found, kind, status := s.find(c, c.arguments[0])
	if found == nil {
		return status
	}
	if what == "example" {
		fmt.Fprint(c.data, found.Example(kind))
		return exitClean
	}
	title := cmp.Or(found.Title(), c.arguments[0])
	if kind != nil {
		title = kind.Key()
	}
	if len(c.arguments) == 2 {
		inner, why, help := found.Within(schema.ParsePath(c.arguments[1]))
		if inner == nil {
			return c.failed("%s%s", why, indented(help))
		}
		found, title = inner, title+" "+c.arguments[1]
	}
	presenter := &present.Presenter{Out: c.out, Color: c.system.color, Width: c.width, Fit: c.fit}
	presenter.Schema(title, found.Tree(s.depth))
	return exitClean
}

// definition is a custom resource definition that was found, and the file that it goes to.
type definition struct {
	name  string
	text  []byte
	kinds int
}

// definitions takes the custom resource definitions out of files.
func (c *call) definitions(arguments []string) (all []definition, status int) {
	sources := source.NewSet()
	var findings source.Findings
	take := func(file *source.File, format data.Format) {
		var documents []value.Value
		var found source.Findings
		if format.Streams() {
			documents, found = data.ReadEach(file, nil, data.Numbers{})
		} else {
			d := schema.ReadDocument(file)
			if found = d.Findings; !found.HasErrors() {
				documents = []value.Value{d.Root}
			}
		}
		findings = append(findings, found...)
		for _, d := range schema.Definitions(documents) {
			text, err := data.Write(d.Plain, data.YAML)
			if err != nil {
				findings.Add(source.Finding{Code: source.CannotHold, Span: file.Span(0, 0), Message: err.Error()})
				continue
			}
			all = append(all, definition{d.FileName, text, d.Versions})
		}
	}
	if len(arguments) == 1 && arguments[0] == "-" {
		text, err := io.ReadAll(io.LimitReader(c.in, gate.MaxFile))
		if err != nil {
			return nil, c.failed("standard input cannot be read: %s", plainError(err))
		}
		file, err := sources.Add("standard input", text)
		if err != nil {
			return nil, c.failed("%s", err)
		}
		take(file, data.YAML)
	} else {
		names, status := c.dataFiles(arguments)
		if status != exitClean {
			return nil, status
		}
		for _, name := range names {
			file, status := c.readData(sources, name)
			if file == nil {
				return nil, status
			}
			format, _ := data.ReadableFormatOf(name)
			take(file, format)
		}
	}
	if findings.HasErrors() {
		presenter := &present.Presenter{Out: c.err, Sources: sources, Color: c.errColor, Width: c.width}
		presenter.Findings(findings)
		fmt.Fprintln(c.err, "\nthe other documents were read")
	}
	slices.SortStableFunc(all, func(a, b definition) int { return strings.Compare(a.name, b.name) })
	if len(all) == 0 {
		return nil, c.failed("there are no custom resource definitions in %s", strings.Join(arguments, ", "))
	}
	if findings.HasErrors() {
		return all, exitFindings
	}
	return all, exitClean
}

// extract writes the definitions in files into a directory, one file for each.
func (s *schemaRun) extract(c *call, to string) int {
	if len(c.arguments) == 0 {
		return c.wrongUsage("name the files, or - for standard input")
	}
	all, status := c.definitions(c.arguments)
	if all == nil {
		return status
	}
	if err := c.disk.MakeFolder(to, 0o755); err != nil {
		return c.failed("%s cannot be made: %s", c.relative(to), plainError(err))
	}
	root, err := c.disk.OpenRoot(to)
	if err != nil {
		return c.failed("%s cannot be opened: %s", c.relative(to), plainError(err))
	}
	defer root.Close()
	// Nothing is written when something stands against one of them.
	before := map[string][]byte{}
	var differing []string
	for _, d := range all {
		text, err := root.ReadFile(d.name)
		if err == nil {
			if before[d.name] = text; string(text) != string(d.text) && !s.overwrite {
				differing = append(differing, d.name)
			}
		}
	}
	if differing != nil {
		return c.failed("%s: there already, and different: nothing was written\n  replace with --overwrite",
			strings.Join(differing, ", "))
	}
	written := 0
	for _, d := range all {
		old, there := before[d.name]
		switch {
		case there && string(old) == string(d.text):
			continue
		case there:
			err = root.Replace(d.name, old, d.text)
		default:
			err = root.Create(d.name, d.text, 0o644)
		}
		if err != nil {
			return c.failed("%s: %s", path.Join(c.relative(to), d.name), plainError(err))
		}
		written++
		if !c.quiet {
			fmt.Fprintf(c.err, "%s: %s\n", path.Join(c.relative(to), d.name), source.Count(d.kinds, "version"))
		}
	}
	if !c.quiet {
		fmt.Fprintf(c.err, "%s written, %d as they were\n", source.Count(written, "definition"), len(all)-written)
	}
	return status
}

// add writes the definitions in files into the catalogue of the project.
func (s *schemaRun) add(c *call) int {
	p, status := c.open()
	if p == nil {
		return status
	}
	folder, named := p.CatalogueFolder()
	to := filepath.Join(p.folder, filepath.FromSlash(folder))
	if !gate.Within(p.folder, to) {
		return c.failed("%s leads out of the project: nothing was written", c.relative(to))
	}
	status = s.extract(c, to)
	if status == exitFailed || named {
		return status
	}
	return max(status, c.nameCatalogue(p, folder))
}

// nameCatalogue names a directory of definitions in the project file; where that has something of the sort already, it
// says what to write.
func (c *call) nameCatalogue(p *opened, folder string) int {
	name, lines := filepath.Join(p.folder, project.FileName), fmt.Sprintf("[catalogue]\ndirs = [%q]\n", folder)
	before := p.Sources.Named(project.FileName).Text
	if strings.Contains(before, "catalogue") {
		fmt.Fprintf(c.err, "add to %s:\n%s", c.relative(name), lines)
		return exitClean
	}
	if before != "" && !strings.HasSuffix(before, "\n") {
		lines = "\n" + lines
	}
	if err := c.rewrite(name, []byte(before), []byte(before+"\n"+lines)); err != nil {
		return c.failed("%s: %s: it was not written\n  add to it:\n%s", c.relative(name), plainError(err), lines)
	}
	if !c.quiet {
		fmt.Fprintf(c.err, "%s: [catalogue] added\n", c.relative(name))
	}
	return exitClean
}

func (s *schemaRun) export(c *call) int {
	if len(c.arguments) > 1 || !s.inputs && len(c.arguments) == 0 {
		return c.wrongUsage("write: schema export TYPE, or schema export --inputs and the path of a module if it is not " +
			"the main one")
	}
	name := ""
	if !s.inputs {
		name, c.arguments = c.arguments[0], nil
	}
	p, _, modules, status := c.openModules()
	if p == nil {
		return status
	}
	if len(c.arguments) == 1 && len(modules) != 1 {
		return c.wrongUsage("%s is not one module", c.arguments[0])
	}
	if p.Unit().Module == nil || p.Findings.HasErrors() {
		return c.stopped(p, p.Findings, "nothing was written")
	}
	var exported any
	if s.inputs {
		exported = p.LayerSchema(moduleOf(p, modules))
	} else {
		object, err := p.TypeSchema(name)
		if err != nil {
			return c.failed("%s", err)
		}
		exported = object
	}
	encoder := json.NewEncoder(c.data)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(exported); err != nil {
		return c.failed("%s", err)
	}
	return exitClean
}

// moduleOf returns the one module that is named, or the main one.
func moduleOf(p *opened, modules []string) *check.Module {
	for _, m := range p.Modules() {
		if len(modules) == 1 && m.Path == modules[0] {
			return m
		}
	}
	return p.Unit().Module
}
