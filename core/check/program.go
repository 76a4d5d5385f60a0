package check

import (
	"fmt"
	"strings"

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
	Builtins     *Builtins // the built-in functions
	// Marked says that values may be secret, or known only after deployment: some declaration says so.
	Marked bool
	// Tracked are the places at which a secret was found on its way to where it must not be. What evaluation finds
	// there is the same mistake.
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

// Module is one module: its tree, and what the checker learned about it.
type Module struct {
	Path    string
	Number  int // its position in the program
	Tree    *syntax.Module
	Main    bool // the module that inputs are given to
	Imports map[*syntax.Use]*Import
	Objects map[string]*Object
	// Order holds all objects as they were declared, documents included.
	Order []*Object
	// First is the number of the first declaration that has a value; Globals is how many there are.
	First, Globals int
	Info           Info

	inputs types.Type // the record type of the inputs, once it is asked for
	// instantiated says that an instance is made somewhere outside of tests.
	instantiated bool
}

// Import is what a `use` leads to.
type Import struct {
	Module *Module // nil for data
	Failed bool    // could not be read; that has been reported
}

// Info holds what the checker learned about the expressions of one module, by their ID.
type Info struct {
	Types []types.Type // the type of the expression as written
	// Objects says what a name, a member of a module or the callee of a call is. For a loop it is its first name,
	// behind which the second has the next place in the frame; for a match the value that is matched.
	Objects []*Object
	// Asked is the type behind `is` and `as`; Slots are the places in the frame of local names and of the parameters of
	// anonymous functions.
	Asked   map[syntax.ID]types.Type
	Slots   map[any]int
	Targets []types.Type // the declared type that the expression passes into, where that does something; else nil
}

// ObjectKind says what a name stands for.
type ObjectKind uint8

// The kinds of objects.
const (
	ObjectModule ObjectKind = iota
	ObjectData
	ObjectType
	ObjectInput
	ObjectLet
	ObjectFunction
	ObjectOutput
	ObjectDocument
	ObjectStatement // a block around documents, a remark or a requirement
	ObjectTest
	ObjectCondition
	ObjectLocal
	ObjectBuiltin
)

var objectKindTexts = [...]string{"module", "data file", "type", "input", "value", "function", "output", "document",
	"statement", "test", "condition", "local name", "built-in function"}

// String returns the kind as it stands in messages.
func (k ObjectKind) String() string { return objectKindTexts[k] }

// Object is something that has a name, or a document or condition, which have none.
type Object struct {
	Kind        ObjectKind
	Name        string
	Module      *Module // nil for built-in functions
	Declaration syntax.Declaration
	Span        source.Span // of the name
	Type        types.Type  // of the value; of the result for functions; what the name means for types
	Parameters  []Parameter // of functions
	Builtin     *Builtin

	// Global numbers the declarations that have a value; -1 for others.
	Global int
	// Slot is the place of a local in its frame; Frame is the size of the frame of a declaration.
	Slot, Frame int
	// Uses are the objects that a declaration refers to, each once, where it first does so.
	Uses []Reference
	// NeedsInput and NeedsEnvironment say on what the value depends, directly or through others.
	NeedsInput, NeedsEnvironment bool
	// Invalid says that a mistake was found inside: it cannot be evaluated.
	Invalid bool

	state  resolution
	used   bool
	guards int // how many guards were open when the type began to be resolved
}

// Reference is a use of an object.
type Reference struct {
	Object *Object
	Span   source.Span
	// Guarded says that a type refers to another through a list, a map, null or an optional field, so that values of a
	// type that contains itself can end.
	Guarded bool
}

// Parameter is one parameter of a function.
type Parameter struct {
	Name    string
	Type    types.Type
	Default *Default // nil when required
	Object  *Object  // the local inside the function; nil for built-in functions
}

// Passage is a written value that passes into a declared type.
type Passage struct {
	Module *Module
	Value  syntax.Expression
	Target types.Type
	Owner  *Object
}

type resolution uint8

const (
	unresolved resolution = iota
	resolving
	resolved
)

// Constant reports whether the object's value is the same in all environments.
func (o *Object) Constant() bool { return !o.NeedsInput && !o.NeedsEnvironment }

// Summary describes the object on one line, for a message that refers to its declaration: by the first line of its
// description, in quotes, or else by its kind and name.
func (o *Object) Summary() string {
	if o.Declaration != nil && o.Kind != ObjectLocal {
		if d := o.Declaration.Declared().Description; d != "" {
			return fmt.Sprintf("%q", strings.SplitN(d, "\n", 2)[0])
		}
	}
	return fmt.Sprintf("%s %q", o.Kind, o.Name)
}

// Private reports whether the object can be used in its file only.
func (o *Object) Private() bool { return len(o.Name) > 0 && o.Name[0] == '_' }
