package rule

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/value"
)

// Link is a link of the project, ready to be followed: values in some documents name others, or labels in them select
// others.
type Link struct {
	*project.Link
	from, to []end
	scope    *eval.Places
	bad      bool
}

// end is one end of a link.
type end struct {
	project.LinkEnd
	places  *eval.Places
	matches func(path string) bool // of the pattern; nil for a kind
}

// is reports whether a document is at the end.
func (e *end) is(o *Object) bool {
	if e.matches != nil {
		return e.matches(o.Path)
	}
	return place.Kind(o.Data) == e.Kind
}

// ReadLinks reads the links of a project; invalid paths are reported as findings.
func ReadLinks(p *project.Project, builtins *eval.Builtins) (links []*Link, findings source.Findings) {
	parse := func(text string, at source.Span) *eval.Places {
		places, err := eval.ParsePlaces(text, builtins)
		if err != nil {
			message, help, _ := strings.Cut(err.Error(), "\n  ")
			findings.Add(source.Finding{Code: source.ImpossiblePath, Span: at, Message: message, Help: help})
		}
		return places
	}
	for _, written := range p.Links() {
		l := &Link{Link: written}
		ends := func(from []project.LinkEnd) (all []end) {
			for _, e := range from {
				one := end{LinkEnd: e, places: parse(e.Place, e.Span)}
				if e.Kind == "" {
					pattern := e.Documents
					one.matches = func(path string) bool { return place.Match(pattern, path) }
				}
				l.bad = l.bad || one.places == nil
				all = append(all, one)
			}
			return all
		}
		l.from, l.to = ends(written.From), ends(written.To)
		if written.Scope != "" {
			l.scope = parse(written.Scope, written.ScopeSpan)
			l.bad = l.bad || l.scope == nil
		}
		links = append(links, l)
	}
	return links, findings
}

// reference is a value of a document that names something in another.
type reference struct {
	from  *Object
	found place.Found
	// needs are the documents that it names, when there are such.
	needs []*Object
	// missing says what is wrong; empty when nothing is. Help says how to mend it, and may take long to find out; nil
	// when nothing does.
	missing string
	help    func() string
}

// violation makes the finding of a reference that leads nowhere.
func (s *set) leadsNowhere(r reference, at source.Span, text string) violation {
	o := r.from
	offence := eval.Offence{Path: r.found.Path, Value: r.found.Value}
	v := violation{object: o, path: s.namer.shown(o.Data, offence), places: []located{{offence, o}}, help: r.help,
		finding: source.Finding{Code: source.DanglingReference, Span: s.place(offence, o), Message: r.missing}}
	if at.IsValid() {
		v.finding.Related = []source.Related{{Span: at, Text: text}}
	}
	return v
}

// linked is what came of a link in an environment.
type linked struct {
	references int // how many names and selectors there are
	targets    int // how many they could lead to
	violations []violation
}

// holdLinks follows all links in the documents of an environment.
func holdLinks(links []*Link, s *set) (all []linked) {
	all = make([]linked, len(links))
	if s.partial {
		return all
	}
	for i, l := range links {
		if l.bad {
			continue
		}
		one := &all[i]
		text := "the link says it here"
		var references []reference
		if l.Kinds {
			text = "the links between common kinds are checked"
			c := newCommon(s.objects, l.Outside)
			c.files = s.files
			references = c.references()
		} else {
			references, one.targets = l.references(s)
		}
		one.references = len(references)
		for _, r := range references {
			if r.missing != "" {
				v := s.leadsNowhere(r, l.Span, text)
				if s.files {
					v.finding.Severity, v.finding.Related = source.Warning, nil
				}
				one.violations = append(one.violations, v)
			}
		}
	}
	return all
}

// scopeOf returns the value that must be equal on both sides; Absent when a document has none, which is in every
// scope.
func (l *Link) scopeOf(o *Object) value.Value {
	if l.scope == nil {
		return value.Value{}
	}
	if found, _ := l.scope.Find(o.Data); len(found) > 0 {
		return found[0].Value
	}
	return value.Value{}
}

// target is what a link may lead to.
type target struct {
	object *Object
	value  value.Value
	scope  value.Value
}

// targets are all that a link may lead to.
type targets struct {
	labelled[target]
	byName map[string][]target
}

