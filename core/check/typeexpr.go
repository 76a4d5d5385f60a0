package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// typeOf resolves a written type.
func (c *checker) typeOf(t syntax.Type) types.Type {
	switch t := t.(type) {
	case *syntax.NamedType:
		return c.namedType(t)
	case *syntax.LiteralType:
		if literal, ok := c.literalOf(t.Value); ok {
			return literal
		}
		return types.Invalid
	case *syntax.UnionType:
		var members []types.Type
		for _, m := range t.Members {
			members = append(members, c.typeOf(m))
		}
		return c.universe.Union(members...)
	case *syntax.OptionalType:
		return c.universe.Optional(c.guardedType(t.Of))
	case *syntax.ListType:
		return c.universe.List(c.guardedType(t.Element))
	case *syntax.SetType:
		return c.universe.Set(c.guardedType(t.Element))
	case *syntax.SchemaType:
		return c.schemaType(t)
	case *syntax.TupleType:
		var elements []types.Type
		for _, e := range t.Elements {
			elements = append(elements, c.guardedType(e))
		}
		return c.universe.Tuple(elements...)
	case *syntax.RecordType:
		return c.recordType(t)
	case *syntax.FunctionType:
		var parameters []types.Type
		for _, p := range t.Parameters {
			parameters = append(parameters, c.typeOf(p))
		}
		return c.universe.Function(parameters, len(parameters), c.typeOf(t.Result))
	case *syntax.LimitedType:
		base := c.typeOf(t.Of)
		var conditions []*types.Condition
		for _, tree := range t.Conditions {
			conditions = append(conditions, c.condition(tree, base))
		}
		return c.universe.Limit(base, conditions)
	}
	return types.Invalid
}

// schemaType resolves a type that a schema describes.
func (c *checker) schemaType(t *syntax.SchemaType) types.Type {
	span := t.Reference.Place()
	reference, plain := t.Reference.Plain()
	if !plain {
		c.report(source.BadSchema, span, "write it out", "the name of a schema is a plain string, without ${…}")
		return types.Invalid
	}
	if c.program.Schemas == nil {
		c.report(source.BadSchema, span, "", "schemas belong to a project, which is not here")
		return types.Invalid
	}
	if !t.Kind {
		c.module.UsesSchemas = true
		found, why, help := c.program.Schemas.SchemaAt(c.module.Path, reference)
		if found == nil {
			c.report(source.BadSchema, span, help, "%s", why)
			return types.Invalid
		}
		mistakes := found.Mistakes()
		for _, f := range mistakes {
			c.add(f)
		}
		if mistakes.HasErrors() {
			return types.Invalid
		}
		_, part, _ := strings.Cut(reference, "#")
		name := found.Title()
		if at := strings.LastIndexByte(part, '/'); at >= 0 {
			name = part[at+1:]
		} else if name == "" {
			name = strings.TrimSuffix(strings.TrimSuffix(path.Base(reference), path.Ext(reference)), ".schema")
		}
		return c.universe.Described(name, found)
	}
	at := strings.LastIndexByte(reference, '/')
	if at < 0 {
		c.report(source.NoSchema, span, `write the version and the kind: schema kind "apps/v1/Deployment"`,
			"%q does not name a kind", reference)
		return types.Invalid
	}
	c.module.UsesSchemas = true
	kind, unknown := c.program.Schemas.SchemaOfKind(reference[:at], reference[at+1:])
	if kind == nil {
		unknown.Span = span
		c.add(unknown)
		return types.Invalid
	}
	if f, ok := kind.Finding(span); ok {
		c.add(f)
	}
	return c.universe.DescribedKind(kind)
}

// guardedType resolves a type that a type may contain and yet have an end.
func (c *checker) guardedType(t syntax.Type) types.Type {
	c.guards++
	defer func() { c.guards-- }()
	return c.typeOf(t)
}

func (c *checker) namedType(t *syntax.NamedType) types.Type {
	name := t.Name.Name
	if t.Module.Name == "" {
		if builtin, ok := types.ByName[name]; ok {
			return builtin
		}
		o, ok := c.module.Objects[name]
		if ok && o.Kind == ObjectType {
			c.use(o, t.Place())
			if o.state == resolving && c.guards <= o.guards {
				return types.Invalid // it would have no end; that is reported with the whole cycle
			}
			c.owner.Invalid = c.owner.Invalid || o.Invalid // no value can pass into it
			return o.Type
		}
		c.unknownType(t, c.module, ok)
		return types.Invalid
	}
	alias := c.lookup(t.Module.Name, t.Module.Span)
	if alias == nil || alias.Invalid {
		c.owner.Invalid = true
		return types.Invalid
	}
	if alias.Kind != ObjectModule {
		c.report(source.UnknownType, t.Module.Span, "", "%q is %s; types belong to modules", alias.Name,
			source.Article(alias.Kind.String()))
		return types.Invalid
	}
	module := alias.Imported()
	switch name {
	case inputsMember:
		for _, o := range module.Order {
			if o.Kind == ObjectInput && c.program.typeNeedsInputs(o) {
				c.add(source.Finding{
					Code: source.NeedsInstance, Span: t.Name.Span, Help: "give the inputs to an instance one by one",
					Related: see(o),
					Message: fmt.Sprintf("%s.%s has no meaning without an instance: in the type of %q, a default "+
						"depends on the inputs of %s", alias.Name, name, o.Name, module.Path),
				})
				return types.Invalid
			}
		}
		return module.inputs
	case instanceMember:
		return c.instanceType(module)
	}
	o, ok := module.Objects[name]
	if !ok || o.Kind != ObjectType || o.Private() {
		c.unknownType(t, module, ok)
		return types.Invalid
	}
	if o.NeedsInput {
		c.needsInstance(t.Name, alias, o)
		return types.Invalid
	}
	c.note(t.Name.Span, o)
	c.refer(o, t.Place())
	c.owner.Invalid = c.owner.Invalid || o.Invalid
	return o.Type
}

