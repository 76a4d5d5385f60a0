package eval

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// Rule is a rule as it is held in a world: its module is the main module there, or an instance. One goroutine may use
// it at a time.
type Rule struct {
	Object  *check.Object
	All     bool // it sees all documents of an environment together
	thread  *thread
	run     *compiledRule
	once    func(f *frame) // runOnce, made once
	looking looking
	pattern *value.Value // of paths, once it is known; Absent for all paths
	kinds   []maybe      // whether the rule may look at documents of a kind, by its number
}

// maybe is an answer that may not be known yet.
type maybe byte

const (
	unknown maybe = iota
	no
	yes
	undecided // the answer fails, which is reported of each document
)

// Violation is what a rule found.
type Violation struct {
	Advice    bool
	Message   string
	Condition source.Span // that does not hold
	// Places are where the documents that it looked at do not meet it, the most telling first. They are empty when no
	// single place does: a sum is too large.
	Places []Offence
	// subjects are what the condition looks at.
	subjects []subject
}

// Offence is a place in a document that a rule looked at.
type Offence struct {
	Document int         // its position among those that the rule looked at together
	Path     *place.Path // of what does not meet the rule; nil is the document itself
	Value    value.Value // what is there
	Missing  []string    // the fields after it that the rule looked for and that are not there
}

// Outcome is the result of running a rule on a document.
type Outcome struct {
	Met        bool // the condition behind where holds: the rule looked
	Violations []Violation
	// Failures is what kept the rule from being held. It may be empty although it Failed: what it needs failed before,
	// and was reported then.
	Failures source.Findings
	Failed   bool
}

// Subject is a document that rules look at.
type Subject struct {
	Path string
	Data value.Value

	kind   int     // the number of its kind; 0 when it is not told apart by kind
	marked *marked // once a rule has found something in it
}

// NumberKinds numbers the kinds of documents, so that a rule asks only once whether it looks at a kind.
func NumberKinds(documents []Subject) {
	numbers := map[string]int{}
	for i := range documents {
		d := &documents[i]
		if d.Data.Kind() != value.Record {
			continue
		}
		kind := d.Data.Get("kind")
		if kind.Kind() != value.String || kind.Mark() != 0 {
			continue
		}
		number := numbers[kind.Text()]
		if number == 0 {
			number = len(numbers) + 1
			numbers[kind.Text()] = number
		}
		d.kind = number
	}
}

// marked is a document of which every part has an origin of its own.
type marked struct {
	marker
	data, path value.Value
}

// InstanceOf returns an instance of a module whose inputs are given as a record; at is where they are given. What does
// not fit is found when an input is needed.
func (w *World) InstanceOf(m *check.Module, given value.Value, at source.Span) *World {
	t := w.thread(nil)
	t.recorder = nil
	return &World{program: w.program, evaluation: w.evaluation, base: w.program.first[m], states: make([]state, m.Globals),
		instance: &instance{module: m, making: &making{at: at, thread: t,
			whole: &argument{body: constant(given), inputs: m.Inputs(), at: at}}}}
}

// Inputs evaluates the inputs of an instance and reports whether they all have values. What is wrong with those that
// have none is among the findings.
func (w *World) Inputs() (ok bool) {
	ok = true
	for _, o := range w.instance.module.Order {
		if o.Kind == check.ObjectInput {
			_, fits := w.Value(o)
			ok = ok && fits
		}
	}
	return ok
}

// Rule returns a rule of the module of the world.
func (w *World) Rule(o *check.Object) *Rule {
	t := w.thread(o)
	t.recorder = nil // what a rule looks at is found by other means
	r := &Rule{Object: o, All: o.Declaration.(*syntax.Rule).All, thread: t, run: w.program.rule(o)}
	r.once = r.runOnce
	return r
}

// compiledRule is a rule, compiled.
type compiledRule struct {
	once           sync.Once
	document, path int // their places in the frame; path is -1 when it has no name
	at             code
	where          func(f *frame) (bool, value.Origin)
	// ofKind is as much of where as says nothing of a document but of its kind; nil when that is nothing. onlyKind says
	// that it is all of it.
	ofKind   func(f *frame) bool
	onlyKind bool
	body     statement
}

