package check

import (
	"fmt"
	"strings"

	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
)

// Info holds what the checker learned about the expressions of one module, by their ID.
type Info struct {
	Types []types.Type // the type of the expression as written
	// Objects says what a name, a member of a module or the callee of a call is.
	Objects []*Object
	Targets []types.Type             // what the expression passes into, where that does something; else nil
	Asked   map[syntax.ID]types.Type // the type behind `is` and `as`
	// Lenient are the fields and indexes, in conditions of patches, in which what is not there gives null although no
	// question mark is written.
	Lenient map[syntax.ID]bool
	// Locals are the local values, by where they are declared: at their names; for an `it`, at the match, operation or
	// step that brings it with it.
	Locals map[source.Pos]*Object
	// Uses are all uses of names, by where they are: of declarations, types, local values, functions that are called,
	// arguments that are named, and fields. They are in the order of the source when the module has been checked.
	Uses []Use
	// Scopes say where local values can be used.
	Scopes []Scope
}

// Use is one use of a name.
type Use struct {
	Span     source.Span
	Object   *Object     // nil for a field
	Declared source.Span // the name where it is declared; none for built-in functions
}

// Scope is where a local value can be used.
type Scope struct {
	Object *Object
	Span   source.Span
}

// Slot returns the place in the frame of the local value that is declared at a place.
func (i *Info) Slot(at source.Pos) int {
	if o := i.Locals[at]; o != nil {
		return o.Slot
	}
	return 0 // its declaration is broken, and is not evaluated
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
	ObjectRule
	ObjectCondition
	ObjectLocal
	ObjectBuiltin
)

var objectKindTexts = [...]string{"module", "data file", "type", "input", "value", "function", "output", "document",
	"statement", "test", "rule", "condition", "local name", "built-in function"}

// String returns the kind as it is in messages.
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

	// Global numbers the declarations of the module that have a value; -1 for others.
	Global int
	// Slot is the place of a local in its frame; Frame is the size of the frame of a declaration.
	Slot, Frame int
	// Uses are the objects that a declaration refers to, each once, where it first does so.
	Uses []Reference
	// NeedsInput and NeedsEnvironment say on what the value depends, directly or through others.
	NeedsInput, NeedsEnvironment bool
	// Invalid says that an error was found inside: it cannot be evaluated.
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
	// Made says that the object, a rule, is used in an instance that is made for it, whose inputs have values.
	Made bool
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
	if d := o.Description(); d != "" {
		return fmt.Sprintf("%q", d)
	}
	return fmt.Sprintf("%s %q", o.Kind, o.Name)
}

// Description returns the first line of the description of a declaration; empty when it has none.
func (o *Object) Description() string {
	if o.Declaration == nil || o.Kind == ObjectLocal {
		return ""
	}
	line, _, _ := strings.Cut(o.Declaration.Declared().Description, "\n")
	return line
}

// Private reports whether the object can be used in its file only.
func (o *Object) Private() bool { return len(o.Name) > 0 && o.Name[0] == '_' }

// Imported returns the module that a name of a module stands for; nil when it could not be read.
func (o *Object) Imported() *Module {
	d, ok := o.Declaration.(*syntax.Use)
	if !ok || o.Module.Imports[d] == nil {
		return nil
	}
	return o.Module.Imports[d].Module
}

// Signature returns the type of a declared function as a value.
func (o *Object) Signature(u *types.Universe) types.Type {
	var parameters []types.Type
	required := 0
	for _, p := range o.Parameters {
		parameters = append(parameters, p.Type)
		if p.Default == nil {
			required++
		}
	}
	return u.Function(parameters, required, o.Type)
}
