// Package project reads a project: its file, the modules and data that its main module leads to, its environments
// and their layers. It exists to bring together what belongs to one evaluation, and to report what does not fit
// together.
package project

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/flow"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/standard"
	"knothole/core/syntax"
	"knothole/core/value"
)

// FileName is the name of the project file.
const FileName = "knothole.toml"

// Project is one project, as far as it could be read.
type Project struct {
	*Snapshot
	Name         string
	Out          string                 // folder for rendered files, relative to the project
	SecretOut    string                 // folder for secret ones
	named        map[string]source.Span // where the two are named, by their keys
	Header       bool                   // rendered files say what made them
	Requires     string                 // the oldest version of the program that can read the project; empty for any
	RequiresSpan source.Span
	ListKeys     []string       // fields by which comparisons know elements of lists, before the common ones
	Environments []*Environment // in the order of the project file, abstract ones included
	Units        []*Unit        // the main modules; first that of the project
	// Findings is what is wrong with the project file and the modules, whatever the environment.
	Findings source.Findings

	ctx       context.Context // ends what is evaluated; nil for none
	file      *source.File    // the project file
	mainNamed bool            // it names the main module
	layers    map[layerKey]*Layer
	// namedLayers are the files that are layers of some environment, whether they are there or not.
	namedLayers map[string]bool
	schemas     *schemas
	parity      []Parity
	runs        map[*Environment]*Run // to which nothing is given

	rules      []*RuleModule
	exemptions []*Exemption
	links      []*Link
}

// Environment is what the project file says of one environment. It does not change; what one run gives is in a Run.
type Environment struct {
	Name     string
	Unit     *Unit // of its main module
	Abstract bool
	Extends  *Environment // nil when it stands for itself
	Layers   []*Layer     // its own, weakest first
	Tags     []string     // its own and those of what it extends, sorted
	Span     source.Span  // of its name in the project file

	extends value.Value // the name as written, until it is resolved
	broken  bool
	ownTags []string // without those of what it extends
	secrets []*Reference
	// brokenSecrets are the inputs whose references have an error.
	brokenSecrets map[string]bool

	main     string // its own main module; empty for that of the project
	mainSpan source.Span
}

// Layer is one file of values, or the outputs of other environments.
type Layer struct {
	Path    string      // what tables call it, when it is no file
	Into    string      // the one input whose value it is; empty when it holds a value for each
	Outputs *Chosen     // whose outputs it is; nil for a file
	Root    value.Value // Absent when the file is empty or could not be read
	Bad     bool        // could not be read
	Given   bool        // for this run only
	Secret  bool        // gives a secret input its value

	intoSpan source.Span

	findings source.Findings // what is wrong with the file
}

// layerKey is by what a layer is read once.
type layerKey struct{ path, into string }

// dataFile is a file of data, which is read once for all that use it.
type dataFile struct {
	root     value.Value
	findings source.Findings
}

// Loading says how to load a project.
type Loading struct {
	// Modules are read besides those that the main modules lead to.
	Modules []string
	// Rules also reads the modules of rules of the project.
	Rules bool
	// Context ends the loading, and what is evaluated of the project; nil for none.
	Context context.Context
	// After is a snapshot that was made before, with which the new one shares what is the same; nil for none.
	After *Snapshot
}

// Load reads a project, with its rules, and with modules that its main module does not lead to if they are named. The
// error is not nil only when there is no project file; everything else that is wrong is in the findings of the project.
func Load(files fs.FS, modules ...string) (*Project, error) {
	return LoadWith(files, Loading{Modules: modules, Rules: true})
}

// LoadWith is Load with options. The error is also that of the context.
func LoadWith(files fs.FS, how Loading) (*Project, error) {
	p := &Project{Snapshot: newSnapshot(files, how.After), ctx: how.Context,
		layers: map[layerKey]*Layer{}, schemas: &schemas{},
		named: map[string]source.Span{}}
	p.checked.Schemas, p.checked.Cancelled = p, p.cancelled
	text, err := fs.ReadFile(files, FileName)
	if err != nil {
		return nil, err
	}
	file, err := p.addFile(FileName, text)
	if err != nil {
		return nil, err
	}
	p.file = file
	configuration := p.parseData(file, data.TOML)
	root := configuration.root
	p.Findings = append(p.Findings, configuration.findings...)
	p.Out, p.SecretOut = "rendered", ".knothole/secret"
	p.unit("main.knot", file.Span(0, 0))
	if !root.IsAbsent() {
		p.readConfiguration(root)
	}
	if !how.Rules {
		p.rules, p.exemptions, p.links = nil, nil, nil
	}
	p.loadProgram(how.Modules, how.Rules)
	if p.cancelled() {
		return nil, p.Context().Err()
	}
	p.makeRuns()
	p.checkDestinations()
	for _, l := range p.layers {
		p.Unit().hideResembling(l)
	}
	return p, nil
}

