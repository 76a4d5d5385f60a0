package project

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// CheckLayers reports what is wrong with the layers of environments: files that cannot be read, inputs that the main
// module does not have, and inputs without a value. It does so once for all environments, so that what is missing in
// several is one finding. Abstract environments are looked at when all others are, and those that feed others always.
func (p *Project) CheckLayers(environments []*Environment) source.Findings {
	environments = Upstream(environments)
	checked := environments
	names := map[string]bool{}
	for _, e := range environments {
		names[e.Name] = true
	}
	if len(names) == len(p.Concrete()) {
		checked = slices.Clone(environments) // some of which may have been given something for this run
		for _, e := range p.Environments {
			if !names[e.Name] {
				checked = append(checked, e)
			}
		}
	}
	views := []*Project{p}
	for _, e := range p.Environments {
		if view := p.Of(e); !slices.Contains(views, view) {
			views = append(views, view)
		}
	}
	var findings source.Findings
	for _, view := range views {
		of := func(e *Environment) bool { return slices.Contains(p.viewsOf(e), view) }
		one := slices.DeleteFunc(slices.Clone(checked), func(e *Environment) bool { return !of(e) })
		concrete := slices.DeleteFunc(slices.Clone(environments), func(e *Environment) bool { return !of(e) })
		if len(one) > 0 || view == p && len(checked) == 0 {
			findings = append(findings, view.checkLayers(one, concrete)...)
		}
	}
	return findings
}

// Upstream returns environments, and behind them those whose outputs they read, also by way of others, as these are in
// this run.
func Upstream(environments []*Environment) []*Environment {
	all := slices.Clone(environments)
	for i := 0; i < len(all); i++ {
		for _, l := range all[i].written() {
			if l.Outputs == nil {
				continue
			}
			for _, other := range l.Outputs.of(all[i]) {
				if other = all[i].outputs.asked(other); !slices.Contains(all, other) {
					all = append(all, other)
				}
			}
		}
	}
	return all
}

// viewsOf returns the project as it is for an environment; for an abstract one as it is for each that extends it.
func (p *Project) viewsOf(e *Environment) (views []*Project) {
	if !e.Abstract {
		return []*Project{p.Of(e)}
	}
	for _, other := range p.Concrete() {
		for at := other.Extends; at != nil; at = at.Extends {
			if view := p.Of(other); at.Name == e.Name && !slices.Contains(views, view) {
				views = append(views, view)
			}
		}
	}
	if views == nil {
		views = []*Project{p.Of(e)}
	}
	return views
}

// elsewhere reports whether a layer may have something for the main module of another environment that reads it.
func (p *Project) elsewhere(reads func(e *Environment) bool, has func(view *Project) bool) bool {
	return slices.ContainsFunc(p.Environments, func(e *Environment) bool {
		return reads(e) && slices.ContainsFunc(p.viewsOf(e), func(view *Project) bool {
			return view.Main != p.Main && (view.Module == nil || view.Module.Tree.Nameless || has(view))
		})
	})
}

// checkLayers is CheckLayers for environments with one main module. Checked are those whose layers are looked at,
// environments those that must have all inputs.
func (p *Project) checkLayers(checked, environments []*Environment) source.Findings {
	var findings source.Findings
	var layers []*Layer
	for _, e := range checked {
		for _, l := range e.AllLayers() {
			if !slices.Contains(layers, l) {
				layers = append(layers, l)
				findings = append(findings, l.findings...)
			}
		}
	}
	if p.Module == nil {
		return findings
	}
	inputs := p.Inputs()
	var names []string
	for _, o := range inputs {
		names = append(names, o.Name)
	}
	var suggestions source.Suggestions
	seen := map[*Layer]bool{}
	misspelt := map[*Layer][]string{} // the inputs that unknown names were probably meant for
	for _, e := range checked {
		for _, l := range e.AllLayers() {
			if seen[l] || l.Root.IsAbsent() || l.Secret {
				continue
			}
			seen[l] = true
			for i, key := range l.Root.Shape().Keys() {
				if slices.Contains(names, key) || p.Module.Tree.Nameless || key == schemaKey {
					continue
				}
				if p.elsewhere(func(e *Environment) bool { return l.Outputs == nil && slices.Contains(e.written(), l) },
					func(view *Project) bool {
						o := view.Module.Objects[key]
						return o != nil && o.Kind == check.ObjectInput
					}) {
					continue
				}
				f := p.unknownInput(key, l.Root.Values()[i], names, &suggestions)
				if l.Into != "" {
					f.Span = l.intoSpan
				}
				findings.Add(f)
				if near, ok := suggestions.Nearest(key, names); ok {
					misspelt[l] = append(misspelt[l], near)
				}
			}
		}
	}
	findings = append(findings, p.deprecated(layers)...)
	findings = append(findings, p.checkSecrets(checked, layers)...)
	for _, o := range inputs {
		var missing []*Environment
		for _, e := range environments {
			meant := slices.ContainsFunc(e.AllLayers(),
				func(l *Layer) bool { return slices.Contains(misspelt[l], o.Name) })
			if !o.Invalid && !meant && p.missing(e, o) {
				missing = append(missing, e)
			}
		}
		if missing != nil {
			findings.Add(p.missingInput(o, missing))
		}
	}
	return findings
}

