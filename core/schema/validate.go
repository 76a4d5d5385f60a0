package schema

import (
	"fmt"
	"sync"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Result is what came of a validation.
type Result struct {
	Problems []Problem
	// Schema are errors in the schema that were come upon; what depends on them was not checked.
	Schema source.Findings
	// NotKnown is how many values are not known, so that nothing was said of them.
	NotKnown int
	// Transitions is how many rules compare with the value before a change, and cannot be judged on a file.
	Transitions int
}

// Validate validates a value. Numbers are those in it that 64 bits do not hold; nil for none.
func (s *Schema) Validate(v value.Value, numbers data.Numbers) *Result {
	return s.validate(v, numbers, false)
}

func (s *Schema) validate(v value.Value, numbers data.Numbers, shaped bool) *Result {
	if s.isCertain(v, numbers, shaped, false) {
		return &Result{}
	}
	return s.validateWhole(v, numbers, shaped)
}

func (s *Schema) validateWhole(v value.Value, numbers data.Numbers, shaped bool) *Result {
	dynamic := s.store.dynamic.Load()
	result := s.validateOnce(v, numbers, shaped)
	if !dynamic && s.store.dynamic.Load() {
		return s.validateOnce(v, numbers, shaped) // a document that came in on the way asks for the scope
	}
	return result
}

func (s *Schema) validateOnce(v value.Value, numbers data.Numbers, shaped bool) *Result {
	r := &run{store: s.store, top: s, numbers: numbers, shaped: shaped, result: &Result{}, whole: v,
		limit: fewSteps}
	kept := free.Get().(*[]*visit)
	r.free = *kept
	defer func() {
		for _, c := range r.free {
			*c = visit{} // so that nothing is held on to
		}
		*kept = r.free
		free.Put(kept)
	}()
	start := &scope{resource: s.resource}
	within := r.bounded(func() {
		if !r.check(s, v, nil, start, nil, nil, nil) {
			out := &sink{}
			r.open, r.result.Transitions = 0, 0
			r.check(s, v, nil, start, nil, nil, out)
			r.result.Problems = tidy(out.problems)
		}
	})
	if !within {
		return &Result{Schema: source.Findings{{Code: source.TooMuchWork, Span: source.At(s.raw.Origin().Pos()),
			Message: "validation against this schema takes too much work: it checks the same parts again and again",
			Help:    "refer to the same schema only once"}}}
	}
	if r.open > 0 {
		value.Walk([]value.Value{v}, func(x value.Value) bool {
			if x.Unknown() {
				r.result.NotKnown++
			}
			return true
		})
	}
	return r.result
}

// run is one validation.
type run struct {
	store   *Store
	top     *Schema // of the whole
	numbers data.Numbers
	result  *Result
	// open counts what was passed over since it is not known.
	open int
	told map[*Schema]bool // whose errors were told
	free []*visit         // that are not used any more
	// steps counts schema checks and work of the same cost, up to limit.
	steps, limit int
	whole        value.Value
	// held caches the results of the first pass, and cuts counts the references that were not followed because they
	// form a cycle.
	held   map[question]bool
	scopes map[scope]*scope
	cuts   int
	// shaped says that the value passed into the type of the schema, so that what a type says need not be looked at.
	shaped bool
}

// Any validation may take fewSteps, and stepsOfValue more for each value of the document. A check that explains its
// errors counts as stepsOfExplaining steps.
const (
	fewSteps          = 2_000_000
	stepsOfValue      = 200
	stepsOfExplaining = 10
)

// question is the key of a cached result: a schema, a value, and the dynamic scope.
type question struct {
	schema *Schema
	value  uintptr
	length int
	scope  *scope
}

// spent ends a validation that takes too many steps.
type spent struct{}

// bounded runs a function, and reports whether it stayed within the limit of steps.
func (r *run) bounded(do func()) (within bool) {
	defer func() {
		switch problem := recover().(type) {
		case nil:
		case spent:
			r.free = nil // some are in use
		default:
			panic(problem)
		}
	}()
	do()
	return true
}

// spend counts steps, and ends the validation if there are too many.
func (r *run) spend(n int) {
	if r.steps += n; r.steps <= r.limit {
		return
	}
	if r.limit == fewSteps {
		r.limit += stepsOfValue * value.Size(r.whole, 1<<24)
	}
	if r.steps > r.limit {
		panic(spent{})
	}
}

// remembers reports whether a result may be cached: in the first pass, if only the schema and the value decide it.
// Small validations are not worth a cache.
func (r *run) remembers(v value.Value, seen *evaluated, out *sink) bool {
	return r.steps > 2000 && out == nil && seen == nil && !r.shaped && v.Identity() != 0
}

// scope is the resources that validation has gone into, innermost first (JSON Schema 2020-12, section 7.1).
type scope struct {
	resource *resource
	outer    *scope
}

// within returns the dynamic scope inside a schema. It is not tracked if no reference depends on it.
func (r *run) within(in *scope, s *Schema) *scope {
	if !r.store.dynamic.Load() {
		return in
	}
	if in.resource == s.resource {
		return in
	}
	key := scope{s.resource, in}
	known := r.scopes[key]
	if known == nil {
		if r.scopes == nil {
			r.scopes = map[scope]*scope{}
		}
		known = &key
		r.scopes[key] = known
	}
	return known
}

// free are visits of runs that have ended.
var free = sync.Pool{New: func() any { return &[]*visit{} }}

// here is the schemas that are looking at one value, innermost first.
type here struct {
	schema *Schema
	outer  *here
}

// includes reports whether a schema is looking at the value already.
func (h *here) includes(s *Schema) bool {
	for ; h != nil; h = h.outer {
		if h.schema == s {
			return true
		}
	}
	return false
}

// evaluated is which parts of a value were looked at.
type evaluated struct {
	parts []bool
	all   bool
}

func (e *evaluated) see(i, of int) {
	if e.parts == nil {
		e.parts = make([]bool, of)
	}
	e.parts[i] = true
}

func (e *evaluated) seen(i int) bool { return e.all || i < len(e.parts) && e.parts[i] }

func (e *evaluated) merge(inner *evaluated, of int) {
	e.all = e.all || inner.all
	for i, seen := range inner.parts {
		if seen {
			e.see(i, of)
		}
	}
}

// visit is one schema that looks at one value.
type visit struct {
	*run
	*rules
	schema *Schema
	value  value.Value
	path   *place.Path
	scope  *scope
	here   *here
	node   here // the last of here, while a reference is followed
	// followed is the last of here when the schema was only referred to.
	followed here
	seen     *evaluated // nil when nobody asks
	out      *sink      // nil at the first look
	failed   bool
	isTop    bool // the value is the whole that is validated
	// unsure says that a schema beside failed, so that what was looked at is not known.
	unsure bool
}

// check reports whether a value is as a schema asks.
func (r *run) check(s *Schema, v value.Value, path *place.Path, in *scope, at *here, seen *evaluated, out *sink) bool {
	if out != nil {
		r.spend(stepsOfExplaining)
	} else {
		r.spend(1)
	}
	if r.remembers(v, seen, out) {
		key := question{s, v.Identity(), v.Len(), in}
		if known, ok := r.held[key]; ok {
			return known
		}
		before := r.cuts
		ok := r.look(s, v, path, in, at, seen, out)
		if r.cuts == before {
			if r.held == nil {
				r.held = map[question]bool{}
			}
			r.held[key] = ok
		}
		return ok
	}
	return r.look(s, v, path, in, at, seen, out)
}

// look does the work of check if no result is cached.
func (r *run) look(s *Schema, v value.Value, path *place.Path, in *scope, at *here, seen *evaluated, out *sink) bool {
	top, rules := s == r.top, s.compiled()
	in = r.within(in, s)
	followed := rules.onlyRef && !at.includes(rules.ref)
	if followed { // what only refers to another is the other
		s = rules.ref
		rules, in = s.compiled(), r.within(in, s)
	}
	if rules.findings != nil && !r.told[s] {
		if r.told == nil {
			r.told = map[*Schema]bool{}
		}
		r.told[s] = true
		r.result.Schema = append(r.result.Schema, rules.findings...)
	}
	if v.Unknown() {
		r.open++
		return true
	}
	if r.shaped {
		if seen == nil && !s.says() && !(top && s.impliesMetadata()) {
			return true
		}
		if s.isLoose() { // nor are the parts of the value of the types that it names
			r.shaped = false
			defer func() { r.shaped = true }()
		}
	}
	c := r.visit()
	*c = visit{run: r, rules: rules, schema: s, value: v, path: path, isTop: top, scope: in, here: at, seen: seen,
		out: out}
	if followed {
		c.followed = here{s, at}
		c.here = &c.followed
	}
	outer := seen
	if rules.unevaluatedItems != nil || rules.unevaluatedProperties != nil {
		c.seen = &evaluated{}
	}
	c.all()
	if c.seen != outer && outer != nil {
		outer.merge(c.seen, v.Len())
	}
	failed := c.failed
	r.free = append(r.free, c)
	return !failed
}

// visit returns a visit that is not used any more, or a new one.
func (r *run) visit() *visit {
	n := len(r.free)
	if n == 0 {
		return &visit{}
	}
	c := r.free[n-1]
	r.free = r.free[:n-1]
	return c
}

// fail notes a problem; at the first look only that there is one.
func (c *visit) fail(kind ProblemKind, help, format string, arguments ...any) {
	if c.failed = true; c.out != nil {
		c.out.add(Problem{Kind: kind, Path: c.path, Value: c.value, Message: fmt.Sprintf(format, arguments...), Help: help,
			Schema: c.schema.shownAt(), Description: c.description})
	}
}

// asks names the keyword that the last problem is about.
func (c *visit) asks(keyword string) {
	if c.out == nil {
		return
	}
	if v := c.schema.raw; v.Kind() == value.Record && c.schema.shownAt() != 0 {
		if at := v.Get(keyword); !at.IsAbsent() {
			c.out.problems[len(c.out.problems)-1].Schema = at.Origin()
		}
	}
}

// stopped reports whether enough is known: at the first look, that there is a problem.
func (c *visit) stopped() bool { return c.failed && c.out == nil }

// all looks at everything that a schema asks for.
func (c *visit) all() {
	if c.never {
		c.fail(Forbidden, "leave it out", "nothing may be here")
		return
	}
	if c.extended != nil && c.nullable && c.value.IsNull() {
		return // whatever else is asked for
	}
	if !c.isOfType() {
		return // one error: what else is asked of a value of another type says nothing
	}
	if c.values(); c.stopped() {
		return
	}
	if c.scalars(); c.stopped() {
		return
	}
	if c.inPlace(); c.stopped() {
		return
	}
	if c.parts(); c.stopped() {
		return
	}
	if c.unevaluatedItems != nil || c.unevaluatedProperties != nil {
		c.unevaluatedParts()
	}
	if c.extended != nil {
		c.holdRules()
	}
}

// inner checks a part of the value.
func (c *visit) inner(s *Schema, v value.Value, path *place.Path) bool {
	ok := c.check(s, v, path, c.scope, nil, nil, c.out)
	c.failed = c.failed || !ok
	return ok
}

// beside checks the value against another schema; what that has looked at counts here too, if it holds.
func (c *visit) beside(s *Schema, out *sink) bool {
	if c.seen == nil {
		return c.check(s, c.value, c.path, c.scope, c.here, nil, out)
	}
	var inner evaluated
	ok := c.check(s, c.value, c.path, c.scope, c.here, &inner, out)
	if ok {
		c.seen.merge(&inner, c.value.Len())
	}
	return ok
}

// must checks the value against a schema that must hold too.
func (c *visit) must(s *Schema) {
	if !c.beside(s, c.out) {
		c.failed, c.unsure = true, true
	}
}

// parts looks at what a list or record holds.
func (c *visit) parts() {
	switch c.value.Kind() {
	case value.List:
		c.list()
	case value.Record:
		c.record()
	}
}
