package project

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"io/fs"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// configuration reads one table of the project file.
type configuration struct {
	*Project
	name  string // such as [project]
	table value.Value
}

// keyOf returns the place of the key under which a value was read, or of the value itself.
func (p *Project) keyOf(v value.Value) source.Span {
	if key, ok := p.keys[v.Origin().Pos()]; ok {
		return source.At(key)
	}
	return source.At(v.Origin().Pos())
}

// known reports the keys of a table that are not among those it may have.
func (c *configuration) known(keys ...string) {
	for i, key := range c.table.Shape().Keys() {
		if slices.Contains(keys, key) {
			continue
		}
		help := source.Suggest(key, keys, "it may have "+strings.Join(keys, ", "))
		c.report(source.UnknownKey, c.keyOf(c.table.Values()[i]), help, "%s has no key %q", c.name, key)
	}
}

// get returns the value of a key when it is there and of the kind; else fallback stands.
func (c *configuration) get(key string, kind value.Kind) (value.Value, bool) {
	v := c.table.Get(key)
	if v.IsAbsent() {
		return v, false
	}
	if v.Kind() != kind {
		c.report(source.WrongType, source.At(v.Origin().Pos()), "", "%s in %s is a %s, not %s", key, c.name, kind,
			v.Show(40))
		return v, false
	}
	return v, true
}

// texts returns the strings of a list.
func (c *configuration) texts(key, what string) []value.Value {
	list, ok := c.get(key, value.List)
	if !ok {
		return nil
	}
	var texts []value.Value
	for _, v := range list.Elements() {
		if v.Kind() != value.String {
			c.report(source.WrongType, source.At(v.Origin().Pos()), "", "%s in %s are %s, not %s", key, c.name, what,
				v.Show(40))
			continue
		}
		texts = append(texts, v)
	}
	return texts
}

func (p *Project) readConfiguration(root value.Value) {
	p.namedLayers = layersIn(root)
	top := &configuration{p, FileName, root}
	top.known("project", "environments", "schemas", "catalogue", "links", "rules", "exemptions", "parity", "compare")
	if table, ok := top.get("compare", value.Record); ok {
		c := &configuration{p, "[compare]", table}
		c.known("keys")
		for _, v := range c.texts("keys", "names of fields") {
			p.ListKeys = append(p.ListKeys, v.Text())
		}
	}
	if table, ok := top.get("project", value.Record); ok {
		c := &configuration{p, "[project]", table}
		c.known("name", "main", "out", "secret_out", "header", "requires")
		if v, ok := c.get("name", value.String); ok {
			p.Name = v.Text()
		}
		if v, ok := c.get("main", value.String); ok {
			u := p.Unit()
			u.Main, u.span, p.mainNamed = c.inside(v, u.Main), source.At(v.Origin().Pos()), true
		}
		if v, ok := c.get("out", value.String); ok {
			p.Out = c.inside(v, p.Out)
			p.named["out"] = source.At(v.Origin().Pos())
			if p.Out == "." {
				c.report(source.OutsideProject, source.At(v.Origin().Pos()), "set another directory",
					"rendered files need a directory of their own")
			}
		}
		if v, ok := c.get("secret_out", value.String); ok {
			p.SecretOut = c.inside(v, p.SecretOut)
			p.named["secret_out"] = source.At(v.Origin().Pos())
		}
		if overlap(p.SecretOut, p.Out) || overlap(p.Out, p.SecretOut) {
			c.report(source.OutsideProject, p.keyOf(table), "name another directory with out, or with secret_out",
				"documents would be written to %s, and secret ones to %s: they must not share a directory", p.Out,
				p.SecretOut)
			p.Out, p.SecretOut = "rendered", ".knothole/secret"
		}
		if v, ok := c.get("header", value.Bool); ok {
			p.Header = v.Bool()
		}
		if v, ok := c.get("requires", value.String); ok {
			p.Requires, p.RequiresSpan = v.Text(), source.At(v.Origin().Pos())
		}
	}
	if table, ok := top.get("environments", value.Record); ok {
		for i, name := range table.Shape().Keys() {
			p.readEnvironment(name, table.Values()[i])
		}
	}
	p.readAssociations(top)
	byFolder := map[string]*Environment{}
	for _, e := range p.Environments {
		folder := source.FoldName(e.Name)
		if first := byFolder[folder]; first != nil && !e.Abstract {
			p.Findings.Add(source.Finding{Code: source.SamePath, Span: e.Span, Help: "give one of them another name",
				Message: fmt.Sprintf("%s and %s are the same directory on file systems that ignore case", first.Name, e.Name),
				Related: []source.Related{{Span: first.Span, Text: "the first"}}})
		} else if !e.Abstract {
			byFolder[folder] = e
		}
	}
	p.resolveExtends()
	p.readOutputs()
	p.readRules(top)
	p.readLinks(top)
	p.readParity(top)
	p.chooseMain()
}

