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

// Program is all modules that belong together: those of a project, in an order in which each comes after those it
// uses.
type Program struct {
	*Store
	Sources *source.Set
	Modules []*Module
	// Environments are the names that env.name can have; empty outside a project.
	Environments []string
	Tags         []string  // of the environments, each once
	Builtins     *Builtins // the built-in functions
	// SecretGiven says, for the help of a message, how a project gives a secret: an input, or a field of one, by its
	// names. It is nil where there is no project.
	SecretGiven func(names []string) string
	// Schemas finds the schemas that types are made of. It is nil where there are none.
	Schemas Schemas
	// Tracked are the places at which a secret was found on its way to where it must not be. What evaluation finds
	// there is the same error.
	Tracked map[source.Pos]bool
	// Cancelled is asked before each module whether to end; nil for never. What was checked by then is not whole.
	Cancelled func() bool
}

// Store is what programs share whose modules can be parts of several of them: their types, and what the numbers in
// types stand for. Only one program at a time may be checked with it.
type Store struct {
	Universe *types.Universe
	// Conditions and Defaults resolve the numbers used in types.
	Conditions []*Condition
	Defaults   []*Default
	// modules are those that were checked, by their numbers.
	modules []*Module

	defaults map[written]*types.Default // which may be read more than once
	builtins map[*Builtin]*Object
}

// written is an expression of a module. A tree may be that of several modules, which use different ones.
type written struct {
	module     *Module
	expression syntax.Expression
}

// Module returns the module with a number.
func (s *Store) Module(number int) *Module { return s.modules[number] }

// NewStore returns an empty store.
func NewStore() *Store {
	return &Store{Universe: types.NewUniverse(), defaults: map[written]*types.Default{},
		builtins: map[*Builtin]*Object{}}
}

// Marked reports whether values may be secret, or known only after deployment: some declaration says so.
func (p *Program) Marked() bool {
	return slices.ContainsFunc(p.Modules, func(m *Module) bool { return m.marked })
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

// Condition returns what is behind a condition of a type.
func (s *Store) Condition(c *types.Condition) *Condition { return s.Conditions[c.Number] }

// Default returns what is behind the default of a field.
func (s *Store) Default(d *types.Default) *Default { return s.Defaults[d.Number] }

// condition enters what is behind a condition of a type.
func (p *Program) condition(c *Condition) *types.Condition {
	p.Conditions = append(p.Conditions, c)
	return &types.Condition{Number: len(p.Conditions) - 1, Span: c.Tree.Span,
		Text: c.Module.Tree.File.Slice(c.Tree.Test.Place())}
}

// addDefault enters what is behind the default of a field.
func (p *Program) addDefault(d *Default) *types.Default {
	at := written{d.Module, d.Expression}
	if known, ok := p.defaults[at]; ok {
		return known
	}
	entered := &types.Default{Number: len(p.Defaults)}
	p.Defaults, p.defaults[at] = append(p.Defaults, d), entered
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

// Module is one module: its tree, and what the checker learned about it. It does not change once it is checked, and may
// be a part of several programs.
type Module struct {
	Path     string
	Number   int // unlike those of all other modules of the store
	Tree     *syntax.Module
	Main     bool // a module that environments give its inputs to
	Enforced bool // its rules are
	Imports  map[*syntax.Use]*Import
	Objects  map[string]*Object
	// Order holds all objects as they were declared, documents included.
	Order   []*Object
	Globals int // how many declarations there are that have a value
	Info    Info
	// Findings are what was found in it, except what is known only when all modules are checked.
	Findings source.Findings
	// Literals are where a value that is written out meets a type that changes or limits it. They can be tried before
	// anything else is evaluated.
	Literals []Passage
	// UsesSchemas says that types of it are made of schemas.
	UsesSchemas bool
	// Tried says that the literals were tried; what did not fit is among the findings.
	Tried bool

	// Environments and Tags are those of the environments that are rendered from it, when it is a main module.
	Environments, Tags []string

	inputs types.Type // the record type of the inputs
	// instantiates are the modules of which it makes an instance outside of tests.
	instantiates map[*Module]bool
	marked       bool // it declares something that is secret, or known only after deployment
	checked      bool
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