// rule returns the code of a rule, compiled once.
func (p *Program) rule(o *check.Object) *compiledRule {
	p.mu.Lock()
	r, ok := p.rules[o]
	if !ok {
		r = &compiledRule{path: -1}
		p.rules[o] = r
	}
	p.mu.Unlock()
	r.once.Do(func() {
		d := o.Declaration.(*syntax.Rule)
		c := &compiler{program: p, module: o.Module, definitions: map[int]syntax.Expression{}}
		r.document = o.Module.Info.Slot(d.Document.Span.Start)
		if d.Path.Name != "" {
			r.path = o.Module.Info.Slot(d.Path.Span.Start)
		}
		if d.At != nil {
			r.at = c.expression(d.At)
		}
		if d.Where != nil {
			r.where = c.truth(d.Where)
			document := o.Module.Info.Locals[d.Document.Span.Start]
			r.ofKind, r.onlyKind = c.ofKind(d.Where, document), c.onlyOfKind(d.Where, document)
		}
		r.body = c.block(d.Body)
	})
	return r
}

// ofKind compiles those of the conditions that are joined by `and`, from the first on, that look at nothing of a
// document but its kind: where one of them does not hold, the whole does not, for whatever document of that kind.
func (c *compiler) ofKind(e syntax.Expression, document *check.Object) func(f *frame) bool {
	if b, ok := syntax.Bare(e).(*syntax.Binary); ok && b.Operator == syntax.And {
		left := c.ofKind(b.Left, document)
		if left == nil || !c.onlyOfKind(b.Left, document) {
			return left // what is behind need not be reached
		}
		right := c.ofKind(b.Right, document)
		if right == nil {
			return left
		}
		return func(f *frame) bool { return left(f) && right(f) }
	}
	if !c.onlyOfKind(e, document) {
		return nil
	}
	holds := c.truth(e)
	return func(f *frame) bool {
		held, _ := holds(f)
		return held
	}
}

// onlyOfKind reports whether an expression looks at nothing of a document but its kind.
func (c *compiler) onlyOfKind(e syntax.Expression, document *check.Object) bool {
	only := true
	syntax.Inspect(e, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.Field:
			if of, ok := syntax.Bare(n.Of).(*syntax.Name); ok && c.module.Info.Objects[of.ID()] == document {
				only = only && n.Name.Name == "kind"
				return false
			}
		case *syntax.Name:
			if o := c.module.Info.Objects[n.ID()]; o != nil && o.Kind == check.ObjectLocal {
				only = false // the document or its path as a whole
			}
		case *syntax.Patch, *syntax.Lambda, *syntax.For, *syntax.LetIn, *syntax.Match:
			only = false // which have names of their own
		}
		return only
	})
	return only
}

// looking is one look of a rule.
type looking struct {
	document, path value.Value
	chosen         bool // by its kind, which is all that is asked for behind where
	met            bool // the condition behind where
	violations     []Violation
}

// allowance is how many steps a rule may take for each document that it looks at, beside those that any declaration
// may take: a rule is not charged for the number of documents.
const allowance = 20_000

// runOnce looks at the current document.
func (r *Rule) runOnce(f *frame) {
	f.steps = max(0, f.steps-allowance)
	f.spend(elementCost, r.Object.Span)
	f.slots[r.run.document] = r.looking.document
	if r.run.path >= 0 {
		f.slots[r.run.path] = r.looking.path
	}
	if r.run.where != nil && !r.looking.chosen {
		if holds, _ := r.run.where(f); !holds {
			return
		}
	}
	r.looking.met = true
	r.run.body(f, Visitor{rule: &r.looking})
}

// Pattern returns the pattern of the paths that the rule looks at; it is empty when there is none. ok is false when it
// cannot be found out, which is among the failures.
func (r *Rule) Pattern() (pattern string, failures source.Findings, ok bool) {
	if r.pattern == nil {
		var v value.Value
		failures, ok = r.attempt(func(f *frame) {
			if r.run.at != nil {
				at := r.Object.Declaration.(*syntax.Rule).At.Place()
				v = f.decide(r.run.at(f), "what a rule looks at", at)
			}
		})
		if !ok {
			return "", failures, false
		}
		r.pattern = &v
	}
	if r.pattern.IsAbsent() {
		return "", nil, true
	}
	return r.pattern.Text(), nil, true
}

