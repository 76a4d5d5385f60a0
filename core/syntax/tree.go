// Package syntax turns the text of a module into a tree: scanner, parser and the tree itself. It exists so that
// everything that speaks about sources (checker, evaluation, formatter, editor) speaks about the same tree. The
// tree has no behaviour.
package syntax

import (
	"path"

	"knothole/core/source"
)

// ID numbers the expressions of one module densely from 0, so that later stages keep what they learn about an
// expression in slices.
type ID uint32

// Module is one parsed file. It is never nil, whatever the text: what could not be read is missing from Declarations
// or marked as broken, and reported in Findings.
type Module struct {
	File         *source.File
	Declarations []Declaration
	Expressions  int // IDs run from 0 up to this
	Findings     source.Findings
	// Nameless says that a declaration was so broken that not even its name is known: a name that is not found may
	// then be that one.
	Nameless bool
}

// Identifier is a name at its place.
type Identifier struct {
	Name string
	Span source.Span
}

// Declaration is one declaration of a module.
type Declaration interface {
	Node
	Declared() *Header
}

// Header is what all declarations have.
type Header struct {
	Span        source.Span // from the first word to the end
	Name        Identifier  // empty for documents
	Description string      // the text of the ## lines before it
	Broken      bool        // could not be read to its end; nothing but the name is known
}

// Declared returns the header itself, so that every declaration that embeds it is one.
func (h *Header) Declared() *Header { return h }

type (
	// Use is `use "path" as name: T`. With a Form it is `use stream …`, `use text …` or `use bytes …`.
	Use struct {
		Header
		Form     string
		Path     string
		PathSpan source.Span
		Type     Type // nil when none is written
	}
	// TypeDeclaration is `type Name = T`.
	TypeDeclaration struct {
		Header
		Type Type
	}
	// Input is `input name: T = default where …`; the conditions are part of Type.
	Input struct {
		Header
		Secret bool // hidden everywhere
		// Placeholder stands for a value that is known only after deployment, as `later input … as "…"` says; nil for
		// others.
		Placeholder *String
		Type        Type
		Default     Expression // nil when required
		Example     Expression // nil when there is none
		Deprecated  string     // what to do instead; empty when it is not deprecated
	}
	// Let is `let name: T = value`.
	Let struct {
		Header
		Type  Type // nil when left out
		Value Expression
	}
	// Function is `fn name(parameters) -> T = body`.
	Function struct {
		Header
		Parameters []*Parameter
		Result     Type // nil when left out
		Body       Expression
	}
	// Document is `document PATH: T = value`, `document PATH as FORMAT: T = value`, or `stream PATH: [T] = value`,
	// with `secret` before it when it may carry secrets.
	Document struct {
		Header
		Secret bool
		Stream bool
		Path   Expression
		Format Identifier // empty when the ending of the path says it
		Type   Type       // nil when left out
		Value  Expression
	}
	// Remark is `remark text`.
	Remark struct {
		Header
		Value Expression
	}
	// Require is `require condition else "message"`, or in a rule `advise condition else "message"`.
	Require struct {
		Header
		Advice    bool // `advise`: a warning
		Condition Expression
		Message   Expression // nil when it is made from the condition
	}
	// Include is `include x under "dir/"`.
	Include struct {
		Header
		Value Expression
		Under Expression // nil when left out
	}
	// Test is `test "title" in "environment" { … }`.
	Test struct {
		Header
		Title        string
		Environments []*String // in which it runs; none when it runs without inputs, or in every one
		Every        bool      // it runs in every environment
		Tag          *String   // of which the environments have this tag; nil for all
		Body         []Declaration
	}
	// Expect is `expect condition else "message"`, `expect error "text" from value`, `expect violation "text" from
	// rule(document)` or `expect no violation from rule(document)`; it is in tests.
	Expect struct {
		Header
		Condition Expression // nil when an error or a violation is expected, or none
		Message   Expression // nil when it is made from the condition
		Mistake   Expression // the text that the error or violation must contain; nil when none is expected
		From      Expression // what must fail, or the call of a rule
		Violation bool       // From is the call of a rule
	}
	// Rule is `rule name on document, path at "…" where … { … }`, or `rule name on all documents { … }`.
	Rule struct {
		Header
		All      bool       // it sees all documents together, under the name that is in Document
		Document Identifier // the name of what it looks at
		Path     Identifier // the name of the path of the document; empty when it has none
		At       Expression // a pattern of paths; nil when left out
		Where    Expression // nil when left out
		Body     []Declaration
	}
	// IfBlock is `if c { … } else { … }` around declarations.
	IfBlock struct {
		Header
		Condition  Expression
		Then, Else []Declaration
	}
	// ForBlock is `for x in xs where c { … }` around declarations. Its names and filter are those of Loop, which has
	// no body.
	ForBlock struct {
		Header
		Loop *For
		Body []Declaration
	}
	// Output is `output name: T = value`, or `secret output …`.
	Output struct {
		Header
		Secret bool
		Type   Type // nil when left out
		Value  Expression
	}
)

