package check

import (
	"fmt"
	"maps"
	"slices"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// routine is a function that is a value: one that is declared, or an anonymous one with what was known where it was
// written.
type routine struct {
	declared *Object
	in       *tracked
	lambda   *syntax.Lambda
	plain    *taint // of the result of an anonymous one that is given nothing to follow
}

func (t *tracked) call(e *syntax.Call) *taint {
	o := t.module.Info.Objects[e.ID()]
	given := make([]*taint, len(e.Arguments))
	spread := false
	for i, a := range e.Arguments {
		given[i] = t.expression(a.Value)
		spread = spread || a.Spread
	}
	switch {
	case o == nil:
		if found := t.expression(e.Function); found != nil && found.runs != nil {
			return t.run(found.runs, given, e.Place())
		}
		return nil
	case spread && o.Kind != ObjectModule:
		return nil
	case o.Kind == ObjectModule:
		t.instance(e, o.Imported(), given)
		return nil
	}
	arguments, written := make([]*taint, len(o.Parameters)), make([]syntax.Expression, len(o.Parameters))
	for i, at := range Arrange(o.Parameters, e.Arguments) {
		if at >= 0 {
			arguments[i], written[i] = given[at], e.Arguments[at].Value
		}
	}
	if o.Kind == ObjectBuiltin {
		return t.builtin(e, o, arguments, written)
	}
	return t.function(o, arguments, e.Place())
}

// function returns the taint of the result of a declared function.
func (t *tracked) function(o *Object, arguments []*taint, at source.Span) *taint {
	d, ok := o.Declaration.(*syntax.Function)
	if !ok || o.Invalid || d.Body == nil || t.running[o] {
		return nil
	}
	t.running[o] = true
	defer delete(t.running, o)
	inner := &tracked{tracker: t.tracker, module: o.Module, locals: map[int]*taint{}}
	any := false
	for i, p := range o.Parameters {
		if i < len(arguments) && arguments[i] != nil && p.Object != nil {
			any = true
			inner.locals[p.Object.Slot] = into(arguments[i],
				fmt.Sprintf("passes into the parameter %q of %s", p.Name, o.Name), p.Object.Span)
		}
	}
	found := (*taint)(nil)
	if any {
		found = inner.expression(d.Body)
	} else {
		found = t.result(o, d)
	}
	return found.standing(at)
}

// run returns the taint of the result of a function that is a value.
func (t *tracked) run(r *routine, arguments []*taint, at source.Span) *taint {
	if r.declared != nil {
		return t.function(r.declared, arguments, at)
	}
	if !slices.ContainsFunc(arguments, func(given *taint) bool { return given != nil }) {
		return r.plain
	}
	inner := &tracked{tracker: t.tracker, module: r.in.module, locals: r.in.locals}
	for i, p := range r.lambda.Parameters {
		var given *taint
		if i < len(arguments) {
			given = into(arguments[i], fmt.Sprintf("passes into the parameter %q", p.Name.Name), p.Name.Span)
		}
		inner.locals[r.in.module.Info.Slots[p]] = given
	}
	return inner.expression(r.lambda.Body)
}

// into returns the taint of what passes into a name.
func into(found *taint, step string, at source.Span) *taint {
	return found.moved(func(x *trail) *trail { return x.through(source.Related{Span: x.at, Text: step}, at) })
}

// standing returns the taint of what stands at a place now, without a step that would be worth telling.
func (t *taint) standing(at source.Span) *taint {
	return t.moved(func(x *trail) *trail { return &trail{x.later, at, x.steps} })
}

// result returns the taint of a function that is given none.
func (t *tracked) result(o *Object, d *syntax.Function) *taint {
	if found, ok := t.globals[o]; ok {
		return found
	}
	inner := &tracked{tracker: t.tracker, module: o.Module, locals: map[int]*taint{}}
	found := inner.expression(d.Body)
	t.globals[o] = found
	return found
}

// instance reports secrets that pass into inputs of a component that are not secret.
func (t *tracked) instance(e *syntax.Call, m *Module, given []*taint) {
	for i, a := range e.Arguments {
		if m == nil || a.Spread || given[i] == nil {
			continue
		}
		o := m.Objects[a.Name.Name]
		if o == nil || o.Kind != ObjectInput {
			continue
		}
		if d, ok := o.Declaration.(*syntax.Input); ok && d.Secret {
			continue
		}
		if trail, path := given[i].find(o.Type, isSecretTrail, nil); trail != nil {
			t.expose(trail, path, fmt.Sprintf("the input %q of %s, which is not secret", o.Name, m.Path),
				"declare it there: secret input "+o.Name, e)
		}
	}
}

// builtin returns the taint of the result of a built-in function, and reports what a secret would decide in it.
func (t *tracked) builtin(e *syntax.Call, o *Object, arguments []*taint, written []syntax.Expression) *taint {
	if o.Builtin == Environment || o.Builtin == Fail {
		return nil
	}
	if o.Builtin.Handling != Passes {
		return scalars("", e.Place(), arguments...)
	}
	flow := &flow{tracked: t, call: e, name: o.Name, variables: map[string]*taint{}}
	for i, p := range o.Parameters {
		switch types.Core(p.Type) {
		case types.Int, types.String:
			if written[i] != nil {
				t.decides(arguments[i], "the result of "+o.Name, written[i].Place())
			}
		}
		flow.gather(p.Type, arguments[i].standing(e.Place()))
	}
	for i, p := range o.Parameters {
		flow.callback(p, arguments[i], written[i])
	}
	switch o.Builtin.Gives {
	case ListedEntries, OtherEntries:
		found := arguments[0].standing(e.Place())
		if kept := t.module.Info.Types[e.ID()]; kept != nil && types.AsRecord(kept) != nil && found != nil {
			fields := map[string]*taint{}
			for name, inner := range found.fields {
				if types.HasField(kept, name) {
					fields[name] = inner
				}
			}
			if found = (&taint{scalar: found.scalar, fields: fields,
				rest: found.rest}); len(fields) == 0 && found.scalar == nil && found.rest == nil {
				return nil
			}
		}
		return found
	case FirstArgument:
		return arguments[0].standing(e.Place())
	case MergedArguments:
		return either(arguments[0], arguments[1])
	case OneEntry:
		if s, ok := written[1].(*syntax.String); ok {
			if key, plain := s.Plain(); plain {
				return either(arguments[0].field(key), arguments[2]).standing(e.Place())
			}
		}
	}
	return flow.result(o.Type)
}

// flow is one call of a built-in function that passes on what it is given. What stands for a type variable in its
// result can only come from where that variable stands in its parameters, so that its signature tells where
// everything goes.
type flow struct {
	*tracked
	call      *syntax.Call
	name      string
	variables map[string]*taint
}

// gather notes what a value of a type brings for the variables in it.
func (f *flow) gather(t types.Type, found *taint) {
	if found == nil {
		return
	}
	switch t := t.(type) {
	case *types.Variable:
		f.variables[t.Name] = either(f.variables[t.Name], found)
	case *types.List:
		f.gather(t.Element, found.element())
	case *types.Union:
		for _, m := range t.Members {
			f.gather(m, found)
		}
	case *types.Record:
		for _, field := range t.Fields {
			f.gather(field.Type, found.field(field.Name))
		}
		if t.Rest != nil {
			f.gather(t.Rest, found.element())
		}
	}
}

// callback follows what is given to a function that is a parameter, and what that returns.
func (f *flow) callback(p Parameter, given *taint, written syntax.Expression) {
	var function *types.Function
	for _, part := range types.Parts(p.Type) {
		if of := types.AsFunction(part); of != nil {
			function = of
		}
	}
	if function == nil {
		return
	}
	arguments := make([]*taint, len(function.Parameters))
	returns := func() (returned *taint) {
		for i, parameter := range function.Parameters {
			arguments[i] = f.result(parameter)
		}
		switch {
		case written == nil: // what is ordered decides itself
			returned = arguments[0]
		case given != nil && given.runs != nil:
			returned = f.run(given.runs, arguments, f.call.Place())
		}
		return returned
	}
	returned := returns()
	if returned != nil && slices.Contains(function.Parameters, function.Result) { // it is given what it returned
		f.gather(function.Result, returned)
		returned = returns()
	}
	switch types.Core(function.Result) {
	case types.Bool:
		f.decides(returned, "what "+f.name+" chooses", f.call.Place())
	case types.String:
		f.decides(returned, "a key of "+f.name, f.call.Place())
	case types.Any:
		f.decides(returned, "the result of "+f.name, f.call.Place())
	default:
		f.gather(function.Result, returned)
	}
}

// result returns the taint of a value of a type with variables.
func (f *flow) result(t types.Type) *taint {
	var found *taint
	switch t := t.(type) {
	case *types.Variable:
		return f.variables[t.Name]
	case *types.List:
		return elements(f.result(t.Element))
	case *types.Tuple:
		var all *taint
		for _, element := range t.Elements {
			all = either(all, f.result(element))
		}
		return elements(all)
	case *types.Union:
		for _, m := range t.Members {
			found = either(found, f.result(m))
		}
		return found
	case *types.Record:
		found = &taint{fields: map[string]*taint{}}
		for _, field := range t.Fields {
			if inner := f.result(field.Type); inner != nil {
				found.fields[field.Name] = inner
			}
		}
		if t.Rest != nil {
			found.rest = f.result(t.Rest)
		}
	}
	if found == nil || found.rest == nil && len(found.fields) == 0 {
		return nil
	}
	return found
}

// operation follows an operation of a patch: what decides where it goes, and what it puts there.
func (t *tracked) operation(d *syntax.Operation) {
	place, exact := t.patched, !t.sometimes && d.Base.Name == ""
	if d.Base.Name != "" {
		place = place.element()
	}
	var keys []*syntax.Key
	for _, s := range d.Steps {
		for _, key := range s.Keys {
			t.key(key)
		}
		if s.Kind != syntax.KeyStep || s.Keys[0].Value != nil {
			exact = false
			if s.Kind == syntax.DeepStep {
				place = nil // it may lead anywhere
			}
			place = place.element()
			if s.Index != nil {
				what := "this condition"
				if s.Kind == syntax.IndexStep {
					what = "this index"
				}
				if slot, ok := t.module.Info.Slots[s]; ok {
					t.locals[slot] = place.standing(s.Index.Place())
				}
				t.decides(t.expression(s.Index), what, s.Index.Place())
			}
			continue
		}
		keys = append(keys, s.Keys[0])
		place = place.field(s.Keys[0].Name)
	}
	var value *taint
	if d.Value != nil {
		t.locals[t.module.Info.Slots[d]] = nil
		if d.Verb != syntax.AddVerb {
			t.locals[t.module.Info.Slots[d]] = place
		}
		value = t.expression(d.Value)
	}
	if exact && !(d.Verb == syntax.AddVerb && d.Optional) {
		t.patched = t.patched.changed(keys, value, d.Verb == syntax.MergeVerb)
		return
	}
	for i := len(d.Steps) - 1; i >= 0 && value != nil; i-- {
		s := d.Steps[i]
		switch {
		case s.Kind == syntax.DeepStep:
			value = nil // where, is known when it is evaluated
		case len(s.Keys) == 0 && s.Kind != syntax.AnyKeyStep:
			value = elements(value)
		case len(s.Keys) == 0 || s.Keys[0].Value != nil:
			value = &taint{rest: value}
		default:
			fields := make(map[string]*taint, len(s.Keys))
			for _, key := range s.Keys {
				fields[key.Name] = value
			}
			value = &taint{fields: fields}
		}
	}
	if d.Base.Name != "" {
		value = elements(value)
	}
	t.patched = either(t.patched, value)
}

// changed returns the taint of a record of which the place that keys lead to was changed: a record is merged into
// what is there, anything else replaces it.
func (t *taint) changed(keys []*syntax.Key, to *taint, merges bool) *taint {
	if len(keys) == 0 {
		if merges {
			return either(t, to)
		}
		return to
	}
	if keys[0].Value != nil {
		if inner := (*taint)(nil).changed(keys[1:], to, merges); inner != nil {
			return either(t, &taint{rest: inner})
		}
		return t
	}
	name := keys[0].Name
	inner := t.field(name).changed(keys[1:], to, merges)
	if t == nil {
		t = &taint{}
	}
	m := &taint{scalar: t.scalar, rest: t.rest, list: t.list, runs: t.runs, fields: maps.Clone(t.fields)}
	delete(m.fields, name)
	if inner != nil {
		if m.fields == nil {
			m.fields = map[string]*taint{}
		}
		m.fields[name] = inner
	}
	if m.scalar == nil && m.rest == nil && m.runs == nil && len(m.fields) == 0 {
		return nil
	}
	return m
}
