package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// declare enters the name of a declaration.
func (c *checker) declare(d syntax.Declaration) {
	h := d.Declared()
	o := &Object{Name: h.Name.Name, Span: h.Name.Span, Module: c.module, Declaration: d, Global: -1, Invalid: h.Broken}
	switch d := d.(type) {
	case *syntax.Use:
		o.Kind = ObjectData
		if d.IsModule() {
			o.Kind = ObjectModule
		}
	case *syntax.TypeDeclaration:
		o.Kind = ObjectType
	case *syntax.Input:
		o.Kind = ObjectInput
		c.module.marked = c.module.marked || d.Secret || d.Placeholder != nil
	case *syntax.Let:
		o.Kind = ObjectLet
	case *syntax.Function:
		o.Kind = ObjectFunction
	case *syntax.Output:
		o.Kind = ObjectOutput
		c.module.marked = c.module.marked || d.Secret
	case *syntax.Document:
		o.Kind = ObjectDocument
		o.Span = d.Span
		if d.Path != nil {
			o.Span = d.Path.Place()
		}
	case *syntax.Test:
		o.Kind, o.Span = ObjectTest, h.Span
	case *syntax.Rule:
		o.Kind = ObjectRule
	default:
		o.Kind, o.Span = ObjectStatement, h.Span
	}
	switch o.Kind {
	case ObjectData, ObjectInput, ObjectLet, ObjectOutput, ObjectDocument:
		o.Global = c.module.Globals
		c.module.Globals++
	}
	c.module.Order = append(c.module.Order, o)
	if o.Kind == ObjectDocument || o.Kind == ObjectStatement || o.Kind == ObjectTest || o.Name == "" {
		return
	}
	c.owner = o
	defer func() { c.owner = nil }()
	if o.Name == "_" {
		c.report(source.BadName, o.Span, "give it a name", `"_" discards a value and cannot name a declaration`)
		return
	}
	if existing, ok := c.module.Objects[o.Name]; ok {
		c.add(source.Finding{
			Code: source.DuplicateName, Span: o.Span, Message: fmt.Sprintf("%q is declared twice in this file", o.Name),
			Help:    "give one of them another name",
			Related: []source.Related{{Span: existing.Span, Text: "the first declaration"}},
		})
		return
	}
	isGroup := c.program.Builtins.IsGroup(o.Name)
	if isGroup && (o.Kind == ObjectModule || o.Kind == ObjectData || o.Kind == ObjectLet || o.Kind == ObjectFunction) {
		c.report(source.BadName, o.Span, "choose another name, such as "+o.Name+"_",
			"%q is the name of a group of built-in functions", o.Name)
	}
	if _, ok := types.ByName[o.Name]; ok && o.Kind == ObjectType {
		c.report(source.BadName, o.Span, "choose another name", "%q is a built-in type", o.Name)
	}
	if o.Kind == ObjectType && (o.Name == inputsMember || o.Name == instanceMember) {
		c.report(source.BadName, o.Span, "choose another name", "every module has a type %q already", o.Name)
	}
	if o.Name == documentsMember && (o.Kind == ObjectLet || o.Kind == ObjectOutput || o.Kind == ObjectFunction) {
		c.report(source.BadName, o.Span, "choose another name, such as all_"+o.Name,
			"%q is the name under which an instance of this module has its files", o.Name)
	}
	c.module.Objects[o.Name] = o
}

// resolve finds out the type of an object and checks its declaration. An object that is asked for while it is being
// resolved depends on itself: that is reported later, with the whole cycle.
func (c *checker) resolve(o *Object) {
	if o.state != unresolved {
		if o.state == resolving && o.Type == nil {
			o.Type = types.Invalid
		}
		return
	}
	o.state, o.guards = resolving, c.guards
	owner, scope, facts, it, lazy, patching := c.owner, c.scope, c.facts, c.it, c.lazy, c.patching
	c.owner, c.scope, c.facts, c.it, c.lazy, c.patching = o, nil, nil, nil, 0, nil
	if o.Kind == ObjectType {
		c.types++
	}
	c.resolveDeclaration(o)
	if o.Type == nil {
		o.Type = types.Invalid
	}
	o.state = resolved
	if o.Kind == ObjectType {
		c.types--
		c.checkWaiting()
	}
	c.owner, c.scope, c.facts, c.it, c.lazy, c.patching = owner, scope, facts, it, lazy, patching
}

// whenKnown checks an expression that is in a type, a default or a condition: at once when no declared type is in
// hand, else when all that are in hand are known. Before, nothing can be said of a value of such a type.
func (c *checker) whenKnown(check func()) {
	if c.types == 0 {
		check()
		return
	}
	owner, guards := c.owner, c.guards
	c.waiting = append(c.waiting, func() {
		c.owner, c.guards = owner, guards
		check()
	})
}

// checkWaiting makes the checks that waited when no type is in hand any more.
func (c *checker) checkWaiting() {
	if c.types > 0 {
		return
	}
	waiting, guards := c.waiting, c.guards
	c.waiting = nil
	for _, check := range waiting {
		check()
	}
	c.guards = guards
}