// IsModule reports whether it names a module: a source, or what is no path of a file of the project.
func (d *Use) IsModule() bool {
	ending := path.Ext(d.Path)
	return d.Form == "" && (ending == ".knot" || ending == "")
}

// Binding is one name of a LetIn.
type Binding struct {
	Name  Identifier
	Type  Type // nil when left out
	Value Expression
}

// Change is one entry of a With: the fields that lead to the place, and what goes there; or a record that is laid
// over all.
type Change struct {
	Span     source.Span
	Path     []*Key // nil for a spread
	Value    Expression
	Optional bool // marked `?`: left out when null
	Spread   bool // `...value`
}

// Parameter is one parameter of a function.
type Parameter struct {
	Name    Identifier
	Type    Type       // nil when left out, as anonymous functions may
	Default Expression // nil when required
}

// Expression is a node that has a value.
type Expression interface {
	Node
	ID() ID
	expression()
}

type node struct {
	span source.Span
	id   ID
}

func (n *node) Place() source.Span { return n.span }
func (n *node) ID() ID             { return n.id }

type (
	// Bad stands for an expression that is missing or could not be read, which was reported. Its declaration is broken.
	Bad struct{ node }
	// Null is `null`.
	Null struct{ node }
	// Bool is `true` or `false`.
	Bool struct {
		node
		Value bool
	}
	// Int is a whole number.
	Int struct {
		node
		Value int64
	}
	// Float is a number with a point or an exponent.
	Float struct {
		node
		Value float64
	}
	// String is a text, in parts: texts and interpolated expressions by turns.
	String struct {
		node
		Parts []StringPart
		// Lines are the places of its lines, in a string of several lines; nil for others. Each line end in the text
		// of a part begins the next, and so does a part that is whole lines.
		Lines []source.Pos
	}
	// Name is the use of a name.
	Name struct {
		node
		Name string
	}
	// It is `it`.
	It struct{ node }
	// Env is `env`; only its fields have values.
	Env struct{ node }
	// Paren is an expression in parentheses.
	Paren struct {
		node
		Inner Expression
	}
	// List is `[…]`.
	List struct {
		node
		Elements []*Entry
	}
	// Record is `{…}`.
	Record struct {
		node
		Entries []*Entry
	}
	// Unary is `-x` or `not x`.
	Unary struct {
		node
		Operator Operator
		Operand  Expression
	}
	// Binary is `x op y`.
	Binary struct {
		node
		Operator     Operator
		OperatorSpan source.Span
		Left, Right  Expression
	}
	// If is `if c then a else b`; Else is nil when left out, which is so only behind `...` and in a text on a line of
	// its own.
	If struct {
		node
		Condition, Then, Else Expression
	}
	// Match is `match e { … }`.
	Match struct {
		node
		Subject Expression
		Arms    []*Arm
	}
	// LetIn is `let a = x, b = y then e`.
	LetIn struct {
		node
		Bindings []*Binding
		Body     Expression
	}
	// Is is `x is T`, As is `x as T`.
	Is struct {
		node
		Operand Expression
		Type    Type
	}
	// As is a checked conversion.
	As struct {
		node
		Operand Expression
		Type    Type
	}
	// With is `r with { … }`, or `r with s`.
	With struct {
		node
		Of      Expression
		Changes []*Change
		Over    Expression // what is laid over Of, when it is not written in braces; nil otherwise
	}
	// Lambda is an anonymous function, `fn(x) = e`.
	Lambda struct {
		node
		Parameters []*Parameter
		Result     Type // nil when left out
		Body       Expression
	}
	// For is `for x, i in xs where c -> e`. With Key it makes a record, else a list.
	For struct {
		node
		First, Second Identifier // Second is empty when one name is written
		In            Expression
		Where         Expression // nil when left out
		Body          *Entry
	}
	// Call is `f(x, name: y, ...r)`.
	Call struct {
		node
		Function  Expression
		Arguments []*Argument
		// Named is the record of the arguments that have a name and of those that are spread: it is there when there
		// are no others, or when one is spread.
		Named *Record
	}
	// Field is `x.name` or `x?.name`.
	Field struct {
		node
		Of       Expression
		Name     Identifier
		Optional bool
	}
	// Index is `x[i]` or `x?[i]`.
	Index struct {
		node
		Of, Index Expression
		Optional  bool
	}
	// Places is `d[.a.**.b]`: the list of all values at the places that a path leads to, of which there is one at
	// least; with `?[` there may be none.
	Places struct {
		node
		Of   Expression
		Path *Operation // a replacement without a value
	}
)

