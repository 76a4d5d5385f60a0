package types

import (
	"fmt"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
)

// functionType returns the type of a declared function as a value.
func (c *checker) functionType(o *Object) *Type {
	if o.Type == nil || o.Type.Kind == Invalid {
		return InvalidType
	}
	return o.Signature(c.universe)
}

// Signature returns the type of a declared function as a value.
func (o *Object) Signature(u *Universe) *Type {
	var parameters []*Type
	required := 0
	for _, p := range o.Parameters {
		parameters = append(parameters, p.Type)
		if p.Default == nil {
			required++
		}
	}
	return u.Function(parameters, required, o.Type)
}

// letIn checks `let a = x then e`; body checks what stands behind then, where the names are known.
func (c *checker) letIn(e *syntax.LetIn, body func() *Type) *Type {
	outer, facts := c.scope, c.facts
	for _, b := range e.Bindings {
		t := c.typedValue(b.Type, b.Value, fmt.Sprintf("%q", b.Name.Name))
		c.module.Info.Slots[b] = c.bind(b.Name, t).Slot
	}
	t := body()
	c.facts = facts
	c.unbind(outer)
	c.module.Info.Types[e.ID()] = t
	return t
}

// inferLambda finds the type of an anonymous function. Parameters without a type take it from what is expected.
func (c *checker) inferLambda(e *syntax.Lambda, want *Type) *Type {
	var expected *Type
	if want != nil {
		expected = onlyPart(want, Function)
	}
	outer, facts, it := c.scope, c.facts, c.it
	c.facts = nil // what is known now need not be so when it is called
	var parameters []*Type
	required := 0
	for i, p := range e.Parameters {
		t := InvalidType
		switch {
		case p.Type != nil:
			t = c.typeOf(p.Type)
		case expected != nil && i < len(expected.Parameters):
			t = expected.Parameters[i]
		default:
			c.report(source.UnknownType, p.Name.Span, fmt.Sprintf("write it: %s: T", p.Name.Name), "nothing here tells the type of %q", p.Name.Name)
		}
		if p.Default != nil {
			c.check(p.Default, t, fmt.Sprintf("parameter %q", p.Name.Name))
		} else {
			required++
		}
		parameters = append(parameters, t)
		o := c.bind(p.Name, t)
		o.used = o.used || expected != nil // what calls it decides how many there are
		c.module.Info.Slots[p] = o.Slot
	}
	var result *Type
	switch {
	case e.Result != nil:
		result = c.typeOf(e.Result)
		c.check(e.Body, result, "the result of the function")
	case expected != nil && !hasVariables(expected.Result):
		result = expected.Result
		if result.Kind == Any {
			result = c.infer(e.Body, nil)
		} else {
			c.check(e.Body, result, "the result of the function")
		}
	default:
		result = c.infer(e.Body, nil)
	}
	c.facts, c.it = facts, it
	c.unbind(outer)
	return c.universe.Function(parameters, required, result)
}

// callValue checks the call of a function that is a value, such as a parameter.
func (c *checker) callValue(e *syntax.Call, t *Type) *Type {
	core := t.Core()
	if core.Kind != Function {
		if core.Kind != Invalid {
			c.report(source.WrongUse, e.Function.Place(), "", "only functions can be called, not %s", describeType(t))
		}
		for _, a := range e.Arguments {
			c.infer(a.Value, nil)
		}
		return InvalidType
	}
	for i, a := range e.Arguments {
		switch {
		case a.Spread:
			c.report(source.WrongArguments, a.Value.Place(), "write the arguments out", "the parameters of a function that is a value have no names, so that no record can be spread into them")
			c.infer(a.Value, nil)
		case a.Name.Name != "":
			c.report(source.WrongArguments, a.Name.Span, "leave the name out", "the parameters of a function that is a value have no names")
			c.infer(a.Value, nil)
		case i >= len(core.Parameters):
			c.report(source.WrongArguments, a.Value.Place(), "leave it out", "%s takes %s, this is one too many", core, count(len(core.Parameters), "argument"))
			c.infer(a.Value, nil)
		default:
			c.check(a.Value, core.Parameters[i], "an argument")
		}
	}
	if len(e.Arguments) < core.Required {
		c.report(source.WrongArguments, e.Function.Place(), "add the arguments", "%s needs %s, not %d", core, count(core.Required, "argument"), len(e.Arguments))
	}
	return core.Result
}

