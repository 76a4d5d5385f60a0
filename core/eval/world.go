package eval

import (
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/value"
)

// Environment is what a program can know of the environment that it is evaluated for.
type Environment struct {
	Name string
	Tags []string
}

func (e Environment) equal(other Environment) bool {
	return e.Name == other.Name && slices.Equal(e.Tags, other.Tags)
}

// World is the values of declarations: those of one environment, of an instance of a module in it, or those that are
// the same in all environments. Only one goroutine may use those of an environment at a time.
type World struct {
	program    *Program
	recorder   *Recorder
	evaluation *evaluation
	states     []state
	base       int       // the number of the declaration to which the first state belongs
	instance   *instance // nil when the world is not an instance
	// shared is the world of which this one is a variant, and own says which declarations do not have their value in
	// it, by what Program.global says; nil for a world that is none.
	shared *World
	own    []bool
}

// evaluation is what is evaluated together, within one budget and with one list of findings: an environment with all
// instances that are made for it, or the constants with theirs.
type evaluation struct {
	environment Environment
	main        *World
	// lock is that of the constants, which all environments use; nil for an environment. Who evaluates a constant holds
	// it, so that constants that need each other are evaluated by one goroutine, whichever comes first.
	lock *sync.Mutex

	unmet     []Unmet
	instances []*World
	completed int // how many of the instances are complete
	// kept is how many elements its values hold, of those that hold many.
	kept int
	// steps is how many steps its declarations took together. spent says that they were too many, or that their values
	// hold too much: nothing more is evaluated.
	steps int
	spent bool
	// other returns the world of another environment, for tests; others are those that were asked for.
	other  func(name string) *World
	others map[string]*World

	loses bool            // see LoseParts
	done  <-chan struct{} // closed when the evaluation is cancelled; nil if it cannot be

	reports  *evaluation // whose findings it adds to: its own, or those of the test that asked for its environment
	mu       sync.Mutex  // guards the findings of the constants
	findings source.Findings
	stopped  atomic.Pointer[Silent] // the first that did not come to its end
	// unchecked are the conditions that were not tested.
	unchecked []Unchecked
}

// constant reports whether the evaluation is that of the constants.
func (e *evaluation) constant() bool { return e.lock != nil }

// instance is what makes a world that of an instance of a module. In a test another environment is an instance too, of
// the main module, which nothing made.
type instance struct {
	module   *check.Module
	making   *making
	visiting status
	visited  *visited
	taken    bool // its documents and remarks went somewhere
}

// making is how the instance was made; nil when the world is that of an environment.
func (w *World) making() *making {
	if w.instance == nil {
		return nil
	}
	return w.instance.making
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
	together := &evaluation{environment: e}
	together.main = &World{program: p, recorder: r, evaluation: together, states: make([]state, len(p.declarations))}
	together.reports = together
	return together.main
}

// home returns the world in which a declaration has its value; nil when that is an instance that is not there.
func (w *World) home(o *check.Object) *World {
	switch {
	case o.Constant():
		return w.program.constants
	case w.evaluation.main.Shares(o) && (!o.NeedsInput || w.instance == nil && o.Module.Main):
		return w.evaluation.main.shared
	case !o.NeedsInput:
		return w.evaluation.main
	case w.making() == nil && !o.Module.Main, w.instance != nil && w.instance.module != o.Module:
		return nil // a module that is used has inputs in its instances only
	}
	return w
}

// Until ends the evaluation when a channel is closed. What was evaluated by then is not whole, and says nothing.
func (w *World) Until(done <-chan struct{}) { w.evaluation.done = done }

// cancelled reports whether the evaluation is to end.
func (w *World) cancelled() bool {
	select {
	case <-w.evaluation.done:
		return true
	default:
		return false
	}
}

// Recorder returns the record of a recording world, else nil.
func (w *World) Recorder() *Recorder { return w.recorder }

// Findings returns what was found in this world so far; what was found in declarations that are the same in all
// environments is returned by Constants.
func (w *World) Findings() source.Findings { return w.evaluation.findings }

// SetOther gives tests the worlds of other environments: other returns one by the name of the environment, or nil.
func (w *World) SetOther(other func(name string) *World) { w.evaluation.other = other }

// Silent is the panic of who finds that an evaluation stopped although nothing is wrong with the project: that is
// an error in the program, and what was evaluated would be missing without a word.
type Silent struct{ What string }

// Error says what is missing.
func (u *Silent) Error() string {
	return "the evaluation of " + u.What + " stopped, and nothing was found that is wrong with it"
}