// StringPart is a literal text or an interpolated expression (then Text is empty). Indent is the white space before
// the line in which the expression stands: further lines of its text begin with it.
type StringPart struct {
	Text   string
	Value  Expression
	Indent string
	// Line says that nothing else is on the line: the part is whole lines, as many as its value has, each with
	// Indent before it and a line end after it; none for null.
	Line bool
}

// Key is the key of an entry: a fixed name, or text with interpolations.
type Key struct {
	Name  string
	Value *String // not nil when the key is computed
	Span  source.Span
}

// Entry is one entry of a record, one element of a list, or the body of a `for`.
type Entry struct {
	Span     source.Span
	Key      *Key // nil in lists and for spreads
	Value    Expression
	Optional bool // marked `?`: left out when null
	Spread   bool // `...value`
}

// Argument is one argument of a call.
type Argument struct {
	Name   Identifier // empty when by position, or spread
	Value  Expression
	Spread bool // `...value`: one argument for each entry of a record
}

// Arm is one branch of a match.
type Arm struct {
	Span     source.Span
	Patterns []Expression // literals, and Is without an operand for `is T`; empty for `else`
	Else     bool
	Value    Expression
}

// Operator is the sign of a unary or binary expression.
type Operator uint8

// The operators.
const (
	Or Operator = iota
	And
	Not
	Equal
	NotEqual
	Less
	LessEqual
	Greater
	GreaterEqual
	In
	NotIn
	Matches
	NotMatches
	Default
	Range
	Add
	Subtract
	Multiply
	Divide
	Remainder
	Negate
	isOperator // becomes an Is
)

var operatorTexts = [...]string{"or", "and", "not", "==", "!=", "<", "<=", ">", ">=", "in", "not in", "matches",
	"not matches", "??", "..", "+", "-", "*", "/", "%", "-", "is"}

// String returns the operator as it is written.
func (o Operator) String() string { return operatorTexts[o] }

// Type is a node that describes a type.
type Type interface {
	Node
	describesType()
}

type (
	// NamedType is `Name`, `module.Name` or one of the built-in names.
	NamedType struct {
		node
		Module Identifier // empty when the name is of this module
		Name   Identifier
	}
	// LiteralType is a literal as a type.
	LiteralType struct {
		node
		Value Expression // Bool, Int, Float or String without interpolation
	}
	// UnionType is `A | B`.
	UnionType struct {
		node
		Members []Type
	}
	// OptionalType is `T?`.
	OptionalType struct {
		node
		Of Type
	}
	// ListType is `[T]`.
	ListType struct {
		node
		Element Type
	}
	// SetType is `{T}`.
	SetType struct {
		node
		Element Type
	}
	// SchemaType is `schema "PATH"`, what a schema describes, or `schema kind "VERSION/KIND"`, an object of a kind.
	SchemaType struct {
		node
		Kind      bool
		Reference *String
	}
	// TupleType is `[A, B]`: a list of exactly these.
	TupleType struct {
		node
		Elements []Type
	}
	// RecordType is `{ name: T, *: U }`.
	RecordType struct {
		node
		Fields []*TypeField
		Rest   Type // nil when closed
	}
	// FunctionType is `fn(A, B) -> C`.
	FunctionType struct {
		node
		Parameters []Type
		Result     Type
	}
	// LimitedType is `T where … else …`, with one or more conditions.
	LimitedType struct {
		node
		Of         Type
		Conditions []*Condition
	}
)

// TypeField is one field of a record type.
type TypeField struct {
	Name        Identifier
	Secret      bool
	Description string
	Optional    bool
	Type        Type
	Default     Expression // nil when there is none
	Deprecated  string     // what to do instead; empty when it is not deprecated
}

// Condition is one `where` of a type.
type Condition struct {
	Span    source.Span
	Test    Expression
	Message Expression // nil when it is made from Test
}

// Bare returns an expression without the parentheses around it.
func Bare(e Expression) Expression {
	for {
		p, ok := e.(*Paren)
		if !ok {
			return e
		}
		e = p.Inner
	}
}
