package project

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/value"
)

// Editor changes the layers of an environment. It keeps what it changes to itself, so that everything can be checked
// before anything is written.
type Editor struct {
	project     *Project
	unit        *Unit
	environment *Environment
	among       []*Environment    // for which the changes are made, if there are several
	in          string            // the layer to change; empty to choose
	texts       map[string]string // by path
	originals   map[string]string // what the files said that are changed
	order       []string
	names       []string       // of the inputs that were set
	layers      []*Layer       // in which they were set
	set         []*Environment // for which they were set
	unset       []string       // the inputs that were unset
	edited      *Project
}

// Edit begins to change the layers of an environment. In is the layer to change; empty for the right one of each input.
func (p *Project) Edit(e *Environment, in string) *Editor {
	return &Editor{project: p, unit: e.Unit, environment: e, in: in,
		texts: map[string]string{}, originals: map[string]string{}}
}

// Among says that the changes are made for several environments, so that a layer that only they have is changed. They
// must have the same main module.
func (e *Editor) Among(all []*Environment) error {
	for _, other := range all {
		if other.Unit != e.unit {
			return fmt.Errorf("%s and %s have different main modules: set their inputs one after the other",
				e.environment.Name, other.Name)
		}
	}
	e.among = all
	return nil
}

// For goes on with another environment.
func (e *Editor) For(environment *Environment) { e.environment = environment }

// run returns the run of the environment.
func (e *Editor) run() *Run { return e.project.Run(e.environment) }

// own returns the layers that only this environment has, or only those for which the changes are made, weakest first.
// Layers that are the value of one input are not among them.
func (e *Editor) own() Layers {
	var own Layers
	for _, l := range e.environment.Layers {
		shared := l.Into != ""
		for _, other := range e.project.Environments {
			named := other == e.environment || slices.Contains(e.among, other)
			shared = shared || !named && slices.Contains(other.Layers, l)
		}
		if !shared {
			own = append(own, l)
		}
	}
	return own
}

// layer returns the layer in which an input is to be changed.
func (e *Editor) layer(path []string) (*Layer, error) {
	all := e.run().AllLayers()
	if e.in != "" {
		for _, l := range all {
			if l.Path == e.in && l.Into == "" {
				return l, nil
			}
		}
		var names []string
		for _, l := range all {
			if l.Into == "" {
				names = append(names, l.Path)
			}
		}
		return nil, fmt.Errorf("%s is not a layer of %s: its layers are %s", e.in, e.environment.Name,
			strings.Join(names, ", "))
	}
	own := e.own()
	for l := range own.With(path) {
		return l, nil
	}
	if len(own) > 0 {
		return own[len(own)-1], nil
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s has no layer: add one in %s, [environments.%s]: layers = [\"inputs/%s.yaml\"]",
			e.environment.Name, FileName, e.environment.Name, e.environment.Name)
	}
	files := e.environment.files()
	if len(files) == 0 {
		return nil, fmt.Errorf("%s has no layer of its own: add one in %s, [environments.%s]", e.environment.Name,
			FileName,
			e.environment.Name)
	}
	return nil, fmt.Errorf("all layers of %s are those of other environments too: choose one with --in %s, or add "+
		"one of its own", e.environment.Name, files[len(files)-1].Path)
}

// text returns what a layer says, with what was changed so far.
func (e *Editor) text(l *Layer) (string, error) {
	if text, ok := e.texts[l.Path]; ok {
		return text, nil
	}
	if text, ok := e.originals[l.Path]; ok {
		return text, nil
	}
	text, err := fs.ReadFile(e.project.files, l.Path)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return "", fmt.Errorf("the layer %s is not there: create it, empty if it is to have this value only",
				l.Path)
		}
		return "", fmt.Errorf("%s cannot be read: %w", l.Path, unwrapped(err))
	}
	e.originals[l.Path] = string(text)
	return string(text), nil
}

func (e *Editor) keep(l *Layer, text string) {
	// Lines end as they did.
	if before, err := e.text(l); err == nil && strings.Contains(before, "\r\n") &&
		strings.Count(before, "\r\n") == strings.Count(before, "\n") {
		text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\n", "\r\n")
	}
	if _, ok := e.texts[l.Path]; !ok {
		e.order = append(e.order, l.Path)
	}
	e.texts[l.Path] = text
}

// settable returns an input, or a field of one, that may be given by a layer, and the layer that is to give it.
func (e *Editor) settable(name string) (*Input, *Layer, error) {
	in, err := e.unit.InputNamed(name)
	if err != nil {
		return nil, nil, err
	}
	if in.Secret {
		return nil, nil, fmt.Errorf("%q is secret, and secrets must not be stored in layers: name its source in %s, "+
			"[environments.%s.secrets]", name, FileName, e.environment.Name)
	}
	for _, path := range SecretFields(in.Type) {
		return nil, nil, fmt.Errorf("%q has the secret field %q, and secrets must not be stored in layers: set its "+
			"other fields one by one", name, strings.Join(path, "."))
	}
	for _, told := range e.environment.written() {
		if told.Outputs != nil && told.Into == in.Path[0] && e.in == "" {
			return nil, nil, fmt.Errorf("%s has %q from the %s: set what they are computed from there",
				e.environment.Name, in.Path[0], told.Path)
		}
	}
	l, err := e.layer(in.Path)
	return in, l, err
}