func (c *checker) inferIs(e *syntax.Is) *Type {
	t := c.infer(e.Operand, nil)
	asked := c.typeOf(e.Type)
	c.module.Info.Asked[e.ID()] = asked
	if t.Kind != Invalid && asked.Kind != Invalid && !Overlap(t, asked) {
		c.report(source.NeverEqual, e.Type.Place(), "", "%s is never %s", describeType(t), Article(asked))
	}
	return BoolType
}

func (c *checker) inferAs(e *syntax.As) *Type {
	t := c.infer(e.Operand, nil)
	asked := c.typeOf(e.Type)
	c.module.Info.Asked[e.ID()] = asked
	if t.Kind == Invalid {
		return asked
	}
	if !IsData(asked) {
		c.report(source.WrongType, e.Type.Place(), "", "only data can be converted, not into %s", asked)
		return InvalidType
	}
	if !Overlap(t, asked) && !Assignable(t, asked) {
		c.report(source.WrongType, e.Operand.Place(), "", "%s is never %s", describeType(t), Article(asked))
	}
	return asked
}

// inferWith finds the type of a record with changes: the fields that are changed, and new ones.
func (c *checker) inferWith(e *syntax.With) *Type {
	t := c.infer(e.Of, nil)
	for _, change := range e.Changes {
		var names []string
		for _, key := range change.Path {
			c.checkKey(key)
			if key.Value != nil {
				names = nil
				break
			}
			names = append(names, key.Name)
		}
		v := c.infer(change.Value, nil)
		if t.Kind == Invalid || v.Kind == Invalid {
			t = InvalidType
			continue
		}
		t = c.changed(t, names, change, v, 0)
	}
	return t
}

// changed returns the type of a record of which the place that names lead to was changed.
func (c *checker) changed(t *Type, names []string, change *syntax.Change, v *Type, depth int) *Type {
	core := t.Core()
	if core.Kind == Any {
		return AnyType
	}
	if core.Kind != Record {
		help := ""
		if t.MayBeNull() {
			help = "it may be null: compare it with null first"
		}
		c.report(source.WrongType, change.Path[depth].Span, help, "with changes records, not %s", describeType(t))
		return InvalidType
	}
	if names == nil { // a computed key
		rest := v
		if core.Rest != nil {
			rest = c.universe.Union(core.Rest, v)
		}
		return c.universe.Record(withoutDefaults(core.Fields), rest)
	}
	name := names[depth]
	field, declared := core.Field(name)
	var next *Type
	if depth == len(names)-1 {
		next = v
		if declared {
			next = c.mergedType(field.Type, v)
		} else if core.Rest != nil {
			next = c.universe.Union(v, core.Rest)
		}
	} else {
		inner := core.Rest
		if declared {
			inner = field.Type
		}
		if inner == nil {
			c.report(source.UnknownField, change.Path[depth].Span, fieldHelp(name, core), "%s has no field %q, and the way to %s must exist", Article(t), name, strings.Join(names, "."))
			return InvalidType
		}
		next = c.changed(inner, names, change, v, depth+1)
		if next.Kind == Invalid {
			return InvalidType
		}
	}
	fields := withoutDefaults(core.Fields)
	for i := range fields {
		if fields[i].Name == name {
			fields[i].Type, fields[i].Optional = next, false
			return c.universe.Record(fields, core.Rest)
		}
	}
	return c.universe.Record(append(fields, Field{Name: name, Type: next, Span: change.Path[depth].Span}), core.Rest)
}

// withoutDefaults returns the fields as those of a value, in which defaults are filled in.
func withoutDefaults(fields []Field) []Field {
	result := make([]Field, len(fields))
	for i, f := range fields {
		f.Default, f.Deprecated = nil, ""
		result[i] = f
	}
	return result
}

// mergedType returns the type of a value that is laid over another: records merge, anything else replaces.
func (c *checker) mergedType(under, over *Type) *Type {
	a, b := under.Core(), over.Core()
	if a.Kind == Any || b.Kind == Any {
		return AnyType
	}
	if a.Kind != Record || b.Kind != Record {
		return over
	}
	fields := withoutDefaults(a.Fields)
	for _, f := range b.Fields {
		at := -1
		for i := range fields {
			if fields[i].Name == f.Name {
				at = i
			}
		}
		switch {
		case at < 0:
			f.Default = nil
			if a.Rest != nil {
				f.Type = c.universe.Union(f.Type, a.Rest)
			}
			fields = append(fields, f)
		case f.Optional:
			fields[at].Type = c.universe.Union(fields[at].Type, c.mergedType(fields[at].Type, f.Type))
		default:
			fields[at].Type, fields[at].Optional = c.mergedType(fields[at].Type, f.Type), false
		}
	}
	return c.universe.Record(fields, c.eitherRest(a, b))
}