// typeElsewhere are names that other languages have for types, in small letters, and how these are written here.
var typeElsewhere = map[string]string{
	"str": "string", "text": "string", "char": "string", "varchar": "string",
	"integer": "int", "long": "int", "uint": "int", "int32": "int", "int64": "int",
	"number": "int or float", "double": "float", "float64": "float", "real": "float", "decimal": "float",
	"boolean": "bool",
	"list":    "[T]", "array": "[T]", "slice": "[T]", "tuple": "(A, B)", "set": "{T}",
	"map": "{ *: T }", "dict": "{ *: T }", "hash": "{ *: T }", "object": "{ name: T } or { *: T }",
	"void": "null", "none": "null", "nil": "null", "optional": "T?",
}

func (c *checker) unknownType(t *syntax.NamedType, module *Module, exists bool) {
	name := t.Name.Name
	c.owner.Invalid = true
	if module.Tree.Nameless {
		return
	}
	var candidates []string
	for n, o := range module.Objects {
		if o.Kind == ObjectType {
			candidates = append(candidates, n)
		}
	}
	if module == c.module {
		for n := range types.ByName {
			candidates = append(candidates, n)
		}
	}
	otherwise := "declare it: type " + name + " = …"
	if here := typeElsewhere[strings.ToLower(name)]; here != "" {
		otherwise = "this type is written " + here
	}
	help := c.suggestions.Suggest(name, candidates, otherwise)
	if exists {
		help = fmt.Sprintf("%q is %s", name, source.Article(module.Objects[name].Kind.String()))
	}
	c.report(source.UnknownType, t.Name.Span, help, "there is no type %q in %s", name, module.Path)
}

func (c *checker) recordType(t *syntax.RecordType) types.Type {
	var fields []types.Field
	var rest types.Type
	for _, f := range t.Fields {
		field := types.Field{Name: f.Name.Name, Optional: f.Optional, Description: f.Description,
			Deprecated: f.Deprecated, Secret: f.Secret, Span: f.Name.Span}
		if f.Secret {
			c.module.marked = true
		}
		if f.Optional {
			field.Type = c.guardedType(f.Type)
		} else {
			field.Type = c.typeOf(f.Type)
		}
		if f.Secret {
			c.whenKnown(func() { c.checkHidden(f.Type, field.Type, "a secret field") })
		}
		if f.Default != nil {
			c.whenKnown(func() { c.checkFieldDefault(f, field.Type) })
			field.Default = c.program.addDefault(&Default{Module: c.module, Expression: f.Default, Owner: c.owner})
		}
		if slices.ContainsFunc(fields, func(other types.Field) bool { return other.Name == field.Name }) {
			c.report(source.DuplicateKey, f.Name.Span, "leave one out", "the field %q is declared twice", field.Name)
			continue
		}
		fields = append(fields, field)
	}
	if t.Rest != nil {
		rest = c.guardedType(t.Rest)
	}
	return c.universe.Record(fields, rest)
}

// checkFieldDefault checks the default of a field. Wherever the type is written, it is filled in elsewhere: it sees no
// local names.
func (c *checker) checkFieldDefault(f *syntax.TypeField, t types.Type) {
	scope, facts, it := c.scope, c.facts, c.it
	c.scope, c.facts, c.it = nil, nil, nil
	c.check(f.Default, t, fmt.Sprintf("field %q", f.Name.Name))
	c.scope, c.facts, c.it = scope, facts, it
}

// condition checks one limit. It stands among the declarations as an object of its own.
func (c *checker) condition(tree *syntax.Condition, base types.Type) *types.Condition {
	o := &Object{Kind: ObjectCondition, Module: c.module, Span: tree.Span, Global: -1, state: resolved,
		Type: types.Bool}
	condition := &Condition{Module: c.module, Tree: tree, Object: o}
	if c.owner != nil {
		c.owner.Uses = append(c.owner.Uses, Reference{Object: o, Span: tree.Span})
	}
	c.needs = append(c.needs, condition)
	c.whenKnown(func() { c.checkCondition(condition, base) })
	return c.program.condition(condition)
}

func (c *checker) checkCondition(condition *Condition, base types.Type) {
	o, tree := condition.Object, condition.Tree
	owner, scope, facts, it := c.owner, c.scope, c.facts, c.it
	c.owner, c.scope, c.facts = o, nil, nil
	c.it = &Object{Kind: ObjectLocal, Name: "it", Module: c.module, Type: c.universe.WithoutNull(base), Slot: 0,
		Global: -1, state: resolved}
	o.Frame = 1
	c.check(tree.Test, types.Bool, "a condition")
	c.messageOf(tree.Test, tree.Message)
	c.owner, c.scope, c.facts, c.it = owner, scope, facts, it
	if c.owner != nil {
		c.owner.Invalid = c.owner.Invalid || o.Invalid
	}
}