// attempt runs f and reports whether it came to its end; when it did not, that is noted.
func (w *World) attempt(o *check.Object, f func()) (ok bool) {
	if ok = guard(f); !ok {
		w.stopped(o)
	}
	return ok
}

// stopped notes that the evaluation of something did not come to its end.
func (w *World) stopped(o *check.Object) {
	w.evaluation.reports.stopped.CompareAndSwap(nil, &Silent{describe(o)})
}

// Stopped returns what did not come to its end in this world or among the constants, nil when all did or the evaluation
// was ended (see Until). Something must have been found then.
func (w *World) Stopped() *Silent {
	if w.cancelled() {
		return nil
	}
	if u := w.evaluation.stopped.Load(); u != nil {
		return u
	}
	return w.program.constants.evaluation.stopped.Load()
}

// Value evaluates a declaration. ok is false when that failed or the declaration has an error; what is wrong is
// among the findings.
func (w *World) Value(o *check.Object) (v value.Value, ok bool) {
	t := w.thread(o)
	ok = w.attempt(o, func() { v = t.force(w.program.global(o), o.Span.To(o.Span)) })
	return v, ok
}

// SetMissing gives an input a value that is not there: a secret that is not read, or one that is known only after
// deployment. from is where it will come from.
func (w *World) SetMissing(o *check.Object, from value.Origin) {
	s := &w.states[w.program.global(o)]
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
	s := &w.states[w.program.global(o)]
	s.status.Store(failed)
	if o.Invalid {
		return false
	}
	t := w.thread(o)
	ok := guard(func() {
		if v.IsAbsent() {
			t.run(func(f *frame) { v = w.program.compiled(w.program.declarations[w.program.global(o)]).body(f) }, o.Frame)
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

// SetConverted gives an input a value that another world of the same program has converted to the type of the input.
func (w *World) SetConverted(o *check.Object, v value.Value) {
	s := &w.states[w.program.global(o)]
	s.value = v
	s.status.Store(done)
}

// Pass passes a value into a type that a module declares, and returns what does not fit. Keys are the places of those
// in the value.
func (w *World) Pass(v value.Value, keys Keys, o *check.Object) source.Findings {
	t := w.thread(o)
	before := len(w.evaluation.findings)
	guard(func() { t.convertTo(v, o.Type, passing{keys: keys}) })
	return slices.Clone(w.evaluation.findings[before:])
}

// Fail marks an input as having no value; that has been reported.
func (w *World) Fail(o *check.Object) { w.states[w.program.global(o)].status.Store(failed) }

// Complete evaluates what all instances must hold that were made in this world so far, whatever is used of them. With
// everything it evaluates all else in them too.
func (w *World) Complete(everything bool) {
	for _, w := range []*World{w, w.program.constants} {
		t, all := w.thread(nil), w.evaluation
		unlock := t.lock(w)
		// Completing one may make others.
		for ; all.completed < len(all.instances); all.completed++ {
			t.complete(all.instances[all.completed], everything)
		}
		unlock()
	}
}

// Lost returns what instances that were made in this world produced and nothing took: their documents and
// remarks go nowhere. It is asked when all worlds are complete, since the constants are shared by all.
func (w *World) Lost() source.Findings {
	var lost source.Findings
	for _, w := range w.evaluation.instances {
		instance := w.instance
		v := instance.visited
		if instance.taken || v == nil || len(v.documents)+len(v.remarks) == 0 {
			continue
		}
		what := "the remarks"
		if n := len(v.documents); n > 0 {
			what = fmt.Sprintf("%q", v.documents[0].Path)
			if n > 1 {
				what += fmt.Sprintf(" and %d more", n-1)
			}
		}
		f := source.Finding{Code: source.NotRendered, Severity: source.Warning, Span: instance.making.at,
			Help: "include it, or take its documents: s.documents",
			Message: fmt.Sprintf("this instance of %s is never included, so that %s is not rendered",
				instance.module.Path, what)}
		if name := w.evaluation.environment.Name; name != "" {
			f.Environments = []string{name}
		}
		lost.Add(f)
	}
	return lost
}

// Unmet is a requirement that does not hold, in a recording world.
type Unmet struct {
	At      source.Span
	Message string
	Origin  value.Origin // of the condition, which knows what it was computed from
}

// Unmet returns the requirements that do not hold, as they were come upon.
func (w *World) Unmet() []Unmet { return w.evaluation.unmet }

// Unchecked is a condition that was not tested, since what it tests is not known.
type Unchecked struct {
	At source.Span
	// Secret says that it is a secret; else it is known only after deployment.
	Secret bool
}

// Unchecked returns the conditions that were not tested, each once.
func (w *World) Unchecked() []Unchecked { return w.evaluation.unchecked }