func inScope(a, b value.Value) bool {
	return a.IsAbsent() || b.IsAbsent() || value.Equal(a, b, func(int) {})
}

// references follows a link of the project; it also returns to how many places it may lead.
func (l *Link) references(s *set) (all []reference, to int) {
	targets := targets{byName: map[string][]target{}}
	s.places(l.to, func(o *Object, f place.Found) {
		t := target{o, f.Value, l.scopeOf(o)}
		targets.add(t, f.Value)
		if name, ok := nameOf(f.Value); ok {
			targets.byName[name] = append(targets.byName[name], t)
		}
	})
	s.places(l.from, func(o *Object, f place.Found) {
		if r, is := l.follow(o, f, &targets); is {
			all = append(all, r)
		}
	})
	return all, len(targets.all)
}

// places calls visit for every place at an end of a link.
func (s *set) places(ends []end, visit func(o *Object, f place.Found)) {
	for i := range s.objects {
		o := &s.objects[i]
		for k := range ends {
			if !ends[k].is(o) {
				continue
			}
			found, _ := ends[k].places.Find(o.Data) // a document need not have it
			for _, f := range found {
				visit(o, f)
			}
		}
	}
}

// nameOf returns a value as a name; ok is false for what is none.
func nameOf(v value.Value) (string, bool) {
	switch v.Kind() {
	case value.String:
		return v.Text(), true
	case value.Int:
		return strconv.FormatInt(v.Int(), 10), true
	}
	return "", false
}

// follow looks for what a value leads to; is says whether it leads anywhere at all.
func (l *Link) follow(o *Object, f place.Found, to *targets) (r reference, is bool) {
	r = reference{from: o, found: f}
	if f.Value.IsNull() || f.Value.Mark() != 0 {
		return r, false
	}
	scope := l.scopeOf(o)
	if l.Labels {
		wanted, why := labelsOf(f.Value)
		if why != "" {
			r.missing = why
			return r, true
		}
		for t := range to.having(wanted) {
			if inScope(scope, t.scope) {
				r.needs = append(r.needs, t.object)
			}
		}
		if r.needs == nil {
			r.missing = "no " + l.targetName() + " has the labels " + f.Value.Show(80)
			r.help = func() string { return nearestLabels(wanted, to.labels()) }
		}
		return r, true
	}
	name, ok := nameOf(f.Value)
	if !ok {
		r.missing = fmt.Sprintf("a name is expected here, that of %s, not %s", source.Article(l.targetName()),
			f.Value.Show(60))
		return r, true
	}
	for _, t := range to.byName[name] {
		if inScope(scope, t.scope) {
			r.needs = append(r.needs, t.object)
		}
	}
	if r.needs != nil || outside(l.Outside, "", name) || l.isOptional(o, f) {
		return r, true
	}
	r.missing = fmt.Sprintf("no %s is named %q", l.targetName(), name)
	if l.to[0].Kind == "" {
		r.missing = fmt.Sprintf("%q is not at any path %s", name, l.to[0].Text)
	}
	r.help = func() string {
		if len(to.byName[name]) > 0 {
			return fmt.Sprintf("there is one where %s is another", l.Scope)
		}
		var names []string
		for other, some := range to.byName {
			if slices.ContainsFunc(some, func(t target) bool { return inScope(scope, t.scope) }) {
				names = append(names, other)
			}
		}
		slices.Sort(names)
		return nearestName(name, names, false)
	}
	return r, true
}

// nearestName is the help for a name that leads nowhere; beside plain files there may be others, and nothing says so.
func nearestName(name string, names []string, files bool) string {
	if near, ok := source.Nearest(name, names); ok {
		return source.DidYouMean(near)
	}
	var parts []string
	if len(names) > 0 && len(names) <= 5 {
		parts = append(parts, "there are "+source.Quoted(names))
	}
	if !files {
		parts = append(parts, `if it exists elsewhere, say so: outside = ["`+name+`"]`)
	}
	return strings.Join(parts, "; ")
}

