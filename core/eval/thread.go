package eval

import (
	"fmt"
	"slices"

	"knothole/core/check"
	"knothole/core/source"
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

// betweenAsks is how many steps are taken before the evaluation looks whether it is cancelled.
const betweenAsks = 1 << 16

// elementCost is how many steps an element counts that is kept in memory, so that the memory of a declaration stays
// bounded too. A byte of text that is made counts one.
const elementCost = 4

// abort ends the evaluation of a declaration; its finding has been added.
type abort struct{}

// thread is one evaluation in a world: how much it has done, how deep it is.
type thread struct {
	world *World
	// recorder writes down what values depend on; nil when nothing is recorded. A function runs in the world that it
	// was made in, but is recorded for who called it.
	recorder *Recorder
	reports  *evaluation // which findings are added to
	owner    *check.Object
	outer    *thread     // the evaluation that needed this one
	needed   source.Span // where it did
	locked   *lockHeld   // that it holds the lock of the constants, when it does
	steps    int
	asked    int // the step at which it is asked next whether the evaluation is cancelled
	depth    int
	stack    []value.Value
	frames   []frame          // of the calls that are running
	choices  []value.Origin   // what chose the blocks that a document is in
	calls    []caller         // what is running, outermost first
	testing  bool             // a condition of a type is tested
	filling  []*types.Default // the defaults that are being filled in, outermost first
	spare    []*Call          // of built-in functions, that have ended
	returned []value.Value    // functions that were lent to them
}

// thread is an evaluation that nothing else needs yet.
func (w *World) thread(o *check.Object) *thread {
	return &thread{world: w, recorder: w.recorder, reports: w.evaluation.reports, owner: o}
}

// inner is an evaluation that another needs.
func (t *thread) inner(w *World, o *check.Object) *thread {
	return &thread{world: w, recorder: w.recorder, reports: w.evaluation.reports, owner: o, outer: t, depth: t.depth,
		locked: t.locked}
}

// lockHeld proves that the lock of the constants is held; only lock makes one. A thread passes it to the evaluations
// that it needs.
type lockHeld struct{}

// lock takes the lock of the constants when a world is one of them, and returns what gives it back.
func (t *thread) lock(w *World) (unlock func()) {
	lock := w.evaluation.lock
	if lock == nil || t.locked != nil {
		return func() {}
	}
	lock.Lock()
	t.locked = &lockHeld{}
	return func() {
		t.locked = nil
		lock.Unlock()
	}
}

// run runs something on a new frame.
func (t *thread) run(body func(f *frame), size int) {
	slots, mark := t.alloc(size)
	body(t.push(slots))
	t.pop()
	t.release(mark)
}

// notHeld aborts the test of a condition that cannot be computed; the condition counts as false. A value of which
// quantity.bytes fails is not as large as it has to be, and it is the value that has to change.
type notHeld struct{ reason string }

// tests runs the test of a condition of a type. When it cannot be computed, reason says why, and it does not hold.
func (t *thread) tests(test func() bool) (holds bool, reason string) {
	before := *t
	t.testing = true
	defer func() {
		t.testing = before.testing
		problem := recover()
		if problem == nil {
			return
		}
		failed, ok := problem.(notHeld)
		if !ok {
			panic(problem)
		}
		t.backTo(&before)
		holds, reason = false, failed.reason
	}()
	return test(), ""
}

// backTo brings a thread back to where it was before something failed. What it has done still counts.
func (t *thread) backTo(before *thread) {
	steps, spare, returned := t.steps, t.spare, t.returned
	*t = *before
	t.steps, t.spare, t.returned = steps, spare, returned
}

// each runs all parts of something. When one fails the others still run and report what is wrong with them; then the
// whole fails. In a document of a world that loses parts, it does not fail if lost can replace the part.
func (t *thread) each(why once, parts int, run func(i int), lost func(i int) bool) {
	failed, loses := false, why == ofDocument && t.world.evaluation.loses
	for i := 0; i < parts && t.steps <= stepLimit; {
		before := *t
		if !guard(func() {
			for ; i < parts; i++ {
				run(i)
			}
		}) {
			t.backTo(&before)
			failed = failed || !loses || !lost(i)
			i++
		}
	}
	if failed {
		panic(abort{})
	}
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

// shownCalls is how many of the calls that led to an error are told.
const shownCalls = 3

func (t *thread) fail(f source.Finding) {
	t.report(f)
	panic(abort{})
}

// report adds a finding and goes on.
func (t *thread) report(f source.Finding) {
	for i := len(t.calls) - 1; i >= 0 && i >= len(t.calls)-shownCalls; i-- {
		f.Related = append(slices.Clip(f.Related), source.Related{Span: t.calls[i].at, Text: t.calls[i].text()})
	}
	for i, m := 0, t.world.making(); m != nil && i < shownCalls; i, m = i+1, m.thread.world.making() {
		if m.at.IsValid() && !slices.ContainsFunc(f.Related, func(r source.Related) bool { return r.Span == m.at }) {
			f.Related = append(slices.Clip(f.Related),
				source.Related{Span: m.at, Text: "in the instance created here"})
		}
	}
	t.note(f)
}

// note adds a finding that is the same whoever calls.
func (t *thread) note(f source.Finding) {
	to := t.reports
	if to.constant() {
		to.mu.Lock()
		defer to.mu.Unlock()
	} else if to.environment.Name != "" {
		f.Environments = []string{to.environment.Name}
	}
	to.findings.Add(f)
}

func (t *thread) failAt(code source.Code, span source.Span, help, format string, arguments ...any) {
	t.fail(source.Finding{Code: code, Span: span, Help: help, Message: fmt.Sprintf(format, arguments...)})
}

// spend counts steps at a place.
func (t *thread) spend(n int, at source.Span) {
	if t.steps += n; t.steps >= t.asked {
		t.asked = t.steps + betweenAsks
		if t.world.evaluation.main.cancelled() {
			panic(abort{})
		}
	}
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
