package eval

import (
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// instanceLimit is how many instances there may be in one environment.
const instanceLimit = 100_000

// making is how an instance was made: where, and with which values for its inputs. They are evaluated when they are
// needed, so that two instances can refer to each other.
type making struct {
	at     source.Span
	thread *thread // of which world, owner and reports are used
	slots  []value.Value
	each   map[string]argument // the values of inputs, by name
	whole  *argument           // the record of all of them, when some are spread; nil otherwise
	status status              // of given
	given  value.Value         // what whole gave
}

// argument is a value on its way into an instance. It is evaluated where it is, and passes into the declared type
// inside the instance, whose inputs the defaults of that type may need.
type argument struct {
	body     code
	from, to types.Type // to is nil when nothing is to be done
	inputs   types.Type // of all arguments: what they may be
	at       source.Span
}

func (c *compiler) argument(e syntax.Expression) argument {
	bare := *c
	bare.bare = e
	return argument{body: bare.expression(e), from: c.module.Info.Types[e.ID()], to: c.module.Info.Targets[e.ID()],
		at: e.Place()}
}

// instantiate compiles the call of a module.
func (c *compiler) instantiate(e *syntax.Call, alias *check.Object) code {
	m, at, o := alias.Imported(), e.Place(), origin(e)
	each := make(map[string]argument, len(e.Arguments))
	var whole *argument
	for _, a := range e.Arguments {
		if a.Spread {
			all := c.argument(e.Named)
			all.inputs = m.Inputs()
			whole = &all
			break
		}
		each[a.Name.Name] = c.argument(a.Value)
	}
	return func(f *frame) value.Value {
		f.spend(1+len(f.slots)+m.Globals, at)
		w := f.world
		made := &World{
			program: w.program, recorder: w.recorder, evaluation: w.evaluation,
			base: w.program.first[m], states: make([]state, m.Globals), instance: &instance{module: m, making: &making{
				at: at, thread: f.thread, slots: slices.Clone(f.slots), each: each, whole: whole}},
		}
		defer f.lock(w)() // a function of a constant instance may be called from any environment
		if len(w.evaluation.instances) >= instanceLimit {
			f.failAt(source.TooMuchWork, at, "make fewer of them", "more than %d instances of modules", instanceLimit)
		}
		w.evaluation.instances = append(w.evaluation.instances, made)
		return value.InstanceOf(made, o)
	}
}

// input returns what the call of an instance gives an input, as its type wants it; Absent when it leaves it to the
// default.
func (w *World) input(t *thread, o *check.Object) value.Value {
	m := w.instance.making
	run := func(a argument) value.Value {
		inner := t.inner(m.thread.world, m.thread.owner)
		inner.needed = m.at
		v := a.body(&frame{inner, slices.Clone(m.slots)})
		t.steps += inner.steps
		return w.recorder.passed(v, a.at.Start)
	}
	if m.whole == nil {
		a, ok := m.each[o.Name]
		if !ok {
			return value.Value{}
		}
		v := run(a)
		if a.to != nil {
			v = t.convert(v, a.from, a.to, passing{at: a.at})
		}
		return v
	}
	switch m.status {
	case running:
		t.failAt(source.Cycle, m.at, "give the inputs one by one, so that each is evaluated for itself",
			"what is spread into this instance of %s depends on the instance itself", w.instance.module.Path)
	case failed:
		panic(abort{})
	case waiting:
		m.status = running
		defer func() {
			if m.status == running {
				m.status = failed
			}
		}()
		m.given = run(*m.whole)
		t.checkSpread(w)
		m.status = done
	}
	given := m.given.Get(o.Name)
	c := &conversion{thread: t, passing: passing{at: m.whole.at}, fill: true}
	if given.IsAbsent() {
		if o.Declaration.(*syntax.Input).Default == nil {
			c.misfit(nil, m.given, source.MissingField, "add it: "+o.Name+": …", "the field %q (%s) is missing",
				o.Name, o.Type)
			c.finish()
		}
		return given
	}
	given = c.value(given, o.Type, (*place.Path)(nil).Field(o.Name))
	c.finish()
	return given
}

// checkSpread reports what is spread into an instance and is none of its inputs, which is known only now when its
// type was not.
func (t *thread) checkSpread(w *World) {
	m := w.instance.making
	c := &conversion{thread: t, passing: passing{at: m.whole.at}}
	for i, key := range m.given.Shape().Keys() {
		if o := w.instance.module.Objects[key]; o == nil || o.Kind != check.ObjectInput {
			c.unknown(key, m.given.Values()[i], m.whole.inputs, nil)
		}
	}
	c.finish()
}

// member returns what an instance has under a name.
func (t *thread) member(w *World, name string, at source.Span) value.Value {
	o, ok := w.instance.module.Objects[name]
	switch {
	case !ok || o.Kind != check.ObjectLet && o.Kind != check.ObjectOutput && o.Kind != check.ObjectFunction:
		return t.files(w, at)
	case o.Kind == check.ObjectFunction:
		return value.FunctionOf(&closure{declared: o, world: w}, value.From(at.Start))
	}
	return t.forceIn(w, w.program.global(o), at)
}

// visited is what the statements of an instance produce.
type visited struct {
	documents []*Document
	remarks   []value.Value
}

// visit runs the statements of an instance, once.
func (t *thread) visit(w *World, at source.Span) *visited {
	defer t.lock(w)()
	switch w.instance.visiting {
	case done:
		return w.instance.visited
	case running:
		t.failAt(source.Cycle, at, "take the value from a let or an output of it",
			"the documents of this instance of %s depend on themselves", w.instance.module.Path)
	}
	w.instance.visiting, w.instance.visited = running, &visited{}
	visitor := Visitor{
		Document: func(d *Document) { w.instance.visited.documents = append(w.instance.visited.documents, d) },
		Remark:   func(text value.Value) { w.instance.visited.remarks = append(w.instance.visited.remarks, text) },
	}
	for _, o := range w.instance.module.Order {
		if o.Kind == check.ObjectDocument || o.Kind == check.ObjectStatement {
			w.run(t.inner(w, o), o, visitor)
		}
	}
	w.instance.visiting = done
	return w.instance.visited
}

// take is visit for who lets what the statements produce go on.
func (t *thread) take(w *World, at source.Span) *visited {
	defer t.lock(w)()
	w.instance.taken = true
	return t.visit(w, at)
}

// complete evaluates what every instance must hold, whatever is used of it: its inputs and what it requires. With
// everything it evaluates all else too.
func (t *thread) complete(w *World, everything bool) {
	defer t.lock(w)()
	force := func(kind func(check.ObjectKind) bool) {
		for _, o := range w.instance.module.Order {
			if o.Global >= 0 && o.NeedsInput && kind(o.Kind) {
				w.attempt(o, func() { t.inner(w, o).forceIn(w, w.program.global(o), o.Span) })
			}
		}
	}
	force(func(k check.ObjectKind) bool { return k == check.ObjectInput })
	w.attempt(nil, func() {
		v := t.inner(w, nil).visit(w, w.instance.making.at)
		for _, d := range v.documents {
			if everything {
				own := *d // others may read the one of a constant instance now
				own.evaluated(t.locked)
			}
		}
	})
	if everything {
		force(func(k check.ObjectKind) bool { return k != check.ObjectInput })
	}
}

// files returns the documents of an instance as a record by path.
func (t *thread) files(w *World, at source.Span) value.Value {
	o := value.From(at.Start)
	var b value.Builder
	declared := t.take(w, at).documents
	documents := make([]*Document, len(declared))
	for i, d := range declared {
		own := *d // which others do not see patched
		if own.evaluated(t.locked); own.Failed {
			panic(abort{})
		}
		documents[i] = &own
	}
	if w.making() == nil && !t.patchAll(w, w.instance.module, documents, false) { // environment("…") in a test
		panic(abort{})
	}
	for _, d := range documents {
		path := d.Path
		if d.Removed {
			continue
		}
		if b.Index(path) >= 0 {
			t.failAt(source.SamePath, at, "give one of them another path",
				"two documents of this instance of %s are rendered to %s", w.instance.module.Path, path)
		}
		t.spend(4*elementCost, at)
		var file value.Builder
		file.Set("data", d.Value)
		format := d.As
		if format == "" {
			format = path[strings.LastIndexByte(path, '.')+1:]
		}
		if _, ok := data.FormatOf(format); !ok {
			t.failAt(source.UnknownFormat, at, `end the path with a format, or write "as" and one`,
				"%s has no file extension of a known format", path)
		}
		file.Set("format", value.StringOf(format, d.Name.Origin()))
		file.Set("secret", value.BoolOf(d.Secret, o))
		file.Set("stream", value.BoolOf(d.Stream, o))
		b.Set(path, file.Record(d.Name.Origin()))
	}
	return b.Record(o)
}

// include compiles `include x under "dir/"`.
func (c *compiler) include(d *syntax.Include) statement {
	body, under := c.expression(d.Value), constant(value.StringOf("", 0))
	if d.Under != nil {
		under = c.expression(d.Under)
	}
	at := d.Value.Place()
	return func(f *frame, visit Visitor) {
		v, folder := body(f), f.decide(under(f), "the directory of documents", at)
		placed := func(path value.Value) value.Value {
			path = f.choose(path, v.Origin())
			if folder.Text() != "" {
				path = value.StringOf(strings.TrimSuffix(folder.Text(), "/")+"/"+path.Text(),
					f.from(at.Start, folder, path))
			}
			return f.because(path)
		}
		if v.Kind() != value.Instance {
			f.includeRecord(v, at, placed, visit)
			return
		}
		w := v.Instance().(*World)
		content := f.take(w, at)
		for _, inner := range content.documents {
			visit.Document(inner.under(placed(inner.Name), at))
		}
		for _, remark := range content.remarks {
			visit.Remark(remark)
		}
	}
}

// includeRecord takes the documents of a record by path.
func (f *frame) includeRecord(v value.Value, at source.Span, placed func(value.Value) value.Value, visit Visitor) {
	for i, path := range v.Shape().Keys() {
		file := v.Values()[i]
		name := placed(value.StringOf(path, file.Origin()))
		d := &Document{Path: name.Text(), Name: name, Span: at, world: f.world, owner: f.owner,
			evaluate: func(*lockHeld) value.Value { return file.Get("data") }}
		if format := f.decide(file.Get("format"), "the form of a document", at); format.Kind() == value.String {
			d.As = format.Text()
		}
		if stream := f.decide(file.Get("stream"), "the form of a document", at); stream.Kind() == value.Bool {
			d.Stream = stream.Bool()
		}
		if secret := f.decide(file.Get("secret"), "the form of a document", at); secret.Kind() == value.Bool {
			d.Secret = secret.Bool()
		}
		visit.Document(d)
	}
}