// chooseMain makes the main module of the first environment that of the project, when none is named and no environment
// is rendered from the usual one, so that this need not be there.
func (p *Project) chooseMain() {
	concrete := p.Concrete()
	if !p.mainNamed && len(concrete) > 0 &&
		!slices.ContainsFunc(concrete, func(e *Environment) bool { return e.main == "" }) {
		p.Unit().Main, p.Unit().span = concrete[0].main, concrete[0].mainSpan
	}
	for _, e := range p.Environments {
		if e.Unit = p.Unit(); e.main != "" {
			e.Unit = p.unit(e.main, e.mainSpan)
		}
	}
}

// inside returns a path of the configuration, cleaned, when it stays inside the project.
func (c *configuration) inside(v value.Value, fallback string) string {
	clean := path.Clean(v.Text())
	ofGit := func(part string) bool { return strings.EqualFold(part, ".git") }
	if slices.ContainsFunc(strings.Split(clean, "/"), ofGit) {
		c.report(source.OutsideProject, source.At(v.Origin().Pos()), "name another directory",
			"%q leads into a directory of git", v.Text())
		return fallback
	}
	if v.Text() == "" || !fs.ValidPath(clean) {
		c.report(source.OutsideProject, source.At(v.Origin().Pos()),
			"paths are relative to the project and stay inside it", "%q is not a path inside the project", v.Text())
		return fallback
	}
	return clean
}

// overlap reports whether a path is a directory or lies in it, where names that differ in case are one.
func overlap(name, folder string) bool {
	name, folder = strings.ToLower(name), strings.ToLower(folder)
	return name == folder || folder == "." || strings.HasPrefix(name, folder+"/")
}

// Reserved reports whether a part of a path belongs to the program or to git, on every file system.
func Reserved(part string) bool {
	lower := strings.ToLower(part)
	return strings.HasPrefix(lower, ".knothole") || lower == ".git" || strings.HasPrefix(lower, "git~")
}

// readLayer reads one entry of the layers of an environment: a path, or a path and the one input whose value the file
// is.
func (c *configuration) readLayer(v value.Value) *Layer {
	span := source.At(v.Origin().Pos())
	switch v.Kind() {
	case value.String:
		if clean := c.inside(v, ""); clean != "" {
			return c.layer(clean, "", span)
		}
	case value.Record:
		inner := &configuration{c.Project, "a layer of " + c.name, v}
		if slices.ContainsFunc([]string{"environment", "environments", "tagged"},
			func(key string) bool { return !v.Get(key).IsAbsent() }) {
			return inner.readOutputsLayer(v, span)
		}
		inner.known("file", "into")
		file, ok := inner.get("file", value.String)
		into, okInto := inner.get("into", value.String)
		if file.IsAbsent() || into.IsAbsent() {
			c.report(source.MissingField, span,
				`write: { file = "PATH", into = "INPUT" }, or { environment = "ENV", into = "INPUT" }`,
				"a layer that is one input's value names its file and the input")
		}
		if !ok || !okInto {
			return nil
		}
		if clean := inner.inside(file, ""); clean != "" {
			l := c.layer(clean, into.Text(), source.At(file.Origin().Pos()))
			if !l.intoSpan.IsValid() {
				l.intoSpan = source.At(into.Origin().Pos())
			}
			return l
		}
	default:
		c.report(source.WrongType, span,
			`write a path, { file = "PATH", into = "INPUT" } or { environment = "ENV", into = "INPUT" }`,
			"layers in %s are paths of files, not %s", c.name, v.Show(40))
	}
	return nil
}

// namesOfFolders is the help for the names of environments.
const namesOfFolders = `use letters, digits, "-", "_" and "."; the name is also a directory name`

// environmentName reports whether a name can be that of an environment, which is also the name of a directory.
func environmentName(name string) bool {
	for i := 0; i < len(name); i++ {
		c := name[i]
		if !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || i > 0 &&
			(c == '-' || c == '_' || c == '.')) {
			return false
		}
	}
	return name != ""
}

func (p *Project) readEnvironment(name string, table value.Value) {
	e := &Environment{Name: name, Span: p.keyOf(table)}
	if table.Kind() != value.Record {
		p.report(source.WrongType, source.At(table.Origin().Pos()),
			fmt.Sprintf("write a table: [environments.%s]", name), "the environment %q is a table, not %s", name,
			table.Show(40))
		return
	}
	if !environmentName(name) {
		p.report(source.BadName, e.Span, namesOfFolders,
			"%q cannot be the name of an environment", name)
		return
	}
	if why := source.UnfitName(name); why != "" {
		p.report(source.BadName, e.Span, "give it another name", "%q cannot be the name of an environment: %s", name, why)
		return
	}
	c := &configuration{p, fmt.Sprintf("[environments.%s]", name), table}
	c.known("abstract", "extends", "main", "layers", "tags", "secrets")
	if v, ok := c.get("main", value.String); ok {
		e.main, e.mainSpan = c.inside(v, ""), source.At(v.Origin().Pos())
	}
	if v, ok := c.get("abstract", value.Bool); ok {
		e.Abstract = v.Bool()
	}
	if v, ok := c.get("extends", value.String); ok {
		e.extends = v
	}
	for _, v := range c.texts("tags", "strings") {
		e.Tags = append(e.Tags, v.Text())
		e.ownTags = append(e.ownTags, v.Text())
	}
	if list, ok := c.get("layers", value.List); ok {
		for _, v := range list.Elements() {
			if l := c.readLayer(v); l != nil {
				e.Layers = append(e.Layers, l)
			}
		}
	}
	if v, ok := c.get("secrets", value.Record); ok {
		p.readSecrets(e, v, fmt.Sprintf("[environments.%s.secrets]", name), nil)
	}
	p.Environments = append(p.Environments, e)
}