// Take gives one input, or a field of one, the value that it has in another environment.
func (e *Editor) Take(name string, from *Environment) error {
	in, l, err := e.settable(name)
	if err != nil {
		return err
	}
	run := e.project.Run(from)
	v := run.Settings(run.World(false), in).Value
	if v.IsAbsent() {
		return fmt.Errorf("%s has no value in %s", name, from.Name)
	}
	return e.put(in, l, v)
}

// Set changes one input, or a field of one. The text is read as its type.
func (e *Editor) Set(name, text string) error {
	in, l, err := e.settable(name)
	if err != nil {
		return err
	}
	file, err := e.project.Sources.Add("the value of "+name, []byte(text))
	if err != nil {
		return err
	}
	v, findings := readTyped(file, in.Type, data.Keys{})
	if findings.HasErrors() {
		return fmt.Errorf("%s: %s", name, findings[0].Message)
	}
	if found := secretsIn(v, in.Type, false, nil); len(found) > 0 {
		return fmt.Errorf("%s: %s is secret, and secrets must not be stored in layers", name, found[0].path)
	}
	return e.put(in, l, v)
}

// Unset takes what a layer says of one input, or a field of one, out of it, so that what holds without it does: what a
// weaker layer says, or the default.
func (e *Editor) Unset(name string) error {
	in, err := e.unit.InputNamed(name)
	if err != nil {
		return err
	}
	l, err := e.giving(in)
	if err != nil {
		return err
	}
	before, err := e.text(l)
	if err != nil {
		return err
	}
	layerFile, err := source.NewSet().Add(l.Path, []byte(before))
	if err != nil {
		return err
	}
	format, _ := data.FormatOf(l.Path)
	after, err := data.Remove(layerFile, format, in.Path)
	if err != nil {
		return fmt.Errorf("%s: %s: %w", l.Path, name, err)
	}
	e.keep(l, after)
	e.unset = append(e.unset, name)
	return nil
}

// giving returns the layer that is to say nothing of an input any more: the strongest of the environment's own that
// does.
func (e *Editor) giving(in *Input) (*Layer, error) {
	all := e.run().AllLayers()
	if e.in != "" {
		l, err := e.layer(in.Path)
		if err == nil && l.At(in.Path).IsAbsent() {
			err = fmt.Errorf("%s says nothing of %s", l.Path, in.Name())
		}
		return l, err
	}
	for l := range e.own().With(in.Path) {
		return l, nil
	}
	for l := range all.With(in.Path) {
		if l.Into == "" {
			return nil, fmt.Errorf("%s has %s from %s, which other environments have too: --in %s takes it out for "+
				"all", e.environment.Name, in.Name(), l.Path, l.Path)
		}
		if l.Into == in.Path[0] {
			return nil, fmt.Errorf("%s has %s from %s, which is the value of %s: change it there", e.environment.Name,
				in.Name(), l.Path, l.Into)
		}
	}
	return nil, fmt.Errorf("no layer of %s says anything of %s", e.environment.Name, in.Name())
}

// Unset is an input that was unset, and what holds now.
type Unset struct {
	Name  string
	Value value.Value // Absent when there is none
	At    source.Pos  // where it is from; no place for the default
}

// Missing is an input that has no value any more in an environment, and must have one.
type Missing struct{ Environment, Name string }

// Missing returns what is missing with the changes and was not without. It is asked after Result.
func (e *Editor) Missing() (all []Missing) {
	for _, environment := range e.edited.Concrete() {
		var before []string
		if was := e.project.RunNamed(environment.Name); was != nil {
			for _, o := range was.Missing() {
				before = append(before, o.Name)
			}
		}
		for _, o := range e.edited.Run(environment).Missing() {
			if !slices.Contains(before, o.Name) {
				all = append(all, Missing{environment.Name, o.Name})
			}
		}
	}
	return all
}

// Unsets returns the inputs that were unset, in that order. It is asked after Result.
func (e *Editor) Unsets() (all []Unset) {
	run := e.edited.RunNamed(e.environment.Name)
	if run == nil || len(e.unset) == 0 {
		return nil
	}
	w := run.World(false)
	for _, name := range e.unset {
		in, err := run.Unit.InputNamed(name)
		if err != nil {
			continue
		}
		said := run.Settings(w, in)
		one := Unset{Name: name, Value: said.Value}
		if n := len(said.All); n > 0 {
			one.At = said.All[n-1].At
		}
		all = append(all, one)
	}
	return all
}

