// Package eval compiles checked modules to closures and runs them. It exists to turn declarations into values:
// each when it is needed, each once, with its work counted so that it always ends.
package eval

import (
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// Limits of an evaluation. A declaration may take stepLimit steps; calls and declarations may nest depthLimit deep,
// values dataDepthLimit.
const (
	stepLimit      = 100_000_000
	depthLimit     = 10_000
	dataDepthLimit = 1000
)

// elementCost is how many steps an element counts that is kept in memory, so that the memory of a declaration stays
// bounded too. A byte of text that is made counts one.
const elementCost = 4

// Native is the body of a built-in function. The arguments are complete and of the declared types.
type Native func(c *Call, arguments []value.Value) value.Value

// Builtins is a table of built-in functions and their bodies.
type Builtins struct {
	*check.Builtins
	bodies map[*check.Builtin]Native
}

// NewBuiltins returns the table of some functions; each must have a body.
func NewBuiltins(declared []*check.Builtin, bodies map[*check.Builtin]Native) *Builtins {
	return &Builtins{check.NewBuiltins(declared), bodies}
}

// Program is a checked program ready to run. It may be used by several goroutines.
type Program struct {
	checked      *check.Program
	builtins     *Builtins
	declarations []*declaration // by Global
	data         map[*check.Object]value.Value
	keys         Keys
	constants    *World
	marked       bool // some values may be secret, or known only after deployment
	observer     Observer

	mu        sync.Mutex
	functions map[*check.Object]*function
	// The code of the limits and defaults of types, and of the messages of limits, by their numbers.
	conditions, messages, defaults []fixed
	// statements are the declarations without a name.
	statements map[*check.Object]*compiledStatement
}

type compiledStatement struct {
	once sync.Once
	run  statement
}

// Keys tells for the place of a value that was read from a file where its key stands.
type Keys map[source.Pos]source.Pos

// declaration is one declaration that has a value.
type declaration struct {
	object *check.Object
	once   sync.Once
	body   code
	path   code // of documents
}

type function struct {
	object   *check.Object
	once     sync.Once
	body     code
	defaults []code
}

// fixed is a piece of code that belongs to a type: a condition, its message, or the default of a field.
type fixed struct {
	once sync.Once
	body code
}

// New prepares a checked program. Data holds the contents of the data files that modules use, keys the places of the
// keys of all data.
func New(checked *check.Program, builtins *Builtins, data map[*check.Object]value.Value, keys Keys) *Program {
	p := &Program{
		marked:  checked.Marked,
		checked: checked, builtins: builtins, data: data, keys: keys,
		declarations: make([]*declaration, checked.Globals),
		functions:    map[*check.Object]*function{},
		conditions:   make([]fixed, len(checked.Conditions)),
		messages:     make([]fixed, len(checked.Conditions)),
		defaults:     make([]fixed, len(checked.Defaults)),
		statements:   map[*check.Object]*compiledStatement{},
	}
	for _, m := range checked.Modules {
		for _, o := range m.Order {
			if o.Global >= 0 {
				p.declarations[o.Global] = &declaration{object: o}
			}
		}
	}
	p.constants = p.newWorld(Environment{}, nil)
	p.constants.shared = true
	return p
}

// Observer is told the value of each expression that is evaluated, and the type that it must be of.
type Observer func(at source.Span, t types.Type, v value.Value)

// Observe lets an observer see all that is evaluated from now on. It is for tests of the promise that what is
// accepted is of its type; nothing may have been evaluated before.
func (p *Program) Observe(o Observer) { p.observer = o }

// Environment is what a program can know of the environment that it is evaluated for.
type Environment struct {
	Name string
	Tags []string
}

// World is the values of one environment, or of one instance of a module in it. Only one goroutine may use those of an
// environment at a time.
type World struct {
	program     *Program
	environment Environment
	recorder    *Recorder
	states      []state
	base        int    // the number of the declaration to which the first state belongs
	shared      bool   // the world of constants, which all others use, or an instance in it
	root        *World // the world of the environment
	reports     *World // the world whose findings this one adds to

	// Of an instance:
	module   *check.Module
	making   *making
	visiting status
	visited  *visited
	taken    bool // its documents and remarks went somewhere

	// Of an environment:
	instances []*World
	completed int // how many of the instances are complete
	// kept is how many elements its values hold, of those that hold many.
	kept int
	// steps is how many steps its declarations took together. spent says that they were too many, or that their values
	// hold too much: nothing more is evaluated.
	steps int
	spent bool
	// Other returns the world of another environment, for tests.
	Other  func(name string) *World
	others map[string]*World

	// lock is that of the constants. Who evaluates one holds it, so that constants that need each other are evaluated
	// by one goroutine, whichever comes first.
	lock     sync.Mutex
	mu       sync.Mutex // guards the findings of the constants
	findings source.Findings
	stopped  atomic.Pointer[Unreported] // the first that did not come to its end
	// unchecked are the conditions that were not tested.
	unchecked []Unchecked
}

type status = uint32

const (
	waiting status = iota
	running
	done
	failed
)

type state struct {
	status atomic.Uint32
	value  value.Value
}

func (p *Program) newWorld(e Environment, r *Recorder) *World {
	w := &World{program: p, environment: e, recorder: r, states: make([]state, len(p.declarations))}
	w.root, w.reports = w, w
	return w
}

// home returns the world in which a declaration has its value; nil when that is an instance that is not there.
func (w *World) home(o *check.Object) *World {
	switch {
	case o.Constant():
		return w.program.constants
	case !o.NeedsInput:
		return w.root
	case w.making == nil && !o.Module.Main, o.Global < w.base || o.Global >= w.base+len(w.states):
		return nil // a module that is used has inputs in its instances only
	}
	return w
}

// World returns a world in which nothing is evaluated yet.
func (p *Program) World(e Environment) *World { return p.newWorld(e, nil) }

// Recording returns a world whose values know all that they depend on.
func (p *Program) Recording(e Environment) *World {
	return p.newWorld(e, &Recorder{})
}

// Recorder returns the record of a recording world, else nil.
func (w *World) Recorder() *Recorder { return w.recorder }

// Findings returns what was found in this world so far; what was found in declarations that are the same in all
// environments is returned by Constants.
func (w *World) Findings() source.Findings { return w.findings }

// Constants returns what was found in the declarations that are the same in all environments.
func (p *Program) Constants() source.Findings {
	p.constants.mu.Lock()
	defer p.constants.mu.Unlock()
	return append(source.Findings(nil), p.constants.findings...)
}

// abort ends the evaluation of a declaration; its finding has been added.
type abort struct{}

// Unreported is the panic of who finds that an evaluation stopped although nothing is wrong with the project: that is
// a mistake in the program, and what was evaluated would be missing without a word.
type Unreported struct{ What string }

// Error says what is missing.
func (u *Unreported) Error() string {
	return "the evaluation of " + u.What + " stopped, and nothing was found that is wrong with it"
}

// attempt runs f and reports whether it came to its end; when it did not, that is noted.
func (w *World) attempt(o *check.Object, f func()) (ok bool) {
	if ok = guard(f); !ok {
		w.reports.stopped.CompareAndSwap(nil, &Unreported{describe(o)})
	}
	return ok
}

// Stopped returns what did not come to its end in this world or among the constants, nil when all did. Something must
// have been found then.
func (w *World) Stopped() *Unreported {
	if u := w.stopped.Load(); u != nil {
		return u
	}
	return w.program.constants.stopped.Load()
}

// thread is one evaluation in a world: how much it has done, how deep it is.
type thread struct {
	world *World
	// recorder writes down what values depend on; nil when nothing is recorded. A function runs in the world that it
	// was made in, but is recorded for who called it.
	recorder *Recorder
	reports  *World // the world that findings are added to
	owner    *check.Object
	outer    *thread     // the evaluation that needed this one
	needed   source.Span // where it did
	locked   bool        // holds the lock of the constants
	steps    int
	depth    int
	stack    []value.Value
	frames   []frame          // of the calls that are running
	choices  []value.Origin   // what chose the blocks that a document stands in
	calls    []caller         // what is running, outermost first
	testing  bool             // a condition of a type is tested
	filling  []*types.Default // the defaults that are being filled in, outermost first
}

// notHeld ends the test of a condition that cannot be computed: it does not hold. A value of which quantity.bytes
// fails is not as large as it has to be, and it is the value that has to change.
type notHeld struct{ reason string }

// tests runs the test of a condition of a type. When it cannot be computed, reason says why, and it does not hold.
func (t *thread) tests(test func() bool) (holds bool, reason string) {
	depth, calls, frames, stack, outer := t.depth, len(t.calls), len(t.frames), len(t.stack), t.testing
	t.testing = true
	defer func() {
		t.testing = outer
		problem := recover()
		if problem == nil {
			return
		}
		failed, ok := problem.(notHeld)
		if !ok {
			panic(problem)
		}
		t.depth, t.calls, t.frames, t.stack = depth, t.calls[:calls], t.frames[:frames], t.stack[:stack]
		holds, reason = false, failed.reason
	}()
	return test(), ""
}

// frame is what code runs on: the local values of a declaration or function.
type frame struct {
	*thread
	slots []value.Value
}

type code func(f *frame) value.Value

// caller is the place from which a function runs, or the value for which a condition does.
type caller struct {
	at        source.Span
	condition bool
}

func (c caller) text() string {
	if c.condition {
		return "checked for this value"
	}
	return "called here"
}

// shownCalls is how many of the calls that led to a mistake are told.
const shownCalls = 3

func (t *thread) fail(f source.Finding) {
	t.report(f)
	panic(abort{})
}

// report adds a finding and goes on.
func (t *thread) report(f source.Finding) {
	w := t.reports
	for i := len(t.calls) - 1; i >= 0 && i >= len(t.calls)-shownCalls; i-- {
		f.Related = append(slices.Clip(f.Related), source.Related{Span: t.calls[i].at, Text: t.calls[i].text()})
	}
	for i, m := 0, t.world.making; m != nil && i < shownCalls; i, m = i+1, m.thread.world.making {
		f.Related = append(slices.Clip(f.Related),
			source.Related{Span: m.at, Text: "in the instance that is made here"})
	}
	if w.shared {
		w.mu.Lock()
		defer w.mu.Unlock()
	} else if w.environment.Name != "" {
		f.Environments = []string{w.environment.Name}
	}
	w.findings.Add(f)
}

func (t *thread) failAt(code source.Code, span source.Span, help, format string, arguments ...any) {
	t.fail(source.Finding{Code: code, Span: span, Help: help, Message: fmt.Sprintf(format, arguments...)})
}

// spend counts steps at a place.
func (t *thread) spend(n int, at source.Span) {
	t.steps += n
	if t.steps > stepLimit {
		t.failAt(source.TooMuchWork, at, "go through fewer elements, or build less text",
			"%s needs more than %d million steps, and was stopped here", describe(t.owner), stepLimit/1_000_000)
	}
}

func describe(o *check.Object) string {
	if o == nil {
		return "this"
	}
	if o.Name == "" {
		return "the " + o.Kind.String()
	}
	return fmt.Sprintf("%s %q", o.Kind, o.Name)
}

// enter and leave count how deep calls and declarations nest.
func (t *thread) enter(at source.Span) {
	t.depth++
	if t.depth > depthLimit {
		t.failAt(source.TooDeep, at, "", "calls and declarations nest deeper than %d levels here", depthLimit)
	}
}

// alloc takes a frame of n places from the stack of the thread.
func (t *thread) alloc(n int) (slots []value.Value, mark int) {
	mark = len(t.stack)
	if mark+n > cap(t.stack) {
		// Frames in the old stack stay valid: they refer to it themselves.
		t.stack = make([]value.Value, mark, 2*cap(t.stack)+n+64)
	}
	t.stack = t.stack[:mark+n]
	return t.stack[mark : mark+n : mark+n], mark
}

func (t *thread) release(mark int) { t.stack = t.stack[:mark] }

// push takes a frame for a call, pop gives back the last.
func (t *thread) push(slots []value.Value) *frame {
	n := len(t.frames)
	if n == cap(t.frames) {
		// Frames in the old array stay valid: the calls that run on them refer to them themselves.
		t.frames = make([]frame, n, 2*n+16)
	}
	t.frames = t.frames[:n+1]
	f := &t.frames[n]
	f.thread, f.slots = t, slots
	return f
}

func (t *thread) pop() { t.frames = t.frames[:len(t.frames)-1] }

// guard runs f and reports whether it came to its end.
func guard(f func()) (ok bool) {
	defer func() {
		if problem := recover(); problem != nil {
			if _, expected := problem.(abort); !expected {
				panic(problem)
			}
			ok = false
		}
	}()
	f()
	return true
}

// force returns the value of a declaration, evaluating it if need be; it does not return when that fails.
func (t *thread) force(global int, at source.Span) value.Value {
	return t.forceIn(t.world, global, at)
}

// forceIn is force for a declaration of a certain world.
func (t *thread) forceIn(w *World, global int, at source.Span) value.Value {
	d := w.program.declarations[global]
	w = w.home(d.object)
	if w == nil {
		t.failAt(source.NeedsInstance, at, "", "%s depends on the inputs of %s, which have no values here",
			describe(d.object), d.object.Module.Path)
	}
	s := &w.states[global-w.base]
	if s.status.Load() == done {
		return s.value
	}
	defer t.lock(w)()
	switch s.status.Load() {
	case done:
		return s.value
	case running:
		t.circle(w, d.object, at)
	case failed:
		panic(abort{})
	}
	if d.object.Invalid || w.root.spent {
		s.status.Store(failed)
		panic(abort{})
	}
	t.enter(at)
	s.status.Store(running)
	defer func() {
		if s.status.Load() == running {
			s.status.Store(failed)
		}
	}()
	inner := t.inner(w, d.object)
	inner.needed = at
	inner.run(func(f *frame) { s.value = w.program.compiled(d).evaluate(f) }, d.object.Frame)
	t.depth--
	t.account(w, inner, s.value, at)
	s.status.Store(done)
	return s.value
}

// Limits of an environment: how many steps its declarations may take together, since a loop may make many instances of
// them, and how many elements their values may hold. keptFrom is from how many steps on the elements of a value are
// counted: what took fewer cannot hold many.
const (
	totalLimit = 4 * stepLimit
	keptLimit  = 12_000_000
	keptFrom   = 1 << 17
)

// account counts what a declaration took, and the elements of its value, which is kept for as long as its world.
func (t *thread) account(w *World, inner *thread, v value.Value, at source.Span) {
	root := w.root
	root.steps += inner.steps
	if root.steps > totalLimit {
		root.spent = true
		t.failAt(source.TooMuchWork, at, "go through fewer elements, make fewer instances, or do less in each",
			"the declarations of one environment need more than %d million steps together, and were stopped here",
			totalLimit/1_000_000)
	}
	if inner.steps < keptFrom {
		return
	}
	root.kept += value.Size(v, keptLimit)
	if root.kept > keptLimit {
		root.spent = true
		t.failAt(source.TooMuchWork, at, "keep fewer elements, or less text",
			"the values of one environment hold more than %d million elements with those of %s", keptLimit/1_000_000,
			describe(inner.owner))
	}
}

// evaluate runs the body of a declaration. That of an input of an instance is what the instance was made with, or
// else its default.
func (d *declaration) evaluate(f *frame) value.Value {
	if d.object.Kind != check.ObjectInput || f.world.making == nil {
		v := d.body(f)
		if tree, ok := d.object.Declaration.(*syntax.Output); ok {
			if tree.Secret {
				return value.MarkAll(v, value.Secret)
			}
			f.expose(v, nil, fmt.Sprintf("the output %q", d.object.Name),
				"write secret before output, or leave it out", tree.Value.Place())
		}
		return v
	}
	m := inputMark(d.object)
	if v := f.world.input(f.thread, d.object); !v.IsAbsent() {
		if m&value.Secret == 0 {
			f.expose(v, d.object.Type, fmt.Sprintf("the input %q of %s, which is not secret", d.object.Name,
				d.object.Module.Path), "declare it there: secret input "+d.object.Name, f.world.making.at)
		}
		return value.MarkAll(v, m)
	}
	if m&value.Later != 0 {
		return absentInput(d.object, m, value.From(d.object.Span.Start))
	}
	return d.body(f)
}

// thread is an evaluation that nothing else needs yet.
func (w *World) thread(o *check.Object) *thread {
	return &thread{world: w, recorder: w.recorder, reports: w.reports, owner: o}
}

// inner is an evaluation that another needs.
func (t *thread) inner(w *World, o *check.Object) *thread {
	return &thread{world: w, recorder: w.recorder, reports: w.root.reports, owner: o, outer: t, depth: t.depth,
		locked: t.locked}
}

// lock takes the lock of the constants when a world is one of them, and returns what gives it back.
func (t *thread) lock(w *World) (unlock func()) {
	if !w.shared || t.locked {
		return func() {}
	}
	w.root.lock.Lock()
	t.locked = true
	return func() {
		t.locked = false
		w.root.lock.Unlock()
	}
}

// run runs something on a new frame.
func (t *thread) run(body func(f *frame), size int) {
	slots, mark := t.alloc(size)
	body(&frame{t, slots})
	t.release(mark)
}

// Value evaluates a declaration. ok is false when that failed or the declaration has a mistake; what is wrong is
// among the findings.
func (w *World) Value(o *check.Object) (v value.Value, ok bool) {
	t := w.thread(o)
	ok = w.attempt(o, func() { v = t.force(o.Global, o.Span.To(o.Span)) })
	return v, ok
}

// SetMissing gives an input a value that is not there: a secret that is not read, or one that is known only after
// deployment. from is where it will come from.
func (w *World) SetMissing(o *check.Object, from value.Origin) {
	s := &w.states[o.Global]
	if o.Invalid {
		s.status.Store(failed)
		return
	}
	s.value = absentInput(o, inputMark(o), from)
	s.value = w.recorder.input(o.Name, s.value)
	s.status.Store(done)
	t := w.thread(o)
	guard(func() { t.convertTo(s.value, o.Type, passing{}) }) // which notes the limits that are not tested
}

// SetInput gives an input its value: it is converted to the declared type, and what does not fit is reported. A value
// that is absent stands for the default; whether there is one is for the caller to know.
func (w *World) SetInput(o *check.Object, v value.Value) bool {
	s := &w.states[o.Global]
	s.status.Store(failed)
	if o.Invalid {
		return false
	}
	t := w.thread(o)
	ok := guard(func() {
		if v.IsAbsent() {
			t.run(func(f *frame) { v = w.program.compiled(w.program.declarations[o.Global]).body(f) }, o.Frame)
		} else {
			v = value.MarkAll(v, inputMark(o)) // so that no message shows it
			v = t.convertTo(v, o.Type, passing{what: "input", name: o.Name, declared: o})
			v = value.MarkAll(v, inputMark(o))
		}
		s.value = w.recorder.input(o.Name, v)
	})
	if ok {
		s.status.Store(done)
	}
	return ok
}

// Fail marks an input as having no value; that has been reported.
func (w *World) Fail(o *check.Object) { w.states[o.Global].status.Store(failed) }

// TryLiterals tries the values that are written out where a limited type is expected, before anything else is
// evaluated. It returns what does not fit, and marks the declarations as having a mistake.
func (p *Program) TryLiterals() source.Findings {
	w := p.newWorld(Environment{}, nil)
	wrong := map[*check.Object]bool{}
	for _, passage := range p.checked.Literals {
		if passage.Owner.Invalid || p.checked.DefaultsVary(passage.Target) {
			continue // else it is tried when it is evaluated
		}
		t := w.thread(passage.Owner)
		ok := guard(func() {
			c := &compiler{program: p, module: passage.Module, bare: passage.Value}
			t.run(func(f *frame) {
				v := c.expression(passage.Value)(f)
				t.convertTo(v, passage.Target, passing{})
			}, passage.Owner.Frame)
		})
		if !ok {
			wrong[passage.Owner] = true
		}
	}
	for owner := range wrong {
		owner.Invalid = true
	}
	return w.findings
}

func (p *Program) compiled(d *declaration) *declaration {
	d.once.Do(func() {
		c := &compiler{program: p, module: d.object.Module}
		c.declaration(d)
	})
	return d
}
