// Package rule holds the documents of environments against the rules of a project and the links between documents. It
// exists so that what a team has agreed on is checked before anything is deployed, and reported at the line to
// change.
//
// A rule is a declaration of a module, which package eval runs. This package chooses what it looks at, finds where in
// the sources what it found comes from, leaves out what is exempt, and folds what is the same in several documents and
// environments into one finding.
package rule

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// Rule is the result of checking one rule.
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
	all                      bool // it looks at all documents
}

// Exemption is what came of an exemption.
type Exemption struct {
	*project.Exemption
	Exempt int  // how many violations it exempts; for one that has ended, would exempt
	Ended  bool // its last day is over
}

// Result is what came of checking the rules and links of a project.
type Result struct {
	Rules      []*Rule
	Exemptions []*Exemption
	Links      []*Link
	References int // how many names and selectors were followed
	// Waiting says that not all documents were there somewhere, so that what looks at all of them, links too, was not
	// held.
	Waiting      bool
	Environments []string
}

// Holds reports whether a rule is held in an environment.
func (r *Rule) Holds(environment string) bool {
	if r.Module != nil {
		return r.Module.Holds(environment)
	}
	return slices.Contains(r.Object.Module.Environments, environment)
}

// Rule returns the rule of a name; nil when none is held.
func (h *Result) Rule(name string) *Rule {
	for _, r := range h.Rules {
		if r.Object.Name == name {
			return r
		}
	}
	return nil
}

