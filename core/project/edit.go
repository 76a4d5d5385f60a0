package project

import (
	"fmt"
	"io/fs"
	"path"
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
	environment *Environment
	in          string            // the layer to change; empty to choose
	texts       map[string]string // by path
	before      map[string]string // what the files said that are changed
	order       []string
	names       []string // of the inputs that were set
	layers      []*Layer // in which they were set
	edited      *Project
}

// Edit begins to change the layers of an environment. In is the layer to change; empty for the right one of each input.
func (p *Project) Edit(e *Environment, in string) *Editor {
	return &Editor{project: p, environment: e, in: in, texts: map[string]string{}, before: map[string]string{}}
}

// own returns the layers that only this environment has, weakest first; those that are one input's value are not
// among them.
func (e *Editor) own() []*Layer {
	var own []*Layer
	for _, l := range e.environment.Layers {
		shared := l.Into != ""
		for _, other := range e.project.Environments {
			shared = shared || other != e.environment && slices.Contains(other.Layers, l)
		}
		if !shared {
			own = append(own, l)
		}
	}
	return own
}

// layer returns the layer in which an input is to be changed.
func (e *Editor) layer(path []string) (*Layer, error) {
	all := e.environment.AllLayers()
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
	for _, l := range slices.Backward(own) {
		if v := at(l.Root, path); !l.Root.IsAbsent() && !v.IsAbsent() {
			return l, nil
		}
	}
	if len(own) > 0 {
		return own[len(own)-1], nil
	}
	if len(all) == 0 {
		return nil, fmt.Errorf("%s has no layer: add one in %s, [environments.%s]: layers = [\"inputs/%s.yaml\"]",
			e.environment.Name, FileName, e.environment.Name, e.environment.Name)
	}
	return nil, fmt.Errorf("all layers of %s are those of other environments too: choose one with --in %s, or add "+
		"one of its own", e.environment.Name, all[len(all)-1].Path)
}

// text returns what a layer says, with what was changed so far.
func (e *Editor) text(l *Layer) (string, error) {
	if text, ok := e.texts[l.Path]; ok {
		return text, nil
	}
	if text, ok := e.before[l.Path]; ok {
		return text, nil
	}
	text, err := fs.ReadFile(e.project.files, l.Path)
	if err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", l.Path, err)
	}
	e.before[l.Path] = string(text)
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

