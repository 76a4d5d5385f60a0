// Package rule holds the documents of environments against the rules of a project and the links between documents. It
// exists so that what a team has agreed on is held before anything is deployed, and told at the line that has to
// change.
//
// A rule is a declaration of a module, which package eval runs. This package chooses what it looks at, finds where in
// the sources what it found comes from, leaves out what is exempt, and folds what is the same in several documents and
// environments into one finding.
package rule

import (
	"cmp"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"time"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/parallel"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

// Rule is what came of holding a rule.
type Rule struct {
	Object *check.Object
	// Module is the entry of the project file that puts it in force; nil for a rule of the main module.
	Module *project.RuleModule
	// Looked says how many documents it looked at, for each environment that was held, by its name.
	Looked map[string]int
	// Errors, Warnings and Exempt count what it found, each in each environment.
	Errors, Warnings, Exempt int
	Failed                   bool // it could not be held somewhere
	Waiting                  bool // it looks at all documents, and somewhere not all were there
}

// Exemption is what came of an exemption.
type Exemption struct {
	*project.Exemption
	Exempt int  // how many violations it exempts; for one that has ended, would exempt
	Ended  bool // its last day is over
}

// Held is what came of holding the rules and links of a project.
type Held struct {
	Rules      []*Rule
	Exemptions []*Exemption
	Links      []*Link
	References int // how many names and selectors were followed
	// Waiting says that not all documents were there somewhere, so that what looks at all of them, links too, was not
	// held.
	Waiting      bool
	Environments []string
	Findings     source.Findings
}

// Holds reports whether a rule is held in an environment.
func (r *Rule) Holds(environment string) bool {
	if r.Module != nil {
		return r.Module.Holds(environment)
	}
	return slices.Contains(r.Object.Module.Environments, environment)
}

// Rule returns the rule of a name; nil when none is held.
func (h *Held) Rule(name string) *Rule {
	for _, r := range h.Rules {
		if r.Object.Name == name {
			return r
		}
	}
	return nil
}

// Exempt counts the violations that are exempt.
func (h *Held) Exempt() int {
	n := 0
	for _, r := range h.Rules {
		n += r.Exempt
	}
	return n
}

// Any reports whether a project has rules or links to hold.
func Any(p *project.Project) bool {
	return len(p.Rules()) > 0 || len(p.Exemptions()) > 0 || len(p.Links()) > 0 ||
		len(mainRules(p)) > 0
}

// All renders environments, and holds what they render to when its options say that it is validated. Today is the day
// on which exemptions are judged. The findings are those of both.
func All(p *project.Project, runs []*project.Run, options render.Options, builtins *eval.Builtins,
	today time.Time) ([]*render.Result, *Held, source.Findings) {
	results, findings := render.All(p, runs, options)
	if !options.Validate || !Any(p) || p.Program == nil {
		return results, &Held{}, findings
	}
	held := Hold(p, results, Options{Today: today, Builtins: builtins, Part: options.Only != nil,
		Whole: options.Only == nil && len(runs) == len(p.Concrete())})
	findings = append(append(findings, held.Findings...), p.Program.Constants()...).Tidy(p.Sources)
	if len(p.Concrete()) == 1 {
		for i := range findings {
			findings[i].Environments = nil
		}
	}
	return results, held, findings
}

// Options say how to hold rules.
type Options struct {
	Today    time.Time
	Builtins *eval.Builtins // for the places of exemptions
	Part     bool           // not all documents of an environment are there
	Whole    bool           // all documents of all environments are there
}

// Object is a document as rules see it: a file of its own, or one of the objects in a stream or list.
type Object struct {
	Path     string
	Data     value.Value
	Label    string           // how messages name it
	Span     source.Span      // where it is declared; none for a file
	Included []source.Related // how it came from there
}

// set is the documents of one environment, and what finds the places of their values.
type set struct {
	environment string // empty for files
	objects     []Object
	at          func(o value.Origin) source.Pos
	key         func(under source.Pos) source.Pos
	partial     bool // some are not there, so that nothing is said of all of them together
	files       bool // they are plain files, beside which there may be others
	namer       namer
}

// objectsOf returns the documents of an environment.
func objectsOf(r *render.Result) []Object {
	all := make([]Object, 0, len(r.Documents))
	for i := range r.Documents {
		d := &r.Documents[i]
		add := func(v value.Value) {
			o := Object{Path: d.Path, Data: v, Label: d.Path, Span: d.Span, Included: d.Included()}
			if d.Stream {
				if title := place.Title(v); title != "" {
					o.Label += ": " + title
				}
			}
			all = append(all, o)
		}
		each := func(v value.Value) {
			items, is := schema.ListItems(v)
			if !is {
				add(v)
			}
			for _, one := range items {
				add(one)
			}
		}
		if !d.Stream || d.Value.Kind() != value.List {
			each(d.Value)
			continue
		}
		for _, v := range d.Value.Elements() {
			each(v)
		}
	}
	return all
}

// Hold holds the rules and links of a project over what its environments render to.
func Hold(p *project.Project, results []*render.Result, options Options) *Held {
	held := &Held{}
	for _, o := range mainRules(p) {
		held.Rules = append(held.Rules, &Rule{Object: o, Looked: map[string]int{}})
	}
	for _, m := range p.Rules() {
		if m.Module == nil || m.Broken {
			continue
		}
		for _, o := range m.Rules() {
			held.Rules = append(held.Rules, &Rule{Object: o, Module: m, Looked: map[string]int{}})
		}
	}
	links, findings := ReadLinks(p, options.Builtins)
	held.Links, held.Findings = links, findings
	found := make([]*found, len(results))
	broken := brokenSources(p)
	var group parallel.Group
	group.SetLimit(4 * runtime.GOMAXPROCS(0))
	for i, r := range results {
		held.Environments = append(held.Environments, r.Run.Name)
		if r.World == nil {
			continue
		}
		group.Go(func() error {
			s := &set{environment: r.Run.Name, objects: objectsOf(r), at: r.World.Recorder().Pos,
				partial: options.Part || broken || r.Findings.HasErrors() || r.World.Stopped() != nil,
				key:     func(under source.Pos) source.Pos { return p.KeyOf(source.NoPos, under, "") }}
			found[i] = held.hold(r.World, s)
			r.Unchecked = r.World.Unchecked()
			return nil
		})
	}
	_ = group.Wait() // holding reports findings, not errors
	held.gather(p, held.Environments, found, options)
	if options.Whole && len(results) > 0 && !held.Waiting {
		held.lookedAtNothing()
	}
	return held
}

// brokenSources reports whether what documents are made of has errors, so that some may be missing.
func brokenSources(p *project.Project) bool {
	if p.Unit().Module == nil || p.Program.Constants().HasErrors() {
		return true
	}
	files := map[*source.File]bool{}
	for _, m := range p.Reached() {
		files[m.Tree.File] = true
	}
	return slices.ContainsFunc(p.Findings, func(f source.Finding) bool {
		return f.Severity == source.Error && files[p.Sources.File(f.Span.Start)]
	})
}

// mainRules returns the rules of the main modules.
func mainRules(p *project.Project) (rules []*check.Object) {
	for _, m := range p.Modules() {
		if m.Main {
			rules = append(rules, m.Rules()...)
		}
	}
	return rules
}

// Files holds rules over the documents of plain files. Key returns the place of the key under which a value at a place
// is. Names that lead nowhere are warnings, since there may be other files.
func Files(p *project.Project, objects []Object, key func(under source.Pos) source.Pos, options Options) *Held {
	held := &Held{Environments: []string{""}, Links: []*Link{{Link: &project.Link{Kinds: true}}}}
	w := p.Program.World(eval.Environment{})
	for _, m := range p.Rules() {
		if m.Module == nil || m.Broken {
			continue
		}
		for _, o := range m.Rules() {
			held.Rules = append(held.Rules, &Rule{Object: o, Module: m, Looked: map[string]int{}})
		}
	}
	s := &set{objects: objects, key: key, files: true,
		at: func(o value.Origin) source.Pos { return o.Pos() }}
	held.gather(p, []string{""}, []*found{held.hold(w, s)}, options)
	held.lookedAtNothing()
	held.Findings = append(held.Findings, p.Program.Constants()...)
	return held
}

// found is what was found in one environment.
type found struct {
	looked     []int // by each rule
	violations []violation
	failures   []failure
	findings   source.Findings // of the inputs of modules
	broken     []bool          // by rule: the inputs of its module have errors there
	waiting    []bool          // by rule: it looks at all documents, and some are missing
	links      []linked
	kinds      []string // of the documents, each once
	partial    bool
}

// violation is one violation in one environment.
type violation struct {
	rule    *Rule
	finding source.Finding // which does not name the document
	help    func() string  // of the finding, where it takes long to find out; nil otherwise
	// condition is where the rule asks for what is not met.
	condition source.Pos
	object    *Object // nil when no single document is to blame
	path      string  // of the place in it, as it is shown
	places    []located
}

// pointer returns the first place as a JSON Pointer; empty when there is none.
func (v *violation) pointer() string {
	if len(v.places) == 0 {
		return ""
	}
	path := v.places[0].Path
	for _, name := range v.places[0].Missing {
		path = path.Field(name)
	}
	return path.Pointer()
}

// located is a place of a violation in a document.
type located struct {
	eval.Offence
	object *Object
}

// failure is a rule that could not be held on a document.
type failure struct {
	rule    *Rule
	finding source.Finding
	object  *Object // nil for all documents
}

// hold holds all rules in one environment.
func (h *Held) hold(w *eval.World, s *set) *found {
	f := &found{looked: make([]int, len(h.Rules)), broken: make([]bool, len(h.Rules)),
		waiting: make([]bool, len(h.Rules))}
	worlds := map[*project.RuleModule]*eval.World{}
	before := len(w.Findings())
	var single []*held
	matchers := map[string]func(path string) bool{}
	seen := make([]eval.SeenDocument, len(s.objects))
	for i, o := range s.objects {
		seen[i] = eval.SeenDocument{Path: o.Path, Data: o.Data}
	}
	together := eval.Together(seen)
	for i, r := range h.Rules {
		if r.Object.Invalid || !r.Holds(s.environment) {
			continue
		}
		if s.files && r.Object.NeedsEnvironment {
			f.fail(r, source.Findings{{Code: source.RuleFailed, Span: r.Object.Span,
				Message: "it depends on the environment, and files have none", Help: "check it in the project"}}, nil)
			continue
		}
		world := w
		if r.Module != nil {
			known := false
			if world, known = worlds[r.Module]; !known {
				given := r.Module.Inputs
				if given.IsAbsent() {
					given = value.RecordOf(value.NewShape(nil), nil, value.From(r.Module.Span.Start))
				}
				world = w.InstanceOf(r.Module.Module, given, r.Module.Span)
				if !world.Inputs() {
					world = nil
				}
				worlds[r.Module] = world
			}
		}
		if world == nil {
			f.broken[i] = true
			continue
		}
		run := world.Rule(r.Object)
		if run.All {
			f.waiting[i] = s.partial
			if !s.partial {
				f.take(r, run.Documents(together), s, nil)
				f.looked[i] = len(seen)
			}
			continue
		}
		pattern, failures, ok := run.Pattern()
		if !ok {
			f.fail(r, failures, nil)
			continue
		}
		if matchers[pattern] == nil {
			matchers[pattern] = matcher(pattern)
		}
		single = append(single, &held{rule: r, run: run, number: i, matches: matchers[pattern]})
	}
	f.lookAtEach(single, seen, s)
	f.findings = slices.Clone(w.Findings()[before:])
	f.links, f.partial = holdLinks(h.Links, s), s.partial
	if len(h.Links) > 0 {
		for _, o := range s.objects {
			if kind := place.Kind(o.Data); kind != "" && !slices.Contains(f.kinds, kind) {
				f.kinds = append(f.kinds, kind)
			}
		}
	}
	return f
}

// held is a rule that looks at documents one by one.
type held struct {
	rule    *Rule
	run     *eval.Rule
	number  int // of the rule
	matches func(path string) bool
}

// atOnce is how many documents a rule looks at before the next rule does. They stay at hand, in the caches of the
// processor, and what is known of their parts is forgotten before the next ones.
const atOnce = 64

// lookAtEach lets rules look at the documents of a set one by one.
func (f *found) lookAtEach(rules []*held, seen []eval.SeenDocument, s *set) {
	eval.NumberKinds(seen)
	type told struct {
		by     *held
		looked eval.Looked
	}
	objects := s.objects
	for some := range slices.Chunk(seen, atOnce) {
		var all [atOnce][]told
		for _, one := range rules {
			f.looked[one.number] += one.run.Each(some, one.matches, func(i int, looked eval.Looked) {
				all[i] = append(all[i], told{one, looked})
			})
		}
		for i, d := range some {
			for _, t := range all[i] {
				t.by.run.Places(&d, &t.looked)
				f.take(t.by.rule, t.looked, s, &objects[i])
			}
		}
		objects = objects[len(some):]
	}
}

// matcher returns what tells whether paths match a pattern, nil for one that all match; documents of a stream have one
// path.
func matcher(pattern string) func(path string) bool {
	if pattern == "" || pattern == "**" {
		return nil
	}
	last, matched := "", false
	return func(path string) bool {
		if path != last {
			last, matched = path, place.Match(pattern, path)
		}
		return matched
	}
}

// take notes what a look came to.
func (f *found) take(r *Rule, result eval.Looked, s *set, o *Object) {
	if result.Failed {
		f.fail(r, result.Failures, o)
	}
	for _, v := range result.Violations {
		f.violations = append(f.violations, s.violation(r, v, o))
	}
}

func (f *found) fail(r *Rule, failures source.Findings, o *Object) {
	if len(failures) == 0 { // what it needs has failed, which is reported there
		failures = source.Findings{{}}
	}
	spent := false
	for _, finding := range failures {
		if finding.Code == source.TooMuchWork { // the first says where
			if spent {
				continue
			}
			spent = true
		}
		f.failures = append(f.failures, failure{r, finding, o})
	}
}

// violation makes the finding of a violation: at the line that produced the value which breaks the rule.
func (s *set) violation(r *Rule, v eval.Violation, o *Object) violation {
	result := violation{rule: r, condition: v.Condition.Start, finding: source.Finding{Code: source.RuleViolation,
		Message: v.Message, Span: v.Condition, Broken: &source.Broken{Rule: r.Object.Name,
			Reason: Reason(r.Object), Span: r.Object.Span, Condition: v.Condition.Start, Advice: v.Advice}}}
	if v.Advice {
		result.finding.Severity = source.Warning
	}
	if o != nil && len(v.Places) == 0 {
		v.Places = []eval.Offence{{Value: o.Data}}
	}
	for i, one := range v.Places {
		object := o
		if object == nil {
			object = &s.objects[one.Document]
		}
		result.places = append(result.places, located{one, object})
		span, path := s.place(one, object), s.namer.shown(object.Data, one)
		switch {
		case i == 0:
			result.finding.Span, result.object, result.path = span, object, path
		case i <= shownPlaces:
			text := "also here: " + object.Label
			if path != "" {
				text += ", " + path
			}
			result.finding.Related = append(result.finding.Related, source.Related{Span: span, Text: text})
		case i == shownPlaces+1:
			result.finding.Related = append(result.finding.Related,
				source.Related{Text: fmt.Sprintf("and in %s more", source.Count(len(v.Places)-i, "path"))})
		}
	}
	return result
}

// shownPlaces is how many further places of a violation are told.
const shownPlaces = 3

// place returns where an offence comes from in the sources.
func (s *set) place(one eval.Offence, o *Object) source.Span {
	pos := s.at(one.Value.Origin())
	if len(one.Missing) > 0 && pos.IsValid() {
		if key := s.key(pos); key.IsValid() {
			pos = key
		}
	}
	if !pos.IsValid() {
		return o.Span
	}
	return source.At(pos)
}

// namer shows paths. It remembers what the elements of lists are known by, since many may be shown of one list.
type namer struct{ place.Namer }

// shown writes the path of an offence as it is shown, with the elements of lists by what they are known by.
func (n *namer) shown(data value.Value, one eval.Offence) string {
	path := n.Path(data, one.Path)
	for _, name := range one.Missing {
		path = path.Field(name)
	}
	return path.String()
}

// Reason returns the description of a rule on one line.
func Reason(o *check.Object) string {
	return strings.Join(strings.Fields(o.Declaration.Declared().Description), " ")
}

// gather makes findings of what was found in all environments.
func (h *Held) gather(p *project.Project, environments []string, all []*found, options Options) {
	exemptions := h.readExemptions(p, options)
	lost := h.lostLinks(all, options)
	violations, failures := newFolding(), newFolding()
	for i, f := range all {
		if f == nil {
			continue
		}
		environment := environments[i]
		h.Waiting = h.Waiting || f.partial
		h.Findings = append(h.Findings, f.findings...)
		for k, r := range h.Rules {
			r.Looked[environment] = f.looked[k]
			r.Failed = r.Failed || f.broken[k]
			r.Waiting = r.Waiting || f.waiting[k]
		}
		for _, v := range f.violations {
			if h.exempt(exemptions, v, environment) {
				v.rule.Exempt++
				continue
			}
			if v.finding.Severity == source.Warning {
				v.rule.Warnings++
			} else {
				v.rule.Errors++
			}
			violations.fold(v, environment)
		}
		for k, l := range f.links {
			h.References += l.references
			if options.Whole && lost[k] {
				continue // of which one finding says more
			}
			for _, v := range l.violations {
				violations.fold(v, environment)
			}
		}
		for _, one := range f.failures {
			one.rule.Failed = true
			if one.finding.Code != "" {
				failures.fold(one.violation(), environment)
			}
		}
	}
	for i, one := range slices.Concat(violations.order, failures.order) {
		h.Findings.Add(one.result(i < helped))
	}
	complete := options.Whole && !slices.ContainsFunc(all, func(f *found) bool { return f == nil || f.partial })
	h.judge(exemptions, complete, options)
}

// violation puts the failure of a rule into words.
func (f failure) violation() violation {
	finding := f.finding
	switch {
	case finding.Code == source.HiddenDecision:
		finding.Help = "what a rule requires may be secret; what decides in it, such as its where, may not"
	case finding.Help == "" && f.object != nil:
		finding.Help = "choose its documents with at or where, or ask what they are with is"
	}
	finding.Code, finding.Severity, finding.Environments = source.RuleFailed, source.Error, nil
	finding.Message = fmt.Sprintf("the rule %q failed: %s", f.rule.Object.Name, finding.Message)
	finding.Broken = &source.Broken{Rule: f.rule.Object.Name, Reason: Reason(f.rule.Object), Span: f.rule.Object.Span}
	return violation{rule: f.rule, finding: finding, object: f.object}
}

// helped is for how many findings it is looked for how to mend them where that takes long. Nobody reads more of them.
const helped = 200

// folding makes one finding of those that are the same.
type folding struct {
	order []*folded
	byKey map[foldKey]*folded
	lines map[source.Pos]int // how many different messages there are, of what no rule found
}

func newFolding() *folding {
	return &folding{byKey: map[foldKey]*folded{}, lines: map[source.Pos]int{}}
}

// shownMessages is how many different messages are told of one place in the sources: a loop may make very many.
const shownMessages = 3

// foldKey is by what findings are the same.
type foldKey struct {
	at      source.Pos
	rule    *Rule
	asked   source.Pos // the condition in the rule
	message string     // of what no rule found
}

// folded is a finding of several documents and environments.
type folded struct {
	first        violation
	spots        []spot // the first of the places
	places       map[placeKey]bool
	documents    []string // how messages name them, each once
	labels       map[string]bool
	environments []string
	others       []string // what is said otherwise of the first place in other environments, with their names
}

// spot is a place in a document, as it is shown.
type spot struct {
	object *Object
	path   string
}

// placeKey is by what places are the same in several environments: a document, and a JSON Pointer in it.
type placeKey struct{ label, pointer string }

// fold adds a violation to the one that it is the same as: what one condition of a rule finds at one line of the
// sources is the same, in however many documents, whatever is said of each. So is a rule that fails in one place.
func (f *folding) fold(v violation, environment string) {
	key := foldKey{at: v.finding.Span.Start, asked: v.condition, message: v.finding.Message}
	if v.rule != nil {
		key.rule, key.message = v.rule, ""
	}
	one := f.byKey[key]
	if one == nil && v.rule == nil {
		if f.lines[key.at]++; f.lines[key.at] > shownMessages {
			key.message = ""
			one = f.byKey[key]
		}
	}
	if one == nil {
		one = &folded{first: v, labels: map[string]bool{}, places: map[placeKey]bool{}}
		f.byKey[key] = one
		f.order = append(f.order, one)
	}
	if environment != "" && !slices.Contains(one.environments, environment) {
		one.environments = append(one.environments, environment)
	}
	if said := v.finding.Message; said != one.first.finding.Message && len(one.environments) > 1 &&
		len(one.others) < shownPlaces && v.pointer() == one.first.pointer() &&
		(v.object == nil || v.object.Label == one.documents[0]) &&
		!slices.ContainsFunc(one.others, func(other string) bool { return strings.HasSuffix(other, ": "+said) }) {
		one.others = append(one.others, "in "+environment+": "+said)
	}
	if v.object == nil {
		return
	}
	if !one.labels[v.object.Label] {
		one.labels[v.object.Label] = true
		one.documents = append(one.documents, v.object.Label)
	}
	if at := (placeKey{v.object.Label, v.pointer()}); !one.places[at] {
		one.places[at] = true
		if len(one.spots) < shownPlaces {
			one.spots = append(one.spots, spot{v.object, v.path})
		}
	}
}

// result makes the finding; help says whether to look for one that takes long to find out.
func (f *folded) result(help bool) source.Finding {
	finding := f.first.finding
	finding.Environments = f.environments
	if help && f.first.help != nil {
		finding.Help = f.first.help()
	}
	related := finding.Related
	finding.Related = nil
	if b := finding.Broken; b != nil {
		own := *b
		finding.Broken = &own
		own.Documents, own.Place = f.documents, f.first.path
		finding.Related = append(finding.Related, source.Related{Span: b.Span, Text: cmp.Or(own.Reason,
			fmt.Sprintf("rule %q", b.Rule))})
	}
	if len(f.documents) > 0 {
		label := f.documents[0]
		if n := len(f.documents) - 1; n > 0 {
			label = fmt.Sprintf("%s and %s more", label, source.Count(n, "document"))
		}
		finding.Message = label + ": " + finding.Message
	}
	for i, at := range f.spots {
		in := "in " + at.object.Label
		if at.path != "" {
			in += " at " + at.path
		}
		finding.Related = append(finding.Related, source.Related{Span: at.object.Span, Text: in})
		if i == 0 {
			finding.Related = append(finding.Related, at.object.Included...)
		}
	}
	if n := len(f.places) - len(f.spots); n > 0 {
		finding.Related = append(finding.Related,
			source.Related{Text: "and in " + source.Count(n, "path") + " more"})
	}
	for _, said := range f.others {
		finding.Related = append(finding.Related, source.Related{Text: said})
	}
	finding.Related = append(finding.Related, related...)
	return finding
}

// lookedAtNothing warns of rules that met no document of any environment. The modules that come with the program have
// rules for what a project may not have: of those that all are for nothing, the entry is.
func (h *Held) lookedAtNothing() {
	nothing := func(r *Rule) bool {
		for _, n := range r.Looked {
			if n > 0 {
				return false
			}
		}
		return !r.Object.Invalid && !r.Failed
	}
	told := map[*project.RuleModule]bool{}
	for _, r := range h.Rules {
		if !nothing(r) {
			continue
		}
		f := source.Finding{Code: source.LooksAtNothing, Severity: source.Warning, Span: r.Object.Span,
			Message: fmt.Sprintf("the rule %q looked at no document", r.Object.Name),
			Help:    "its at or its where chooses none: fix it, or leave the rule out"}
		if r.Module != nil && builtIn(r.Module) {
			if told[r.Module] || slices.ContainsFunc(h.Rules, func(other *Rule) bool {
				return other.Module == r.Module && !nothing(other)
			}) {
				continue
			}
			told[r.Module] = true
			f.Span, f.Help = r.Module.Span, "leave the module out"
			f.Message = fmt.Sprintf("the rules of %s looked at no document", r.Module.Path)
		}
		h.Findings.Add(f)
	}
}