// Exempt counts the violations that are exempt.
func (h *Result) Exempt() int {
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

// Checking checks the rules and links of a project, one environment after the other. Nothing of an environment is kept
// but what was found.
type Checking struct {
	Result     *Result
	project    *project.Project
	options    Options
	report     Report
	exemptions []*exemption
	broken     bool // what documents are made of has errors, so that some may be missing

	mu    sync.Mutex
	found map[*render.Result]*found // in environments that were not taken yet

	links    []linked // what came of each link, in all environments
	kinds    []string // of the documents, each once
	partial  bool     // not all documents were there somewhere
	taken    int      // how many environments were
	deferred []deferred
}

// Report takes findings.
type Report interface{ Add(...source.Finding) }

// deferred is what a rule or link found. Where it looks at documents together, whether all of them are there is known
// at the end only.
type deferred struct {
	finding source.Finding
	rule    *Rule // nil for a link
	link    int
	exempt  []*exemption // that are for it
	failed  bool         // the rule failed
	silent  bool         // which is reported elsewhere
}

// Begin begins to check the rules and links of a project. What is found goes into the report.
func Begin(p *project.Project, options Options, report Report) *Checking {
	c := &Checking{Result: &Result{}, project: p, options: options, report: report, found: map[*render.Result]*found{}}
	for _, o := range mainRules(p) {
		c.Result.Rules = append(c.Result.Rules, newRule(o, nil))
	}
	c.addModules()
	links, findings := ReadLinks(p, options.Builtins)
	c.Result.Links, c.links = links, make([]linked, len(links))
	c.report.Add(findings...)
	c.exemptions = c.readExemptions(options)
	c.broken = brokenSources(p)
	return c
}

func newRule(o *check.Object, m *project.RuleModule) *Rule {
	return &Rule{Object: o, Module: m, Looked: map[string]int{}, all: o.Declaration.(*syntax.Rule).All}
}

// addModules adds the rules of modules.
func (c *Checking) addModules() {
	for _, m := range c.project.Rules() {
		if m.Module == nil || m.Broken {
			continue
		}
		for _, o := range m.Rules() {
			c.Result.Rules = append(c.Result.Rules, newRule(o, m))
		}
	}
}

// Look checks what an environment renders to. It may be called from any goroutine.
func (c *Checking) Look(r *render.Result) {
	if r.World == nil {
		return
	}
	s := &set{environment: r.Run.Name, objects: objectsOf(r), at: r.World.Recorder().Pos,
		partial: c.options.Part || c.broken || r.Findings.HasErrors() || r.World.Stopped() != nil,
		key:     func(under source.Pos) source.Pos { return c.project.KeyOf(source.NoPos, under, "") }}
	found := c.Result.look(r.World, s)
	r.Unchecked = r.World.Unchecked()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.found[r] = found
}

// Take reports what Look found, in the order of the environments.
func (c *Checking) Take(r *render.Result) {
	c.mu.Lock()
	found := c.found[r]
	delete(c.found, r)
	c.mu.Unlock()
	c.take(found, r.Run.Name)
}

// brokenSources reports whether what documents are made of has errors, so that some may be missing.
func brokenSources(p *project.Project) bool {
	if p.Unit().Module == nil {
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

// Files checks the documents of plain files. Key returns the place of the key under which a value at a place is.
// Dangling references are warnings, because there may be other files. What is found goes into the report.
func Files(p *project.Project, objects []Object, key func(under source.Pos) source.Pos, options Options,
	report Report) *Result {
	c := &Checking{Result: &Result{Links: []*Link{{Link: &project.Link{Kinds: true}}}}, project: p, options: options,
		report: report, links: make([]linked, 1)}
	c.addModules()
	w := p.Program.World(eval.Environment{})
	s := &set{objects: objects, key: key, files: true,
		at: func(o value.Origin) source.Pos { return o.Pos() }}
	c.take(c.Result.look(w, s), "")
	c.finish()
	c.lookedAtNothing()
	c.report.Add(p.Program.Constants()...)
	return c.Result
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

// look checks all rules in one environment.
func (h *Result) look(w *eval.World, s *set) *found {
	f := &found{looked: make([]int, len(h.Rules)), broken: make([]bool, len(h.Rules)),
		waiting: make([]bool, len(h.Rules))}
	worlds := map[*project.RuleModule]*eval.World{}
	before := len(w.Findings())
	var single []*runner
	matchers := map[string]func(path string) bool{}
	seen := make([]eval.Subject, len(s.objects))
	for i, o := range s.objects {
		seen[i] = eval.Subject{Path: o.Path, Data: o.Data}
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
		single = append(single, &runner{rule: r, run: run, number: i, matches: matchers[pattern]})
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

// runner runs a rule that looks at documents one by one.
type runner struct {
	rule    *Rule
	run     *eval.Rule
	number  int // of the rule
	matches func(path string) bool
}

// atOnce is how many documents a rule looks at before the next rule does. Batches keep documents in the CPU cache, and
// what is known of their parts is forgotten before the next batch.
const atOnce = 64

// lookAtEach lets rules look at the documents of a set one by one.
func (f *found) lookAtEach(rules []*runner, seen []eval.Subject, s *set) {
	eval.NumberKinds(seen)
	type told struct {
		by     *runner
		looked eval.Outcome
	}
	objects := s.objects
	for some := range slices.Chunk(seen, atOnce) {
		var all [atOnce][]told
		for _, one := range rules {
			f.looked[one.number] += one.run.Each(some, one.matches, func(i int, looked eval.Outcome) {
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

// matcher returns what reports whether paths match a pattern, nil for one that all match; documents of a stream have
// one path.
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
func (f *found) take(r *Rule, result eval.Outcome, s *set, o *Object) {
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

// take reports what was found in an environment; nil when there was nothing to look at.
func (c *Checking) take(f *found, environment string) {
	c.Result.Environments = append(c.Result.Environments, environment)
	c.taken++
	if f == nil {
		c.partial = true
		return
	}
	c.Result.Waiting = c.Result.Waiting || f.partial
	c.partial = c.partial || f.partial
	c.report.Add(f.findings...)
	for k, r := range c.Result.Rules {
		r.Looked[environment] = f.looked[k]
		r.Failed = r.Failed || f.broken[k]
		r.Waiting = r.Waiting || f.waiting[k]
	}
	for _, v := range f.violations {
		one := deferred{finding: v.found(environment), rule: v.rule, exempt: covering(c.exemptions, v, environment)}
		c.later(one, v.rule.all)
	}
	for k, l := range f.links {
		c.links[k].references += l.references
		c.links[k].targets += l.targets
		for _, v := range l.violations {
			c.later(deferred{finding: v.found(environment), link: k}, true)
		}
	}
	for _, kind := range f.kinds {
		if !slices.Contains(c.kinds, kind) {
			c.kinds = append(c.kinds, kind)
		}
	}
	for _, one := range f.failures {
		v := one.violation()
		c.later(deferred{finding: v.found(environment), rule: one.rule, failed: true, silent: one.finding.Code == ""},
			one.rule.all)
	}
	for _, e := range c.exemptions {
		e.found = nil // which holds documents
	}
}

// later counts what was found, at the end if it depends on all documents.
func (c *Checking) later(d deferred, together bool) {
	if together {
		c.deferred = append(c.deferred, d)
	} else {
		c.count(d)
	}
}

// count counts what was found, and reports it unless it is exempt.
func (c *Checking) count(d deferred) {
	exempt := false
	for _, e := range d.exempt {
		e.Exempt++
		exempt = exempt || !e.Ended
	}
	switch {
	case exempt:
		d.rule.Exempt++
		return
	case d.rule == nil:
	case d.failed:
		if d.rule.Failed = true; d.silent {
			return
		}
	case d.finding.Severity == source.Warning:
		d.rule.Warnings++
	default:
		d.rule.Errors++
	}
	c.report.Add(d.finding)
}

// Finish reports what only all environments together show.
func (c *Checking) Finish() *Result {
	if c.project.Program.Constants().HasErrors() && c.taken > 0 { // documents may be missing everywhere
		c.partial, c.Result.Waiting = true, true
		c.deferred = nil
		for i := range c.links {
			c.links[i] = linked{}
		}
		for _, r := range c.Result.Rules {
			if r.all {
				r.Waiting = true
				for environment := range r.Looked {
					r.Looked[environment] = 0
				}
			}
		}
	}
	c.finish()
	if c.options.Whole && c.taken > 0 && !c.Result.Waiting {
		c.lookedAtNothing()
	}
	return c.Result
}

func (c *Checking) finish() {
	complete := c.options.Whole && !c.partial
	lost := c.lostLinks(complete)
	for _, d := range c.deferred {
		switch {
		case d.rule != nil:
			c.count(d)
		case c.options.Whole && lost[d.link]: // of which one finding says more
		default:
			c.report.Add(d.finding)
		}
	}
	for _, l := range c.links {
		c.Result.References += l.references
	}
	c.judge(complete)
}

// found makes the finding of a violation in an environment.
func (v *violation) found(environment string) source.Finding {
	f := v.finding
	if environment != "" {
		f.Environments = []string{environment}
	}
	f.About = &source.About{Path: v.path, Pointer: v.pointer(), Help: v.help}
	if v.rule == nil {
		f.About.Messages = shownMessages
	} else if f.Broken != nil {
		own := *f.Broken
		own.Condition = v.condition
		f.Broken = &own
	}
	if o := v.object; o != nil {
		in := "in " + o.Label
		if v.path != "" {
			in += " at " + v.path
		}
		f.About.Label, f.About.Included = o.Label, o.Included
		f.About.In = source.Related{Span: o.Span, Text: in}
	}
	return f
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

// shownMessages is how many different messages are told of one place in the sources: a loop may make very many.
const shownMessages = 3

// lookedAtNothing warns of rules that met no document of any environment. The modules that come with the program have
// rules for what a project may not have: of those that all are for nothing, the entry is.
func (c *Checking) lookedAtNothing() {
	nothing := func(r *Rule) bool {
		for _, n := range r.Looked {
			if n > 0 {
				return false
			}
		}
		return !r.Object.Invalid && !r.Failed
	}
	told := map[*project.RuleModule]bool{}
	for _, r := range c.Result.Rules {
		if !nothing(r) {
			continue
		}
		f := source.Finding{Code: source.LooksAtNothing, Severity: source.Warning, Span: r.Object.Span,
			Message: fmt.Sprintf("the rule %q looked at no document", r.Object.Name),
			Help:    "its at or its where chooses none: fix it, or leave the rule out"}
		if r.Module != nil && builtIn(r.Module) {
			if told[r.Module] || slices.ContainsFunc(c.Result.Rules, func(other *Rule) bool {
				return other.Module == r.Module && !nothing(other)
			}) {
				continue
			}
			told[r.Module] = true
			f.Span, f.Help = r.Module.Span, "leave the module out"
			f.Message = fmt.Sprintf("the rules of %s looked at no document", r.Module.Path)
		}
		c.report.Add(f)
	}
}