// put writes a value of an input into a layer.
func (e *Editor) put(in *Input, l *Layer, v value.Value) error {
	name := in.Name()
	before, err := e.text(l)
	if err != nil {
		return err
	}
	format, _ := data.FormatOf(l.Path)
	if v.IsNull() && !format.HasNull() {
		return fmt.Errorf("%s: TOML has no null: remove the line from %s by hand, or keep the value in a YAML layer",
			name, l.Path)
	}
	layerFile, err := source.NewSet().Add(l.Path, []byte(before))
	if err != nil {
		return err
	}
	after, err := data.Set(layerFile, format, in.Path, v)
	if record := recordOf(in.Type); err != nil && record != nil && len(record.Fields) > 0 {
		return fmt.Errorf("%s: %s: %w, or set its fields one by one: %s.%s=…", l.Path, name, err, name,
			record.Fields[0].Name)
	}
	if err != nil {
		return fmt.Errorf("%s: %s: %w", l.Path, name, err)
	}
	e.keep(l, after)
	e.names, e.layers, e.set = append(e.names, name), append(e.layers, l), append(e.set, e.environment)
	return nil
}

// Result returns the files that were changed, and what is wrong with the inputs that were set. When anything is, the
// findings are those of Edited.
func (e *Editor) Result() (files map[string]string, wrong source.Findings, err error) {
	edited, err := LoadWith(&overlay{e.project.files, e.texts}, Loading{Rules: true, After: e.project.Snapshot})
	if err != nil {
		return nil, nil, err
	}
	e.edited = edited
	// An input is wrong in each environment that has the layer.
	for _, environment := range edited.Environments {
		changed, run := false, edited.Run(environment)
		for _, l := range run.AllLayers() {
			_, ok := e.texts[l.Path]
			changed = changed || ok
			if ok {
				wrong = append(wrong, l.findings...)
				// What is changed is shown, with the lines around it.
				wrong = append(wrong, environment.Unit.checkSecrets(nil, []*Layer{l})...)
			}
		}
		named := slices.ContainsFunc(e.set, func(of *Environment) bool { return of.Name == environment.Name })
		if !changed || environment.Abstract && !named && environment.Name != e.environment.Name {
			continue
		}
		// What was unset is on no line any more: what is wrong without it is wherever it is asked for.
		before := e.before(environment.Name)
		anywhere := len(e.unset) > 0 && !before.HasErrors()
		for _, f := range run.World(false).Findings() {
			if e.wasWrong(before, f) {
				continue // who mends one of several errors need not mend all of them
			}
			if file := edited.Sources.File(f.Span.Start); file != nil && f.Severity == source.Error {
				if _, ok := e.texts[file.Path]; ok || anywhere {
					wrong = append(wrong, f)
				}
			}
		}
	}
	return e.texts, source.ReportOf(wrong...).Findings(edited.Sources), nil
}

// before returns what is wrong with the inputs of an environment without the changes.
func (e *Editor) before(environment string) source.Findings {
	before := e.project.RunNamed(environment)
	if before == nil {
		return nil
	}
	return before.World(false).Findings()
}

// wasWrong reports whether something was wrong before, with what is not set now.
func (e *Editor) wasWrong(before source.Findings, f source.Finding) bool {
	set := func(name string) bool {
		return name == f.Input || strings.HasPrefix(name, f.Input+".") || strings.HasPrefix(f.Input, name+".")
	}
	return !slices.ContainsFunc(e.names, set) && slices.ContainsFunc(before, func(was source.Finding) bool {
		return was.Code == f.Code && was.Message == f.Message
	})
}

// Project returns the project from which the changes begin.
func (e *Editor) Project() *Project { return e.project }

// Before returns what a file said from which the changes begin.
func (e *Editor) Before(name string) string { return e.originals[name] }

// Overridden is an input that was set in a layer, but is given by a stronger one.
type Overridden struct {
	Name        string
	Environment string // for which it was set
	Layer       string // in which it was set
	By          source.Pos
}

// Overridden returns the inputs that were set to no effect, in the order in which they were set. It is asked after
// Result.
func (e *Editor) Overridden() []Overridden {
	var all []Overridden
	for i, name := range e.names {
		run := e.edited.RunNamed(e.set[i].Name)
		if run == nil {
			continue
		}
		in, err := run.Unit.InputNamed(name)
		if err != nil {
			continue
		}
		said := run.Settings(run.World(false), in).All
		set := slices.IndexFunc(said,
			func(s Setting) bool { return s.Layer != nil && s.Layer.Path == e.layers[i].Path })
		if set < 0 {
			continue // it was taken back
		}
		if last := said[len(said)-1]; !value.Identical(last.Value, said[set].Value) {
			all = append(all, Overridden{name, run.Name, e.layers[i].Path, last.At})
		}
	}
	return all
}

// Edited returns the project as it is with the changes.
func (e *Editor) Edited() *Project { return e.edited }

// overlay is files of which some have other contents.
type overlay struct {
	fs.FS
	texts map[string]string
}

// ReadFile reads a file.
func (o *overlay) ReadFile(name string) ([]byte, error) {
	if text, ok := o.texts[name]; ok {
		return []byte(text), nil
	}
	return fs.ReadFile(o.FS, name)
}
