package eval

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// patching is one evaluation of a patch.
type patching struct {
	target value.Value
	all    []*piece // the documents of the project, when those are patched
	// everything says that the documents of the project are patched.
	everything bool
	partial    bool       // not all documents are there, so that none may be found
	failed     bool       // something failed that has been reported
	document   string     // the current document, as messages name it; may be empty
	failures   []*failure // one for each operation that failed, in the order in which they did
}

// piece is what the patches of all documents change one by one: a document that is a file of its own, or an element of
// a stream.
type piece struct {
	path     string
	position int // in a stream; -1 for a file of its own
	value    value.Value
	removed  bool
}

// name names the piece in messages.
func (p *piece) name() string {
	other := p.path
	if p.position >= 0 {
		other = fmt.Sprintf("element %d of %s", p.position, p.path)
	}
	return nameOf(p.value, other)
}

// pieces returns what a document is made of.
func (d *Document) pieces() []*piece {
	if !d.Stream || d.Value.Kind() != value.List {
		return []*piece{{path: d.Path, position: -1, value: d.Value}}
	}
	all := make([]*piece, d.Value.Len())
	for i, v := range d.Value.Elements() {
		all[i] = &piece{path: d.Path, position: i, value: v}
	}
	return all
}

// join puts together what is left of a document.
func (d *Document) join(pieces []*piece) {
	var left []value.Value
	for _, p := range pieces {
		if !p.removed {
			left = append(left, p.value)
		}
	}
	switch {
	case d.Stream && d.Value.Kind() == value.List:
		d.Value = value.ListOf(left, d.Value.Origin())
	case len(left) == 0:
		d.Removed = true
	default:
		d.Value = left[0]
	}
}

// failure is an operation that failed, in one document or several.
type failure struct {
	operation *operation
	finding   source.Finding
	others    []source.Related // the further documents
	more      int              // how many of them are not in others
}

// shownOthers is how many further documents a failure names.
const shownOthers = 3

// operation is one operation, compiled.
type operation struct {
	tree  *syntax.Operation
	path  string   // as written
	merge []string // for each step, the merge that brings it when it is missing; empty where none does
	base  int      // the place of the document in the frame; -1 outside of each
	slot  int      // of `it` in the value
	value code
	steps []step
}

// step is one step of the path of an operation, compiled.
type step struct {
	tree  *syntax.Step
	text  string // as written
	keys  []code
	index code
	holds func(f *frame) (bool, value.Origin)
	slot  int // of `it`
	hints hints
}

func (c *compiler) patch(e *syntax.Patch) code {
	target, body, at := c.expression(e.Target), c.block(e.Body), e.Target.Place()
	return func(f *frame) value.Value {
		p := &patching{target: target(f)}
		if k := p.target.Kind(); k != value.Record && k != value.List {
			f.fail(check.NotPatched(at, describeValue(p.target)))
		}
		body(f, Visitor{patch: p})
		p.finish(f.thread)
		return p.target
	}
}

// places compiles `d[.a.**.b]`.
func (c *compiler) places(e *syntax.Places) code {
	of, o, at, ofAt := c.expression(e.Of), c.compileOperation(e.Path), e.Place().Start, e.Of.Place()
	return func(f *frame) value.Value {
		data := f.known(of(f), ofAt)
		var chosen []value.Origin
		found, miss := place.Find(data, o.pattern(f, &chosen), func(n int) { f.spend(n, e.Path.PathSpan) })
		if miss != nil && !e.Path.Optional {
			finding := o.explain(f, miss, "")
			finding.Message = strings.TrimPrefix(finding.Message, e.Path.Verb.String()+": ")
			finding.Help = cmp.Or(strings.TrimSuffix(finding.Help, "; put adds what is not there"),
				"?[…] gives an empty list where there is none")
			f.fail(finding)
		}
		if miss != nil {
			found = nil
		}
		f.spend(1+len(found)*elementCost, e.Path.PathSpan)
		values := make([]value.Value, len(found))
		for i, x := range found {
			values[i] = f.choose(x.Value, data.Origin())
			for _, by := range chosen {
				values[i] = f.choose(values[i], by)
			}
		}
		return value.ListOf(values, f.from(at, data))
	}
}

// Patch lets `patch all documents { … }` of the main module change documents. Partial says that some files are
// not there, so that it is no error when one is not found. ok is false when something failed, which is among the
// findings.
func (w *World) Patch(main *check.Module, documents []*Document, partial bool) (ok bool) {
	return w.thread(nil).patchAll(w, main, documents, partial)
}