// Context ends what is evaluated of the project.
func (p *Project) Context() context.Context {
	if p.ctx == nil {
		return context.Background()
	}
	return p.ctx
}

// cancelled reports whether the context of the project has ended.
func (p *Project) cancelled() bool { return p.Context().Err() != nil }

// checkDestinations reports directories for rendered files that hold sources of the project.
func (p *Project) checkDestinations() {
	for _, f := range p.Files() {
		for _, at := range [][2]string{{"out", p.Out}, {"secret_out", p.SecretOut}} {
			if span := p.named[at[0]]; span.IsValid() && strings.HasPrefix(f.Path, at[1]+"/") {
				p.report(source.OutsideProject, span, "set another directory",
					"%s is %s, which contains sources of the project, such as %s", at[0], at[1], f.Path)
				return
			}
		}
	}
}

// Marked reports whether values of the project may be secret, or known only after deployment.
func (p *Project) Marked() bool { return p.checked.Marked() }

// Tracked reports whether a finding of evaluation is a secret that the checker has followed to the same place.
func (p *Project) Tracked(f source.Finding) bool {
	if len(f.Environments) == 0 || f.Code != source.SecretExposed && f.Code != source.HiddenDecision {
		return false
	}
	return p.checked.Tracked[f.Span.Start] ||
		slices.ContainsFunc(f.Related, func(r source.Related) bool { return p.checked.Tracked[r.Span.Start] })
}

// InSource reports whether a place is in a module.
func (p *Project) InSource(at source.Span) bool {
	return at.IsValid() && p.sources[p.Sources.File(at.Start)]
}

// Concrete returns the environments that are rendered: those that are not abstract.
func (p *Project) Concrete() []*Environment {
	var concrete []*Environment
	for _, e := range p.Environments {
		if !e.Abstract {
			concrete = append(concrete, e)
		}
	}
	return concrete
}

// Environment returns the environment with a name, nil when there is none.
func (p *Project) Environment(name string) *Environment {
	for _, e := range p.Environments {
		if e.Name == name {
			return e
		}
	}
	return nil
}

func (p *Project) report(code source.Code, span source.Span, help, format string, arguments ...any) {
	p.Findings.Add(source.Finding{Code: code, Span: span, Message: fmt.Sprintf(format, arguments...), Help: help})
}

// unwrapped takes the operation and the path off an error of a file system.
func unwrapped(err error) error {
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return pathError.Err
	}
	return err
}

// read adds a file to the sources. Span is where it is asked for. ok is false when it cannot be read, which is
// reported, or the loading was cancelled.
func (p *Project) read(name string, span source.Span) (file *source.File, ok bool) {
	if p.cancelled() {
		return nil, false
	}
	text, err := fs.ReadFile(p.files, name)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			if err = unwrapped(err); errors.Is(err, source.ErrLeadsOut) {
				p.report(source.OutsideProject, span, "everything a project uses must be inside it; copy the file",
					"%s is, or is reached through, a link that leads out of the project", name)
				return nil, false
			}
			p.report(source.NoFile, span, "", "%s cannot be read: %s", name, err)
			return nil, false
		}
		help := ""
		near, found := p.nearestFile(name)
		switch {
		case p.namedLayers[name] && (!found || p.namedLayers[near]): // whose values are those of another environment
			help = "create it, or take it out of layers"
		case found:
			help = source.DidYouMean(near)
		case name == p.Unit().Main:
			help = `write it, or name another module in [project]: main = "…"`
		}
		p.report(source.NoFile, span, help, "there is no file %s in the project", name)
		return nil, false
	}
	if p.nameOf != nil {
		name = p.nameOf(name)
	}
	file, err = p.addFile(name, text)
	if err != nil {
		p.report(source.TooMuchWork, span, "", "%s", err)
		return nil, false
	}
	return file, true
}

