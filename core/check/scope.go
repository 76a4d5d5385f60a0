package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// scope is a chain of local names.
type scope struct {
	outer  *scope
	object *Object
}

// bind enters a local name and gives it a place in the frame of the declaration.
func (c *checker) bind(name syntax.Identifier, t types.Type) *Object {
	c.owner.Frame++
	return c.bindAt(name, t, c.owner.Frame-1)
}

// bindAt is bind for a place that is taken already.
func (c *checker) bindAt(name syntax.Identifier, t types.Type, slot int) *Object {
	o := &Object{Kind: ObjectLocal, Name: name.Name, Span: name.Span, Module: c.module, Type: t, Slot: slot,
		Global: -1, state: resolved}
	if name.Name == "_" {
		return o
	}
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name.Name {
			c.add(source.Finding{
				Code: source.DuplicateName, Span: name.Span,
				Message: fmt.Sprintf("%q is already the name of a local value here", name.Name),
				Help:    "give one of them another name", Related: see(s.object),
			})
			break
		}
	}
	c.scope = &scope{c.scope, o}
	return o
}

// unbind takes local names off again and warns of those that nothing used.
func (c *checker) unbind(to *scope) {
	for s := c.scope; s != to; s = s.outer {
		if !s.object.used {
			c.warn(source.Unused, s.object.Span, `write "_" for a value that is not needed`, "nothing uses %q",
				s.object.Name)
		}
	}
	c.scope = to
}

// local reports whether a name is that of a local value.
func (c *checker) local(name string) bool {
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name {
			return true
		}
	}
	return false
}

// lookup finds a name; nil when there is none, which it reports.
func (c *checker) lookup(name string, span source.Span) *Object {
	for s := c.scope; s != nil; s = s.outer {
		if s.object.Name == name {
			s.object.used = true
			return s.object
		}
	}
	if o, ok := c.module.Objects[name]; ok {
		c.use(o, span)
		return o
	}
	c.owner.Invalid = true
	if c.module.Tree.Nameless {
		return nil
	}
	help, related := "declare it with let, input or use", []source.Related(nil)
	functions := c.builtinsNamed(name)
	if near, ok := c.nearest(name); ok {
		help = fmt.Sprintf("did you mean %q?", near)
		related = see(c.module.Objects[near])
	} else if _, ok := types.ByName[name]; ok {
		help = "this is a type, not a value"
	}
	if len(functions) > 0 {
		help, related = "did you mean "+strings.Join(functions, " or ")+"?", nil
	}
	c.add(source.Finding{Code: source.UnknownName, Span: span, Message: fmt.Sprintf("there is no %q here", name),
		Help: help, Related: related})
	return nil
}

// nearest returns the name here that another is most likely a misspelling of.
func (c *checker) nearest(name string) (string, bool) {
	if !c.suggestions.Left() {
		return "", false
	}
	candidates := c.program.Builtins.Groups()
	for s := c.scope; s != nil; s = s.outer {
		candidates = append(candidates, s.object.Name)
	}
	for n := range c.module.Objects {
		candidates = append(candidates, n)
	}
	return c.suggestions.Nearest(name, candidates)
}

// use notes that the declaration in hand refers to an object, and resolves it.
func (c *checker) use(o *Object, span source.Span) {
	o.used = true
	if c.owner != nil {
		guarded := o.Kind == ObjectType && c.owner.Kind == ObjectType && c.guards > c.owner.guards || c.lazy > 0
		at := slices.IndexFunc(c.owner.Uses, func(r Reference) bool { return r.Object == o })
		switch {
		case at < 0:
			c.owner.Uses = append(c.owner.Uses, Reference{o, span, guarded})
		case !guarded && c.owner.Uses[at].Guarded:
			c.owner.Uses[at] = Reference{o, span, false}
		}
	}
	if o.Module == c.module {
		c.resolve(o)
	}
}

// reportUnused warns of private names, uses and inputs of the project that nothing uses.
func (c *checker) reportUnused() {
	if slices.ContainsFunc(c.module.Tree.Declarations, func(d syntax.Declaration) bool { return d.Declared().Broken }) {
		return // it may be what uses it
	}
	for _, o := range c.module.Order {
		if o.used || o.Invalid || o.Name == "" {
			continue
		}
		switch {
		case o.Kind == ObjectModule || o.Kind == ObjectData:
			c.warn(source.Unused, o.Span, "remove the use", "nothing uses %q", o.Name)
		case o.Kind == ObjectInput && c.module.Main:
			c.warn(source.Unused, o.Span, "remove it, or use it", "nothing uses the input %q", o.Name)
		case o.Private() && o.Kind != ObjectInput:
			c.warn(source.Unused, o.Span, "remove it", "nothing in this file uses the private name %q", o.Name)
		case c.module.Main && (o.Kind == ObjectLet || o.Kind == ObjectFunction || o.Kind == ObjectType):
			c.warn(source.Unused, o.Span, "remove it, or use it; an output is for what others read",
				"nothing uses the %s %q", o.Kind, o.Name)
		}
	}
}
