package project

import (
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// Reference says where a secret comes from; it never holds the secret.
type Reference struct {
	Path   []string // the input, and the fields in it that lead to a secret field
	Kind   string   // variable, file, age or url
	Target string   // the variable, the path of the file in the project, or the URL
	At     string   // JSON Pointer (RFC 6901) into what is read; empty for all of it
	// Harmless says that the secret protects nothing, so that its file may be in a repository.
	Harmless bool
	Span     source.Span
}

// Name returns the path as it is written, such as `mail.password`.
func (r *Reference) Name() string {
	var path *place.Path
	for _, key := range r.Path {
		path = path.Field(key)
	}
	return path.String()
}

// String returns the reference as it is written in the project file.
func (r *Reference) String() string {
	text := fmt.Sprintf("%s = %q", r.Kind, r.Target)
	if r.At != "" {
		text += fmt.Sprintf(", at = %q", r.At)
	}
	return "{ " + text + " }"
}

// SecretSource reads what references name. Its errors say why that failed without a word of what was read.
type SecretSource interface {
	Read(r *Reference) (text []byte, err error)
}

var referenceKinds = []string{"variable", "file", "age", "url"}

// readSecrets reads the table of references of an environment.
func (p *Project) readSecrets(e *Environment, table value.Value, name string, path []string) {
	for i, key := range table.Shape().Keys() {
		v, full := table.Values()[i], append(slices.Clip(path), key)
		if v.Kind() != value.Record {
			help := `write: ` + key + ` = { variable = "KNOTHOLE_SECRET_…" }, or with file, age or url`
			f := source.Finding{Code: source.SecretInFile, Span: p.keyOf(v), Help: help,
				Message: fmt.Sprintf("%s says where secrets come from and holds none, but %q is %s", name, key,
					v.Kind().Article())}
			p.hide(v)
			p.Findings.Add(f)
			e.breakSecret(full[0])
			continue
		}
		if isReference(v) {
			if r := p.reference(v, name+" "+key, full); r != nil {
				e.secrets = append(e.secrets, r)
			} else {
				e.breakSecret(full[0])
			}
			continue
		}
		p.readSecrets(e, v, name, full)
	}
}

func (e *Environment) breakSecret(input string) {
	if e.brokenSecrets == nil {
		e.brokenSecrets = map[string]bool{}
	}
	e.brokenSecrets[input] = true
}

// isReference reports whether a table is a reference, not one of references to fields.
func isReference(v value.Value) bool {
	return v.Len() == 0 || slices.ContainsFunc(v.Values(), func(x value.Value) bool { return x.Kind() != value.Record })
}

func (p *Project) reference(table value.Value, name string, path []string) *Reference {
	c := &configuration{p, name, table}
	c.known(append(slices.Clone(referenceKinds), "at", "harmless")...)
	r := &Reference{Path: path, Span: p.keyOf(table)}
	unknown := slices.ContainsFunc(table.Shape().Keys(),
		func(key string) bool {
			return key != "at" && key != "harmless" && !slices.Contains(referenceKinds, key)
		})
	if unknown {
		p.hide(table) // it may be a secret by error
	}
	for _, kind := range referenceKinds {
		v, ok := c.get(kind, value.String)
		if !ok {
			continue
		}
		if r.Kind != "" {
			c.report(source.SecretReference, p.keyOf(v), "leave one out", "%s names two sources: %s and %s", name,
				r.Kind, kind)
			return nil
		}
		r.Kind, r.Target = kind, v.Text()
	}
	if r.Kind == "" && unknown {
		return nil // which has been said
	}
	if r.Kind == "" {
		c.report(source.SecretReference, r.Span,
			`write: { variable = "KNOTHOLE_SECRET_…" }, or one of file, age and url`,
			"%s does not say where the secret comes from", name)
		return nil
	}
	target := table.Get(r.Kind)
	switch r.Kind {
	case "file", "age":
		if r.Target = c.inside(target, ""); r.Target == "" {
			return nil
		}
		if slices.ContainsFunc(strings.Split(p.realName(r.Target), "/"), Reserved) {
			c.report(source.OutsideProject, source.At(target.Origin().Pos()), "keep the secret in a file of its own",
				"%s belongs to the program or to git", r.Target)
			return nil
		}
	case "url":
		if !strings.HasPrefix(r.Target, "https://") {
			c.report(source.SecretReference, source.At(target.Origin().Pos()), "begin with https://",
				"secrets are read over TLS only, not from %q", r.Target)
			return nil
		}
		if u, err := url.Parse(r.Target); err != nil || u.User != nil || u.Host == "" {
			p.hide(table)
			c.report(source.SecretReference, source.At(target.Origin().Pos()),
				"the file that --secret-policy names says which token to send",
				"a URL of a store has a host, and no user or password")
			return nil
		}
	}
	if v, ok := c.get("harmless", value.Bool); ok {
		if r.Harmless = v.Bool(); r.Kind != "file" {
			c.report(source.WrongUse, c.keyOf(v), "leave it out", "%s: harmless is said of a file that may be in git, "+
				"and this is none", name)
		}
	}
	if v, ok := c.get("at", value.String); ok {
		if _, err := place.ParsePointer(v.Text()); err != nil {
			c.report(source.SecretReference, source.At(v.Origin().Pos()), "such as /data/pin",
				"%q is not a JSON Pointer (RFC 6901): %s", v.Text(), err)
			return nil
		}
		r.At = v.Text()
	}
	return r
}

// SecretFiles returns the references to plain files that hold secrets, each file once, in the order of the project
// file.
func (p *Project) SecretFiles() (all []*Reference) {
	for _, e := range p.Environments {
		for _, r := range e.secrets {
			same := func(other *Reference) bool { return other.Target == r.Target }
			if r.Kind == "file" && !r.Harmless && !slices.ContainsFunc(all, same) {
				all = append(all, r)
			}
		}
	}
	return all
}

// References returns where the secrets of an environment come from: its own, and those of what it extends that it does
// not replace, in the order of their names.
func (e *Environment) References() []*Reference {
	all := map[string]*Reference{}
	for at := e; at != nil; at = at.Extends {
		for _, r := range at.secrets {
			if _, ok := all[r.Name()]; !ok {
				all[r.Name()] = r
			}
		}
	}
	var references []*Reference
	for _, name := range slices.Sorted(maps.Keys(all)) {
		references = append(references, all[name])
	}
	return references
}

// secretAt returns the type of the secret that a path of an input leads to; nil when it leads to none.
func (u *Unit) secretAt(path []string) types.Type {
	o := u.Module.Objects[path[0]]
	if o == nil || o.Kind != check.ObjectInput {
		return nil
	}
	t, secret := o.Type, IsSecret(o)
	for _, key := range path[1:] {
		record := recordOf(t)
		if record == nil {
			return nil
		}
		f, ok := record.Field(key)
		switch {
		case ok:
			t, secret = f.Type, secret || f.Secret
		case record.Rest != nil:
			t = record.Rest // of an entry of a map
		default:
			return nil
		}
	}
	if !secret {
		return nil
	}
	return t
}

// IsSecret reports whether an input is secret as a whole.
func IsSecret(o *check.Object) bool {
	d, ok := o.Declaration.(*syntax.Input)
	return ok && d.Secret
}

// Placeholder returns what stands for an input that is known only after deployment; ok is false for others.
func Placeholder(o *check.Object) (text string, ok bool) {
	d, is := o.Declaration.(*syntax.Input)
	if !is || d.Placeholder == nil {
		return "", false
	}
	text, _ = d.Placeholder.Plain()
	return text, true
}

// SecretFields returns the paths of the secret fields of a type.
func SecretFields(t types.Type) [][]string {
	var paths [][]string
	var walk func(t types.Type, path []string, seen []*types.Record)
	walk = func(t types.Type, path []string, seen []*types.Record) {
		record := recordOf(t)
		if record == nil || slices.Contains(seen, record) {
			return
		}
		for _, f := range record.Fields {
			full := append(slices.Clip(path), f.Name)
			if f.Secret {
				paths = append(paths, full)
				continue
			}
			walk(f.Type, full, append(slices.Clip(seen), record))
		}
	}
	walk(t, nil, nil)
	return paths
}

// checkSecrets reports references that lead to no secret of the main module, and secrets in layers.
func (u *Unit) checkSecrets(runs []*Run, layers []*Layer) source.Findings {
	var findings source.Findings
	var names []string
	for _, o := range u.Inputs() {
		if IsSecret(o) {
			names = append(names, o.Name)
		}
		for _, path := range SecretFields(o.Type) {
			names = append(names, (&Reference{Path: append([]string{o.Name}, path...)}).Name())
		}
	}
	seen := map[*Reference]bool{}
	for _, e := range runs {
		for _, r := range e.secrets {
			if seen[r] || u.secretAt(r.Path) != nil || u.Module.Tree.Nameless ||
				u.elsewhere(func(other *Environment) bool { return slices.Contains(other.References(), r) },
					func(other *Unit) bool { return other.secretAt(r.Path) != nil }) {
				continue
			}
			seen[r] = true
			if o := u.Module.Objects[r.Path[0]]; o != nil && o.Invalid {
				continue // which is reported
			}
			f := source.Finding{Code: source.UnknownInput, Span: r.Span,
				Message: fmt.Sprintf("%s has no secret input %q", u.Module.Path, strings.Join(r.Path, "."))}
			if o := u.Module.Objects[r.Path[0]]; o != nil && o.Kind == check.ObjectInput {
				f.Help = secretNear(o, r.Path)
				f.Related = []source.Related{{Span: o.Span, Text: o.Summary()}}
			} else if len(r.Path) == 1 && slices.Contains(names, r.Path[0]) { // with dots in it
				f.Help = "write it without quotes: " + r.Path[0]
			} else if near, ok := source.Nearest(r.Name(), names); ok {
				f.Help = source.DidYouMean(near)
			} else if len(names) > 0 {
				f.Help = "its secrets are " + strings.Join(names, ", ")
			}
			findings.Add(f)
		}
	}
	for _, l := range layers {
		if l.Root.IsAbsent() || l.Secret || l.Outputs != nil {
			continue
		}
		for _, o := range u.Inputs() {
			v := l.Root.Get(o.Name)
			if v.IsAbsent() {
				continue
			}
			var path *place.Path
			for _, found := range secretsIn(v, o.Type, IsSecret(o), path.Field(o.Name)) {
				findings.Add(u.secretInLayer(l, o, found.path, found.value))
			}
		}
	}
	return findings
}

// secretNear says what to do about a reference to what is not secret in an input, or not there.
func secretNear(o *check.Object, path []string) string {
	t := o.Type
	for i, key := range path[1:] {
		record := recordOf(t)
		if record == nil {
			if types.AsList(t) != nil {
				return "elements of lists have no source of their own: make it a map, { *: … }, whose entries have"
			}
			break
		}
		f, ok := record.Field(key)
		switch {
		case ok && i == len(path)-2:
			return fmt.Sprintf("declare the field so: secret %s: %s", f.Name, f.Type)
		case ok:
			t = f.Type
		case record.Rest != nil:
			t = record.Rest
		default:
			var names []string
			for _, path := range SecretFields(t) {
				names = append(names, strings.Join(path, "."))
			}
			otherwise := fmt.Sprintf("nothing in it is secret: secret %s: … declares such a field", key)
			if len(names) > 0 {
				otherwise = "what is secret in it: " + strings.Join(names, ", ")
			}
			return source.Suggest(strings.Join(path[i+1:], "."), names, otherwise)
		}
	}
	if record := recordOf(t); record != nil && record.Rest != nil {
		return "make what is secret a field of its entries: { *: { secret value: … } }"
	}
	return fmt.Sprintf("declare it so: secret input %s: %s", o.Name, o.Type)
}

// placed is a value in another, and the way to it.
type placed struct {
	path  *place.Path
	value value.Value
}

// secretsIn returns what is secret in a value by its type: the fields that are declared so, wherever they are in lists,
// maps and the members of unions. Secret says that all of it is.
func secretsIn(v value.Value, t types.Type, secret bool, path *place.Path) []placed {
	var found []placed
	walkSecrets(v, t, secret, path, map[visit]bool{}, func(p placed) { found = append(found, p) })
	return found
}

// visit is a value that was looked at as one of a type.
type visit struct {
	identity uintptr
	length   int
	of       types.Type
}

func walkSecrets(v value.Value, t types.Type, secret bool, path *place.Path, seen map[visit]bool, take func(placed)) {
	if secret {
		if !v.IsNull() {
			take(placed{path, v})
		}
		return
	}
	if v.Identity() == 0 || seen[visit{v.Identity(), v.Len(), t}] {
		return
	}
	seen[visit{v.Identity(), v.Len(), t}] = true
	for _, part := range types.Parts(t) {
		switch part := part.(type) {
		case *types.List:
			for i, x := range v.Elements() {
				walkSecrets(x, part.Element, false, path.Index(i), seen, take)
			}
		case *types.Record:
			for i, key := range v.Shape().Keys() {
				if f, ok := part.Field(key); ok {
					walkSecrets(v.Values()[i], f.Type, f.Secret, path.Field(key), seen, take)
				} else if part.Rest != nil {
					walkSecrets(v.Values()[i], part.Rest, false, path.Field(key), seen, take)
				}
			}
		}
	}
}

// markedAt returns a value with those that come from some places marked as secret.
func markedAt(v value.Value, hidden map[value.Origin]bool) value.Value {
	var mark func(v value.Value) value.Value
	mark = func(v value.Value) value.Value {
		if hidden[v.Origin()] {
			return value.MarkAll(v, value.Secret)
		}
		return value.MapParts(v, func(_ int, x value.Value) value.Value { return mark(x) })
	}
	return mark(v)
}

func (u *Unit) secretInLayer(l *Layer, o *check.Object, path *place.Path, v value.Value) source.Finding {
	u.Project.hide(v)
	span := u.Project.keyOf(v)
	if l.Into != "" {
		span = l.intoSpan
	}
	help := "take it out, and change the secret; elements of lists have no source of their own: make it a map, " +
		"{ *: … }, whose entries have"
	if keys, ok := fieldsOf(path); ok && u.secretAt(keys) != nil {
		help = "take it out, change the secret, and name its source in [environments.….secrets]: " +
			secretSource(keys)
	}
	return source.Finding{
		Code: source.SecretInFile, Span: span, Help: help,
		Message: fmt.Sprintf("%q is secret, and secrets must not be stored in layers", path.String()),
		Related: []source.Related{{Span: o.Span, Text: o.Summary()}},
	}
}

// fieldsOf returns the keys of a path that leads through fields only.
func fieldsOf(path *place.Path) (keys []string, ok bool) {
	for _, step := range path.Steps() {
		if step.Kind != place.Field {
			return nil, false
		}
		keys = append(keys, step.Name)
	}
	return keys, true
}

// hide keeps the lines of a value out of all messages.
func (p *Project) hide(v value.Value) {
	_ = value.Walk([]value.Value{v}, func(x value.Value) bool {
		if file := p.Sources.File(x.Origin().Pos()); file != nil {
			file.Hide(p.keyOf(x).Start)
			file.Hide(x.Origin().Pos())
		}
		return true
	})
}

// WithSecrets returns the run with its secrets, which it reads. What cannot be read is among the findings.
func (r *Run) WithSecrets(from SecretSource) (*Run, source.Findings) {
	up := &upstream{given: map[string]*Run{}, made: map[string]*Run{}}
	if r.upstream != nil { // those that are given for this run stay so, also those without secrets
		up.given, up.made = maps.Clone(r.upstream.given), maps.Clone(r.upstream.made)
	}
	return r.withSecrets(from, up, map[string]bool{})
}

// withSecrets is WithSecrets. It puts the runs whose secrets it reads into up, and their names into done.
func (r *Run) withSecrets(from SecretSource, up *upstream, done map[string]bool) (*Run, source.Findings) {
	u := r.Unit
	var findings source.Findings
	if u.Module == nil {
		return r, nil
	}
	with := r.uses(up)
	with.read = map[*Reference]value.Value{}
	for _, fed := range r.AllLayers() {
		if fed.Outputs == nil || value.Marks(fed.Root)&value.Secret == 0 {
			continue
		}
		for _, e := range fed.Outputs.of(r.Environment) {
			if !done[e.Name] {
				done[e.Name] = true
				feeding, found := r.of(e).withSecrets(from, up, done)
				findings, up.given[e.Name] = append(findings, found...), feeding
			}
		}
	}
	for _, reference := range r.References() {
		t := u.secretAt(reference.Path)
		if t == nil || r.gives(reference.Path) {
			continue // reported with the layers; or not needed
		}
		v, err := readReference(reference, t, from)
		if err != nil {
			findings.Add(source.Finding{Code: source.SecretUnavailable, Span: reference.Span,
				Environments: []string{r.Name},
				Message:      fmt.Sprintf("the secret %q cannot be read from %s: %s", reference.Name(), reference.Kind, err)})
			continue
		}
		with.read[reference] = value.MarkAll(eval.Originate(v, value.From(reference.Span.Start)), value.Secret)
	}
	return with, findings
}

// readReference reads one secret as a value of its type.
func readReference(r *Reference, t types.Type, from SecretSource) (value.Value, error) {
	text, err := from.Read(r)
	if err != nil {
		return value.Value{}, err
	}
	if r.At == "" && r.Kind != "url" {
		return readSecretText(strings.TrimSuffix(strings.TrimSuffix(string(text), "\n"), "\r"), t)
	}
	// What is read goes into no set of sources, so that no message can show it.
	file, err := source.NewSet().Add("", text)
	if err != nil {
		return value.Value{}, err
	}
	v, findings := data.Read(file, data.JSON, data.Keys{})
	if findings.HasErrors() {
		return value.Value{}, fmt.Errorf("it is not JSON, which \"at\" and url need")
	}
	steps, _ := place.ParsePointer(r.At)
	found, missing := place.Follow(v, steps)
	if missing != "" {
		return value.Value{}, fmt.Errorf("there is nothing at %q", missing)
	}
	if kind := found.Value.Kind(); kind == value.Record && !types.HoldsRecord(t) || kind == value.List {
		return value.Value{}, fmt.Errorf("it is a %s, not %s", kind, types.Article(t)) // whose keys are not shown
	}
	return found.Value, nil
}

func readSecretText(text string, t types.Type) (value.Value, error) {
	file, err := source.NewSet().Add("", []byte(text))
	if err != nil {
		return value.Value{}, err
	}
	v, findings := readTyped(file, t, data.Keys{})
	if findings.HasErrors() {
		return value.Value{}, fmt.Errorf("it is not of the type %s", t)
	}
	return v, nil
}

// secretSource returns an entry of the project file that would name the source of a secret: the keys that lead to it,
// and a variable.
func secretSource(path []string) string {
	keys := make([]string, len(path))
	for i, key := range path {
		keys[i] = place.Key(key)
	}
	variable := strings.Map(func(r rune) rune {
		if r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToUpper(strings.Join(path, "_")))
	return fmt.Sprintf("%s = { variable = \"KNOTHOLE_SECRET_%s\" }", strings.Join(keys, "."), variable)
}