// readData reads a file of data. Span is where it is asked for; what is wrong with it is among its findings.
func (p *Project) readData(name string, format data.Format, span source.Span) *dataFile {
	if d, ok := p.data[name]; ok {
		return d
	}
	d := &dataFile{}
	p.data[name] = d
	others := p.Findings
	p.Findings = nil
	file, ok := p.read(name, span)
	d.findings, p.Findings = p.Findings, others
	if ok {
		*d = *p.parseData(file, format)
	}
	return d
}

// nearestFile looks in the directory of a file for one with a name like it.
func (p *Project) nearestFile(name string) (string, bool) {
	entries, err := fs.ReadDir(p.files, path.Dir(name))
	if err != nil {
		return "", false
	}
	var names []string
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	near, ok := source.Nearest(path.Base(name), names)
	if !ok {
		return "", false
	}
	return path.Join(path.Dir(name), near), true
}

type moduleState struct {
	module  *check.Module
	loading bool
	bad     bool
}

// loadProgram reads the main module, others that are named, and all that they lead to, and checks them.
func (p *Project) loadProgram(modules []string, withRules bool) {
	for _, e := range p.Concrete() {
		p.checked.Environments = append(p.checked.Environments, e.Name)
		for _, tag := range e.Tags {
			if !slices.Contains(p.checked.Tags, tag) {
				p.checked.Tags = append(p.checked.Tags, tag)
			}
		}
	}
	l := &loader{Project: p, values: map[*syntax.Use]value.Value{}}
	for i, u := range p.Units {
		if u.Module = l.module(u.Main, u.span, nil); u.Module == nil && i == 0 {
			return
		}
	}
	l.loadRules()
	for _, name := range modules {
		l.module(name, p.Unit().span, nil)
	}
	l.checkAll(nil, withRules)
}

// checkAll checks all modules that were read, and makes a program of them. Given is called when their types are known.
func (l *loader) checkAll(given func(), withRules bool) {
	p := l.Project
	p.Findings = append(p.Findings, check.Check(p.checked)...)
	if p.cancelled() {
		return // not all modules were checked
	}
	if given != nil {
		given()
	}
	if withRules {
		l.checkRules()
	}
	p.Findings = append(p.Findings, flow.Secrets(p.checked)...)
	values := map[*check.Object]value.Value{}
	for _, m := range p.checked.Modules {
		for _, o := range m.Order {
			if d, ok := o.Declaration.(*syntax.Use); ok {
				if v, ok := l.values[d]; ok {
					values[o] = v
				}
			}
		}
	}
	p.Program = eval.New(p.checked, builtin.Table, values, eval.Keys(p.keys))
	p.Findings = append(p.Findings, p.Program.TryLiterals()...)
	p.remember()
}

// loader reads modules depth first, so that each is in the program after those that it uses.
type loader struct {
	*Project
	values map[*syntax.Use]value.Value // the contents of data files
}

// module reads a module and those it uses; trail are the modules that lead to it.
func (l *loader) module(name string, span source.Span, trail []string) *check.Module {
	if s, ok := l.modules[name]; ok {
		if s.loading {
			from := slices.Index(trail, name)
			circle := append(slices.Clone(trail[from:]), name)
			l.report(source.Cycle, span, "move what both need into a third module",
				"modules use each other in a cycle: %s", strings.Join(circle, " → "))
			return nil
		}
		if s.bad {
			return nil
		}
		return s.module
	}
	state := &moduleState{loading: true}
	l.modules[name] = state
	defer func() { state.loading = false }()
	file, ok := l.readModule(name, span)
	if !ok {
		state.bad = true
		return nil
	}
	l.sources[file] = true
	tree := l.parse(file)
	l.Findings = append(l.Findings, tree.Findings...)
	m := &check.Module{Path: name, Tree: tree, Imports: map[*syntax.Use]*check.Import{}}
	for _, d := range tree.Declarations {
		if use, ok := d.(*syntax.Use); ok && !use.Broken {
			m.Imports[use] = l.use(m, use, append(slices.Clone(trail), name))
		}
	}
	l.role(m)
	m = l.known(m)
	state.module = m
	l.checked.Modules = append(l.checked.Modules, m)
	return m
}

