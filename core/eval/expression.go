package eval

import (
	"fmt"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// compiler turns the expressions of one module into closures.
type compiler struct {
	program *Program
	module  *check.Module
	// bare is an expression whose own passage into a type is left out, so that the caller can do it.
	bare syntax.Expression
	// lent is a function that nothing but the built-in function in hand uses, and only while it runs.
	lent syntax.Expression
	// once are the records and lists that are made once, with all that they say: they are what a declaration says.
	once map[syntax.Expression]once
	// eachSlot is the place of the document of the current each.
	eachSlot int
	// definitions are what the local values of the current rule are, by their places in the frame; nil outside of
	// rules.
	definitions map[int]syntax.Expression
	// loopNames are the names of the loops of declarations in hand, the outermost first.
	loopNames []loopName
}

// loopName is a name that a loop gives to what it goes through, and its place in the frame.
type loopName struct {
	name string
	slot int
}

func (c *compiler) declaration(d *declaration) {
	o := d.object
	switch tree := o.Declaration.(type) {
	case *syntax.Use:
		d.body = c.data(o, tree)
	case *syntax.Input:
		if tree.Default != nil {
			d.body = c.whole(tree.Default, declared)
		}
	case *syntax.Let:
		d.body = c.whole(tree.Value, declared)
	case *syntax.Output:
		d.body = c.whole(tree.Value, declared)
	case *syntax.Document:
		d.body = c.whole(tree.Value, ofDocument)
		d.path = c.documentPath(tree.Path)
	}
}

// once says that a record or list is made once, and for what.
type once uint8

const (
	notOnce    once = iota
	declared        // as the value of a declaration, which others may use
	ofDocument      // as the content of a document, which nothing else uses
)

// whole compiles what a declaration says.
func (c *compiler) whole(e syntax.Expression, why once) code {
	outer := c.once
	defer func() { c.once = outer }()
	c.once = map[syntax.Expression]once{}
	var note func(e syntax.Expression)
	note = func(e syntax.Expression) {
		switch e := e.(type) {
		case *syntax.Paren:
			note(e.Inner)
		case *syntax.List:
			c.once[e] = why
			for _, element := range e.Elements {
				note(element.Value)
			}
		case *syntax.Record:
			c.once[e] = why
			for _, entry := range e.Entries {
				note(entry.Value)
			}
		}
	}
	note(e)
	return c.expression(e)
}

// data is the contents of a data file, passed into its type.
func (c *compiler) data(o *check.Object, tree *syntax.Use) code {
	v, ok := c.program.data[o]
	return func(f *frame) value.Value {
		if !ok {
			panic(abort{})
		}
		if tree.Type == nil {
			return v
		}
		return f.convertTo(v, o.Type, passing{what: "data", name: o.Name, declared: o})
	}
}

func origin(e syntax.Expression) value.Origin { return value.From(e.Place().Start) }

// expression compiles an expression together with its passage into the type that is declared for it.
func (c *compiler) expression(e syntax.Expression) code {
	body := c.observed(e, c.module.Info.Types[e.ID()], c.bareExpression(e))
	target := c.module.Info.Targets[e.ID()]
	if target == nil || e == c.bare {
		return body
	}
	from := c.module.Info.Types[e.ID()]
	at := e.Place()
	return c.observed(e, target, func(f *frame) value.Value {
		return f.convert(body(f), from, target,
			passing{at: at})
	})
}

// observed lets the observer of the program, if there is one, see what an expression gives.
func (c *compiler) observed(e syntax.Expression, t types.Type, body code) code {
	observer, at := c.program.observer, e.Place()
	if observer == nil || t == nil {
		return body
	}
	return func(f *frame) value.Value {
		v := body(f)
		observer(at, t, v)
		return v
	}
}

func constant(v value.Value) code { return func(*frame) value.Value { return v } }

func (c *compiler) bareExpression(e syntax.Expression) code {
	switch e := e.(type) {
	case *syntax.Null:
		return constant(value.NullOf(origin(e)))
	case *syntax.Bool:
		return constant(value.BoolOf(e.Value, origin(e)))
	case *syntax.Int:
		return constant(value.IntOf(e.Value, origin(e)))
	case *syntax.Float:
		return constant(value.FloatOf(e.Value, origin(e)))
	case *syntax.String:
		return c.text(e)
	case *syntax.Name:
		return c.object(c.module.Info.Objects[e.ID()], e.Place())
	case *syntax.It:
		return c.object(c.module.Info.Objects[e.ID()], e.Place())
	case *syntax.Paren:
		return c.expression(e.Inner)
	case *syntax.List:
		return c.list(e)
	case *syntax.Record:
		return c.recordLiteral(e)
	case *syntax.Unary:
		return c.unary(e)
	case *syntax.Binary:
		return c.binary(e)
	case *syntax.If:
		return c.conditional(e)
	case *syntax.Match:
		return c.match(e)
	case *syntax.For:
		return c.loop(e)
	case *syntax.Call:
		return c.call(e)
	case *syntax.Patch:
		return c.patch(e)
	case *syntax.Places:
		return c.places(e)
	case *syntax.LetIn:
		return c.letIn(e)
	case *syntax.Is:
		return c.is(e)
	case *syntax.As:
		return c.as(e)
	case *syntax.With:
		return c.with(e)
	case *syntax.Lambda:
		return c.lambda(e)
	case *syntax.Field:
		return c.field(e)
	case *syntax.Index:
		return c.steps(e)
	case *syntax.Bad:
		return c.broken()
	}
	panic(fmt.Sprintf("the compiler does not know %T", e))
}

// broken stands for what has an error that was reported.
func (c *compiler) broken() code { return func(*frame) value.Value { panic(abort{}) } }

// object is the use of a name.
func (c *compiler) object(o *check.Object, at source.Span) code {
	switch {
	case o == nil:
		return c.broken()
	case o.Kind == check.ObjectLocal:
		slot := o.Slot
		return func(f *frame) value.Value { return f.slots[slot] }
	case o.Kind == check.ObjectFunction:
		if o.NeedsInput {
			return func(f *frame) value.Value {
				return value.FunctionOf(&closure{declared: o, world: f.world}, value.From(at.Start))
			}
		}
		return constant(value.FunctionOf(&closure{declared: o}, value.From(at.Start)))
	case o.Global >= 0:
		return c.global(o, at)
	}
	return c.broken()
}

// global is the use of a declaration that has a value.
func (c *compiler) global(o *check.Object, at source.Span) code {
	global := c.program.global(o)
	if o.NeedsInput {
		return func(f *frame) value.Value {
			w := f.world
			if i := global - w.base; i >= 0 && i < len(w.states) && w.states[i].status.Load() == done {
				return w.states[i].value
			}
			return f.force(global, at)
		}
	}
	return func(f *frame) value.Value {
		w := f.world.evaluation.main
		if o.Constant() {
			w = f.world.program.constants
		}
		if s := &w.states[global]; s.status.Load() == done {
			return s.value
		}
		return f.force(global, at)
	}
}

// truth evaluates a condition.
func (c *compiler) truth(e syntax.Expression) func(f *frame) (bool, value.Origin) {
	body, at := c.expression(e), e.Place()
	return func(f *frame) (bool, value.Origin) {
		v := body(f)
		if v.Mark() != 0 {
			f.decides(v, "this condition", at)
		}
		return v.Bool(), v.Origin()
	}
}

// choose is recorder.chosen where something is recorded.
func (f *frame) choose(v value.Value, by value.Origin) value.Value {
	if f.recorder == nil { // which is so nearly always
		return v
	}
	return f.recorder.chosen(v, by)
}

// typeOf returns the static type of an expression; nil when it has none.
func (c *compiler) typeOf(e syntax.Expression) types.Type { return c.module.Info.Types[e.ID()] }