// attempt runs something of the rule. What is found does not stay among the findings of the world.
func (r *Rule) attempt(body func(f *frame)) (failures source.Findings, ok bool) {
	t := r.thread
	before := *t
	reports := t.reports
	found, stopped := len(reports.findings), reports.stopped.Swap(nil)
	if ok = r.guarded(body); ok && len(reports.findings) == found && reports.stopped.Load() == nil {
		reports.stopped.Store(stopped)
		return nil, true
	}
	failures = slices.Clone(reports.findings[found:])
	reports.findings = reports.findings[:found:found]
	reports.stopped.Store(stopped)
	t.backTo(&before)
	return failures, false
}

// guarded runs something on a new frame and reports whether it came to its end.
func (r *Rule) guarded(body func(f *frame)) (ok bool) {
	defer func() {
		if problem := recover(); problem != nil {
			if _, expected := problem.(abort); !expected {
				panic(problem)
			}
		}
	}()
	r.thread.run(body, r.Object.Frame)
	return true
}

// Spent reports whether the rule took more steps than it may: it no longer runs.
func (r *Rule) Spent() bool { return r.thread.steps > stepLimit }

// Each looks at documents one after the other, at those of which the path matches (nil for all), and calls emit for
// each that violates the rule or on which the rule fails. It returns how many documents it looked at. Violations have
// no paths yet. The kinds of the documents are numbered.
func (r *Rule) Each(documents []Subject, matches func(path string) bool,
	emit func(i int, outcome Outcome)) (met int) {
	reports := r.thread.reports
	for i := 0; ; i++ {
		running := false
		r.looking = looking{}
		failures, ok := r.attempt(func(f *frame) {
			before := len(reports.findings)
			for ; i < len(documents) && !r.Spent(); i++ {
				d := &documents[i]
				may := r.may(d)
				if may == no || matches != nil && !matches(d.Path) {
					continue
				}
				running = true
				r.looking.document, r.looking.met = d.Data, false
				r.looking.chosen = may == yes && r.run.onlyKind
				if r.run.path >= 0 {
					r.looking.path = value.StringOf(d.Path, 0)
				}
				r.runOnce(f)
				if len(r.looking.violations) > 0 || len(reports.findings) > before || reports.stopped.Load() != nil {
					return
				}
				running = false
				if r.looking.met {
					met++
				}
			}
		})
		if !running {
			return met
		}
		outcome := r.looked(failures, ok)
		if outcome.Met {
			met++
		}
		if outcome.Failed || len(outcome.Violations) > 0 {
			emit(i, outcome)
		}
	}
}

// Document looks at one document, and finds the places of violations.
func (r *Rule) Document(d *Subject) Outcome {
	looked := r.look(d.Data, value.StringOf(d.Path, 0))
	r.Places(d, &looked)
	return looked
}

// Places finds the places of what a rule found in a document: it looks again, at a document of which every part is
// known again.
func (r *Rule) Places(d *Subject, looked *Outcome) {
	if len(looked.Violations) == 0 {
		return
	}
	if d.marked == nil {
		d.marked = &marked{}
		d.marked.data, d.marked.path = d.marked.document(d.Data, 0), d.marked.whole(d.Path, d.Data, 0)
	}
	looked.Violations = r.again(d.marked.data, d.marked.path)
	d.marked.find(looked.Violations)
}

// may reports whether a document may be one that the rule looks at, by what its where says of the kind alone, which it
// remembers for each.
func (r *Rule) may(d *Subject) maybe {
	if d.kind < len(r.kinds) && r.kinds[d.kind] != unknown {
		return r.kinds[d.kind]
	}
	return r.asked(d)
}