func (t *thread) patchAll(w *World, main *check.Module, documents []*Document, partial bool) (ok bool) {
	isPatch := func(o *check.Object) bool {
		_, is := o.Declaration.(*syntax.PatchAll)
		return is
	}
	if !slices.ContainsFunc(main.Order, isPatch) {
		return true
	}
	var all []*piece
	of := make([][]*piece, len(documents))
	for i, d := range documents {
		of[i] = d.pieces()
		all = append(all, of[i]...)
	}
	ok = true
	for _, o := range main.Order {
		if !isPatch(o) {
			continue
		}
		inner, run := t.inner(w, o), w.program.statement(o)
		ok = !o.Invalid && w.attempt(o, func() {
			p := &patching{all: all, everything: true, partial: partial}
			inner.run(func(f *frame) { run(f, Visitor{patch: p}) }, o.Frame)
			p.finish(inner)
		}) && ok
	}
	for i, d := range documents {
		d.join(of[i])
	}
	return ok
}

// finish reports what failed and gives up if anything did.
func (p *patching) finish(t *thread) {
	for _, failure := range p.failures {
		f := failure.finding
		f.Related = append(slices.Clip(f.Related), failure.others...)
		if failure.more > 0 {
			f.Related[len(f.Related)-1].Text += fmt.Sprintf(", and in %s more", source.Count(failure.more, "document"))
		}
		t.report(f)
	}
	if p.failed || len(p.failures) > 0 {
		panic(abort{})
	}
}

// eachDocument compiles `each d at "…" where … { … }`.
func (c *compiler) eachDocument(d *syntax.Each) statement {
	slot, outer := c.module.Info.Slot(d.Name.Span.Start), c.eachSlot
	c.eachSlot = slot
	body := c.block(d.Body)
	c.eachSlot = outer
	pattern := constant(value.Value{})
	at := d.Name.Span
	if d.At != nil {
		pattern = c.expression(d.At)
		at = d.At.Place()
	}
	holds := func(*frame) (bool, value.Origin) { return true, 0 }
	var told hints
	if d.Where != nil {
		holds, at = c.truth(d.Where), d.Where.Place()
		told = c.hints(d.Where, d.Name.Name)
	}
	where := c.module.Tree.File.Slice(at)
	return func(f *frame, visit Visitor) {
		p := visit.patch
		paths := f.decide(pattern(f), "what a patch looks for", at)
		outer := p.document
		var looked []value.Value // those whose path matches
		met := 0
		change := func(v value.Value, name string) value.Value {
			f.spend(1, at)
			looked = append(looked, v)
			f.slots[slot] = v
			ok, by := holds(f)
			if !ok {
				return v
			}
			met++
			p.document = name
			f.choices = append(f.choices, by)
			body(f, visit)
			f.choices = f.choices[:len(f.choices)-1]
			return f.slots[slot]
		}
		if p.everything {
			for _, d := range p.all {
				if !d.removed && (paths.IsAbsent() || place.Match(paths.Text(), d.path)) {
					d.value = change(d.value, d.name())
					d.removed = d.value.IsAbsent()
				}
			}
		} else {
			if p.target.Kind() != value.List {
				f.fail(check.NotEach(d.Name.Span, describeValue(p.target)))
			}
			elements := slices.Clone(p.target.Elements())
			for i, x := range elements {
				elements[i] = change(x, nameOf(x, "element "+strconv.Itoa(i)))
			}
			left := slices.DeleteFunc(elements, value.Value.IsAbsent)
			list := value.ListOf(left, p.target.Origin())
			if len(left) < p.target.Len() {
				list = f.because(list)
			}
			p.target = list
		}
		p.document = outer
		if met > 0 || d.Optional || p.partial {
			return
		}
		help := told.tell(f, looked)
		if help == "" {
			help = "write each? where there need not be any"
		}
		switch {
		case d.At != nil && len(looked) == 0:
			f.failAt(source.NoPath, d.At.Place(), nearPath(paths.Text(), p.all),
				"each: no document of %d has a path like %q", len(p.all), paths.Text())
		case d.Where != nil:
			f.failAt(source.NoPath, at, help, "each: no document of %d satisfies %s", len(looked), where)
		}
		f.failAt(source.NoPath, at, help, "each: there is no document")
	}
}

// nearPath suggests a path for a pattern that no document has.
func nearPath(pattern string, documents []*piece) string {
	var paths []string
	for _, d := range documents {
		paths = append(paths, d.path)
	}
	if len(paths) == 0 {
		return "there are no documents"
	}
	return source.Suggest(pattern, paths, "paths are such as "+strings.Join(paths[:min(3, len(paths))], ", "))
}

// nameOf names a document in messages: by its kind and name where it has them, else by what is given.
func nameOf(v value.Value, other string) string {
	if kind, name, ok := place.Object(v); ok {
		return fmt.Sprintf("%s %q", kind, name)
	}
	return other
}

