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
func (p *Project) CheckLayers(runs []*Run) source.Findings {
	runs = Upstream(runs)
	checked := runs
	names := map[string]bool{}
	for _, r := range runs {
		names[r.Name] = true
	}
	if len(names) == len(p.Concrete()) {
		checked = slices.Clone(runs)
		for _, e := range p.Environments {
			if !names[e.Name] {
				checked = append(checked, p.Run(e))
			}
		}
	}
	var findings source.Findings
	for i, u := range p.Units {
		of := func(all []*Run) (own []*Run) {
			for _, r := range all {
				if slices.Contains(p.unitsOf(r.Environment), u) {
					own = append(own, r)
				}
			}
			return own
		}
		if one := of(checked); len(one) > 0 || i == 0 && len(checked) == 0 {
			findings = append(findings, u.checkLayers(one, of(runs))...)
		}
	}
	return findings
}

// Upstream returns runs, and after them those whose outputs they read, also by way of others.
func Upstream(runs []*Run) []*Run {
	all := slices.Clone(runs)
	for i := 0; i < len(all); i++ {
		for _, l := range all[i].written() {
			if l.Outputs == nil {
				continue
			}
			for _, e := range l.Outputs.of(all[i].Environment) {
				if other := all[i].of(e); !slices.Contains(all, other) {
					all = append(all, other)
				}
			}
		}
	}
	return all
}

// elsewhere reports whether a layer may have something for the main module of another environment that reads it.
func (u *Unit) elsewhere(reads func(e *Environment) bool, has func(other *Unit) bool) bool {
	return slices.ContainsFunc(u.Project.Environments, func(e *Environment) bool {
		return reads(e) && slices.ContainsFunc(u.Project.unitsOf(e), func(other *Unit) bool {
			return other != u && (other.Module == nil || other.Module.Tree.Nameless || has(other))
		})
	})
}

