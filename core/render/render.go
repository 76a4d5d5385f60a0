// Package render turns an environment into documents. It exists to decide which documents there are, where they go
// and in which format, and to find everything that stands against writing them.
package render

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/value"
)

// Document is one rendered document.
type Document struct {
	eval.Document
	Format data.Format
	Open   bool // some of it is not known yet
}

// Text returns the document as it is written.
func (d *Document) Text() ([]byte, error) {
	v := d.Value
	if d.Open {
		v = value.WithPlaceholders(v)
	}
	if d.Stream {
		return data.WriteStream(v)
	}
	return data.Write(v, d.Format)
}

// Options say what to render.
type Options struct {
	// Only selects documents by path; nil takes all. What only other documents need is not evaluated.
	Only func(path string) bool
	// Everything also evaluates what no document needs, to find what is wrong with it.
	Everything bool
	// Made is called for each document that was evaluated, from any goroutine; nil for nobody.
	Made func()
	// Recording makes the values of the documents know what they depend on.
	Recording bool
	// Validate also validates the documents against the schemas that the project has for them.
	Validate bool
	// Outputs also evaluates the outputs of the main module.
	Outputs bool
	// Then is called with each result before it is passed on, from any goroutine; nil for nothing.
	Then func(*Result)
}

// Output is a named output with its value.
type Output struct {
	Object *check.Object
	Value  value.Value
}

// Result is what an environment renders to.
type Result struct {
	Run        *project.Run
	Documents  []Document // as declared
	Remarks    []string   // as declared
	Outputs    []Output   // as declared, when they were asked for
	Findings   source.Findings
	Unchecked  []eval.Unchecked
	Unresolved []Unresolved
	Validation Validation      // when that was asked for
	Violations source.Findings // of schemas
	World      *eval.World     // in which it was evaluated; nil when there is nothing to evaluate
}

// MissingSecrets returns an error for each document that depends on a secret that was not read. A run that reads
// secrets must not write a placeholder in the place of one.
func (r *Result) MissingSecrets() (findings source.Findings) {
	for _, d := range r.Documents {
		if !value.Walk([]value.Value{d.Value}, func(v value.Value) bool {
			return v.Mark()&(value.Secret|value.Later|value.Unknown) != value.Secret|value.Unknown
		}) {
			findings.Add(source.Finding{Code: source.SecretUnavailable, Span: d.Span,
				Message:      fmt.Sprintf("%s depends on a secret that was not read", d.Path),
				Environments: []string{r.Run.Name}})
		}
	}
	return findings
}

// Recorder returns the record of what the values depend on; nil unless that was recorded.
func (r *Result) Recorder() *eval.Recorder {
	if r == nil || r.World == nil {
		return nil
	}
	return r.World.Recorder()
}

// Environment renders the environment of a run. Findings of declarations that are the same in all environments are not
// among those of the result, but among Program.Constants of the project.
func Environment(run *project.Run, options Options) *Result {
	if run.Unit.Module == nil {
		return &Result{Run: run}
	}
	r := World(run, run.World(options.Recording), options)
	nameRead(r, options)
	return r
}

// World is Environment for a world that is there already. What is wrong is said to be so in the environment.
func World(run *project.Run, w *eval.World, options Options) *Result {
	p, main := run.Unit.Project, run.Unit.Module
	r := &Result{Run: run}
	places := map[string]taken{}
	visit := eval.Visitor{
		Document: func(d *eval.Document) { r.document(d, places, options) },
		Remark:   func(text value.Value) { r.Remarks = append(r.Remarks, text.Text()) },
	}
	for _, o := range main.Order {
		switch {
		case o.Kind == check.ObjectDocument || o.Kind == check.ObjectStatement:
			w.Visit(o, visit)
		case options.Outputs && o.Kind == check.ObjectOutput && main.Objects[o.Name] == o:
			if v, ok := w.Value(o); ok {
				r.Outputs = append(r.Outputs, Output{o, v})
			}
		case options.Everything && o.Global >= 0 && o.Kind != check.ObjectInput:
			w.Value(o)
		}
	}
	for _, m := range p.Modules() {
		if m != main {
			others(w, m, options.Everything, func(o *check.Object) bool { return !o.NeedsInput })
		}
	}
	r.World = w
	r.patch(options)
	r.finish()
	r.Unresolved = r.unresolved()
	if options.Validate && p.HasSchemas() {
		r.validate(p)
	}
	w.Complete(options.Everything)
	r.Findings = append(r.Findings, w.Findings()...)
	r.Unchecked = w.Unchecked()
	return r
}