// role says what a module is in the project: a main module, or one whose rules are in force.
func (p *Project) role(m *check.Module) {
	m.Main = slices.ContainsFunc(p.Units, func(u *Unit) bool { return u.Main == m.Path })
	m.Enforced = !m.Main && slices.ContainsFunc(p.rules, func(r *RuleModule) bool { return r.Path == m.Path })
	for _, e := range p.Concrete() {
		if e.Unit == nil || e.Unit.Main != m.Path {
			continue
		}
		m.Environments = append(m.Environments, e.Name)
		for _, tag := range e.Tags {
			if !slices.Contains(m.Tags, tag) {
				m.Tags = append(m.Tags, tag)
			}
		}
	}
}

// readModule reads the text of a module: a file of the project, or one that comes with the program.
func (l *loader) readModule(name string, span source.Span) (*source.File, bool) {
	if !standard.Is(name) {
		return l.read(name, span)
	}
	text, ok := standard.Read(name)
	if !ok {
		l.report(source.NoFile, span, source.Suggest(name, standard.Names(),
			"there are "+strings.Join(standard.Names(), ", ")), "no module %q comes with the program", name)
		return nil, false
	}
	file, err := l.addFile(name, text)
	if err != nil {
		l.report(source.TooMuchWork, span, "", "%s", err)
		return nil, false
	}
	return file, true
}

// use reads what a `use` leads to.
func (l *loader) use(m *check.Module, use *syntax.Use, trail []string) *check.Import {
	failed := &check.Import{Failed: true}
	name, ok := l.resolve(m.Path, use.Path, use.PathSpan)
	if !ok {
		return failed
	}
	if why := l.apart(name); why != "" && !strings.Contains(name, "*") {
		l.report(source.OutsideProject, use.PathSpan, "keep what is used among the sources of the project", "%s %s",
			name, why)
		return failed
	}
	switch {
	case strings.Contains(name, "*"):
		return l.usePattern(name, use)
	case use.Form != "":
		return l.useForm(name, use)
	case use.IsModule():
		module := l.module(name, use.PathSpan, trail)
		return &check.Import{Module: module, Failed: module == nil}
	}
	format, ok := data.FormatOf(name)
	if !ok || !format.Readable() {
		l.report(source.UnknownFormat, use.PathSpan, "modules end in .knot, data in "+
			source.Either(data.ReadableExtensions()),
			"this path has no file extension of a known format")
		return failed
	}
	d := l.readData(name, format, use.PathSpan)
	l.Findings = append(l.Findings, d.findings...)
	if d.root.IsAbsent() && !d.findings.HasErrors() {
		l.report(source.BadData, use.PathSpan, "", "%s is empty", name)
	}
	if d.root.IsAbsent() {
		return failed
	}
	l.values[use] = d.root
	return &check.Import{}
}

// useForm reads a file for `use stream`, `use text` or `use bytes`.
func (l *loader) useForm(name string, use *syntax.Use) *check.Import {
	if use.Form == "bytes" {
		// Bytes are not text, so that nothing can point into them.
		text, err := fs.ReadFile(l.files, name)
		if err != nil {
			l.read(name, use.PathSpan) // which reports it
			return &check.Import{Failed: true}
		}
		l.values[use] = value.StringOf(base64.StdEncoding.EncodeToString(text), value.From(use.PathSpan.Start))
		return &check.Import{}
	}
	if format, ok := data.FormatOf(name); use.Form == "stream" && (!ok || !format.Streams()) {
		l.report(source.UnknownFormat, use.PathSpan, "only YAML files hold several documents", "%s is not a YAML file",
			name)
		return &check.Import{Failed: true}
	}
	file, ok := l.read(name, use.PathSpan)
	if !ok {
		return &check.Import{Failed: true}
	}
	var v value.Value
	var findings source.Findings
	if use.Form == "text" {
		v, findings = data.ReadText(file)
	} else {
		v, findings = data.ReadStream(file, l.keys)
	}
	l.Findings = append(l.Findings, findings...)
	if v.IsAbsent() {
		return &check.Import{Failed: true}
	}
	l.values[use] = v
	return &check.Import{}
}