// HelpTable says of a field that a record does not have, in a layer in TOML, that it is an input: written below the
// header of a table, it belongs to that.
func (p *Project) HelpTable(f *source.Finding) {
	file := p.Sources.File(f.Span.Start)
	if f.Code != source.UnknownField || f.Help != "" || file == nil || !strings.HasSuffix(file.Path, ".toml") {
		return
	}
	key, _, _ := strings.Cut(file.Text[file.Offset(f.Span.Start):], "=")
	word := strings.TrimSpace(key)
	for _, o := range p.Inputs() {
		if o.Name == word {
			f.Help = fmt.Sprintf("%s is an input of its own: write it above the first table", word)
		}
	}
}

// schemaKey is the key under which a data file names its own schema, for editors: it is no input.
const schemaKey = "$schema"

// deprecated warns of layers that give a value to an input that is deprecated.
func (p *Project) deprecated(layers []*Layer) source.Findings {
	var findings source.Findings
	for _, o := range p.Inputs() {
		d, _ := o.Declaration.(*syntax.Input)
		if d == nil || d.Deprecated == "" {
			continue
		}
		for _, l := range layers {
			if l.Root.IsAbsent() {
				continue
			}
			if v := l.Root.Get(o.Name); !v.IsAbsent() {
				findings.Add(source.Finding{Code: source.Deprecated, Severity: source.Warning, Span: p.keyOf(v),
					Help:    d.Deprecated,
					Message: fmt.Sprintf("the input %q is deprecated", o.Name),
					Related: []source.Related{{Span: o.Span, Text: o.Summary()}}})
			}
		}
	}
	return findings
}

func (p *Project) unknownInput(key string, v value.Value, names []string, nearest *source.Suggestions) source.Finding {
	shown := key
	if at := p.Sources.Locate(p.keyOf(v).Start); at.File != nil && at.File.Hidden(at.Line) {
		shown = source.WordOf(key)
		if _, near := nearest.Nearest(key, names); !near && shown == key {
			shown = "…"
		}
	}
	f := source.Finding{Code: source.UnknownInput, Span: p.keyOf(v),
		Message: fmt.Sprintf("%s has no input %q", p.Module.Path, shown)}
	if near, ok := nearest.Nearest(key, names); ok {
		o := p.Module.Objects[near]
		f.Help = source.DidYouMean(near)
		f.Related = []source.Related{{Span: o.Span, Text: o.Summary()}}
	} else if len(names) == 0 {
		f.Help = fmt.Sprintf("declare it in %s: input %s: …", p.Module.Path, key)
	} else if len(names) <= 12 {
		f.Help = "its inputs are " + strings.Join(names, ", ")
	}
	return f
}

// missing reports whether an input has neither a value in an environment nor a default.
func (p *Project) missing(e *Environment, o *check.Object) bool {
	if _, later := Placeholder(o); later || e.broken || declaredDefault(o) {
		return false
	}
	for _, l := range e.AllLayers() {
		if l.Bad {
			return false // it may stand in the layer that could not be read
		}
	}
	for at := e; at != nil; at = at.Extends {
		if at.brokenSecrets[o.Name] {
			return false // where it comes from is said, but wrongly
		}
	}
	return p.withSecretFields(e, o, p.merged(e, o)).IsAbsent() && e.reference(o) == nil
}

// reference returns where a secret input comes from; nil when nothing says so.
func (e *Environment) reference(o *check.Object) *Reference {
	for _, r := range e.Secrets() {
		if len(r.Path) == 1 && r.Path[0] == o.Name {
			return r
		}
	}
	return nil
}

// Missing returns the inputs that have neither a value in an environment nor a default.
func (p *Project) Missing(e *Environment) []*check.Object {
	p = p.Of(e)
	var missing []*check.Object
	for _, o := range p.Inputs() {
		if !o.Invalid && p.missing(e, o) {
			missing = append(missing, o)
		}
	}
	return missing
}