// asked is may for a kind that is not known yet.
func (r *Rule) asked(d *Subject) maybe {
	answer := undecided
	if d.kind != 0 && r.run.ofKind != nil {
		holds := false
		_, ok := r.attempt(func(f *frame) {
			f.slots[r.run.document] = d.Data
			holds = r.run.ofKind(f)
		})
		switch {
		case ok && holds:
			answer = yes
		case ok:
			answer = no
		}
	}
	if d.kind >= len(r.kinds) {
		r.kinds = append(r.kinds, make([]maybe, d.kind+1-len(r.kinds))...)
	}
	r.kinds[d.kind] = answer
	return answer
}

// Documents looks at all documents together.
func (r *Rule) Documents(all *AllDocuments) Outcome {
	before := r.thread.steps
	r.thread.steps -= allowance * len(all.documents)
	looked := r.look(all.list(), value.Value{})
	r.thread.steps = max(before, r.thread.steps)
	if len(looked.Violations) > 0 {
		looked.Violations = r.again(all.markedList(), value.Value{})
		all.marks.find(looked.Violations)
	}
	return looked
}

// AllDocuments are documents as rules see them that look at all of them together.
type AllDocuments struct {
	documents     []Subject
	plain, marked value.Value // once they are needed
	marks         marker
}

// Together returns documents as rules see them that look at all of them together.
func Together(documents []Subject) *AllDocuments { return &AllDocuments{documents: documents} }

var documentShape = value.NewShape([]string{"path", "data"})

// list is the list of all documents.
func (all *AllDocuments) list() value.Value {
	if all.plain.IsAbsent() {
		elements := make([]value.Value, len(all.documents))
		for i, d := range all.documents {
			elements[i] = value.RecordOf(documentShape, []value.Value{value.StringOf(d.Path, 0), d.Data}, d.Data.Origin())
		}
		all.plain = value.ListOf(elements, 0)
	}
	return all.plain
}

// markedList is the list of all documents, of which every part is known again.
func (all *AllDocuments) markedList() value.Value {
	if all.marked.IsAbsent() {
		elements := make([]value.Value, len(all.documents))
		for i, d := range all.documents {
			whole := all.marks.whole(d.Path, d.Data, i)
			elements[i] = value.RecordOf(documentShape, []value.Value{whole, all.marks.document(d.Data, i)}, whole.Origin())
		}
		all.marked = value.ListOf(elements, allDocuments)
	}
	return all.marked
}

// again looks at what the rule has found something in, to tell where. That takes no steps: the rule did not go too far
// the first time.
func (r *Rule) again(document, path value.Value) []Violation {
	steps := r.thread.steps
	defer func() { r.thread.steps = steps }()
	r.thread.steps = -allowance * max(1, document.Len())
	return r.look(document, path).Violations
}

// look runs the rule.
func (r *Rule) look(document, path value.Value) Outcome {
	r.looking = looking{document: document, path: path}
	return r.looked(r.attempt(r.once))
}

// looked is what came of the current look.
func (r *Rule) looked(failures source.Findings, ok bool) (looked Outcome) {
	looked.Failures = failures
	looked.Met, looked.Violations = r.looking.met, r.looking.violations
	if looked.Met && !ok {
		ok = r.passOver(&looked)
	}
	looked.Failed = !ok
	return looked
}

// passOver takes from what failed what would have to decide on a secret, or on what is known only after deployment:
// that is not checked, as a requirement of it would not be. It reports whether nothing else failed.
func (r *Rule) passOver(looked *Outcome) bool {
	hidden := 0
	others := slices.DeleteFunc(looked.Failures, func(f source.Finding) bool {
		if f.Code != source.HiddenDecision {
			return false
		}
		hidden++
		r.thread.notChecked(Unchecked{At: f.Span, Secret: true})
		return true
	})
	looked.Failures = others
	return hidden > 0 && len(others) == 0
}

// requireCost is how many steps a requirement of a rule counts beside those of its condition.
const requireCost = 8