// checkLayers is CheckLayers for runs of one unit. Checked are those whose layers are looked at, runs those that must
// have all inputs.
func (u *Unit) checkLayers(checked, runs []*Run) source.Findings {
	var findings source.Findings
	var layers []*Layer
	for _, r := range checked {
		for _, l := range r.AllLayers() {
			if !slices.Contains(layers, l) {
				layers = append(layers, l)
				findings = append(findings, l.findings...)
			}
		}
	}
	if u.Module == nil {
		return findings
	}
	inputs := u.Inputs()
	var names []string
	for _, o := range inputs {
		names = append(names, o.Name)
	}
	var suggestions source.Suggestions
	seen := map[*Layer]bool{}
	misspelt := map[*Layer][]string{} // the inputs that unknown names were probably meant for
	for _, r := range checked {
		for _, l := range r.AllLayers() {
			if seen[l] || l.Root.IsAbsent() || l.Secret {
				continue
			}
			seen[l] = true
			for i, key := range l.Root.Shape().Keys() {
				if slices.Contains(names, key) || u.Module.Tree.Nameless || key == schemaKey {
					continue
				}
				if u.elsewhere(func(e *Environment) bool { return l.Outputs == nil && slices.Contains(e.written(), l) },
					func(other *Unit) bool {
						o := other.Module.Objects[key]
						return o != nil && o.Kind == check.ObjectInput
					}) {
					continue
				}
				f := u.unknownInput(key, l.Root.Values()[i], names, &suggestions)
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
	findings = append(findings, u.deprecated(layers)...)
	findings = append(findings, u.checkSecrets(checked, layers)...)
	for _, o := range inputs {
		var missing []*Environment
		for _, r := range runs {
			meant := slices.ContainsFunc(r.AllLayers(),
				func(l *Layer) bool { return slices.Contains(misspelt[l], o.Name) })
			if !o.Invalid && !meant && r.missing(o) {
				missing = append(missing, r.Environment)
			}
		}
		if missing != nil {
			findings.Add(u.missingInput(o, missing))
		}
	}
	return findings
}

// HelpTable says of a field that a record does not have, in a layer in TOML, that it is an input: written below the
// header of a table, it belongs to that.
func (u *Unit) HelpTable(f *source.Finding) {
	file := u.Project.Sources.File(f.Span.Start)
	if f.Code != source.UnknownField || f.Help != "" || file == nil || !strings.HasSuffix(file.Path, ".toml") {
		return
	}
	key, _, _ := strings.Cut(file.Text[file.Offset(f.Span.Start):], "=")
	word := strings.TrimSpace(key)
	for _, o := range u.Inputs() {
		if o.Name == word {
			f.Help = fmt.Sprintf("%s is an input of its own: write it above the first table", word)
		}
	}
}

// schemaKey is the key under which a data file names its own schema, for editors: it is no input.
const schemaKey = "$schema"

// deprecated warns of layers that give a value to an input that is deprecated.
func (u *Unit) deprecated(layers []*Layer) source.Findings {
	var findings source.Findings
	for _, o := range u.Inputs() {
		d, _ := o.Declaration.(*syntax.Input)
		if d == nil || d.Deprecated == "" {
			continue
		}
		for _, l := range layers {
			if v := l.At([]string{o.Name}); !v.IsAbsent() {
				findings.Add(source.Finding{Code: source.Deprecated, Severity: source.Warning, Span: u.Project.keyOf(v),
					Help:    d.Deprecated,
					Message: fmt.Sprintf("the input %q is deprecated", o.Name),
					Related: []source.Related{{Span: o.Span, Text: o.Summary()}}})
			}
		}
	}
	return findings
}

func (u *Unit) unknownInput(key string, v value.Value, names []string, nearest *source.Suggestions) source.Finding {
	shown := key
	if at := u.Project.Sources.Locate(u.Project.keyOf(v).Start); at.File != nil && at.File.Hidden(at.Line) {
		shown = source.WordOf(key)
		if _, near := nearest.Nearest(key, names); !near && shown == key {
			shown = "…"
		}
	}
	f := source.Finding{Code: source.UnknownInput, Span: u.Project.keyOf(v),
		Message: fmt.Sprintf("%s has no input %q", u.Module.Path, shown)}
	if near, ok := nearest.Nearest(key, names); ok {
		o := u.Module.Objects[near]
		f.Help = source.DidYouMean(near)
		f.Related = []source.Related{{Span: o.Span, Text: o.Summary()}}
	} else if len(names) == 0 {
		f.Help = fmt.Sprintf("declare it in %s: input %s: …", u.Module.Path, key)
	} else if len(names) <= 12 {
		f.Help = "its inputs are " + strings.Join(names, ", ")
	}
	return f
}

// missing reports whether an input has neither a value in the run nor a default.
func (r *Run) missing(o *check.Object) bool {
	if _, later := Placeholder(o); later || r.broken || declaredDefault(o) {
		return false
	}
	for _, l := range r.AllLayers() {
		if l.Bad {
			return false // it may be in the layer that could not be read
		}
	}
	for at := r.Environment; at != nil; at = at.Extends {
		if at.brokenSecrets[o.Name] {
			return false // where it comes from is said, but wrongly
		}
	}
	return r.withSecretFields(o, r.AllLayers().Of(o, false)).IsAbsent() && r.reference(o) == nil
}

// reference returns where a secret input comes from; nil when nothing says so.
func (e *Environment) reference(o *check.Object) *Reference {
	for _, r := range e.References() {
		if len(r.Path) == 1 && r.Path[0] == o.Name {
			return r
		}
	}
	return nil
}

// Missing returns the inputs that have neither a value in the run nor a default.
func (r *Run) Missing() []*check.Object {
	var missing []*check.Object
	for _, o := range r.Unit.Inputs() {
		if !o.Invalid && r.missing(o) {
			missing = append(missing, o)
		}
	}
	return missing
}

// files returns the layers of an environment that are files of values: not those that are one input's value.
func (e *Environment) files() Layers {
	return slices.DeleteFunc(e.written(), func(l *Layer) bool { return l.Into != "" })
}

func (u *Unit) missingInput(o *check.Object, environments []*Environment) source.Finding {
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
		help += fmt.Sprintf(", such as %s", u.Module.Tree.File.Slice(d.Example.Place()))
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
	// fails is set if the value is missing and that has been reported.
	fails bool
}

// Assignments returns what the run gives the inputs of its unit.
func (r *Run) Assignments() []Assignment {
	bad := r.broken || slices.ContainsFunc(r.AllLayers(), func(l *Layer) bool { return l.Bad })
	inputs := r.Unit.Inputs()
	all := make([]Assignment, len(inputs))
	for i, o := range inputs {
		all[i] = r.assignment(o)
		if a := &all[i]; !a.Missing && a.Value.IsAbsent() {
			if _, later := Placeholder(o); later {
				a.Missing, a.From = true, value.From(o.Span.Start)
			} else {
				a.fails = bad || !declaredDefault(o)
			}
		}
		all[i].fails = all[i].fails || r.missingUpstream(o.Name)
	}
	return all
}

func (r *Run) assignment(o *check.Object) Assignment {
	v := r.AllLayers().Of(o, false)
	if !IsSecret(o) {
		return Assignment{Input: o, Value: r.withSecretFields(o, guarded(v, o.Type))}
	}
	if from := r.reference(o); from != nil && !r.gives(from.Path) {
		read, ok := r.read[from]
		if !ok {
			return Assignment{Input: o, Missing: true, From: value.From(from.Span.Start)}
		}
		v = read
	} else if !r.gives([]string{o.Name}) && !r.fromOutputs(o.Name) {
		v = value.Value{} // what a layer says was reported
	}
	if v.IsAbsent() || v.Kind() == value.Record {
		v = r.withSecretFields(o, v)
	}
	return Assignment{Input: o, Value: v}
}

// WorldOf returns a world with inputs that no run needs to have together.
func (p *Project) WorldOf(environment eval.Environment, assignments []Assignment, recording bool) *eval.World {
	w := p.Program.World(environment)
	if recording {
		w = p.Program.Recording(environment)
	}
	w.Until(p.Context().Done())
	assign(w, assignments)
	return w
}

// Variant returns a variant of a world that WorldOf made, in which the inputs that differ are given what is assigned
// to them here.
func Variant(of *eval.World, environment eval.Environment, assignments []Assignment,
	differs func(input int) bool) *eval.World {
	var others []*check.Object
	for i, a := range assignments {
		if differs(i) {
			others = append(others, a.Input)
		}
	}
	w := of.Variant(environment, others)
	assign(w, assignments)
	return w
}

// assign gives the inputs of a world their values, but for those that it shares with the one of which it is a variant.
func assign(w *eval.World, assignments []Assignment) {
	for _, a := range assignments {
		switch {
		case w.Shares(a.Input):
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
}

// gives reports whether a secret input, or a secret field of one, is given for this run.
func (r *Run) gives(path []string) bool {
	return slices.ContainsFunc(r.Given, func(l *Layer) bool { return l.Secret && !l.At(path).IsAbsent() })
}

// withSecretFields puts the secrets into the value of an input that are fields of it. One that is not read is not
// known.
func (r *Run) withSecretFields(o *check.Object, v value.Value) value.Value {
	for _, from := range r.References() {
		if from.Path[0] != o.Name || len(from.Path) == 1 || r.Unit.secretAt(from.Path) == nil || r.gives(from.Path) {
			continue
		}
		secret, ok := r.read[from]
		if !ok {
			secret = value.UnknownOf(value.String, value.Hidden, value.Secret, value.From(from.Span.Start))
		}
		v = value.Put(v, from.Path[1:], secret)
	}
	return v
}

func declaredDefault(o *check.Object) bool {
	d, ok := o.Declaration.(*syntax.Input)
	return ok && d.Default != nil
}