// targetName names what a link leads to.
func (l *Link) targetName() string {
	var names []string
	for _, e := range l.to {
		name := e.Kind
		if name == "" {
			name = "document of " + e.Documents
		}
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return strings.Join(names, " or ")
}

// isOptional reports whether a field beside a name says that nothing need be there.
func (l *Link) isOptional(o *Object, f place.Found) bool {
	if l.Optional == "" || f.Path == nil {
		return false
	}
	beside, missing := place.Follow(o.Data, pointerTo(f.Path.Sibling(l.Optional)))
	return missing == "" && beside.Value.Kind() == value.Bool && beside.Value.Bool()
}

func pointerTo(path *place.Path) []string {
	keys, _ := place.ParsePointer(path.Pointer()) // it was written as one
	return keys
}

// outside reports whether a name is among those that exist elsewhere, by patterns of names or of Kind/name.
func outside(patterns []string, kind, name string) bool {
	return slices.ContainsFunc(patterns, func(pattern string) bool {
		return place.Match(pattern, name) || kind != "" && place.Match(pattern, kind+"/"+name)
	})
}

// labelsOf reads labels by which documents are selected. Why says what is wrong with them.
func labelsOf(v value.Value) (labels map[string]string, why string) {
	if v.Kind() != value.Record {
		return nil, "labels are expected here, a record of strings, not " + v.Show(60)
	}
	labels = map[string]string{}
	for i, key := range v.Shape().Keys() {
		x := v.Values()[i]
		if x.Kind() != value.String {
			return nil, fmt.Sprintf("labels are strings, and %s is %s", place.Key(key), x.Show(40))
		}
		labels[key] = x.Text()
	}
	return labels, ""
}

// hasLabels reports whether a record has all labels that are wanted.
func hasLabels(v value.Value, wanted map[string]string) bool {
	if v.Kind() != value.Record {
		return false
	}
	for key, text := range wanted {
		if x := v.Get(key); x.Kind() != value.String || x.Unknown() || x.Text() != text {
			return false
		}
	}
	return true
}

// nearestLabels says in what the labels that come nearest differ.
func nearestLabels(wanted map[string]string, candidates []value.Value) string {
	best, most := value.Value{}, 0
	for _, v := range candidates {
		n := 0
		for key, text := range wanted {
			other := get(v, key)
			_, near := source.Nearest(text, []string{textAt(other)})
			switch {
			case hasLabels(v, map[string]string{key: text}):
				n += 3
			case near:
				n += 2
			case !other.IsAbsent():
				n++
			}
		}
		if n > most {
			best, most = v, n
		}
	}
	if most == 0 {
		return ""
	}
	var differs []string
	for key, text := range wanted {
		x := best.Get(key)
		switch {
		case x.IsAbsent():
			differs = append(differs, place.Key(key)+" is not there")
		case x.Kind() != value.String || x.Text() != text:
			differs = append(differs, place.Key(key)+" is "+x.Show(40))
		}
	}
	if len(differs) == 0 {
		return "what has them is in another scope"
	}
	slices.Sort(differs)
	return "the nearest: " + strings.Join(differs, ", ")
}

// lostLinks reports links of the project that nothing names anything by, or that lead to what no environment renders,
// when all of it is there. It returns which lead to nothing at all.
func (c *Checking) lostLinks(complete bool) []bool {
	lost := make([]bool, len(c.links))
	slices.Sort(c.kinds)
	for k, l := range c.Result.Links {
		if l.Kinds || l.bad || !complete || c.taken == 0 {
			continue
		}
		switch {
		case c.links[k].targets == 0:
			lost[k] = true
			to := l.To[0]
			f := source.Finding{Code: source.DanglingReference, Span: to.Span,
				Message: fmt.Sprintf("dangling link: no document of any environment has a path %q", to.Text),
				Help:    "fix the pattern or the path"}
			if to.Kind != "" && !slices.Contains(c.kinds, to.Kind) {
				f.Message = fmt.Sprintf("dangling link: no environment renders anything of kind %q", to.Kind)
				f.Help = source.Suggest(to.Kind, c.kinds, "kinds are "+source.FirstQuoted(c.kinds, 8))
			}
			c.report.Add(f)
		case c.links[k].references == 0:
			from := l.From[0]
			c.report.Add(source.Finding{Code: source.LooksAtNothing, Severity: source.Warning, Span: from.Span,
				Message: fmt.Sprintf("no document of any environment has a path %q", from.Text),
				Help:    "fix the pattern or the path, or leave the link out"})
		}
	}
	return lost
}