// requireOfRule compiles what a rule requires.
func (c *compiler) requireOfRule(d *syntax.Require) statement {
	condition, at := c.assertion(d.Condition), d.Condition.Place()
	var message func(f *frame) string
	if d.Message != nil {
		message = c.message(d.Message)
	}
	text := strings.Join(strings.Fields(c.module.Tree.File.Slice(at)), " ")
	var subjects []finder
	levels := c.subjects(d.Condition, nil)
	if d.Message != nil {
		levels = append(levels, c.subjects(d.Message, nil)...)
	}
	for level, finders := range levels {
		for _, find := range finders {
			subjects = append(subjects, finder{find, level})
		}
	}
	return func(f *frame, visit Visitor) {
		f.spend(requireCost, at)
		if condition(f) {
			return
		}
		v := Violation{Advice: d.Advice, Condition: at, Message: "required is " + text}
		if d.Advice {
			v.Message = "advised is " + text
		}
		if message != nil {
			v.Message = message(f)
		}
		for _, s := range subjects {
			if found, ok := s.find(f); ok {
				found.level = s.level
				v.subjects = append(v.subjects, found)
			}
		}
		visit.rule.violations = append(visit.rule.violations, v)
	}
}

// subject is what a condition looks at: a value, and the fields after it that are not there. Those of a lower level
// tell more.
type subject struct {
	value   value.Value
	missing []string
	level   int
}

// finder finds a subject of a level.
type finder struct {
	find  func(f *frame) (subject, bool)
	level int
}

// subjects returns what finds the subjects of a condition: the longest chains of fields and elements in it that begin
// at a local value from outside of the condition. On further levels come the subjects of what these local values are.
func (c *compiler) subjects(e syntax.Expression, seen []int) (levels [][]func(f *frame) (subject, bool)) {
	within := e.Place()
	var roots []int
	var all []func(f *frame) (subject, bool)
	visit := func(n syntax.Node) bool {
		x, ok := n.(syntax.Expression)
		if !ok {
			return true
		}
		root, steps := c.chain(x)
		if root == nil {
			return true
		}
		if root.Span.Start < within.Start || root.Span.Start >= within.End {
			all = append(all, follow(root.Slot, steps))
			if !slices.Contains(roots, root.Slot) && !slices.Contains(seen, root.Slot) {
				roots = append(roots, root.Slot)
			}
		}
		return false
	}
	syntax.Inspect(e, visit)
	levels = append(levels, all)
	for _, slot := range roots {
		if definition := c.definitions[slot]; definition != nil && len(seen) < maxDefinitions {
			levels = append(levels, c.subjects(definition, append(slices.Clone(seen), roots...))...)
		}
	}
	return levels
}

// maxDefinitions is through how many local values the subjects of a condition are looked for.
const maxDefinitions = 20

// chainStep is a field or an index after a local value.
type chainStep struct {
	name  string
	index code // nil for a field
}

// chain returns the local value with which a chain of fields and indexes begins, and the steps; nil for what is no
// such chain.
func (c *compiler) chain(e syntax.Expression) (root *check.Object, steps []chainStep) {
	switch e := syntax.Bare(e).(type) {
	case *syntax.Name:
		if o := c.module.Info.Objects[e.ID()]; o != nil && o.Kind == check.ObjectLocal {
			return o, nil
		}
	case *syntax.Field:
		if root, steps = c.chain(e.Of); root != nil {
			return root, append(steps, chainStep{name: e.Name.Name})
		}
	case *syntax.Index:
		if root, steps = c.chain(e.Of); root != nil {
			if s, ok := syntax.Bare(e.Index).(*syntax.String); ok {
				if text, plain := s.Plain(); plain {
					return root, append(steps, chainStep{name: text})
				}
			}
			return root, append(steps, chainStep{index: c.expression(e.Index)})
		}
	}
	return nil, nil
}