// layersIn returns the files that are layers of some environment.
func layersIn(root value.Value) map[string]bool {
	named := map[string]bool{}
	for _, e := range root.Get("environments").Values() {
		if e.Kind() != value.Record {
			continue
		}
		for _, l := range e.Get("layers").Elements() {
			if l.Kind() == value.Record {
				l = l.Get("file")
			}
			if l.Kind() == value.String {
				named[path.Clean(l.Text())] = true
			}
		}
	}
	return named
}

// layer reads a layer; one that several environments share is read once.
func (p *Project) layer(name, into string, span source.Span) *Layer {
	key := layerKey{name, into}
	if l, ok := p.layers[key]; ok {
		return l
	}
	l := &Layer{Path: name, Into: into, Bad: true}
	p.layers[key] = l
	format, ok := data.FormatOf(name)
	if !ok || !format.Readable() {
		p.report(source.UnknownFormat, span, "layers end in "+source.Either(data.ReadableExtensions()),
			"%s has no file extension of a known format", name)
		return l
	}
	if real := p.realName(name); overlap(real, p.SecretOut) || slices.ContainsFunc(strings.Split(real, "/"), Reserved) {
		p.report(source.OutsideProject, span, "keep layers among the sources of the project",
			"%s belongs to the program or to git and cannot be a layer", name)
		return l
	}
	d := p.readData(name, format, span)
	if into != "" && !d.root.IsAbsent() {
		l.Bad, l.Root = false, value.RecordOf(value.NewShape([]string{into}), []value.Value{d.root}, d.root.Origin())
		return l
	}
	p.fill(l, d.root, d.findings)
	return l
}

// fill gives a layer the contents of its file.
func (p *Project) fill(l *Layer, root value.Value, findings source.Findings) {
	l.findings = findings
	if findings.HasErrors() {
		return
	}
	if root.IsNull() {
		root = value.Value{}
	}
	if !root.IsAbsent() && root.Kind() != value.Record {
		l.findings.Add(source.Finding{Code: source.WrongType, Span: source.At(root.Origin().Pos()),
			Help:    "write: name: value",
			Message: fmt.Sprintf("a layer is a mapping of inputs to values, not %s", root.Kind().Article())})
		return
	}
	l.Root, l.Bad = root, false
}

// maxExtends is how many environments may extend each other in a row.
const maxExtends = 100

// depth counts the environments that an environment extends, one by way of the other, up to one too many.
func depth(e *Environment) (n int) {
	seen := map[*Environment]bool{}
	for at := e.Extends; at != nil && n <= maxExtends && !seen[at]; at = at.Extends {
		seen[at] = true
		n++
	}
	return n
}

// resolveExtends finds the environments that others extend, reports cycles and unites tags.
func (p *Project) resolveExtends() {
	names := make([]string, len(p.Environments))
	for i, e := range p.Environments {
		names[i] = e.Name
	}
	for _, e := range p.Environments {
		if e.extends.IsAbsent() {
			continue
		}
		span := source.At(e.extends.Origin().Pos())
		e.Extends = p.Environment(e.extends.Text())
		if e.Extends == nil {
			help := source.Suggest(e.extends.Text(), names, "environments are "+strings.Join(names, ", "))
			p.report(source.UnknownEnvironment, span, help, "there is no environment %q to extend", e.extends.Text())
			e.broken = true
		}
	}
	for _, e := range p.Environments {
		var trail []string
		if depth(e) > maxExtends {
			p.report(source.TooDeep, source.At(e.extends.Origin().Pos()), "put what they share into layers",
				"%s extends more than %d environments, one by way of the other", e.Name, maxExtends)
			e.broken = true
		}
		for at := e; at != nil && !at.broken; at = at.Extends {
			if slices.Contains(trail, at.Name) {
				if at == e {
					p.report(source.Cycle, source.At(e.extends.Origin().Pos()), "one of them must not extend another",
						"environments extend each other in a cycle: %s", strings.Join(append(trail, at.Name), " → "))
				}
				for _, name := range trail {
					p.Environment(name).broken = true
				}
				break
			}
			trail = append(trail, at.Name)
		}
	}
	for _, e := range p.Environments {
		if e.broken {
			e.Extends = nil
		}
	}
	for _, e := range p.Environments {
		for at := e.Extends; at != nil; at = at.Extends {
			e.Tags = append(e.Tags, at.Tags...)
			if e.main == "" {
				e.main, e.mainSpan = at.main, at.mainSpan
			}
		}
		slices.Sort(e.Tags)
		e.Tags = slices.Compact(e.Tags)
	}
}
