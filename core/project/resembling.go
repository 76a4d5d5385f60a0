package project

import (
	"regexp"
	"slices"
	"strings"
	"unicode"

	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// keyLike is a word in a line of a layer that is where a key does: before a colon or an equals sign.
var keyLike = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_.-]*)["']?\s*[:=]`)

// wordLike is a word anywhere in a line, which may be a key in a file that cannot be read.
var wordLike = regexp.MustCompile(`([A-Za-z_][A-Za-z0-9_.-]*)`)

// secretNames are what secrets are called: the names of secret inputs and fields, without case and marks, since who
// writes one wrong may write it so. known are all other names of inputs and fields.
type secretNames struct {
	secret, known map[string]bool
	list          []string
}

// namesOfSecrets collects the names of all secrets that the inputs of the main module have.
func (u *Unit) namesOfSecrets() *secretNames {
	names := &secretNames{secret: map[string]bool{}, known: map[string]bool{}}
	seen := map[types.Type]bool{}
	add := func(name string, secret bool) {
		if name = plainName(name); secret && !names.secret[name] {
			names.secret[name] = true
			names.list = append(names.list, name)
		} else if !secret {
			names.known[name] = true
		}
	}
	var walk func(t types.Type)
	walk = func(t types.Type) {
		if t == nil || seen[t] {
			return
		}
		seen[t] = true
		for _, part := range types.Parts(t) {
			switch part := part.(type) {
			case *types.List:
				walk(part.Element)
			case *types.Record:
				for _, f := range part.Fields {
					add(f.Name, f.Secret)
					walk(f.Type)
				}
				walk(part.Rest)
			}
		}
	}
	for _, o := range u.Inputs() {
		add(o.Name, IsSecret(o))
		walk(o.Type)
	}
	return names
}

// plainName takes case and marks off a name.
func plainName(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// resembles reports whether a key may be meant for a secret: it holds the name of one, or is near to one, and is not
// that of something else.
func (n *secretNames) resembles(key string) bool {
	for _, part := range append(strings.Split(key, "."), key) {
		plain := plainName(part)
		if n.secret[plain] {
			return true
		}
		if n.known[plain] || plain == "" {
			continue
		}
		for _, name := range n.list {
			if len(name) >= 3 && strings.Contains(plain, name) {
				return true
			}
		}
		if _, near := source.Nearest(plain, n.list); near {
			return true
		}
	}
	return false
}

// within reports whether the letters of a line hold the name of a secret, whatever marks are between them, one letter
// more or less among them.
func (n *secretNames) within(line string) bool {
	letters := plainName(line)
	return slices.ContainsFunc(n.list, func(name string) bool {
		if len(name) < 3 {
			return false
		}
		for _, length := range []int{len(name) - 1, len(name), len(name) + 1} {
			for at := 0; at+length <= len(letters); at++ {
				if part := letters[at : at+length]; part == name || source.Distance(part, name) <= 1 {
					return true
				}
			}
		}
		return false
	})
}

// hideResembling keeps the lines of a layer that may hold a secret from being shown, and takes what they say out of
// what was found while the layer was read. A line belongs to a secret when a key on it resembles one; in a file that
// cannot be read, so do the lines below it, up to the next key that does not stand further to the right.
func (u *Unit) hideResembling(l *Layer) {
	file := u.Project.fileOf(l)
	if file == nil || u.Module == nil {
		return
	}
	names := u.namesOfSecrets()
	if len(names.list) == 0 {
		return
	}
	number, hiding, indent, before := 0, false, 0, ""
	for line := range strings.Lines(file.Text) {
		number++
		found, keys := false, keyLike.FindAllStringSubmatch(line, -1)
		words := keys
		if l.findings.HasErrors() {
			words = wordLike.FindAllStringSubmatch(line, -1)
			found = names.within(before + line) // a key may be broken over two lines
		}
		before = line
		for _, key := range words {
			found = found || names.resembles(key[1])
		}
		depth := len(line) - len(strings.TrimLeft(line, " \t"))
		switch {
		case found:
			hiding, indent = true, depth
		case hiding && len(keys) > 0 && depth <= indent:
			hiding = false
		}
		if found || hiding && l.findings.HasErrors() {
			file.Hide(file.Pos(file.LineStart(number)))
		}
	}
	if l.Root.Kind() == value.Record {
		for i, key := range l.Root.Shape().Keys() {
			if names.resembles(key) {
				u.Project.hide(l.Root.Values()[i])
			}
		}
	}
	for _, o := range u.Inputs() {
		if !l.Root.IsAbsent() {
			for _, x := range suspects(l.Root.Get(o.Name), o.Type, true) {
				u.Project.hide(x)
			}
		}
	}
	for i := range l.findings {
		f := &l.findings[i]
		if at := u.Project.Sources.Locate(f.Span.Start); at.File == file && file.Hidden(at.Line) {
			f.Message = "this line is invalid and may contain a secret: details are redacted"
			f.Help = "secrets must not be stored in layers: name their source in [environments.….secrets], " +
				"and change this one"
			f.Related = nil
		}
	}
}

// fileOf returns the file of a layer; nil when it was not read.
func (p *Project) fileOf(l *Layer) *source.File {
	if file := p.Sources.File(l.Root.Origin().Pos()); file != nil {
		return file
	}
	for _, f := range l.findings {
		if file := p.Sources.File(f.Span.Start); file != nil && (file.Path == l.Path) {
			return file
		}
	}
	return nil
}

// guarded returns the value of an input with everything marked that may be a secret where it does not fit its type, so
// that messages do not show it.
func guarded(v value.Value, t types.Type) value.Value {
	hidden := map[value.Origin]bool{}
	for _, x := range suspects(v, t, false) {
		hidden[x.Origin()] = true
	}
	if len(hidden) == 0 {
		return v
	}
	return markedAt(v, hidden)
}

// shownSafely returns a value of an input as people may see it: what is secret by its type, and what may be a secret
// where it does not fit, is taken out, with the keys in it.
func shownSafely(v value.Value, t types.Type, secret bool) value.Value {
	hidden := map[value.Origin]bool{}
	for _, x := range suspects(v, t, true) {
		hidden[x.Origin()] = true
	}
	for _, found := range secretsIn(v, t, secret, nil) {
		hidden[found.value.Origin()] = true
	}
	if len(hidden) == 0 {
		return v
	}
	var take func(v value.Value) value.Value
	take = func(v value.Value) value.Value {
		if hidden[v.Origin()] {
			return value.UnknownOf(value.String, value.Hidden, value.Secret, v.Origin())
		}
		return value.MapParts(v, func(_ int, x value.Value) value.Value { return take(x) })
	}
	return take(v)
}

// suspects returns what may be a secret where a value does not fit its type: a field that a record with secret fields
// does not have, if asked for, and what is in place of something that holds secrets.
func suspects(v value.Value, t types.Type, fields bool) []value.Value {
	var found []value.Value
	seen := map[visit]bool{}
	var walk func(v value.Value, t types.Type)
	walk = func(v value.Value, t types.Type) {
		if t == nil || v.IsAbsent() || v.IsNull() || v.Identity() != 0 && seen[visit{v.Identity(), v.Len(), t}] {
			return
		}
		seen[visit{v.Identity(), v.Len(), t}] = true
		fits := false
		for _, part := range types.Parts(t) {
			switch part := part.(type) {
			case *types.List:
				if v.Kind() != value.List {
					continue
				}
				fits = true
				for _, x := range v.Elements() {
					walk(x, part.Element)
				}
			case *types.Record:
				if v.Kind() != value.Record {
					continue
				}
				fits = true
				for i, key := range v.Shape().Keys() {
					x := v.Values()[i]
					switch f, ok := part.Field(key); {
					case ok:
						walk(x, f.Type)
					case part.Rest != nil:
						walk(x, part.Rest)
					case !slices.ContainsFunc(part.Fields, func(f types.Field) bool { return f.Secret }):
					case source.WordOf(key) == key && (!x.IsNull() || near(key, part.FieldNames())):
						if fields {
							found = append(found, x)
						}
					default: // the key may hold what belongs after it
						found = append(found, v)
					}
				}
			default:
				fits = fits || part == types.Any || v.Kind() != value.Record && v.Kind() != value.List
			}
		}
		if !fits && types.HoldsSecret(t) {
			found = append(found, v)
		}
	}
	walk(v, t)
	return found
}

// near reports whether a key was probably meant for another.
func near(key string, names []string) bool {
	_, found := source.Nearest(key, names)
	return found
}
