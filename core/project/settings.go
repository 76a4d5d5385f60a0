package project

import (
	"fmt"
	"slices"
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
	Literal     value.Value // the default, when it is a literal, or a list or record of such
	Deprecated  string

	// Parent is the input that it is a field of, or an entry; nil for one that is declared.
	Parent *Input

	hasDefault bool
	optional   bool
	entry      bool           // of a map: there are environments without it
	record     *syntax.Record // the default, when it is written as a record
	meaning    func(types.Type) []string
}

// Name returns the name with the path in it.
func (in *Input) Name() string { return (&Reference{Path: in.Path}).Name() }

// Required reports whether every environment must give it a value.
func (in *Input) Required() bool {
	for of := in.Parent; of != nil; of = of.Parent {
		if of.optional && !of.entry || of.hasDefault {
			return false // it must have one only where that is given
		}
	}
	return in.Needed()
}

// Needed reports whether it must have a value where what it is in is given.
func (in *Input) Needed() bool { return !in.hasDefault && !in.optional && !in.Later }

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
	// Removed says that the strongest source takes away what weaker ones, or the default, say.
	Removed bool
	// Outside says that it is in an entry of a map that the environment does not have.
	Outside bool
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
			Secret: d.Secret, Later: later, Deprecated: d.Deprecated, meaning: p.Meaning}
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
	if record, ok := e.(*syntax.Record); ok && !slices.ContainsFunc(record.Entries, computed) {
		in.record = record
	}
	in.Literal = literal(e)
}

// computed reports whether an entry of a record is more than a name and a value.
func computed(entry *syntax.Entry) bool {
	return entry.Key == nil || entry.Key.Value != nil || entry.Optional
}

// literal returns the value of an expression that is a literal, or a list or record of such; Absent for others.
func literal(e syntax.Expression) value.Value {
	switch e := e.(type) {
	case *syntax.Null:
		return value.NullOf(0)
	case *syntax.Bool:
		return value.BoolOf(e.Value, 0)
	case *syntax.Int:
		return value.IntOf(e.Value, 0)
	case *syntax.Float:
		return value.FloatOf(e.Value, 0)
	case *syntax.String:
		if text, plain := e.Plain(); plain {
			return value.StringOf(text, 0)
		}
	case *syntax.Unary:
		v := literal(e.Operand)
		switch {
		case e.Operator != syntax.Negate:
		case v.Kind() == value.Int:
			return value.IntOf(-v.Int(), 0)
		case v.Kind() == value.Float:
			return value.FloatOf(-v.Float(), 0)
		}
	case *syntax.List:
		elements := make([]value.Value, len(e.Elements))
		for i, entry := range e.Elements {
			if elements[i] = literal(entry.Value); entry.Spread || entry.Optional || elements[i].IsAbsent() {
				return value.Value{}
			}
		}
		return value.ListOf(elements, 0)
	case *syntax.Record:
		var b value.Builder
		for _, entry := range e.Entries {
			v := literal(entry.Value)
			if computed(entry) || v.IsAbsent() {
				return value.Value{}
			}
			b.Set(entry.Key.Name, v)
		}
		return b.Record(0)
	}
	return value.Value{}
}

