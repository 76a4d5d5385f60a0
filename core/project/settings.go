package project

import (
	"fmt"
	"strings"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// Input is an input of a module, or a field of one that has a value of its own: of an input that is a record with
// declared fields each field is one.
type Input struct {
	Object      *check.Object
	Path        []string // from the name of the input
	Type        types.Type
	Description string
	Span        source.Span // where it is declared
	Secret      bool
	Later       bool
	Default     string      // as written in the module; empty when there is none
	Literal     value.Value // the default, when it is a literal
	Deprecated  string

	hasDefault bool
	optional   bool
}

// Name returns the name with the path in it.
func (in *Input) Name() string { return (&Reference{Path: in.Path}).Name() }

// Required reports whether every environment must give it a value.
func (in *Input) Required() bool { return !in.hasDefault && !in.optional && !in.Later }

// Setting is what one source says about an input in an environment.
type Setting struct {
	Layer     *Layer     // nil for a secret reference
	Reference *Reference // nil for a layer
	Value     value.Value
	At        source.Pos
}

// Settings is what an environment says about an input.
type Settings struct {
	All     []Setting   // weakest first; empty when the default holds
	Value   value.Value // that holds; Absent when there is none, or a wrong one
	Repeats bool        // the strongest source says what would hold without it
}

// InputsOf returns the inputs of a module, those of records field by field.
func (p *Project) InputsOf(m *check.Module) []*Input {
	var all []*Input
	for _, o := range m.Order {
		d, ok := o.Declaration.(*syntax.Input)
		if !ok || m.Objects[o.Name] != o || d.Broken {
			continue
		}
		_, later := Placeholder(o)
		in := &Input{Object: o, Path: []string{o.Name}, Type: o.Type, Description: d.Description, Span: o.Span,
			Secret: d.Secret, Later: later, Deprecated: d.Deprecated}
		in.setDefault(m, d.Default)
		all = append(all, in.fields(p.checked, m, nil)...)
	}
	return all
}

func (in *Input) setDefault(m *check.Module, e syntax.Expression) {
	if e == nil {
		return
	}
	in.Default, in.hasDefault = m.Tree.File.Slice(e.Place()), true
	switch e := e.(type) {
	case *syntax.Null:
		in.Literal = value.NullOf(0)
	case *syntax.Bool:
		in.Literal = value.BoolOf(e.Value, 0)
	case *syntax.Int:
		in.Literal = value.IntOf(e.Value, 0)
	case *syntax.Float:
		in.Literal = value.FloatOf(e.Value, 0)
	case *syntax.String:
		if text, plain := e.Plain(); plain {
			in.Literal = value.StringOf(text, 0)
		}
	}
}

// fields returns the fields of an input that is a record, or the input itself.
func (in *Input) fields(p *check.Program, m *check.Module, seen []*types.Record) []*Input {
	core := recordOf(in.Type)
	if core == nil || in.Secret || in.Later || types.MayBeNull(in.Type) || len(core.Fields) == 0 || core.Rest != nil {
		return []*Input{in}
	}
	for _, t := range seen {
		if t == core {
			return []*Input{in}
		}
	}
	seen = append(seen, core)
	var all []*Input
	for i := range core.Fields {
		f := &core.Fields[i]
		inner := &Input{
			Object: in.Object, Path: append(append([]string(nil), in.Path...), f.Name), Type: f.Type,
			Description: f.Description, Span: f.Span,
			Secret: f.Secret, Deprecated: f.Deprecated, optional: f.Optional,
		}
		if f.Default != nil {
			declared := p.Default(f.Default)
			inner.setDefault(declared.Module, declared.Expression)
		}
		if in.hasDefault && !inner.hasDefault {
			inner.hasDefault, inner.Default = true, in.Default
			if r, ok := in.Object.Declaration.(*syntax.Input).Default.(*syntax.Record); ok && len(in.Path) == 1 {
				for _, entry := range r.Entries {
					if entry.Key != nil && entry.Key.Value == nil && entry.Key.Name == f.Name {
						inner.setDefault(m, entry.Value)
					}
				}
			}
		}
		all = append(all, inner.fields(p, m, seen)...)
	}
	return all
}

// Limits returns the conditions that a value of the input must satisfy.
func (in *Input) Limits() []*types.Condition {
	var all []*types.Condition
	t := in.Type
	for limited := types.AsLimited(t); limited != nil; limited = types.AsLimited(t) {
		for _, c := range limited.Conditions {
			if c.Schema == nil {
				all = append(all, c)
			}
		}
		t = limited.Base
	}
	if union := types.AsUnion(t); union != nil {
		for _, m := range union.Members {
			all = append(all, (&Input{Type: m}).Limits()...)
		}
	}
	return all
}

// Settings returns what an environment says about an input; the world is that of the environment.
func (p *Project) Settings(e *Environment, w *eval.World, in *Input) Settings {
	p = p.Of(e)
	var s Settings
	before := in.Literal
	for _, l := range e.AllLayers() {
		if l.Root.IsAbsent() {
			continue
		}
		v := at(l.Root, in.Path)
		if v.IsAbsent() || v.IsNull() && !types.MayBeNull(in.Type) && !in.optional {
			continue // "not given here"
		}
		s.Repeats = !before.IsAbsent() && value.Identical(v, before)
		before = v
		s.All = append(s.All, Setting{Layer: l, Value: shownSafely(v, in.Type, in.Secret), At: p.keyOf(v).Start})
	}
	if last := len(s.All) - 1; in.Secret && (last < 0 || !s.All[last].Layer.Secret) {
		if last < 0 || s.All[last].Layer.Outputs == nil {
			s.All, s.Repeats = nil, false
		}
		for _, r := range e.Secrets() {
			if r.Name() == in.Name() || len(r.Path) == 1 && r.Path[0] == in.Path[0] {
				s.All = append(s.All,
					Setting{Reference: r, Value: value.UnknownOf(value.String, value.Hidden, value.Secret, 0),
						At: r.Span.Start})
			}
		}
	}
	if v, ok := w.Value(in.Object); ok {
		s.Value = at(v, in.Path[1:])
	}
	return s
}

// InputNamed returns the input with a name, which may be that of a record whose fields are inputs of their own; then
// only its object, path and type are known. The error says what is near.
func (p *Project) InputNamed(name string) (*Input, error) {
	path, err := SplitName(name)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, in := range p.InputsOf(p.Module) {
		if in.Name() == name {
			return in, nil
		}
		names = append(names, in.Name())
	}
	o := p.Module.Objects[path[0]]
	if o == nil || o.Kind != check.ObjectInput {
		help := source.Suggest(name, names, "its inputs are "+strings.Join(names, ", "))
		return nil, fmt.Errorf("%s has no input %q [%s]\n  %s", p.Module.Path, path[0], source.UnknownInput, help)
	}
	in := &Input{Object: o, Path: path, Type: o.Type, Span: o.Span, Secret: IsSecret(o)}
	_, in.Later = Placeholder(o)
	for i, key := range path[1:] {
		record := recordOf(in.Type)
		if record == nil && types.Core(in.Type) == types.Any {
			in.Type = types.Any // of which nothing is known
			continue
		}
		if record == nil {
			return nil, fmt.Errorf("the input %q is not a record, so it has no field %q",
				(&Reference{Path: path[:i+1]}).Name(), key)
		}
		f, ok := record.Field(key)
		switch {
		case ok:
			in.Type, in.Secret, in.optional = f.Type, in.Secret || f.Secret, f.Optional
		case record.Rest != nil:
			in.Type = record.Rest
		default:
			help := ""
			if near, ok := source.Nearest(key, record.FieldNames()); ok {
				help = "\n  " + source.DidYouMean(near)
			}
			return nil, fmt.Errorf("the input %q has no field %q [%s]%s", (&Reference{Path: path[:i+1]}).Name(), key,
				source.UnknownField, help)
		}
	}
	return in, nil
}

// SplitName splits a name of an input into its keys, such as `labels."app.example/part"`.
func SplitName(name string) ([]string, error) {
	file, err := source.NewSet().Add("", []byte(name+" = 0"))
	if err != nil {
		return nil, err
	}
	// The names of inputs are written as keys of TOML are.
	v, findings := data.Read(file, data.TOML, nil)
	if findings.HasErrors() || v.Kind() != value.Record {
		return nil, fmt.Errorf("%q is not the name of an input: write names separated by points, such as replicas.bay_map",
			name)
	}
	var path []string
	for v.Kind() == value.Record && v.Len() == 1 {
		path = append(path, v.Shape().Keys()[0])
		v = v.Values()[0]
	}
	return path, nil
}
