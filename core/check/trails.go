package check

import (
	"fmt"
	"slices"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// trail says by which way a scalar came to be secret, or known only after deployment: where it stands now, and where
// it came through, from its declaration on.
type trail struct {
	later bool
	at    source.Span
	steps []source.Related
}

// through returns the trail with one more step, and another place where the value stands now.
func (t *trail) through(step source.Related, at source.Span) *trail {
	return &trail{t.later, at, append(slices.Clip(t.steps), step)}
}

func (t *trail) adjective() string {
	if t.later {
		return "known only after deployment"
	}
	return "secret"
}

// taint is where in a value scalars are that have a trail; nil when none is known to have. What is not followed has
// none here: the marks of values find it when it is evaluated.
type taint struct {
	scalar *trail // of the value, or of all that it holds
	fields map[string]*taint
	rest   *taint   // of the elements, or of fields that are not among fields
	list   bool     // rest is of the elements of a list
	runs   *routine // what runs when the value is a function that is called
}

// elements returns the taint of a list, of whose elements some have this one.
func elements(found *taint) *taint {
	if found == nil {
		return nil
	}
	return &taint{rest: found, list: true}
}

// field returns the taint of what stands under a key.
func (t *taint) field(name string) *taint {
	switch {
	case t == nil:
		return nil
	case t.fields[name] != nil:
		return t.fields[name]
	case t.scalar != nil:
		return &taint{scalar: t.scalar}
	}
	return t.rest
}

// element returns the taint of any of the elements or entries.
func (t *taint) element() *taint {
	if t == nil || t.scalar != nil || t.rest != nil {
		return t.field("")
	}
	return nil
}

// taintLimit is how many parts of a value are followed. Of one with more, which shares its parts many times, the marks
// of values find what there is.
const taintLimit = 10_000

// parts counts the parts of a taint, as far as there may be.
func (t *taint) parts(most int) int {
	if t == nil || most <= 0 {
		return 0
	}
	n := 1 + t.rest.parts(most-1)
	for _, f := range t.fields {
		n += f.parts(most - n)
	}
	return n
}

// moved returns the taint with all trails one step further.
func (t *taint) moved(move func(*trail) *trail) *taint {
	if t.parts(taintLimit+1) > taintLimit {
		return nil
	}
	return t.eachMoved(move)
}

func (t *taint) eachMoved(move func(*trail) *trail) *taint {
	if t == nil {
		return nil
	}
	m := &taint{rest: t.rest.eachMoved(move), list: t.list, runs: t.runs}
	if t.scalar != nil {
		m.scalar = move(t.scalar)
	}
	if t.fields != nil {
		m.fields = make(map[string]*taint, len(t.fields))
		for name, f := range t.fields {
			m.fields[name] = f.eachMoved(move)
		}
	}
	return m
}

// find returns the first trail in a value for which wanted holds, with the path to it. Places that are secret by
// their declared type do not count; the type may be nil.
func (t *taint) find(declared types.Type, wanted func(*trail) bool, path *place.Path) (*trail, *place.Path) {
	if t == nil {
		return nil, nil
	}
	if t.scalar != nil && wanted(t.scalar) {
		return t.scalar, path
	}
	var record *types.Record
	var list *types.List
	if declared != nil {
		for _, part := range types.Parts(declared) { // the last of them, when there are several
			switch of := part.(type) {
			case *types.Record:
				record, list = of, nil
			case *types.List:
				record, list = nil, of
			}
		}
	}
	names := make([]string, 0, len(t.fields))
	for name := range t.fields {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		var of types.Type
		if record != nil {
			of = record.Rest
			if f, ok := record.Field(name); ok {
				if f.Secret {
					continue
				}
				of = f.Type
			}
		}
		if found, at := t.fields[name].find(of, wanted, path.Field(name)); found != nil {
			return found, at
		}
	}
	if t.rest == nil {
		return nil, nil
	}
	var of types.Type
	if list != nil {
		of = list.Element
	} else if record != nil {
		of = record.Rest
	}
	if t.list {
		return t.rest.find(of, wanted, path.Keyed("*", 0))
	}
	// Under which key it stands is not known, so that this is as far as the path leads.
	found, _ := t.rest.find(of, wanted, nil)
	return found, path
}

func isSecretTrail(t *trail) bool { return !t.later }
func anyTrail(*trail) bool        { return true }

// scalars returns the taint of something computed from several values.
func scalars(step string, at source.Span, operands ...*taint) *taint {
	for _, o := range operands {
		if found, _ := o.find(nil, anyTrail, nil); found != nil {
			if step != "" {
				return &taint{scalar: found.through(source.Related{Span: found.at, Text: step}, at)}
			}
			return &taint{scalar: &trail{found.later, at, found.steps}}
		}
	}
	return nil
}

// either returns the taint of a value that is one of two.
func either(a, b *taint) *taint {
	switch {
	case a == nil:
		return b
	case b == nil || a == b:
		return a
	}
	joined := &taint{scalar: a.scalar, rest: either(a.rest, b.rest), list: a.list || b.list, runs: a.runs}
	if joined.scalar == nil {
		joined.scalar = b.scalar
	}
	if joined.runs == nil {
		joined.runs = b.runs
	}
	for _, side := range []*taint{a, b} {
		for name, f := range side.fields {
			if joined.fields == nil {
				joined.fields = map[string]*taint{}
			}
			joined.fields[name] = either(joined.fields[name], f)
		}
	}
	return joined
}

// tracker follows secrets, and what is known only after deployment, from their declarations to where they must not be.
type tracker struct {
	program  *Program
	findings source.Findings
	globals  map[*Object]*taint
	running  map[*Object]bool
	visits   int
	declared map[types.Type]*taint // of values whose types have secret fields
	seen     map[source.Pos]bool   // where something was reported
}

// trackLimit is how many expressions are followed. Beyond it the marks of values find what there is.
const trackLimit = 2_000_000

// tracked is what is followed at present: the module, and the taints of its local values by their places in the frame.
type tracked struct {
	*tracker
	module *Module
	locals map[int]*taint
	// patched is what the patch in hand has made of its target so far; sometimes says that an operation may not
	// happen, since it stands in a block.
	patched   *taint
	sometimes bool
}

// track reports secrets that get where they must not be.
func (p *Program) track() source.Findings {
	if !p.Marked {
		return nil
	}
	t := &tracker{program: p, globals: map[*Object]*taint{}, running: map[*Object]bool{}, seen: map[source.Pos]bool{},
		declared: map[types.Type]*taint{}}
	for _, m := range p.Modules {
		for _, o := range m.Order {
			if o.Invalid || o.Declaration.Declared().Broken {
				continue
			}
			t.declaration(m, o)
		}
	}
	p.Tracked = t.seen
	return t.findings
}

func (t *tracker) declaration(m *Module, o *Object) {
	in := &tracked{tracker: t, module: m, locals: map[int]*taint{}}
	switch d := o.Declaration.(type) {
	case *syntax.Let, *syntax.Input:
		t.global(o)
	case *syntax.Output:
		found := t.global(o)
		if d.Secret {
			return
		}
		if trail, path := found.find(nil, isSecretTrail, nil); trail != nil {
			in.expose(trail, path, fmt.Sprintf("the output %q", o.Name),
				"write secret before output, or leave it out", d.Value)
		}
	case *syntax.Function:
		if d.Body != nil {
			in.expression(d.Body)
		}
	default:
		in.statement(d)
	}
}

// global returns the taint of a declaration that has a value.
func (t *tracker) global(o *Object) *taint {
	if found, ok := t.globals[o]; ok || t.running[o] || o.Invalid || o.Module == nil {
		return found
	}
	t.running[o] = true
	in := &tracked{tracker: t, module: o.Module, locals: map[int]*taint{}}
	var found *taint
	switch d := o.Declaration.(type) {
	case *syntax.Input:
		what := &trail{at: o.Span,
			steps: []source.Related{{Span: o.Span, Text: fmt.Sprintf("the secret input %q", o.Name)}}}
		switch {
		case d.Secret:
			found = &taint{scalar: what}
		case d.Placeholder != nil:
			what.later, what.steps[0].Text = true, fmt.Sprintf("the later input %q", o.Name)
			found = &taint{scalar: what}
		default:
			found = t.declaredTaint(o.Type)
		}
	case *syntax.Let:
		found = either(in.expression(d.Value), t.declaredTaint(o.Type))
	case *syntax.Output:
		found = either(in.expression(d.Value), t.declaredTaint(o.Type))
		if d.Secret {
			found = &taint{scalar: &trail{at: o.Span,
				steps: []source.Related{{Span: o.Span, Text: fmt.Sprintf("the secret output %q", o.Name)}}}}
		}
	}
	delete(t.running, o)
	t.globals[o] = found
	return found
}

// declaredTaint returns the taint of a value whose type has secret fields.
func (tr *tracker) declaredTaint(t types.Type) (found *taint) {
	if t == nil {
		return nil
	}
	if known, ok := tr.declared[t]; ok {
		return known
	}
	tr.declared[t] = nil // in a type that contains itself, the first level is followed
	defer func() { tr.declared[t] = found }()
	for _, part := range types.Parts(t) {
		switch part := part.(type) {
		case *types.List:
			found = either(found, elements(tr.declaredTaint(part.Element)))
		case *types.Record:
			one := &taint{fields: map[string]*taint{}, rest: tr.declaredTaint(part.Rest)}
			for _, f := range part.Fields {
				inner := tr.declaredTaint(f.Type)
				if f.Secret {
					inner = &taint{scalar: &trail{at: f.Span,
						steps: []source.Related{{Span: f.Span, Text: fmt.Sprintf("the secret field %q", f.Name)}}}}
				}
				if inner != nil {
					one.fields[f.Name] = inner
				}
			}
			if len(one.fields) > 0 || one.rest != nil {
				found = either(found, one)
			}
		}
	}
	return found
}

func (t *tracked) add(f source.Finding) {
	if !t.seen[f.Span.Start] {
		t.seen[f.Span.Start] = true
		t.findings.Add(f)
	}
}

// expose reports a secret that gets into something that is not. The marks of values would find it there too.
func (t *tracked) expose(found *trail, path *place.Path, what, help string, whole syntax.Expression) {
	if path != nil {
		what += " (at " + path.String() + ")"
	}
	t.add(source.Finding{Code: source.SecretExposed, Span: found.at, Message: "a secret gets into " + what,
		Help: help, Related: found.steps})
	t.seen[whole.Place().Start] = true
}

// decides reports a trail that ends where something is decided.
func (t *tracked) decides(by *taint, what string, at source.Span) {
	if by == nil || by.scalar == nil {
		return
	}
	help := "decide by something that is not secret; require, where and expect may test it"
	if by.scalar.later {
		help = "decide by another input; what is known only later may stand in texts and records"
	}
	t.add(source.Finding{Code: source.HiddenDecision, Span: at,
		Message: fmt.Sprintf("%s depends on a value that is %s", what, by.scalar.adjective()), Help: help,
		Related: by.scalar.steps})
}

func (t *tracked) statements(all []syntax.Declaration) {
	for _, d := range all {
		t.statement(d)
	}
}

func (t *tracked) statement(d syntax.Declaration) {
	if d.Declared().Broken {
		return
	}
	switch d := d.(type) {
	case *syntax.Document:
		t.decides(t.expression(d.Path), "the path of this document", d.Path.Place())
		found := t.expression(d.Value)
		if o := t.documentType(d); o != nil {
			found = either(found, t.declaredTaint(o))
		}
		if d.Secret {
			return
		}
		if trail, path := found.find(nil, isSecretTrail, nil); trail != nil {
			name := "this document"
			if s, ok := d.Path.(*syntax.String); ok {
				if text, plain := s.Plain(); plain {
					name = text
				}
			}
			message := name + " is not secret, but holds a secret"
			if path != nil {
				message += " at " + path.String()
			}
			t.add(source.Finding{Code: source.SecretExposed, Span: trail.at, Message: message,
				Help: "write secret before the document, or leave the secret out", Related: trail.steps})
			t.seen[d.Path.Place().Start] = true
		}
	case *syntax.Remark:
		if trail, _ := t.expression(d.Value).find(nil, isSecretTrail, nil); trail != nil {
			t.expose(trail, nil, "a remark", "remarks are shown to people: leave it out", d.Value)
		}
	case *syntax.Require:
		t.expression(d.Condition)
	case *syntax.Expect:
		for _, e := range []syntax.Expression{d.Condition, d.From} {
			if e != nil && d.From == nil { // what must fail may be just this
				t.expression(e)
			}
		}
	case *syntax.Include:
		t.expression(d.Value)
		if d.Under != nil {
			t.decides(t.expression(d.Under), "the folder of documents", d.Under.Place())
		}
	case *syntax.Test:
		t.statements(d.Body)
	case *syntax.PatchAll:
		t.statements(d.Body)
	case *syntax.Each:
		if d.Where != nil {
			t.decides(t.expression(d.Where), "this condition", d.Where.Place())
		}
		t.block(d.Body)
	case *syntax.Operation:
		t.operation(d)
	case *syntax.Let:
		found := t.named(t.expression(d.Value), d.Name)
		t.locals[t.module.Info.Slots[d]] = found
	case *syntax.IfBlock:
		t.decides(t.expression(d.Condition), "this condition", d.Condition.Place())
		t.block(d.Then)
		t.block(d.Else)
	case *syntax.ForBlock:
		t.loop(d.Loop)
		t.block(d.Body)
	}
}

// block follows statements that need not happen.
func (t *tracked) block(all []syntax.Declaration) {
	outer := t.sometimes
	t.sometimes = true
	t.statements(all)
	t.sometimes = outer
}

// documentType returns the type that is written for a document at the top of a module.
func (t *tracked) documentType(d *syntax.Document) types.Type {
	for _, o := range t.module.Order {
		if o.Declaration == syntax.Declaration(d) {
			return o.Type
		}
	}
	return nil
}

// named returns the taint of a local value.
func (t *tracked) named(found *taint, name syntax.Identifier) *taint {
	return into(found, fmt.Sprintf("passes into %q", name.Name), name.Span)
}

func (t *tracked) loop(e *syntax.For) {
	element := t.expression(e.In).element()
	if o := t.module.Info.Objects[e.ID()]; o != nil {
		t.locals[o.Slot] = element
		if e.Second.Name != "" { // the first is the key or the position
			t.locals[o.Slot], t.locals[o.Slot+1] = nil, element
		}
	}
	if e.Where != nil {
		t.decides(t.expression(e.Where), "this condition", e.Where.Place())
	}
}

// mayBeRecord reports whether the value of an expression may be a record, which merges into another.
func (t *tracked) mayBeRecord(e syntax.Expression) bool {
	of := t.module.Info.Types[e.ID()]
	return of == nil || types.HoldsRecord(of)
}

// laid returns the taint of a record over which another of a type is laid: scalars that are always there take the
// place of what was. The type may be nil.
func (t *taint) laid(over *taint, of types.Type) *taint {
	if of != nil && types.AsRecord(of) != nil {
		for _, f := range types.AsRecord(of).Fields {
			if !f.Optional && !types.HoldsRecord(f.Type) {
				t = t.changed([]*syntax.Key{{Name: f.Name}}, nil, false)
			}
		}
	}
	return either(t, over)
}

// expression returns the taint of an expression, and reports what is decided in it.
func (t *tracked) expression(e syntax.Expression) *taint {
	if t.visits++; t.visits > trackLimit || e == nil {
		return nil
	}
	found := t.bare(e)
	if target := t.module.Info.Targets[e.ID()]; target != nil {
		found = either(found, t.declaredTaint(target))
	}
	return found
}

func (t *tracked) bare(e syntax.Expression) *taint {
	switch e := e.(type) {
	case *syntax.Name, *syntax.It:
		return t.name(t.module.Info.Objects[e.ID()], e.Place())
	case *syntax.Paren:
		return t.expression(e.Inner)
	case *syntax.String:
		var parts []*taint
		for _, p := range e.Parts {
			if p.Value != nil {
				parts = append(parts, t.expression(p.Value))
			}
		}
		return scalars("", e.Place(), parts...)
	case *syntax.List:
		var all *taint
		for _, entry := range e.Elements {
			found := t.expression(entry.Value)
			if entry.Spread {
				found = found.element()
			}
			all = either(all, found)
		}
		return elements(all)
	case *syntax.Record:
		return t.record(e)
	case *syntax.Unary:
		return scalars("", e.Place(), t.expression(e.Operand))
	case *syntax.Binary:
		return t.binary(e)
	case *syntax.If:
		t.decides(t.expression(e.Condition), "this condition", e.Condition.Place())
		then := t.expression(e.Then)
		if e.Else == nil {
			return then
		}
		return either(then, t.expression(e.Else))
	case *syntax.Match:
		return t.match(e)
	case *syntax.LetIn:
		for _, b := range e.Bindings {
			t.locals[t.module.Info.Slots[b]] = t.named(t.expression(b.Value), b.Name)
		}
		return t.expression(e.Body)
	case *syntax.Is:
		return scalars("", e.Place(), t.expression(e.Operand))
	case *syntax.As:
		return t.expression(e.Operand)
	case *syntax.With:
		found := t.expression(e.Of)
		if e.Over != nil {
			return found.laid(t.expression(e.Over), t.module.Info.Types[e.Over.ID()])
		}
		for _, c := range e.Changes {
			if c.Spread {
				found = found.laid(t.expression(c.Value), nil)
				continue
			}
			for _, key := range c.Path {
				t.key(key)
			}
			changed := found.changed(c.Path, t.expression(c.Value), t.mayBeRecord(c.Value))
			if c.Optional {
				changed = either(found, changed)
			}
			found = changed
		}
		return found
	case *syntax.Lambda:
		return &taint{runs: &routine{in: t, lambda: e, plain: t.expression(e.Body)}}
	case *syntax.For:
		t.loop(e)
		t.key(e.Body.Key)
		inner := t.expression(e.Body.Value)
		switch {
		case inner == nil:
			return nil
		case e.Body.Spread:
			return inner
		case e.Body.Key == nil:
			return elements(inner)
		}
		return &taint{rest: inner}
	case *syntax.Call:
		return t.call(e)
	case *syntax.Patch:
		outer, sometimes := t.patched, t.sometimes
		t.patched, t.sometimes = t.expression(e.Target), false
		t.statements(e.Body)
		found := t.patched
		t.patched, t.sometimes = outer, sometimes
		return found
	case *syntax.Places:
		return t.places(e)
	case *syntax.Field:
		if o := t.module.Info.Objects[e.ID()]; o != nil {
			return t.name(o, e.Place())
		}
		return t.instanceMember(e, t.expression(e.Of).field(e.Name.Name))
	case *syntax.Index:
		of := t.expression(e.Of)
		t.decides(t.expression(e.Index), "this index", e.Index.Place())
		if s, ok := e.Index.(*syntax.String); ok {
			if text, plain := s.Plain(); plain {
				return of.field(text)
			}
		}
		return of.element()
	}
	return nil
}

// places returns the taint of the values that a path leads to. Where it does not name its keys, they may be any.
func (t *tracked) places(e *syntax.Places) *taint {
	found := t.expression(e.Of)
	for _, s := range e.Path.Steps {
		for _, key := range s.Keys {
			t.key(key)
		}
		if s.Index != nil {
			if slot, ok := t.module.Info.Slots[s]; ok {
				t.locals[slot] = found.element().standing(s.Index.Place())
			}
			t.decides(t.expression(s.Index), "this condition", s.Index.Place())
		}
		switch {
		case s.Kind == syntax.KeyStep && s.Keys[0].Value == nil:
			found = found.field(s.Keys[0].Name)
		case s.Kind == syntax.DeepStep || s.Kind == syntax.AnyKeyStep || s.Kind == syntax.ChoiceStep:
			return nil // what it leads to is known when it is evaluated
		default:
			found = found.element()
		}
	}
	return elements(found.standing(e.Place()))
}

// instanceMember returns the taint of `s.x`, where s is an instance: that of x in its module, in which no input that
// is not secret holds a secret.
func (t *tracked) instanceMember(e *syntax.Field, other *taint) *taint {
	of := t.module.Info.Types[e.Of.ID()]
	if of == nil || types.AsInstance(of) == nil {
		return other.standing(e.Place())
	}
	if o := t.program.Modules[types.AsInstance(of).Module].Objects[e.Name.Name]; o != nil {
		return t.name(o, e.Place())
	}
	return nil
}

// name returns the taint of the use of a name.
func (t *tracked) name(o *Object, at source.Span) *taint {
	if o == nil {
		return nil
	}
	if o.Kind == ObjectLocal {
		return t.locals[o.Slot].standing(at)
	}
	if o.Kind == ObjectFunction {
		return &taint{runs: &routine{declared: o}}
	}
	if o.Global < 0 {
		return nil
	}
	declared := o.Span
	return t.global(o).moved(func(x *trail) *trail {
		if x.at == declared || o.Kind == ObjectInput {
			return &trail{x.later, at, x.steps}
		}
		return x.through(source.Related{Span: x.at, Text: fmt.Sprintf("passes into the %s %q", o.Kind, o.Name)}, at)
	})
}

func (t *tracked) key(k *syntax.Key) {
	if k != nil && k.Value != nil {
		t.decides(t.expression(k.Value), "this key", k.Span)
	}
}

func (t *tracked) record(e *syntax.Record) *taint {
	made := &taint{fields: map[string]*taint{}}
	for _, entry := range e.Entries {
		found := t.expression(entry.Value)
		switch {
		case entry.Spread:
			if found != nil {
				made = either(made, found)
			}
			continue
		case entry.Key.Value != nil:
			t.key(entry.Key)
			made.rest = either(made.rest, found)
			continue
		}
		delete(made.fields, entry.Key.Name)
		if found != nil {
			if made.fields == nil { // a spread has none
				made.fields = map[string]*taint{}
			}
			made.fields[entry.Key.Name] = found
		}
	}
	if len(made.fields) == 0 && made.rest == nil && made.scalar == nil {
		return nil
	}
	return made
}

func (t *tracked) binary(e *syntax.Binary) *taint {
	left, right := t.expression(e.Left), t.expression(e.Right)
	switch e.Operator {
	case syntax.Default:
		return either(left, right)
	case syntax.Range:
		t.decides(either(left, right), "a range", e.Place())
		return nil
	case syntax.Equal, syntax.NotEqual:
		// Whether something is there is not hidden.
		if _, null := e.Left.(*syntax.Null); null {
			return nil
		}
		if _, null := e.Right.(*syntax.Null); null {
			return nil
		}
	case syntax.Add:
		if of := t.module.Info.Types[e.ID()]; of != nil && types.AsList(of) != nil {
			return either(left, right)
		}
	}
	return scalars("", e.Place(), left, right)
}

func (t *tracked) match(e *syntax.Match) *taint {
	subject := t.expression(e.Subject)
	if o := t.module.Info.Objects[e.ID()]; o != nil {
		t.locals[o.Slot] = subject
	}
	compares := false
	var found *taint
	for _, arm := range e.Arms {
		for _, p := range arm.Patterns {
			_, null := p.(*syntax.Null)
			compares = compares || !null
		}
		found = either(found, t.expression(arm.Value))
	}
	if compares {
		t.decides(subject, "this match", e.Subject.Place())
	}
	return found
}