// others evaluates what a module that is used must hold although nothing asks for it: its requirements, and with
// everything its values. What depends on its inputs is evaluated in its instances.
func others(w *eval.World, m *check.Module, everything bool, wanted func(o *check.Object) bool) {
	nothing := eval.Visitor{Document: func(*eval.Document) {}, Remark: func(value.Value) {}}
	for _, o := range m.Order {
		switch {
		case !wanted(o):
		case o.Kind == check.ObjectStatement && check.ContentsOf(o.Declaration).Requires:
			w.Visit(o, nothing)
		case everything && o.Global >= 0:
			w.Value(o)
		}
	}
}

func (r *Result) report(code source.Code, span source.Span, help string, related []source.Related, format string,
	arguments ...any) {
	r.Findings.Add(source.Finding{Code: code, Span: span, Message: fmt.Sprintf(format, arguments...), Help: help,
		Related: related, Environments: []string{r.Run.Name}})
}

// taken is a path that a document takes, or a directory that it is in.
type taken struct {
	name   string
	span   source.Span
	via    []source.Related
	folder bool
}

// document evaluates one document, unless something stands against it.
func (r *Result) document(d *eval.Document, places map[string]taken, options Options) {
	name, span, via := d.Path, d.Span, d.Included()
	if !r.checkPath(name, span, via) {
		return
	}
	// Two paths that differ only in the case of letters, or in how these are composed, are one file on some machines.
	folded := source.FoldName(name)
	if first, ok := places[folded]; ok && !first.folder {
		message := fmt.Sprintf("two documents are rendered to %s", name)
		if first.name != name {
			message += fmt.Sprintf(" and %s, which is one file on file systems that ignore case", first.name)
		}
		related := append([]source.Related{{Span: first.span, Text: "the first"}}, first.via...)
		if first.span == span {
			related = slices.Clone(first.via) // a loop that does not change the path, or instances in one directory
		}
		for _, at := range via {
			if !slices.Contains(related, at) {
				related = append(related, at)
			}
		}
		r.report(source.SamePath, span, "give one of them another path", related, "%s", message)
		return
	}
	here := taken{name, span, via, false}
	if first, ok := places[folded]; ok {
		r.clash(here, first)
		return
	}
	places[folded] = here
	for i := strings.LastIndexByte(folded, '/'); i > 0; i = strings.LastIndexByte(folded[:i], '/') {
		above, ok := places[folded[:i]]
		switch {
		case ok && above.folder: // so that all above it are noted, too
		case ok:
			r.clash(above, here)
			return
		default:
			places[folded[:i]] = taken{name, span, via, true}
			continue
		}
		break
	}
	format, ok := data.FormatOf(path.Base(name))
	if d.As != "" {
		format, ok = data.FormatOf(d.As)
	}
	if !ok {
		r.report(source.UnknownFormat, span,
			`end the path with .yaml, .json, .toml, .env or .txt, or write "as" and a format, such as txt`, via,
			"%s has no file extension of a known format", name)
		return
	}
	if options.Only != nil && !options.Only(name) {
		return
	}
	d.Evaluate()
	if options.Made != nil {
		options.Made()
	}
	r.Documents = append(r.Documents, Document{Document: *d, Format: format})
}

// clash reports a document at whose path a directory with another is needed.
func (r *Result) clash(file, inside taken) {
	related := append([]source.Related{{Span: file.span, Text: "the document"}}, file.via...)
	r.report(source.SamePath, inside.span, "give one of them another path", append(related, inside.via...),
		"%s is a document, so that it cannot be the directory of %s", file.name, inside.name)
}

