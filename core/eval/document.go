package eval

import (
	"slices"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// Visitor takes what declarations without a name produce.
type Visitor struct {
	// Document is called for each document.
	Document func(d *Document)
	// Remark is called for each remark.
	Remark func(text value.Value)

	patch *patching // in the body of a patch
	rule  *looking  // in the body of a rule
}

// Document is one document, from the declaration that makes it to the file that it becomes: whoever does something with
// it on the way works on its value in place.
type Document struct {
	Path    string
	Name    value.Value   // the path as it was computed, which knows its origin
	Span    source.Span   // of the path where it is declared
	As      string        // the format as written behind `as`; empty when the ending of the path says it
	Stream  bool          // the value is a list of documents
	Secret  bool          // may hold secrets
	Via     []source.Span // the includes through which it came, outermost first
	Value   value.Value   // Absent until it is evaluated
	Failed  bool          // it was evaluated, and something is wrong, which is among the findings
	Removed bool          // a patch removed it

	// evaluate computes the value; locked says whether the caller holds the lock of the constants. Who visited the
	// document may have had it then.
	evaluate func(locked *lockHeld) value.Value
	world    *World
	owner    *check.Object // the declaration that it is in
}

// Evaluate finds the value of the document.
func (d *Document) Evaluate() { d.evaluated(nil) }

func (d *Document) evaluated(locked *lockHeld) {
	body := func() { d.Value = d.evaluate(locked) }
	if d.world == nil {
		d.Failed = !guard(body)
	} else {
		d.Failed = !d.world.attempt(d.owner, body)
	}
}

// under returns the document at another path, with one more include on its way.
func (d *Document) under(path value.Value, at source.Span) *Document {
	other := *d
	other.Path, other.Name, other.Via = path.Text(), path, append([]source.Span{at}, d.Via...)
	return &other
}

// Included tells the includes through which the document came, for a message.
func (d *Document) Included() []source.Related {
	var via []source.Related
	for _, at := range d.Via {
		via = append(via, source.Related{Span: at, Text: "included here"})
	}
	return via
}

// statement runs one declaration of a block.
type statement func(f *frame, visit Visitor)

// Visit evaluates a document, a block, a remark or a requirement. What is wrong is among the findings.
func (w *World) Visit(o *check.Object, visit Visitor) {
	w.run(w.thread(o), o, visit)
}

// run is Visit as part of another evaluation.
func (w *World) run(t *thread, o *check.Object, visit Visitor) {
	if _, patches := o.Declaration.(*syntax.PatchAll); o.Invalid || patches {
		return
	}
	if o.Kind != check.ObjectDocument {
		run := w.program.statement(o)
		w.attempt(o, func() { t.run(func(f *frame) { run(f, visit) }, o.Frame) })
		return
	}
	tree, d := o.Declaration.(*syntax.Document), w.program.declarations[w.program.global(o)]
	var path value.Value
	if w.attempt(o, func() { t.run(func(f *frame) { path = w.program.compiled(d).path(f) }, o.Frame) }) {
		visit.Document(t.document(tree, path,
			func(inner *thread) value.Value { return inner.forceIn(w, w.program.global(o), o.Span) }))
	}
}

// document describes a document; body evaluates its value.
func (t *thread) document(tree *syntax.Document, path value.Value, body func(inner *thread) value.Value) *Document {
	evaluate := func(locked *lockHeld) value.Value {
		inner := t.inner(t.world, t.owner)
		inner.locked = locked
		defer inner.lock(t.world)() // the documents of constants are evaluated for several environments at a time
		if t.world.evaluation.spent {
			panic(abort{})
		}
		v := body(inner)
		inner.account(t.world, inner, v, tree.Path.Place())
		return v
	}
	return &Document{Path: path.Text(), Name: path, Span: tree.Path.Place(), As: tree.Format.Name, Stream: tree.Stream,
		Secret: tree.Secret, evaluate: evaluate, world: t.world, owner: t.owner}
}

func (c *compiler) statement(d syntax.Declaration) statement {
	switch d := d.(type) {
	case *syntax.Document:
		path, body := c.documentPath(d.Path), c.whole(d.Value, ofDocument)
		return func(f *frame, visit Visitor) {
			at := f.because(path(f))
			slots := slices.Clone(f.slots) // the block goes on before the value is needed
			visit.Document(f.document(d, at, func(inner *thread) value.Value { return body(&frame{inner, slots}) }))
		}
	case *syntax.Include:
		return c.include(d)
	case *syntax.PatchAll:
		return c.block(d.Body)
	case *syntax.Each:
		return c.eachDocument(d)
	case *syntax.Operation:
		return c.operation(d)
	case *syntax.Remark:
		body, at := c.expression(d.Value), d.Value.Place()
		return func(f *frame, visit Visitor) {
			v := body(f)
			f.expose(v, nil, check.ARemark, at)
			visit.Remark(v)
		}
	case *syntax.Require:
		if c.definitions != nil {
			return c.requireOfRule(d)
		}
		return c.require(d)
	case *syntax.Test:
		return c.block(d.Body)
	case *syntax.Expect:
		return c.expect(d)
	case *syntax.Let:
		slot, body := c.module.Info.Slot(d.Name.Span.Start), c.expression(d.Value)
		if c.definitions != nil {
			c.definitions[slot] = d.Value
		}
		return func(f *frame, _ Visitor) { f.slots[slot] = body(f) }
	case *syntax.IfBlock:
		condition, then, other := c.truth(d.Condition), c.block(d.Then), c.block(d.Else)
		return func(f *frame, visit Visitor) {
			holds, by := condition(f)
			f.choices = append(f.choices, by)
			if holds {
				then(f, visit)
			} else {
				other(f, visit)
			}
			f.choices = f.choices[:len(f.choices)-1]
		}
	case *syntax.ForBlock:
		if c.definitions != nil {
			first, second := c.loopSlots(d.Loop)
			c.definitions[first], c.definitions[second] = d.Loop.In, d.Loop.In
		}
		outer := c.loopNames
		c.loopNames = append(slices.Clone(outer), c.namesOf(d.Loop)...)
		loop, body := c.looper(d.Loop, d.Loop.In.Place()), c.block(d.Body)
		c.loopNames = outer
		return func(f *frame, visit Visitor) {
			for all := loop.in(f); loop.next(f, &all); {
				// What the loop chose is told by what it does to a value without an origin of its own.
				if f.recorder != nil {
					f.choices = append(f.choices, all.choose(f, value.NullOf(0)).Origin())
				}
				body(f, visit)
				if f.recorder != nil {
					f.choices = f.choices[:len(f.choices)-1]
				}
			}
		}
	}
	return func(*frame, Visitor) { panic(abort{}) }
}

// documentPath compiles the path of a document.
func (c *compiler) documentPath(e syntax.Expression) code {
	body, at := c.expression(e), e.Place()
	return func(f *frame) value.Value { return f.decide(body(f), "the path of this document", at) }
}

// because marks the path of a document as chosen by the blocks that it is in.
func (f *frame) because(v value.Value) value.Value {
	for _, by := range f.choices {
		v = f.choose(v, by)
	}
	return v
}

// block runs declarations one after the other. One that fails does not keep the others from running, but for a local
// name, without which they cannot.
func (c *compiler) block(declarations []syntax.Declaration) statement {
	statements, names := make([]statement, len(declarations)), make([]bool, len(declarations))
	for i, d := range declarations {
		statements[i] = c.statement(d)
		_, names[i] = d.(*syntax.Let)
	}
	return func(f *frame, visit Visitor) {
		depth, calls, choices := f.depth, len(f.calls), len(f.choices)
		for i := 0; ; i++ { // beyond one that failed
			var ok bool
			if i, ok = runFrom(statements, i, f, visit); ok {
				return
			}
			f.world.stopped(f.owner)
			f.depth, f.calls, f.choices = depth, f.calls[:calls], f.choices[:choices]
			if visit.patch != nil {
				visit.patch.failed = true
			}
			if names[i] {
				return
			}
		}
	}
}

// runFrom runs statements from one on. When one fails, it returns which.
func runFrom(statements []statement, from int, f *frame, visit Visitor) (at int, ok bool) {
	at = from
	defer func() {
		if problem := recover(); problem != nil {
			if _, expected := problem.(abort); !expected {
				panic(problem)
			}
		}
	}()
	for ; at < len(statements); at++ {
		statements[at](f, visit)
	}
	return at, true
}

func (c *compiler) require(d *syntax.Require) statement {
	body, at := c.expression(d.Condition), d.Condition.Place()
	var message func(f *frame) string
	if d.Message != nil {
		message = c.message(d.Message)
	}
	text := c.module.Tree.File.Slice(at)
	return func(f *frame, _ Visitor) {
		v := body(f)
		if f.holds(v, at) {
			return
		}
		m := "required is " + text
		if message != nil {
			m = message(f)
		}
		if f.world.recorder != nil {
			f.reports.unmet = append(f.reports.unmet, Unmet{at, m, v.Origin()})
		}
		f.fail(source.Finding{Code: source.Requirement, Span: at, Message: m})
	}
}

// assertion compiles a condition that must hold and may test anything. What is not known is taken to hold, and noted.
func (c *compiler) assertion(e syntax.Expression) func(f *frame) bool {
	body, at := c.expression(e), e.Place()
	return func(f *frame) bool { return f.holds(body(f), at) }
}

func (t *thread) holds(v value.Value, at source.Span) bool {
	if v.Unknown() {
		t.unchecked(v, at)
		return true
	}
	return v.Bool()
}