// files returns the layers of an environment that are files of values: not those that are one input's value, or given
// for one run.
func (e *Environment) files() []*Layer {
	return slices.DeleteFunc(e.written(), func(l *Layer) bool { return l.Into != "" || l.Given })
}

func (p *Project) missingInput(o *check.Object, environments []*Environment) source.Finding {
	var names, files []string
	common := environments[0].files()
	for _, e := range environments {
		names = append(names, e.Name)
		layers := e.files()
		common = slices.DeleteFunc(common, func(l *Layer) bool { return !slices.Contains(layers, l) })
		file := fmt.Sprintf("a layer of [environments.%s] in %s", e.Name, FileName)
		if len(layers) > 0 {
			file = layers[len(layers)-1].Path
		}
		if !slices.Contains(files, file) {
			files = append(files, file)
		}
	}
	if len(environments) > 1 && len(common) > 0 {
		files = []string{common[len(common)-1].Path}
	}
	help := fmt.Sprintf("set %s in %s", o.Name, strings.Join(files, " and "))
	tables := make([]string, len(names))
	for i, name := range names {
		tables[i] = "[environments." + name + ".secrets]"
	}
	reference := func(path ...string) string {
		return fmt.Sprintf("in %s, %s: %s", FileName, strings.Join(tables, " and "), secretSource(path))
	}
	if IsSecret(o) {
		help = "name its source " + reference(o.Name)
	} else {
		if secret := SecretFields(o.Type); len(secret) > 0 {
			help += ", and the source of what is secret in it " + reference(append([]string{o.Name}, secret[0]...)...)
		}
	}
	if d, ok := o.Declaration.(*syntax.Input); ok && d.Example != nil {
		help += fmt.Sprintf(", such as %s", p.Module.Tree.File.Slice(d.Example.Place()))
	}
	if types.MayBeNull(o.Type) {
		help += ", or give it the default null here"
	}
	return source.Finding{
		Code: source.MissingInput, Span: o.Span,
		Message:      fmt.Sprintf("the input %q (%s) has no value", o.Name, o.Type),
		Help:         help,
		Environments: names,
	}
}

// merged returns what the layers of an environment say about an input, Absent when nothing.
func (p *Project) merged(e *Environment, o *check.Object) value.Value {
	var v value.Value
	for _, l := range e.AllLayers() {
		if l.Root.IsAbsent() {
			continue
		}
		given := l.Root.Get(o.Name)
		if given.IsAbsent() {
			continue
		}
		v = merge(v, given, o.Type, false)
	}
	return v
}

// merge lays a value over a weaker one. If removable is true, null removes the weaker value, as for entries of maps and
// optional fields. The result is absent if nothing is left.
func merge(weak, strong value.Value, t types.Type, removable bool) value.Value {
	if strong.IsNull() && !types.MayBeNull(t) {
		if removable {
			return value.Value{}
		}
		return weak // null means "not given here"
	}
	record := recordOf(t)
	if strong.Kind() != value.Record || types.Core(t) != types.Any && record == nil {
		return strong
	}
	var b value.Builder
	if weak.Kind() == value.Record {
		for i, key := range weak.Shape().Keys() {
			if over := strong.Get(key); !over.IsAbsent() {
				field, optional := fieldOf(record, key)
				if x := merge(weak.Values()[i], over, field, optional); !x.IsAbsent() {
					b.Set(key, x)
				}
				continue
			}
			b.Set(key, weak.Values()[i])
		}
	}
	for i, key := range strong.Shape().Keys() {
		if weak.Kind() == value.Record && !weak.Get(key).IsAbsent() {
			continue
		}
		field, optional := fieldOf(record, key)
		if x := merge(value.Value{}, strong.Values()[i], field, optional); !x.IsAbsent() {
			b.Set(key, x)
		}
	}
	return b.Record(strong.Origin())
}

// recordOf returns the record type that a type is, null aside; nil when it is another union or no record.
func recordOf(t types.Type) *types.Record {
	isOther := func(p types.Type) bool { return p != types.Null && types.AsRecord(p) == nil }
	if slices.ContainsFunc(types.Parts(t), isOther) {
		return nil
	}
	return types.OnlyRecord(t)
}

// fieldOf returns the type of a field, and whether null removes it.
func fieldOf(record *types.Record, key string) (t types.Type, removable bool) {
	if record == nil {
		return types.Any, true
	}
	if f, ok := record.Field(key); ok {
		return f.Type, f.Optional
	}
	if record.Rest != nil {
		return record.Rest, true
	}
	return types.Any, false
}

