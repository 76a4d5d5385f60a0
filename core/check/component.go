package check

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// documentsMember is the member of an instance that holds its files, inputsMember and instanceMember the types that
// every module has.
const (
	documentsMember = "documents"
	inputsMember    = "Inputs"
	instanceMember  = "Instance"
)

// instanceType returns the type of the instances of a module.
func (c *checker) instanceType(m *Module) types.Type {
	return c.universe.Instance(m.Number, m.shortName()+"."+instanceMember)
}

// filesType returns the type of documents by path: as an instance holds them, or as they may be given to `include`.
func filesType(u *types.Universe, given bool) types.Type {
	formats := make([]types.Type, len(data.Extensions()))
	for i, f := range data.Extensions() {
		formats[i] = u.Literal(f)
	}
	return u.Map(u.Record([]types.Field{
		{Name: "data", Type: types.Any},
		{Name: "format", Type: u.Union(formats...), Optional: given},
		{Name: "secret", Type: types.Bool, Optional: given},
		{Name: "stream", Type: types.Bool, Optional: given},
	}, nil))
}

// makeInputsType makes the record type of the inputs of a module.
func (c *checker) makeInputsType(m *Module) {
	inputs := c.universe.Named(m.shortName() + "." + inputsMember)
	m.inputs = inputs
	var fields []types.Field
	for _, o := range m.Order {
		d, ok := o.Declaration.(*syntax.Input)
		if !ok || m.Objects[o.Name] != o {
			continue
		}
		field := types.Field{Name: o.Name, Type: o.Type, Description: d.Description, Deprecated: d.Deprecated,
			Span: o.Span}
		switch {
		case d.Default == nil:
		case o.NeedsEnvironment || slices.ContainsFunc(o.Uses, func(r Reference) bool { return r.Object.NeedsInput }):
			field.Optional = true // the instance knows it
		default:
			field.Default = c.program.addDefault(&Default{Module: m, Expression: d.Default, Owner: o})
		}
		fields = append(fields, field)
	}
	inputs.Resolve(c.universe.Record(fields, nil))
}

// typeNeedsInputs reports whether a value of the type of an input cannot be made without an instance: the default of
// one of its fields depends on other inputs.
func (p *Program) typeNeedsInputs(o *Object) bool {
	needs := slices.ContainsFunc(o.Uses, func(r Reference) bool { return r.Object.NeedsInput })
	return needs && p.hasDefault(o.Type, func(owner *Object) bool { return owner == o || owner.NeedsInput })
}

// component returns the module that is called, when an expression names one.
func (c *checker) component(e syntax.Expression) (*Object, bool) {
	name, ok := e.(*syntax.Name)
	if !ok {
		return nil, false
	}
	o, ok := c.module.Objects[name.Name]
	return o, ok && o.Kind == ObjectModule && !c.local(name.Name)
}

// instanceOf returns the type of the instance that a value makes, when it is nothing but the call of a module: it is
// known before the arguments are, which may then refer to the instance or to another that refers to it.
func (c *checker) instanceOf(e syntax.Expression) types.Type {
	call, ok := e.(*syntax.Call)
	if !ok {
		return nil
	}
	alias, ok := c.component(call.Function)
	if !ok || alias.Invalid || alias.Imported() == nil {
		return nil
	}
	return c.instanceType(alias.Imported())
}

// instantiate checks the call of a module, whose arguments are its inputs.
func (c *checker) instantiate(e *syntax.Call, alias *Object) types.Type {
	c.use(alias, e.Function.Place())
	m := alias.Imported()
	if alias.Invalid || m == nil {
		c.owner.Invalid = true
		for _, a := range e.Arguments {
			c.infer(a.Value, nil)
		}
		return types.Invalid
	}
	c.module.Info.Objects[e.ID()] = alias
	if c.owner.Kind != ObjectTest {
		c.module.instantiates[m] = true
	}
	if m.needsEnvironment() {
		c.owner.NeedsEnvironment = true
	}
	if c.owner.Kind == ObjectLet && c.owner.Type != nil {
		c.lazy++ // an argument is evaluated when the input is needed
		defer func() { c.lazy-- }()
	}
	for _, a := range e.Arguments {
		if a.Name.Name == "" && !a.Spread {
			c.report(source.WrongArguments, a.Value.Place(), "write the name of the input before it: name: value",
				"the inputs of %s are given by name", m.Path)
			c.infer(a.Value, nil)
			return types.Invalid
		}
	}
	outer := c.arguments
	c.arguments = e.Named
	c.check(e.Named, m.inputs, "the inputs of "+m.Path)
	c.arguments = outer
	return c.instanceType(m)
}

// instanceField finds the type of `s.x`, where s is an instance.
func (c *checker) instanceField(e *syntax.Field, m *Module) types.Type {
	name := e.Name.Name
	if name == documentsMember {
		return filesType(c.universe, false)
	}
	o, ok := m.Objects[name]
	member := func(o *Object) bool {
		return !o.Private() && (o.Kind == ObjectLet || o.Kind == ObjectOutput || o.Kind == ObjectFunction)
	}
	if !ok || !member(o) {
		c.owner.Invalid = true
		if m.Tree.Nameless {
			return types.Invalid
		}
		candidates := []string{documentsMember}
		for n, other := range m.Objects {
			if member(other) {
				candidates = append(candidates, n)
			}
		}
		slices.Sort(candidates)
		help := c.suggestions.Suggest(name, candidates, "an instance has "+strings.Join(candidates, ", "))
		message := fmt.Sprintf("an instance of %s has no %q", m.Path, name)
		switch {
		case ok && o.Private():
			message, help = fmt.Sprintf("%q is private to %s", name, m.Path),
				"a name that begins with _ is used in its own file only"
		case ok && o.Kind == ObjectInput:
			message, help = fmt.Sprintf("%q is an input of %s, and inputs are not seen from outside", name, m.Path),
				fmt.Sprintf("declare an output there: output … = %s", name)
		}
		c.add(source.Finding{Code: source.UnknownField, Span: e.Name.Span, Message: message, Help: help,
			Related: see(o)})
		return types.Invalid
	}
	c.note(e.Name.Span, o)
	if m == c.module { // environment("…") in a test of the main module
		o.used = true
		c.resolve(o)
	}
	if o.Invalid || o.Type == nil {
		c.owner.Invalid = true
		return types.Invalid
	}
	if o.Kind == ObjectFunction {
		return c.functionType(o)
	}
	return c.narrowed(e, o.Type)
}

// checkInclude checks `include x under "dir/"`.
func (c *checker) checkInclude(d *syntax.Include) {
	if d.Under != nil {
		c.check(d.Under, types.String, "a directory")
	}
	if name, ok := d.Value.(*syntax.Name); ok {
		if alias, ok := c.component(name); ok {
			c.use(alias, name.Place())
			if !alias.Invalid {
				c.report(source.WrongUse, name.Place(), fmt.Sprintf("make an instance: include %s(…)", alias.Name),
					"%q is a module; it has documents when its inputs have values", alias.Name)
			}
			c.owner.Invalid = true
			return
		}
	}
	t := c.infer(d.Value, nil)
	if t == types.Invalid || types.AsInstance(t) != nil {
		return
	}
	if record := types.AsRecord(t); record == nil && t != types.Any {
		c.report(source.WrongType, d.Value.Place(), "make an instance of a module with documents: include m(…)",
			"expected an instance or its documents, found %s", types.Describe(t))
		return
	}
	c.check(d.Value, filesType(c.universe, true), "what is included")
}