// fields returns the fields of an input that is a record, or the input itself.
func (in *Input) fields(p *check.Program, m *check.Module, seen []*types.Record) []*Input {
	core := recordOf(in.Type)
	if core == nil || in.Secret || in.Later || types.MayBeNull(in.Type) || len(core.Fields) == 0 || core.Rest != nil {
		return []*Input{in}
	}
	needed := func(f types.Field) bool { return !f.Optional && f.Default == nil }
	if in.hasDefault && in.record == nil && slices.ContainsFunc(core.Fields, needed) {
		return []*Input{in} // who gives one of these fields has to give all of them: the default is one value
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
			Parent: in, meaning: in.meaning, Object: in.Object, Path: append(append([]string(nil), in.Path...),
				f.Name), Type: f.Type,
			Description: f.Description, Span: f.Span,
			Secret: f.Secret, Deprecated: f.Deprecated, optional: f.Optional,
		}
		if f.Default != nil {
			declared := p.Default(f.Default)
			inner.setDefault(declared.Module, declared.Expression)
		}
		if in.record != nil {
			for _, entry := range in.record.Entries {
				if entry.Key.Name == f.Name {
					inner.setDefault(m, entry.Value)
				}
			}
		} else if in.hasDefault && !inner.hasDefault && !inner.optional {
			inner.hasDefault, inner.Default = true, in.Default
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

// Settings returns what the run says about an input; the world is that of the run.
func (r *Run) Settings(w *eval.World, in *Input) Settings {
	var s Settings
	p, before := r.Unit.Project, in.Literal
	for _, l := range r.AllLayers() {
		v := l.At(in.Path)
		if gone := in.takenAwayBy(l); !gone.IsAbsent() {
			s.All, before = append(s.All, Setting{Layer: l, Value: gone, At: p.keyOf(gone).Start}), value.Value{}
			s.Repeats, s.Removed = false, true
			continue
		}
		if effectOf(v, in.Type, in.optional) == givesNothing {
			continue
		}
		s.Removed = false
		s.Repeats = !before.IsAbsent() && value.Identical(v, before)
		before = v
		s.All = append(s.All, Setting{Layer: l, Value: shownSafely(v, in.Type, in.Secret), At: p.keyOf(v).Start})
	}
	if last := len(s.All) - 1; in.Secret && (last < 0 || !s.All[last].Layer.Secret) {
		if last < 0 || s.All[last].Layer.Outputs == nil {
			s.All, s.Repeats = nil, false
		}
		for _, from := range r.References() {
			if from.Name() == in.Name() || len(from.Path) == 1 && from.Path[0] == in.Path[0] {
				s.All = append(s.All,
					Setting{Reference: from, Value: value.UnknownOf(value.String, value.Hidden, value.Secret, 0),
						At: from.Span.Start})
			}
		}
	}
	if v, ok := w.Value(in.Object); ok {
		s.Value = at(v, in.Path[1:])
		for of := in; of != nil; of = of.Parent {
			s.Outside = s.Outside || of.entry && at(v, of.Path[1:]).IsAbsent()
		}
	}
	return s
}

// Opened returns inputs with maps opened: an input for each entry that an environment has or takes away, in the order
// in which they are visited, field by field where it is a record. Worlds are those of the environments. Of a map
// with more entries than so many, the whole is one input.
func (p *Project) Opened(inputs []*Input, runs []*Run, worlds []*eval.World, most int) (all []*Input) {
	for _, in := range inputs {
		keys := in.keys(runs, worlds)
		if len(keys) == 0 || len(keys) > most {
			all = append(all, in)
			continue
		}
		of := recordOf(in.Type).Rest
		for _, key := range keys {
			entry := &Input{Parent: in, Object: in.Object, Path: append(slices.Clip(in.Path), key), Type: of,
				Span:     in.Span,
				optional: true, entry: true}
			all = append(all, p.Opened(entry.fields(p.checked, in.Object.Module, nil), runs, worlds, most)...)
		}
	}
	return all
}

// keys returns the keys of an input that is a map, in some runs.
func (in *Input) keys(runs []*Run, worlds []*eval.World) (keys []string) {
	record := recordOf(in.Type)
	if record == nil || record.Rest == nil || len(record.Fields) > 0 || in.Secret || in.Later {
		return nil
	}
	add := func(v value.Value) {
		if v.Kind() != value.Record {
			return
		}
		for _, key := range v.Shape().Keys() {
			if !slices.Contains(keys, key) {
				keys = append(keys, key)
			}
		}
	}
	for i, r := range runs {
		for _, l := range r.AllLayers() {
			add(l.At(in.Path))
		}
		if v, ok := worlds[i].Value(in.Object); ok {
			add(at(v, in.Path[1:]))
		}
	}
	return keys
}

// Meaning returns what the names in a type stand for, a line for each, and one for each field of a record.
func (p *Project) Meaning(t types.Type) (lines []string) {
	seen := map[*types.Named]bool{}
	var tell func(t types.Type)
	walk := func(t types.Type) {
		switch t := t.(type) {
		case *types.Union:
			for _, member := range t.Members {
				tell(member)
			}
		case *types.List:
			tell(t.Element)
		case *types.Record:
			for _, f := range t.Fields {
				tell(f.Type)
			}
			if t.Rest != nil {
				tell(t.Rest)
			}
		case *types.Limited:
			tell(t.Base)
		}
	}
	tell = func(t types.Type) {
		named, ok := t.(*types.Named)
		if !ok || named.Base() == nil {
			walk(t)
			return
		}
		if seen[named] || len(seen) == maxMeanings {
			return
		}
		seen[named] = true
		record := types.AsRecord(named)
		if record == nil || len(record.Fields) == 0 {
			lines = append(lines, named.Name+" is "+withLimits(named.Base()))
			walk(named.Base())
			return
		}
		lines = append(lines, named.Name+" has")
		for i := range record.Fields {
			f := &record.Fields[i]
			mark, after := "", ""
			if f.Optional {
				mark = "?"
			}
			if f.Default != nil {
				declared := p.checked.Default(f.Default)
				written := declared.Module.Tree.File.Slice(declared.Expression.Place())
				after = " = " + strings.Join(strings.Fields(written), " ")
			}
			if f.Secret {
				after += ", secret"
			}
			if f.Description != "" {
				after += "   " + strings.Join(strings.Fields(f.Description), " ")
			}
			lines = append(lines, "  "+f.Name+mark+": "+withLimits(f.Type)+after)
		}
		walk(named.Base())
	}
	tell(t)
	return lines
}

// maxMeanings is how many names of types are told for one.
const maxMeanings = 8

// withLimits returns a type with its own limits, as it is written.
func withLimits(t types.Type) string {
	text := t.String()
	for _, c := range (&Input{Type: t}).Limits() {
		if _, named := t.(*types.Named); !named {
			text += " where " + strings.Join(strings.Fields(c.Text), " ")
		}
	}
	return text
}

// InputNamed returns the input with a name, which may be that of a record whose fields are inputs of their own; then
// only its object, path and type are known. The error says what is near.
func (u *Unit) InputNamed(name string) (*Input, error) {
	path, err := SplitName(name)
	if err != nil {
		return nil, err
	}
	return u.InputAt(path)
}

// InputAt returns an input, or the part of one that fields lead to.
func (u *Unit) InputAt(path []string) (*Input, error) {
	var names []string
	for _, in := range u.Project.InputsOf(u.Module) {
		if slices.Equal(in.Path, path) {
			return in, nil
		}
		names = append(names, in.Name())
	}
	o := u.Module.Objects[path[0]]
	if o == nil || o.Kind != check.ObjectInput {
		help := source.Suggest((&Reference{Path: path}).Name(), names, "its inputs are "+strings.Join(names, ", "))
		return nil, fmt.Errorf("%s has no input %q [%s]\n  %s", u.Module.Path, path[0], source.UnknownInput, help)
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
