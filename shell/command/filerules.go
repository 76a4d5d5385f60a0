package command

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/rule"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/value"
	"knothole/outside/gate"
)

// openRules reads modules of rules that are held over plain files: files, named as on the command line, or modules
// that come with the program. A module of a project may use the other files of that project.
func (c *call) openRules(modules []string, inputs []project.GivenText) (*project.Project, int) {
	root, names := "", slices.Clone(modules)
	for i, name := range modules {
		if standard.Is(name) {
			continue
		}
		exists, isFolder, err := gate.Exists(c.path(name))
		switch {
		case err != nil || !exists || isFolder || !strings.HasSuffix(name, ".knot"):
			return nil, c.failed("%s is not a module of rules\n  name a .knot file, or one that comes with the "+
				"program: %s", name, strings.Join(standard.Names(), ", "))
		case filepath.IsAbs(name):
		default:
			names[i] = c.path(name)
		}
		folder := filepath.Dir(names[i])
		for at := folder; ; at = filepath.Dir(at) { // its project, if it is of one
			if gate.IsFile(filepath.Join(at, project.FileName)) {
				folder = at
				break
			}
			if at == filepath.Dir(at) {
				break
			}
		}
		if root == "" {
			root = folder
		}
		root = above(root, folder)
	}
	for i, name := range names {
		if !standard.Is(name) {
			inside, err := filepath.Rel(root, name)
			if err != nil {
				return nil, c.failed("%s cannot be read: %s", modules[i], plainError(err))
			}
			names[i] = filepath.ToSlash(inside)
		}
	}
	if root == "" { // only modules that come with the program
		root = c.folder
	}
	opened, err := gate.OpenRoot(root)
	if err != nil {
		return nil, c.failed("the directory of the rules cannot be read: %s", plainError(err))
	}
	prefix := c.near(root)
	nameOf := func(name string) string { return path.Join(filepath.ToSlash(prefix), name) }
	return project.LoadRules(opened.Spelled(), names, inputs, nameOf), exitClean
}

// above returns the nearest directory that holds two directories.
func above(a, b string) string {
	for at := a; ; at = filepath.Dir(at) {
		if inside, err := filepath.Rel(at, b); err == nil && inside != ".." &&
			!strings.HasPrefix(inside, ".."+string(filepath.Separator)) || at == filepath.Dir(at) {
			return at
		}
	}
}

// checkFiles checks the documents of files against rules. What is found goes into the report.
func checkFiles(p *project.Project, files []*source.File, report *source.Report) *rule.Result {
	keys := data.Keys{}
	var objects []rule.Object
	for _, file := range files {
		format, _ := data.ReadableFormatOf(file.Path)
		var documents []value.Value
		if format.Streams() {
			documents, _ = data.ReadEach(file, keys, data.Numbers{}) // what is wrong is found when it is validated
		} else if one, findings := data.ReadExact(file, format, keys, data.Numbers{}); !findings.HasErrors() {
			documents = []value.Value{one}
		}
		for _, d := range documents {
			all := schema.Objects(d)
			for _, v := range all {
				o := rule.Object{Path: file.Path, Data: v, Label: file.Path, Span: source.At(v.Origin().Pos())}
				if title := place.Title(v); title != "" && len(documents)+len(all) > 2 {
					o.Label += ": " + title
				}
				objects = append(objects, o)
			}
		}
	}
	key := func(under source.Pos) source.Pos { return keys[under] }
	return rule.Files(p, objects, key, rule.Options{Builtins: builtin.Table}, report)
}