// usePattern reads all files of data that match a pattern, as a record by their paths from the root of the project.
func (l *loader) usePattern(pattern string, use *syntax.Use) *check.Import {
	failed := &check.Import{Failed: true}
	if use.Form != "" {
		l.report(source.Syntax, use.PathSpan, "name one file", "a pattern cannot be read with use %s", use.Form)
		return failed
	}
	var b value.Builder
	ok := true
	// The part before the first star leads to the directory below which everything is looked at.
	root := path.Dir(pattern[:strings.IndexByte(pattern, '*')] + "x")
	err := fs.WalkDir(l.files, root, func(name string, entry fs.DirEntry, err error) error {
		if err == nil && entry.IsDir() && name != root && l.apart(name) != "" {
			return fs.SkipDir
		}
		if err != nil || entry.IsDir() || !place.Match(pattern, name) || l.apart(name) != "" {
			return err
		}
		format, known := data.FormatOf(name)
		if !known || !format.Readable() {
			l.report(source.UnknownFormat, use.PathSpan, "narrow the pattern",
				"the pattern matches %s, which has no file extension of a data format", name)
			ok = false
			return nil
		}
		d := l.readData(name, format, use.PathSpan)
		l.Findings = append(l.Findings, d.findings...)
		if d.root.IsAbsent() {
			ok = false
			return nil
		}
		b.Set(name, d.root)
		return nil
	})
	switch {
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		l.report(source.NoFile, use.PathSpan, "", "%s cannot be read: %s", root, err)
		return failed
	case ok && b.Len() == 0:
		l.report(source.NoFile, use.PathSpan, "* matches part of a name, ** any directories",
			"no file of the project matches %q", use.Path)
		return failed
	case !ok:
		return failed
	}
	l.values[use] = b.Record(value.From(use.PathSpan.Start))
	return &check.Import{}
}

// apart says why a module may not use a file, or returns "". What was rendered would make the next
// rendering depend on the last, what is secret would come back without its mark, and names that begin with a point are
// those of other programs. Links are followed to what they lead to.
func (p *Project) apart(name string) string {
	real := p.realName(name)
	for _, part := range strings.Split(real, "/") {
		if strings.HasPrefix(part, ".") && part != "." {
			return "has a name that begins with a point: such files are not used"
		}
	}
	switch {
	case overlap(real, p.Out):
		return "is what is rendered to, which is not used"
	case overlap(real, p.SecretOut):
		return "is where secret documents are written to, which is not used"
	}
	for _, e := range p.Environments {
		for _, r := range e.secrets {
			if (r.Kind == "file" || r.Kind == "age") && strings.EqualFold(p.realName(r.Target), real) {
				return "holds a secret, which is not used"
			}
		}
	}
	return ""
}

// maxLinks is how many links may lead from one to the next.
const maxLinks = 40

// realName follows the links in a path, as far as they stay inside of the project and the files can tell.
func (p *Project) realName(name string) string {
	files, ok := p.files.(fs.ReadLinkFS)
	if !ok {
		return name
	}
	done, rest := ".", name
	for range maxLinks {
		part, behind, _ := strings.Cut(rest, "/")
		next := path.Join(done, part)
		if info, err := files.Lstat(next); err == nil && info.Mode()&fs.ModeSymlink != 0 {
			if to, err := files.ReadLink(next); err == nil && !path.IsAbs(to) {
				joined := path.Join(done, to, behind)
				if !fs.ValidPath(joined) {
					return name // it leads out, and is not read
				}
				done, rest = ".", joined
				continue
			}
		}
		if done, rest = next, behind; rest == "" {
			return done
		}
	}
	return name
}

// resolve turns the path of a `use` into a path from the root of the project.
func (l *loader) resolve(from, written string, span source.Span) (string, bool) {
	var name string
	switch {
	case strings.HasPrefix(written, "./") || strings.HasPrefix(written, "../"):
		name = path.Join(path.Dir(from), written)
	case strings.HasPrefix(written, "/"):
		name = path.Clean(strings.TrimPrefix(written, "/"))
	case standard.Is(written):
		return written, true
	default:
		l.report(source.NoFile, span, fmt.Sprintf("a file beside this one is written %q", "./"+written),
			"the path %q names a package, and the project has none", written)
		return "", false
	}
	if name == ".." || strings.HasPrefix(name, "../") || !fs.ValidPath(name) {
		l.report(source.OutsideProject, span, "only files of the project can be used", "%q leads out of the project",
			written)
		return "", false
	}
	return name, true
}

// Modules returns all modules of the project, each after those that it uses.
func (p *Project) Modules() []*check.Module { return p.checked.Modules }