// Assignment is what an environment gives an input.
type Assignment struct {
	Input *check.Object
	Value value.Value // Absent for its default
	// Missing says that the value is not known now: it is a secret that is not read, or comes after deployment. From is
	// where it will come from.
	Missing bool
	From    value.Origin
	// Converted says that the value is from another world of the same program, which has converted it, and that it
	// does not depend on anything else.
	Converted bool
	// fails says that there is no value, which was reported.
	fails bool
}

// Assignments returns what an environment gives the inputs of the project.
func (p *Project) Assignments(e *Environment) []Assignment {
	p = p.Of(e)
	bad := e.broken || slices.ContainsFunc(e.AllLayers(), func(l *Layer) bool { return l.Bad })
	inputs := p.Inputs()
	all := make([]Assignment, len(inputs))
	for i, o := range inputs {
		all[i] = p.assignment(e, o)
		if a := &all[i]; !a.Missing && a.Value.IsAbsent() {
			if _, later := Placeholder(o); later {
				a.Missing, a.From = true, value.From(o.Span.Start)
			} else {
				a.fails = bad || !declaredDefault(o)
			}
		}
		all[i].fails = all[i].fails || e.untold(o.Name)
	}
	return all
}

func (p *Project) assignment(e *Environment, o *check.Object) Assignment {
	v := p.merged(e, o)
	if !IsSecret(o) {
		return Assignment{Input: o, Value: p.withSecretFields(e, o, guarded(v, o.Type))}
	}
	if r := e.reference(o); r != nil && !e.gives(r.Path) {
		read, ok := e.read[r]
		if !ok {
			return Assignment{Input: o, Missing: true, From: value.From(r.Span.Start)}
		}
		v = read
	} else if !e.gives([]string{o.Name}) && !e.tells(o.Name) {
		v = value.Value{} // what a layer says was reported
	}
	if v.IsAbsent() || v.Kind() == value.Record {
		v = p.withSecretFields(e, o, v)
	}
	return Assignment{Input: o, Value: v}
}

// World returns a world with the inputs of an environment. Values that do not fit are among its findings. A recording
// world knows what its values depend on.
func (p *Project) World(e *Environment, recording bool) *eval.World {
	p = p.Of(e)
	return p.WorldOf(eval.Environment{Name: e.Name, Tags: e.Tags}, p.Assignments(e), recording)
}

// WorldOf is World for what no environment needs to have together.
func (p *Project) WorldOf(environment eval.Environment, assignments []Assignment, recording bool) *eval.World {
	w := p.Program.World(environment)
	if recording {
		w = p.Program.Recording(environment)
	}
	for _, a := range assignments {
		switch {
		case a.Missing:
			w.SetMissing(a.Input, a.From)
		case a.fails:
			w.Fail(a.Input)
		case a.Converted:
			w.SetConverted(a.Input, a.Value)
		default:
			w.SetInput(a.Input, a.Value)
		}
	}
	return w
}

// TakenAway returns where a layer takes away what weaker ones give at a path of keys in an input, with null; no place
// when none does.
func (p *Project) TakenAway(e *Environment, path []string) source.Pos {
	for _, l := range slices.Backward(e.AllLayers()) {
		for n := len(path); n > 0; n-- {
			if v := at(l.Root, path[:n]); v.Kind() == value.Null {
				return v.Origin().Pos()
			}
		}
		if !at(l.Root, path).IsAbsent() {
			break
		}
	}
	return source.NoPos
}

// gives reports whether a secret input, or a secret field of one, is given for this run.
func (e *Environment) gives(path []string) bool {
	return slices.ContainsFunc(e.given, func(l *Layer) bool { return l.Secret && !at(l.Root, path).IsAbsent() })
}

// withSecretFields puts the secrets into the value of an input that are fields of it. One that is not read is not
// known.
func (p *Project) withSecretFields(e *Environment, o *check.Object, v value.Value) value.Value {
	for _, r := range e.Secrets() {
		if r.Path[0] != o.Name || len(r.Path) == 1 || p.secretAt(r.Path) == nil || e.gives(r.Path) {
			continue
		}
		secret, ok := e.read[r]
		if !ok {
			secret = value.UnknownOf(value.String, value.Hidden, value.Secret, value.From(r.Span.Start))
		}
		v = value.Put(v, r.Path[1:], secret)
	}
	return v
}

func declaredDefault(o *check.Object) bool {
	d, ok := o.Declaration.(*syntax.Input)
	return ok && d.Default != nil
}