// follow returns what goes along a chain as far as it leads.
func follow(slot int, steps []chainStep) func(f *frame) (subject, bool) {
	return func(f *frame) (s subject, ok bool) {
		if slot >= len(f.slots) {
			return subject{}, false
		}
		s.value = f.slots[slot]
		for i, step := range steps {
			next, name := value.Value{}, step.name
			if step.index != nil {
				var index value.Value
				found := len(f.reports.findings)
				if !guard(func() { index = step.index(f) }) {
					f.reports.findings = f.reports.findings[:found]
					return s, !s.value.IsAbsent()
				}
				switch {
				case index.Kind() == value.Int && s.value.Kind() == value.List:
					n := index.Int()
					if n < 0 {
						n += int64(s.value.Len())
					}
					if n >= 0 && n < int64(s.value.Len()) {
						next = s.value.Elements()[n]
					}
					name = fmt.Sprint(index.Int())
				case index.Kind() == value.String && !index.Unknown():
					name = index.Text()
				}
			}
			if next.IsAbsent() && s.value.Kind() == value.Record {
				next = s.value.Get(name)
			}
			if next.IsAbsent() {
				for _, rest := range steps[i:] {
					if rest.index != nil {
						break
					}
					s.missing = append(s.missing, rest.name)
				}
				return s, !s.value.IsAbsent()
			}
			s.value = next
		}
		return s, !s.value.IsAbsent()
	}
}

// marker gives every part of documents an origin of its own, by which it is found again, wherever a rule took it from.
type marker struct{ places []Offence }

// firstMark is the number of the first origin that a marker gives; a recorder gives those before it.
const firstMark = 1 << 30

// document returns a document whose parts are marked.
func (m *marker) document(v value.Value, number int) value.Value {
	return m.part(v, Offence{Document: number, Value: v}, 0)
}

func (m *marker) part(v value.Value, at Offence, depth int) value.Value {
	if depth > dataDepthLimit {
		return v
	}
	marked := value.MapParts(v, func(i int, part value.Value) value.Value {
		inner := Offence{Document: at.Document, Value: part}
		if v.Kind() == value.List {
			inner.Path = at.Path.Index(i)
		} else {
			inner.Path = at.Path.Field(v.Shape().Keys()[i])
		}
		return m.part(part, inner, depth+1)
	})
	m.places = append(m.places, at)
	return marked.WithOrigin(value.Recorded(firstMark + len(m.places) - 1))
}

// whole returns the path of a document, which stands for all of it.
func (m *marker) whole(path string, v value.Value, number int) value.Value {
	m.places = append(m.places, Offence{Document: number, Value: v})
	return value.StringOf(path, value.Recorded(firstMark+len(m.places)-1))
}

// allDocuments is the origin of the list of all documents that a rule sees: all of it is no place.
var allDocuments = value.Recorded(firstMark - 1)

// at returns the place that an origin stands for.
func (m *marker) at(o value.Origin) (Offence, bool) {
	number, ok := o.Step()
	if !ok || number < firstMark || number-firstMark >= len(m.places) {
		return Offence{}, false
	}
	return m.places[number-firstMark], true
}

// find finds the places of violations.
func (m *marker) find(violations []Violation) {
	for i := range violations {
		v := &violations[i]
		v.Places, v.subjects = m.best(v.subjects), nil
	}
}

// best returns the places of the subject that tells most: on the lowest level one that is a place itself, before one
// that is made of places, and a part of a document before all of it.
func (m *marker) best(subjects []subject) (best []Offence) {
	const itself, made, whole, none = 0, 1, 2, 3
	rank, level := none, 0
	for _, s := range subjects {
		if rank < whole && s.level > level {
			break
		}
		places := m.offences(s, 0)
		of := made
		_, direct := m.at(s.value.Origin())
		switch {
		case len(places) == 0:
			continue
		case places[0].Path == nil && len(places[0].Missing) == 0:
			of = whole
		case direct:
			of = itself
		}
		if of < rank {
			best, rank, level = places, of, s.level
		}
	}
	return best
}

// searchParts is how deep the parts of what a rule made are looked at.
const searchParts = 3

// offences returns the places that a subject has: its own, or when the rule made it those of its parts.
func (m *marker) offences(s subject, depth int) (all []Offence) {
	if at, ok := m.at(s.value.Origin()); ok {
		at.Missing = s.missing
		return []Offence{at}
	}
	if depth == searchParts || s.value.Origin() == allDocuments {
		return nil
	}
	for part := range value.Parts(s.value) {
		all = append(all, m.offences(subject{value: value.Parts(s.value)[part]}, depth+1)...)
	}
	return all
}
