package check

import (
	"path"
	"slices"
	"strings"

	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// Program is all modules that belong together: those of a project, in an order in which each stands behind those it
// uses.
type Program struct {
	Sources  *source.Set
	Universe *types.Universe
	Modules  []*Module
	// Environments are the names that env.name can have; empty outside a project.
	Environments []string
	Tags         []string  // of the environments, each once
	Builtins     *Builtins // the built-in functions
	// SecretGiven says, for the help of a message, how a project gives a secret: an input, or a field of one, by its
	// names. It is nil where there is no project.
	SecretGiven func(names []string) string
	// Schemas finds the schemas that types are made of. It is nil where there are none.
	Schemas Schemas
	// Marked says that values may be secret, or known only after deployment: some declaration says so.
	Marked bool
	// Tracked are the places at which a secret was found on its way to where it must not be. What evaluation finds
	// there is the same error.
	Tracked map[source.Pos]bool
	// Globals is how many declarations there are that have a value: they are numbered from 0.
	Globals int
	// Literals are the places at which a value that is written out meets a type that changes or limits it. They can
	// be tried before anything else is evaluated.
	Literals []Passage
	// Conditions and Defaults are what stands behind those of the types, by their numbers.
	Conditions []*Condition
	Defaults   []*Default

	defaults map[syntax.Expression]*types.Default // by what is written, which may be read more than once
}

// Schemas finds schemas.
type Schemas interface {
	// SchemaAt returns the schema that a module names by a path; nil when there is none, and why.
	SchemaAt(module, reference string) (found *schema.Schema, why, help string)
	// SchemaOfKind returns a kind of the catalogue; when it is not known, the finding says so.
	SchemaOfKind(apiVersion, name string) (kind *schema.Kind, unknown source.Finding)
}

// Condition is one limit of a type. Its test sees the value as `it`, which is the first place of its frame.
type Condition struct {
	Module *Module
	Tree   *syntax.Condition
	Object *Object // stands for the condition among the declarations: what it uses, how large its frame is
}

// Default is the default of a field or parameter: an expression of a module.
type Default struct {
	Module     *Module
	Expression syntax.Expression
	Owner      *Object // the declaration it is evaluated as part of
}

// Condition returns what stands behind a condition of a type.
func (p *Program) Condition(c *types.Condition) *Condition { return p.Conditions[c.Number] }

// Default returns what stands behind the default of a field.
func (p *Program) Default(d *types.Default) *Default { return p.Defaults[d.Number] }

// condition enters what stands behind a condition of a type.
func (p *Program) condition(c *Condition) *types.Condition {
	p.Conditions = append(p.Conditions, c)
	return &types.Condition{Number: len(p.Conditions) - 1, Span: c.Tree.Span,
		Text: c.Module.Tree.File.Slice(c.Tree.Test.Place())}
}

// addDefault enters what stands behind the default of a field.
func (p *Program) addDefault(d *Default) *types.Default {
	if known, ok := p.defaults[d.Expression]; ok {
		return known
	}
	if p.defaults == nil {
		p.defaults = map[syntax.Expression]*types.Default{}
	}
	entered := &types.Default{Number: len(p.Defaults)}
	p.Defaults, p.defaults[d.Expression] = append(p.Defaults, d), entered
	return entered
}

// DefaultsVary reports whether the default of a field somewhere in a type depends on inputs or the environment.
func (p *Program) DefaultsVary(t types.Type) bool {
	return p.hasDefault(t, func(owner *Object) bool { return !owner.Constant() })
}

// hasDefault reports whether a type has a field somewhere whose default belongs to a declaration of a kind.
func (p *Program) hasDefault(t types.Type, wanted func(owner *Object) bool) bool {
	found := false
	types.Inspect(t, func(x types.Type) bool {
		if record, ok := x.(*types.Record); ok {
			for _, f := range record.Fields {
				if f.Default != nil {
					owner := p.Default(f.Default).Owner
					found = found || owner != nil && wanted(owner)
				}
			}
		}
		return !found
	})
	return found
}

// Module is one module: its tree, and what the checker learned about it.
type Module struct {
	Path    string
	Number  int // its position in the program
	Tree    *syntax.Module
	Main    bool // a module that environments give its inputs to
	Held    bool // its rules are in force
	Imports map[*syntax.Use]*Import
	Objects map[string]*Object
	// Order holds all objects as they were declared, documents included.
	Order []*Object
	// First is the number of the first declaration that has a value; Globals is how many there are.
	First, Globals int
	Info           Info
	Findings       source.Findings // what was found in it, but for what is known only when all modules are checked

	// Environments and Tags are those of the environments that are rendered from it, when it is a main module.
	Environments, Tags []string

	inputs types.Type // the record type of the inputs, once it is asked for
	// instantiated says that an instance is made somewhere outside of tests.
	instantiated bool
}

// Import is what a `use` leads to.
type Import struct {
	Module *Module // nil for data
	Failed bool    // could not be read; that has been reported
}

// shortName is the name of a module in messages: that of its file.
func (m *Module) shortName() string { return strings.TrimSuffix(path.Base(m.Path), ".knot") }

// Inputs returns the record type of the inputs of a module that is called somewhere.
func (m *Module) Inputs() types.Type { return m.inputs }

// needsEnvironment reports whether anything in a module depends on the environment.
func (m *Module) needsEnvironment() bool {
	return slices.ContainsFunc(m.Order, func(o *Object) bool { return o.NeedsEnvironment })
}
