package eval

import (
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

func (c *compiler) field(e *syntax.Field) code {
	if _, ok := e.Of.(*syntax.Env); ok {
		return c.environment(e)
	}
	if o := c.module.Info.Objects[e.ID()]; o != nil { // a member of a module
		return c.object(o, e.Place())
	}
	return c.steps(e)
}

// environment is env.name or env.tags.
func (c *compiler) environment(e *syntax.Field) code {
	name, at := e.Name.Name, e.Place()
	return func(f *frame) value.Value {
		o := f.recorder.environment(at.Start)
		environment := f.world.evaluation.environment
		if name == "tags" {
			tags := make([]value.Value, len(environment.Tags))
			for i, tag := range environment.Tags {
				tags[i] = value.StringOf(tag, o)
			}
			return value.ListOf(tags, o)
		}
		return value.StringOf(environment.Name, o)
	}
}

// steps compiles a chain of fields and indexes. An absent field is an error.
func (c *compiler) steps(e syntax.Expression) code {
	step := c.step(e)
	return func(f *frame) value.Value {
		v, _ := step(f, true)
		return v
	}
}

// absent compiles an expression that may be an absent field, which gives the value Absent.
func (c *compiler) absent(e syntax.Expression) code {
	last := syntax.Bare(e)
	switch last := last.(type) {
	case *syntax.Field:
		if !c.isField(last) {
			return c.expression(e)
		}
	case *syntax.Index:
	default:
		return c.expression(e)
	}
	step := c.step(last)
	body := func(f *frame) value.Value {
		v, _ := step(f, false)
		return v
	}
	target := c.module.Info.Targets[e.ID()]
	if target == nil {
		return body
	}
	from, at := c.module.Info.Types[e.ID()], e.Place()
	return func(f *frame) value.Value {
		v := body(f)
		if v.IsAbsent() {
			return v
		}
		return f.convert(v, from, target, passing{at: at})
	}
}

// stepper evaluates a chain. ended says that `?.` or `?[` met null or nothing there, which ends the chain: the value
// is then null. When must is false, an absent last step gives Absent instead of an error.
type stepper func(f *frame, must bool) (v value.Value, ended bool)

func (c *compiler) step(e syntax.Expression) stepper {
	switch e := e.(type) {
	case *syntax.Field:
		if c.isField(e) {
			return c.fieldStep(e)
		}
	case *syntax.Index:
		return c.indexStep(e)
	case *syntax.Paren: // in which a chain ends, but may lead to nothing
		inner := c.step(e.Inner)
		if c.module.Info.Targets[e.ID()] == nil {
			return func(f *frame, must bool) (value.Value, bool) {
				v, _ := inner(f, must)
				return v, false
			}
		}
	}
	body := c.expression(e)
	return func(f *frame, must bool) (value.Value, bool) { return body(f), false }
}

// fieldLink is a field in a chain of them.
type fieldLink struct {
	lookup   *value.Lookup
	name     string
	at, ofAt source.Span // of the name, and of what it is a field of
	optional bool        // null or nothing there ends the chain
	lenient  bool        // so does what has no fields
}

// fieldStep compiles fields after one another.
func (c *compiler) fieldStep(e *syntax.Field) stepper {
	var links []fieldLink
	of := syntax.Expression(e)
	for {
		field, ok := of.(*syntax.Field)
		if !ok || !c.isField(field) {
			break
		}
		lenient := c.module.Info.Lenient[field.ID()]
		links = append(links, fieldLink{lookup: value.NewLookup(field.Name.Name), name: field.Name.Name,
			at: field.Name.Span, ofAt: field.Of.Place(), optional: field.Optional || lenient, lenient: lenient})
		of = field.Of
	}
	slices.Reverse(links)
	root := c.step(of)
	return func(f *frame, must bool) (value.Value, bool) {
		v, ended := root(f, !links[0].optional)
		if ended {
			return v, true
		}
		i := 0
		if f.recorder == nil {
			for ; i < len(links) && v.Kind() == value.Record && !v.Unknown(); i++ {
				next := links[i].lookup.Get(v)
				if next.IsAbsent() {
					break
				}
				v = next
			}
		}
		for ; i < len(links); i++ {
			needed := must
			if i+1 < len(links) {
				needed = !links[i+1].optional
			}
			if v, ended = links[i].of(f, v, needed); ended {
				return v, true
			}
		}
		return v, false
	}
}

// isField reports whether a field is one of a value, not a member of a module or of the environment.
func (c *compiler) isField(e *syntax.Field) bool {
	_, env := e.Of.(*syntax.Env)
	return !env && c.module.Info.Objects[e.ID()] == nil
}

// of returns the field of a value; ended and must be as in a stepper.
func (l *fieldLink) of(f *frame, v value.Value, must bool) (field value.Value, ended bool) {
	at := l.at.Start
	switch {
	case l.optional && (v.IsNull() || v.IsAbsent()):
		return value.NullOf(f.from(at, v)), true
	case v.Kind() == value.Instance:
		return f.choose(f.member(v.Instance().(*World), l.name, l.at), v.Origin()), false
	case v.Unknown():
		return f.choose(derived(value.StringOf("", value.From(at)), v), v.Origin()), false
	case v.Kind() != value.Record && l.lenient:
		return value.NullOf(f.from(at, v)), true
	case v.Kind() != value.Record:
		f.fail(check.NoFields(l.ofAt, describeValue(v), l.name))
	}
	field = l.lookup.Get(v)
	switch {
	case !field.IsAbsent():
		return f.choose(field, v.Origin()), false
	case l.optional:
		return value.NullOf(f.from(at, v)), true
	case must:
		f.missingKey(v, l.name, l.at)
	}
	return field.WithOrigin(f.from(at, v)), false // that it is absent is what the record says
}

// missingKey reports a key that a record does not have.
func (f *frame) missingKey(v value.Value, name string, at source.Span) {
	help := "?. or ?[…] gives null for what is not there"
	if first, rest, found := strings.Cut(name, "-"); found && !v.Get(first).IsAbsent() {
		help = "a subtraction is written with spaces: " + first + " - " + rest
	} else if near, ok := source.Nearest(name, v.Shape().Keys()); ok {
		help = source.DidYouMean(near)
	}
	f.fail(source.Finding{Code: source.UnknownField, Span: at,
		Message: "there is no field \"" + name + "\" in " + v.Show(60), Help: help, Related: f.madeAt(v, at)})
}

// madeAt is the related place at which a value was made, when it is not the place of the finding itself.
func (f *frame) madeAt(v value.Value, at source.Span) []source.Related {
	p := f.recorder.Pos(v.Origin())
	if !p.IsValid() || p == at.Start {
		return nil
	}
	return []source.Related{{Span: source.At(p), Text: "the " + v.Kind().String() + " comes from here"}}
}

func (c *compiler) indexStep(e *syntax.Index) stepper {
	of, index := c.step(e.Of), c.expression(e.Index)
	optional := e.Optional || c.module.Info.Lenient[e.ID()]
	at, ofAt := e.Index.Place(), e.Of.Place()
	return func(f *frame, must bool) (value.Value, bool) {
		v, ended := of(f, !optional)
		if ended {
			return v, true
		}
		if optional && (v.IsNull() || v.IsAbsent()) {
			return value.NullOf(f.from(at.Start, v)), true
		}
		i := f.decide(index(f), "this index", at)
		var found value.Value
		switch {
		case v.Unknown():
			found = derived(value.StringOf("", value.From(at.Start)), v)
		case v.Kind() == value.Record && i.Kind() == value.String:
			f.spend(1+len(i.Text())/value.CompareCost, at)
			found = v.Get(i.Text())
			if found.IsAbsent() && must && !optional {
				f.missingKey(v, i.Text(), at)
			}
		case v.Kind() == value.List && i.Kind() == value.Int:
			n := i.Int()
			if n < 0 {
				n += int64(v.Len())
			}
			if n >= 0 && n < int64(v.Len()) {
				found = v.Elements()[n]
			} else if must && !optional {
				f.fail(source.Finding{Code: source.NoElement, Span: at, Related: f.madeAt(v, at),
					Help:    "?[…] gives null for what is not there",
					Message: "there is no element " + i.Show(20) + ": the list has " + source.Count(v.Len(), "element")})
			}
		case v.Kind() == value.Record || v.Kind() == value.List:
			f.failAt(source.WrongType, at, "lists are indexed by int, records by string",
				"%s cannot be indexed by %s", describeValue(v), describeValue(i))
		default:
			f.fail(check.NoElements(ofAt, describeValue(v)))
		}
		if found.IsAbsent() {
			if optional {
				return value.NullOf(f.from(at.Start, v, i)), true
			}
			return found.WithOrigin(f.from(at.Start, v, i)), false
		}
		return f.choose(f.choose(found, v.Origin()), i.Origin()), false
	}
}