func (c *checker) resolveDeclaration(o *Object) {
	_, function := o.Declaration.(*syntax.Function)
	_, named := o.Declaration.(*syntax.TypeDeclaration)
	if o.Declaration.Declared().Broken && !function && !named {
		return // what could be read of it may mean something else
	}
	switch d := o.Declaration.(type) {
	case *syntax.Use:
		c.checkUse(o, d)
	case *syntax.TypeDeclaration:
		named := c.universe.Named(o.Name)
		o.Type = named
		if d.Type != nil && !d.Broken {
			named.Resolve(c.typeOf(d.Type))
		} else {
			named.Resolve(types.Invalid)
		}
	case *syntax.Input:
		o.Type = types.Invalid
		if d.Type != nil {
			o.Type = c.typeOf(d.Type)
			if !types.IsData(o.Type) {
				c.report(source.WrongType, d.Type.Place(), "declare a function with fn",
					"an input is plain data, not %s", o.Type)
			}
		}
		if d.Type != nil && (d.Secret || d.Placeholder != nil) {
			what := "a secret input"
			if d.Placeholder != nil {
				what = "a later input"
			}
			c.checkHidden(d.Type, o.Type, what)
		}
		if d.Default != nil {
			c.check(d.Default, o.Type, fmt.Sprintf("input %q", o.Name))
		}
		if d.Example != nil {
			c.check(d.Example, o.Type, fmt.Sprintf("an example of %q", o.Name))
		}
	case *syntax.Let:
		o.Type = c.instanceOf(d.Value)
		c.checkValue(o, d.Type, d.Value, fmt.Sprintf("%q", o.Name))
	case *syntax.Output:
		c.checkValue(o, d.Type, d.Value, fmt.Sprintf("output %q", o.Name))
		c.checkData(o.Type, d.Value, "an output")
	case *syntax.Document:
		o.Type = c.checkDocument(d)
	case *syntax.Test:
		c.checkTest(d)
	case *syntax.Rule:
		c.checkRule(d)
	case *syntax.Remark, *syntax.Require, *syntax.Include, *syntax.PatchAll, *syntax.IfBlock, *syntax.ForBlock:
		c.checkStatement(d)
	case *syntax.Function:
		c.checkFunction(o, d)
	case *syntax.Operation: // a path that is in no module
		c.patchBody([]syntax.Declaration{d}, &patching{target: types.Any})
	}
}

// checkHidden reports a type of which it would have to be known how many values there are before they are.
func (c *checker) checkHidden(written syntax.Type, t types.Type, what string) {
	var bad func(t types.Type, seen []types.Type) types.Type
	bad = func(t types.Type, seen []types.Type) types.Type {
		if slices.Contains(seen, t) {
			return t
		}
		seen = append(seen, t)
		var scalar types.Type
		for _, part := range types.Parts(t) {
			switch wide := types.Widen(types.Core(part)); wide {
			case types.Bool, types.Int, types.Float, types.String:
				if scalar != nil && scalar != wide { // of which kind it is would be known
					return t
				}
				scalar = wide
			}
			switch of := part.(type) {
			case *types.List:
				return part
			case *types.Basic:
				if part == types.Any {
					return part
				}
			case *types.Record:
				if of.Rest != nil || len(types.Parts(t)) > 1 {
					return part
				}
				for _, f := range of.Fields {
					if f.Optional {
						return part
					}
					if found := bad(f.Type, seen); found != nil {
						return found
					}
				}
			}
		}
		return nil
	}
	if part := bad(t, nil); part != nil {
		help := "make it a scalar, or a record whose fields are all declared and always there"
		if record, is := part.(*types.Record); is && record.Rest != nil {
			help = "in a map, make a field of each entry secret: { *: { secret value: string } }"
		}
		c.report(source.WrongType, written.Place(), help,
			"%s has no value during check and render, so its type must have a fixed shape: not %s", what, part)
	}
}

func (c *checker) checkUse(o *Object, d *syntax.Use) {
	imported := c.module.Imports[d]
	if imported == nil || imported.Failed {
		o.Invalid = true
	}
	o.Type = types.Any
	if d.Type != nil {
		if o.Kind == ObjectModule {
			c.report(source.Syntax, d.Type.Place(), "leave it out", "a module has no type")
			return
		}
		o.Type = c.typeOf(d.Type)
	} else if d.Form == "text" || d.Form == "bytes" {
		o.Type = types.String
	} else if d.Form == "stream" {
		o.Type = c.universe.List(types.Any)
	} else if strings.Contains(d.Path, "*") {
		o.Type = c.universe.Map(types.Any)
	}
	if o.Invalid {
		o.Type = types.Invalid
	}
}

// checkValue checks `name: T = value`.
func (c *checker) checkValue(o *Object, declared syntax.Type, value syntax.Expression, what string) {
	if declared != nil {
		o.Type = c.typeOf(declared)
	}
	if value == nil {
		return
	}
	if o.Type == nil {
		inferred := c.universe.Explained(c.infer(value, nil))
		if o.Type == nil { // else it is part of a cycle
			o.Type = inferred
		}
		return
	}
	c.check(value, o.Type, what)
}

// typedValue checks a value against the type that is written for it, if any, and returns the type that it has then.
func (c *checker) typedValue(declared syntax.Type, value syntax.Expression, what string) types.Type {
	if declared == nil {
		return c.universe.Explained(c.infer(value, nil))
	}
	t := c.typeOf(declared)
	c.check(value, t, what)
	return t
}

// checkData reports a value that leaves the program and holds a function.
func (c *checker) checkData(t types.Type, value syntax.Expression, what string) {
	if t != nil && value != nil && !types.IsData(t) {
		holds, help := "holds a function", "call the function, or leave it out"
		if types.AsInstance(t) != nil {
			holds, help = "is an instance", "take one of its members"
		}
		c.report(source.WrongType, value.Place(), help, "%s is plain data, but this %s: %s", what, holds, t)
	}
}