// patch lets the patches of all documents do their work.
func (r *Result) patch(options Options) {
	partial := options.Only != nil
	var whole []*eval.Document
	for i := range r.Documents {
		if d := &r.Documents[i]; d.Failed {
			partial = true
		} else {
			whole = append(whole, &d.Document)
		}
	}
	r.World.Patch(r.Run.Unit.Module, whole, partial)
}

// finish keeps the documents in the result that their formats can hold.
func (r *Result) finish() {
	all := r.Documents
	r.Documents = all[:0]
	for _, d := range all {
		if !d.Failed && !d.Removed && r.holds(&d) {
			r.Documents = append(r.Documents, d)
		}
	}
}

// holds reports what a document cannot hold, and whether there is nothing of it.
func (r *Result) holds(d *Document) bool {
	v, name, span, format := d.Value, d.Path, d.Span, d.Format
	if d.Stream && (!format.Streams() || v.Kind() != value.List) {
		help, what := "end the path with .yaml or .yml", "only YAML files hold several documents"
		if format.Streams() {
			help, what = "", "a stream is a list of documents, not "+v.Show(40)
		}
		r.report(source.CannotHold, span, help, d.Included(), "%s: %s", name, what)
		return false
	}
	if r.Run.Unit.Project.Marked() {
		marks := value.Marks(v)
		d.Open = marks&value.Unknown != 0
		if marks&value.Secret != 0 && !d.Secret {
			r.exposed(d)
			return false
		}
	}
	problems := data.Check(v, format)
	for _, problem := range problems {
		at := source.At(r.World.Recorder().Pos(problem.Origin))
		r.report(source.CannotHold, at, problem.Help, append([]source.Related{{Span: span, Text: "in this document"}},
			d.Included()...), "%s: %s", name, problem.Message)
	}
	return problems == nil
}

// exposed reports a secret in a document that is not.
func (r *Result) exposed(d *Document) {
	found, _ := eval.FindSecret(d.Value, nil)
	span, related := source.At(r.World.Recorder().Pos(found.Value.Origin())),
		source.Related{Span: d.Span, Text: "in this document"}
	if !r.Run.Unit.Project.InSource(span) { // a layer or a reference is not what has to change
		span, related = d.Span, source.Related{Span: span, Text: "the secret comes from here"}
	}
	f := check.ExposedInDocument(span, d.Path, found.Path.String())
	f.Related, f.Environments = append([]source.Related{related}, d.Included()...), []string{r.Run.Name}
	r.Findings.Add(f)
}

// checkPath reports a path that does not stay inside the directory of the environment or that not every file system
// takes.
func (r *Result) checkPath(name string, span source.Span, via []source.Related) bool {
	help := ""
	switch {
	case name == "":
		help = "name a file"
	case strings.HasPrefix(name, "/"):
		help = "paths are relative to the directory of the environment: leave the first / out"
	case strings.Contains(name, "\\"):
		help = "directories are separated by /"
	case path.Clean(name) != name || name == "." || name == ".." || strings.HasPrefix(name, "../"):
		help = "paths stay inside the directory of the environment and have no ., .. or double /"
	}
	for _, c := range name {
		plain := c >= ' ' && c <= '~' // what most names consist of is in none of the tables
		if strings.ContainsRune(`<>:"|?*`, c) || !plain && unicode.In(c, unicode.Cc, unicode.Cf, unicode.Zl, unicode.Zp) {
			help = fmt.Sprintf("not every file system allows the character %s in a path", source.DescribeRune(c))
		}
	}
	for _, part := range strings.Split(name, "/") {
		if project.Reserved(part) {
			help = "names that begin with .knothole belong to the program, and .git to git"
		}
		if len(part) > 255 {
			help = "the names of files and directories have at most 255 bytes"
		}
		if why := source.UnfitName(part); why != "" {
			help = why
		}
	}
	if help == "" {
		return true
	}
	shown := name
	if len(shown) > 80 {
		shown = shown[:80] + "…"
	}
	r.report(source.BadPath, span, help, via, "%q is not a valid path for a document", shown)
	return false
}