// Set changes one input, or a field of one. The text is read as its type.
func (e *Editor) Set(name, text string) error {
	in, err := e.project.InputNamed(name)
	if err != nil {
		return err
	}
	if in.Secret {
		return fmt.Errorf("%q is secret, and secrets must not be stored in layers: name its source in %s, "+
			"[environments.%s.secrets]", name, FileName, e.environment.Name)
	}
	for _, path := range SecretFields(in.Type) {
		return fmt.Errorf("%q has the secret field %q, and secrets must not be stored in layers: set its other fields one "+
			"by one", name, strings.Join(path, "."))
	}
	l, err := e.layer(in.Path)
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
	before, err := e.text(l)
	if err != nil {
		return err
	}
	format, _ := data.FormatOf(l.Path)
	if v.IsNull() && format == data.TOML {
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
	e.names, e.layers = append(e.names, in.Name()), append(e.layers, l)
	return nil
}

// Result returns the files that were changed, and what is wrong with the inputs that were set. When anything is, the
// findings are those of Edited.
func (e *Editor) Result() (files map[string]string, wrong source.Findings, err error) {
	edited, err := Load(&overlay{e.project.files, e.texts})
	if err != nil {
		return nil, nil, err
	}
	e.edited = edited
	// An input is wrong in each environment that has the layer.
	for _, environment := range edited.Environments {
		changed := false
		for _, l := range environment.AllLayers() {
			_, ok := e.texts[l.Path]
			changed = changed || ok
			if ok {
				wrong = append(wrong, l.findings...)
				// What is changed is shown, with the lines around it.
				wrong = append(wrong, edited.checkSecrets(nil, []*Layer{l})...)
			}
		}
		if !changed || environment.Abstract && environment.Name != e.environment.Name {
			continue
		}
		w := edited.World(environment, false)
		for _, f := range w.Findings() {
			if file := edited.Sources.File(f.Span.Start); file != nil {
				if _, ok := e.texts[file.Path]; ok && f.Severity == source.Error {
					wrong = append(wrong, f)
				}
			}
		}
	}
	return e.texts, wrong.Tidy(edited.Sources), nil
}

// Project returns the project from which the changes begin.
func (e *Editor) Project() *Project { return e.project }

// Before returns what a file said from which the changes begin.
func (e *Editor) Before(name string) string { return e.before[name] }

// Overridden is an input that was set in a layer, but is given by a stronger one.
type Overridden struct {
	Name  string
	Layer string // in which it was set
	By    source.Pos
}

// Overridden returns the inputs that were set to no effect, in the order in which they were set. It is asked after
// Result.
func (e *Editor) Overridden() []Overridden {
	var all []Overridden
	environment := e.edited.Environment(e.environment.Name)
	if environment == nil {
		return nil
	}
	w := e.edited.World(environment, false)
	for i, name := range e.names {
		in, err := e.edited.InputNamed(name)
		if err != nil {
			continue
		}
		said := e.edited.Settings(environment, w, in).All
		set := slices.IndexFunc(said,
			func(s Setting) bool { return s.Layer != nil && s.Layer.Path == e.layers[i].Path })
		if set < 0 {
			continue // it was taken back
		}
		if last := said[len(said)-1]; !value.Identical(last.Value, said[set].Value) {
			all = append(all, Overridden{name, e.layers[i].Path, last.At})
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

// HasValue returns whether an environment gives an input a value; for no environment it gives none.
func (p *Project) HasValue(e *Environment) func(*Input) bool {
	return func(in *Input) bool {
		if e == nil {
			return false
		}
		for _, l := range e.AllLayers() {
			if v := at(l.Root, in.Path); !l.Root.IsAbsent() && !v.IsAbsent() {
				return true
			}
		}
		return false
	}
}

// Blank returns a layer to fill in: inputs that must be decided first, then as comments those that need not be, with
// their default. Has tells which inputs have a value already.
func Blank(inputs []*Input, format string, has func(*Input) bool) string {
	var required, optional []*Input
	for _, in := range inputs {
		switch {
		case in.Secret || in.Later || has(in):
		case in.Required():
			required = append(required, in)
		default:
			optional = append(optional, in)
		}
	}
	if format == "json" {
		var b value.Builder
		root := b.Record(0)
		for _, in := range required {
			root = value.Put(root, in.Path, value.NullOf(0))
		}
		return data.JSONText(root, 2) + "\n"
	}
	if format == "yaml" {
		// The fields of a record stay together: a key is there once.
		var first, last []*Input
		for _, in := range inputs {
			switch {
			case in.Secret || in.Later || has(in):
			case slices.ContainsFunc(required, func(r *Input) bool { return r.Path[0] == in.Path[0] }):
				first = append(first, in)
			default:
				last = append(last, in)
			}
		}
		var b strings.Builder
		writeBlank(&b, append(first, last...), 0, -1)
		return b.String()
	}
	var b strings.Builder
	for i, in := range append(required, optional...) {
		if i > 0 {
			b.WriteByte('\n')
		}
		for _, line := range in.about() {
			b.WriteString("# " + line + "\n")
		}
		b.WriteString(blankLine(in) + "\n")
	}
	return b.String()
}

// about tells an input in comments: its description, type and limits.
func (in *Input) about() []string {
	var lines []string
	if in.Description != "" {
		lines = strings.Split(in.Description, "\n")
	}
	text := in.Type.String()
	if in.Required() {
		text += ", required"
	}
	for _, limit := range in.Limits() {
		text += " where " + strings.Join(strings.Fields(limit.Text), " ")
	}
	return append(lines, text)
}

// blankLine is the line of one input in a TOML layer to fill in. It is a comment, since TOML has no key without a
// value.
func blankLine(in *Input) string {
	if in.Required() {
		return "# " + in.Name() + " ="
	}
	return "# " + in.Name() + " = " + inputDefault(in, "toml")
}

// writeBlank writes inputs as a mapping of YAML, those of one record below each other. What must be decided is a key
// without a value, which says nothing; what need not be is a comment. Comment is the depth at which one has begun; -1
// for none.
func writeBlank(b *strings.Builder, inputs []*Input, depth, comment int) {
	line := func(from int, text string) {
		if from < 0 {
			b.WriteString(strings.Repeat("  ", depth) + text + "\n")
		} else {
			b.WriteString(strings.Repeat("  ", from) + "# " + strings.Repeat("  ", depth-from) + text + "\n")
		}
	}
	for i := 0; i < len(inputs); {
		in, last := inputs[i], i+1
		for len(in.Path) > depth+1 && last < len(inputs) && len(inputs[last].Path) > depth+1 &&
			inputs[last].Path[depth] == in.Path[depth] {
			last++
		}
		if i > 0 && depth == 0 {
			b.WriteByte('\n')
		}
		from, key := comment, data.Literal(value.StringOf(in.Path[depth], 0), data.YAML)+":"
		if from < 0 && !slices.ContainsFunc(inputs[i:last], (*Input).Required) {
			from = depth
		}
		if len(in.Path) > depth+1 {
			line(from, key)
			writeBlank(b, inputs[i:last], depth+1, from)
		} else {
			for _, text := range in.about() {
				line(comment, "# "+text)
			}
			if !in.Required() {
				key += " " + inputDefault(in, "yaml")
			}
			line(from, key)
		}
		i = last
	}
}

// inputDefault writes the default of an input in a format, as it is written in the module when it is not a literal.
func inputDefault(in *Input, format string) string {
	switch {
	case !in.Literal.IsAbsent() && !in.Literal.IsNull():
		return data.Literal(in.Literal, data.Format(format))
	case in.optional && in.Default == "":
		return "…"
	case in.Literal.IsNull() && format == "toml":
		return "…"
	}
	return strings.Join(strings.Fields(in.Default), " ")
}

// NewEnvironment returns the entry of the project file for an environment that is like another, and its own layer:
// the values that the other decides for itself, and inputs without any value, as comments.
func (p *Project) NewEnvironment(name string, like *Environment) (entry, layerPath, layer string, err error) {
	switch {
	case !environmentName(name):
		return "", "", "", fmt.Errorf("%q cannot be the name of an environment: %s", name, namesOfFolders)
	case p.Environment(name) != nil:
		return "", "", "", fmt.Errorf("there is an environment %q already", name)
	}
	e := p.Edit(like, "")
	own := e.own()
	format, folder := "yaml", "inputs"
	if len(own) > 0 {
		last := own[len(own)-1].Path
		format, folder = strings.TrimPrefix(path.Ext(last), "."), path.Dir(last)
	}
	if format == "json" {
		format = "yaml" // what is to be decided stands in comments
	}
	layerPath = path.Join(folder, name+"."+format)
	var layers []string
	for _, l := range like.Layers {
		if l.Into == "" && !slices.Contains(own, l) {
			layers = append(layers, data.Literal(value.StringOf(l.Path, 0), data.TOML))
		}
	}
	layers = append(layers, data.Literal(value.StringOf(layerPath, 0), data.TOML))
	var b strings.Builder
	fmt.Fprintf(&b, "[environments.%s]\n", tomlKey(name))
	if like.Extends != nil {
		fmt.Fprintf(&b, "extends = %q\n", like.Extends.Name)
	}
	fmt.Fprintf(&b, "layers = [%s]\n", strings.Join(layers, ", "))
	if like.Tags != nil && len(like.ownTags) > 0 {
		fmt.Fprintf(&b, "tags = %s\n", data.Literal(textList(like.ownTags), data.TOML))
	}
	for _, l := range like.Layers {
		if l.Into != "" {
			fmt.Fprintf(&b, "# %s has the layer { file = %q, into = %q }\n", like.Name, l.Path, l.Into)
		}
	}
	if len(like.secrets) > 0 {
		fmt.Fprintf(&b, "\n# Where its secrets come from; those of %s:\n# [environments.%s.secrets]\n", like.Name,
			tomlKey(name))
		for _, r := range like.secrets {
			fmt.Fprintf(&b, "# %s = %s\n", r.Name(), r)
		}
	}
	// What the other decides in layers that only it has is to be decided here too, and what has no value.
	has := func(in *Input) bool {
		for _, l := range like.AllLayers() {
			if v := at(l.Root, in.Path); !l.Root.IsAbsent() && !v.IsAbsent() && !slices.Contains(own, l) &&
				l.Into == "" {
				return true
			}
		}
		return false
	}
	var text strings.Builder
	fmt.Fprintf(&text, "# Values of %s. Decide the commented values; they are copied from %s.\n",
		name, like.Name)
	for _, in := range p.InputsOf(p.Module) {
		given := value.Value{}
		for _, l := range own {
			if v := at(l.Root, in.Path); !l.Root.IsAbsent() && !v.IsAbsent() {
				given = v
			}
		}
		if given.IsAbsent() && (has(in) || !in.Required()) || in.Secret || in.Later {
			continue
		}
		text.WriteByte('\n')
		for _, line := range in.about() {
			text.WriteString("# " + line + "\n")
		}
		literal := ""
		if !given.IsAbsent() {
			literal = " " + data.Literal(given, data.Format(format))
		}
		if format == "toml" {
			text.WriteString("# " + in.Name() + " =" + literal + "\n")
			continue
		}
		for i, key := range in.Path {
			line := "# " + strings.Repeat("  ", i) + data.Literal(value.StringOf(key, 0), data.YAML) + ":"
			if i == len(in.Path)-1 {
				line += literal
			}
			text.WriteString(line + "\n")
		}
	}
	return b.String(), layerPath, text.String(), nil
}

func tomlKey(name string) string {
	if strings.Contains(name, ".") {
		return data.Literal(value.StringOf(name, 0), data.TOML)
	}
	return name
}

func textList(texts []string) value.Value {
	elements := make([]value.Value, len(texts))
	for i, s := range texts {
		elements[i] = value.StringOf(s, 0)
	}
	return value.ListOf(elements, 0)
}