// operation compiles one operation of a patch.
func (c *compiler) operation(d *syntax.Operation) statement {
	o := c.compileOperation(d)
	return func(f *frame, visit Visitor) { o.run(f, visit.patch) }
}

func (c *compiler) compileOperation(d *syntax.Operation) *operation {
	o := &operation{tree: d, path: c.module.Tree.File.Slice(d.PathSpan), base: -1,
		slot: c.module.Info.Slot(d.Span.Start)}
	if d.Base.Name != "" {
		o.base = c.eachSlot
	}
	if d.Value != nil {
		o.value = c.expression(d.Value)
	}
	for i, tree := range d.Steps {
		o.merge = append(o.merge, d.MergeInstead(c.module.Tree.File, i))
		s := step{tree: tree, text: c.module.Tree.File.Slice(tree.Span)}
		for _, key := range tree.Keys {
			s.keys = append(s.keys, c.key(key))
		}
		switch {
		case tree.Kind == syntax.IndexStep:
			s.index = c.expression(tree.Index)
		case tree.Index != nil:
			s.holds, s.slot = c.truth(tree.Index), c.module.Info.Slot(tree.Span.Start)
			s.hints = c.hints(tree.Index, "it")
		}
		o.steps = append(o.steps, s)
	}
	return o
}

// run does the operation to the current document, or to what is patched.
func (o *operation) run(f *frame, p *patching) {
	data := &p.target
	if o.base >= 0 {
		data = &f.slots[o.base]
		if data.IsAbsent() {
			return // removed before
		}
	}
	for _, earlier := range p.failures {
		// What needs the place of one that failed has failed with it.
		if rest, below := strings.CutPrefix(o.path, earlier.operation.path); below && earlier.operation != o &&
			(rest == "" || rest[0] == '.' || rest[0] == '[') {
			return
		}
	}
	var chosen []value.Origin // by what the places were chosen
	pattern := o.pattern(f, &chosen)
	edit := &place.Edit{
		Verb: place.Verb(o.tree.Verb), Lenient: o.tree.Optional,
		Spend: func(n int) { f.spend(n, o.tree.PathSpan) },
		Join:  func(under, over value.Value) value.Value { return f.merge(under, over, o.tree.PathSpan) },
		Value: func(old value.Value) value.Value {
			f.slots[o.slot] = old
			if old.IsAbsent() {
				f.slots[o.slot] = value.NullOf(value.From(o.tree.PathSpan.Start))
			}
			v := o.value(f)
			if o.tree.Verb == syntax.MergeVerb && v.Kind() != value.Record {
				f.fail(check.NotMerged(o.tree.Value.Place(), describeValue(v)))
			}
			f.spend(elementCost, o.tree.PathSpan)
			for _, by := range chosen {
				v = f.choose(v, by)
			}
			return f.recorder.patched(f.because(v), old, o.tree.PathSpan.Start)
		},
	}
	result, _, miss := place.Change(*data, pattern, edit)
	if miss != nil {
		p.miss(f, o, miss, *data)
		return
	}
	*data = result
}

// pattern evaluates the path.
func (o *operation) pattern(f *frame, chosen *[]value.Origin) place.Pattern {
	pattern := make(place.Pattern, len(o.steps))
	for i := range o.steps {
		s, to := &o.steps[i], &pattern[i]
		for _, key := range s.keys {
			k := key(f)
			to.Keys = append(to.Keys, k.Text())
			*chosen = append(*chosen, k.Origin())
		}
		switch s.tree.Kind {
		case syntax.KeyStep:
			to.Kind = place.OneKey
		case syntax.ChoiceStep:
			to.Kind = place.SomeKeys
		case syntax.AnyKeyStep:
			to.Kind = place.AnyKey
		case syntax.DeepStep:
			to.Kind = place.AnyDepth
		case syntax.EndStep:
			to.Kind = place.End
		case syntax.IndexStep:
			index := f.decide(s.index(f), "this index", s.tree.Index.Place())
			*chosen = append(*chosen, index.Origin())
			switch index.Kind() {
			case value.Int:
				to.Kind, to.Index = place.OneIndex, index.Int()
			case value.String:
				to.Kind, to.Keys = place.OneKey, []string{index.Text()}
			default:
				f.fail(check.NotAnIndex(s.tree.Index.Place(), describeValue(index)))
			}
		case syntax.NamedStep:
			to.Kind = place.NamedElement
		case syntax.ConditionStep:
			to.Kind = place.OneElement
		case syntax.EachStep:
			to.Kind = place.SomeElements
			if s.holds == nil {
				to.Kind = place.AnyElement
			}
		}
		if s.holds != nil {
			to.Holds = func(element value.Value) bool {
				f.slots[s.slot] = element
				holds, by := s.holds(f)
				if holds {
					*chosen = append(*chosen, by)
				}
				return holds
			}
		}
	}
	return pattern
}
