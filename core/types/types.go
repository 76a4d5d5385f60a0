// Package types knows the types of the language and checks modules against them before anything is evaluated. It
// exists so that a mistake is reported where it was written, for all environments at once.
package types

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// Kind says what a type is made of.
type Kind uint8

// The kinds. Invalid is the type of what has already been reported: it fits everywhere and is reported nowhere
// again. Never is the type of what cannot be, such as an element of an empty list.
const (
	Invalid Kind = iota
	Never
	Any
	Null
	Bool
	Int
	Float
	String
	Literal
	Union
	List
	Record
	Function
	Tuple
	Set
	Instance
	Limited
	Named
	Variable
)

// Type is a type. Types of one Universe are the same exactly when their pointers are.
type Type struct {
	Kind       Kind
	Literal    any     // Literal: bool, int64, float64 or string
	Members    []*Type // Union: at least two, none of them a union
	Element    *Type   // List
	Fields     []Field // Record, in the order of declaration
	Parameters []*Type // Tuple: the elements; Function: those that are required and those that have a default
	Required   int     // Function: how many parameters are required
	Result     *Type   // Function
	Rest       *Type   // Record: the type of all other fields, nil when there are none
	Loose      bool    // Record: its values fit, but have not passed into it: their fields stand in any order
	Base       *Type   // Limited, Named: what it is a limit or a name of; nil while a name is being resolved
	// Conditions are the limits of a Limited type.
	Conditions []*Condition
	Name       string  // Named: as written where it was declared; Variable; Instance
	Module     *Module // Instance
	id         int
	index      map[string]int // Record with many fields: their positions
}

// Field is one field of a record type.
type Field struct {
	Name        string
	Type        *Type
	Optional    bool // may be absent
	Default     *Default
	Description string
	Deprecated  string // what to do instead; empty when it is not deprecated
	Secret      bool   // hidden, as a secret input is
	Span        source.Span
}

// Default is the default of a field or parameter: an expression of a module.
type Default struct {
	Module     *Module
	Expression syntax.Expression
	Owner      *Object // the declaration it is evaluated as part of
}

// Condition is one limit of a type. Its test sees the value as `it`, which is the first place of its frame.
type Condition struct {
	Module *Module
	Tree   *syntax.Condition
	Object *Object // stands for the condition among the declarations: what it uses, how large its frame is
}

// Text returns the test as it is written.
func (c *Condition) Text() string { return c.Module.Tree.File.Slice(c.Tree.Test.Place()) }

// The types that need no universe.
var (
	InvalidType = &Type{Kind: Invalid, id: 1}
	NeverType   = &Type{Kind: Never, id: 2}
	AnyType     = &Type{Kind: Any, id: 3}
	NullType    = &Type{Kind: Null, id: 4}
	BoolType    = &Type{Kind: Bool, id: 5}
	IntType     = &Type{Kind: Int, id: 6}
	FloatType   = &Type{Kind: Float, id: 7}
	StringType  = &Type{Kind: String, id: 8}
)

var builtinTypes = map[string]*Type{
	"any": AnyType, "null": NullType, "bool": BoolType, "int": IntType, "float": FloatType, "string": StringType,
}

// Universe makes types and sees to it that equal ones are one. It may be used by several goroutines.
type Universe struct {
	mu      sync.Mutex
	types   map[string]*Type
	next    int
	numbers map[any]int // numbers conditions and defaults
	// made remembers what was made of types: they share their parts, so that one part may be met very often.
	made map[derivation]*Type
}

// derivation is a way in which one type is made of another.
type derivation struct {
	way string
	of  *Type
}

// derive returns what is made of a type in some way, once.
func (u *Universe) derive(way string, t *Type, make func() *Type) *Type {
	key := derivation{way, t}
	u.mu.Lock()
	known, ok := u.made[key]
	u.mu.Unlock()
	if ok {
		return known
	}
	result := make()
	u.mu.Lock()
	u.made[key] = result
	u.mu.Unlock()
	return result
}

// NewUniverse returns an empty universe.
func NewUniverse() *Universe {
	return &Universe{types: map[string]*Type{}, next: 100, numbers: map[any]int{}, made: map[derivation]*Type{}}
}

func (u *Universe) intern(key string, t Type) *Type {
	u.mu.Lock()
	defer u.mu.Unlock()
	if existing, ok := u.types[key]; ok {
		return existing
	}
	u.next++
	t.id = u.next
	made := &t
	u.types[key] = made
	return made
}

func (u *Universe) number(x any) int {
	u.mu.Lock()
	defer u.mu.Unlock()
	n, ok := u.numbers[x]
	if !ok {
		n = len(u.numbers) + 1
		u.numbers[x] = n
	}
	return n
}

// Literal returns the type of exactly one bool, int64, float64 or string.
func (u *Universe) Literal(value any) *Type {
	return u.intern(fmt.Sprintf("literal %T %v", value, value), Type{Kind: Literal, Literal: value})
}

// List returns the type of lists of an element type.
func (u *Universe) List(element *Type) *Type {
	return u.intern("list "+strconv.Itoa(element.id), Type{Kind: List, Element: element})
}

// Map returns `{ *: T }`.
func (u *Universe) Map(rest *Type) *Type { return u.Record(nil, rest) }

// Record returns a record type.
func (u *Universe) Record(fields []Field, rest *Type) *Type { return u.record(fields, rest, false) }

func (u *Universe) record(fields []Field, rest *Type, loose bool) *Type {
	var key strings.Builder
	key.WriteString("record")
	for _, f := range fields {
		fmt.Fprintf(&key, " %q %d", f.Name, f.Type.id)
		if f.Optional {
			key.WriteByte('?')
		}
		if f.Default != nil {
			fmt.Fprintf(&key, "=%d", u.number(f.Default.Expression))
		}
		if f.Secret {
			key.WriteByte('!')
		}
		if f.Deprecated != "" {
			fmt.Fprintf(&key, "-%q", f.Deprecated)
		}
		if f.Span.IsValid() { // what is told of a field is told of the one that was declared there
			fmt.Fprintf(&key, "@%d", f.Span.Start)
		}
	}
	if loose {
		key.WriteString(" loose")
	}
	if rest != nil {
		fmt.Fprintf(&key, " *%d", rest.id)
	}
	var index map[string]int
	if len(fields) > 8 { // fewer are found faster by looking through them
		index = make(map[string]int, len(fields))
		for i, f := range fields {
			index[f.Name] = i
		}
	}
	return u.intern(key.String(), Type{Kind: Record, Fields: fields, Rest: rest, Loose: loose, index: index})
}

// eachField returns the record in which each type of a field, and that of further fields, is changed.
func (u *Universe) eachField(record *Type, change func(*Type) *Type) *Type {
	fields := slices.Clone(record.Fields)
	for i := range fields {
		fields[i].Type = change(fields[i].Type)
	}
	rest := record.Rest
	if rest != nil {
		rest = change(rest)
	}
	return u.record(fields, rest, record.Loose)
}

// Loose returns the type of the values of which `is` says that they are of a type: they fit without any conversion,
// but have not passed into it, so that lists are no sets yet and fields stand in any order.
func (u *Universe) Loose(t *Type) *Type {
	if !t.changesPassing(map[*Type]bool{}) {
		return t
	}
	switch t.Kind {
	case Named:
		loose := u.intern("loose "+strconv.Itoa(t.id), Type{Kind: Named, Name: t.Name})
		if loose.Base == nil && t.Base != nil {
			loose.Base = loose // while its parts are made, which may contain it
			loose.Base = u.Loose(t.Base)
		}
		return loose
	case Limited:
		return u.Loose(t.Base)
	case Set:
		return u.List(u.Loose(t.Base.Element))
	case List:
		return u.List(u.Loose(t.Element))
	case Tuple:
		elements := make([]*Type, len(t.Parameters))
		for i, e := range t.Parameters {
			elements[i] = u.Loose(e)
		}
		return u.Tuple(elements...)
	case Union:
		members := make([]*Type, len(t.Members))
		for i, m := range t.Members {
			members[i] = u.Loose(m)
		}
		return u.Union(members...)
	case Record:
		fields := withoutDefaults(t.Fields)
		for i := range fields {
			fields[i].Type = u.Loose(fields[i].Type)
		}
		rest := t.Rest
		if rest != nil {
			rest = u.Loose(rest)
		}
		return u.record(fields, rest, len(fields) > 0)
	}
	return t
}

// changesPassing reports whether a value that fits a type as it stands may still change when it passes into it: it
// has a set, or declared fields.
func (t *Type) changesPassing(seen map[*Type]bool) bool {
	if t == nil || seen[t] {
		return false
	}
	seen[t] = true
	changes := func(x *Type) bool { return x.changesPassing(seen) }
	switch t.Kind {
	case Set:
		return true
	case Record:
		return len(t.Fields) > 0 && !t.Loose || changes(t.Rest) || slices.ContainsFunc(t.Fields,
			func(f Field) bool { return changes(f.Type) })
	case Function:
		return false
	}
	return changes(t.Base) || changes(t.Element) || slices.ContainsFunc(t.Members,
		changes) || slices.ContainsFunc(t.Parameters, changes)
}

// Tuple returns the type of lists of exactly these elements. Where it does not matter which stands where, it is the
// list of them all, which is its Base.
func (u *Universe) Tuple(elements ...*Type) *Type {
	base := u.List(u.Union(elements...))
	key := "tuple"
	for _, e := range elements {
		key += " " + strconv.Itoa(e.id)
	}
	return u.intern(key, Type{Kind: Tuple, Parameters: elements, Base: base})
}

// Set returns the type of sets of an element type. Read, a set is the list of its elements, which is its Base.
func (u *Universe) Set(element *Type) *Type {
	return u.intern("set "+strconv.Itoa(element.id), Type{Kind: Set, Base: u.List(element)})
}

// HasSet reports whether values of a type may hold sets, which compare without order.
func HasSet(t *Type) bool {
	seen := map[*Type]bool{}
	var has func(t *Type) bool
	has = func(t *Type) bool {
		if t == nil || seen[t] || t.Kind == Function || t.Kind == Instance {
			return false
		}
		seen[t] = true
		return t.Kind == Set || has(t.Base) || has(t.Element) || has(t.Rest) || slices.ContainsFunc(t.Members, has) ||
			slices.ContainsFunc(t.Parameters, has) || slices.ContainsFunc(t.Fields,
			func(f Field) bool { return has(f.Type) })
	}
	return has(t)
}

// IsSet reports whether the lists among the values of a type are sets.
func IsSet(t *Type) bool {
	found := false
	for _, part := range t.alternatives() {
		if part.set() {
			found = true
		} else if part.Core().Kind == List {
			return false
		}
	}
	return found
}

// ElementOf and FieldOf return the type of the elements of the lists, or of a field of the records, among the values
// of a type; nil when that is not one type.
func ElementOf(t *Type) *Type {
	if list := onlyPart(t, List); list != nil {
		return list.Element
	}
	return nil
}

// FieldOf is told with ElementOf.
func FieldOf(t *Type, name string) *Type {
	record := onlyPart(t, Record)
	if record == nil {
		return nil
	}
	if f, ok := record.Field(name); ok {
		return f.Type
	}
	return record.Rest
}

// set reports whether a type is a set, names and limits taken off.
func (t *Type) set() bool {
	for (t.Kind == Named || t.Kind == Limited) && t.Base != nil {
		t = t.Base
	}
	return t.Kind == Set
}

// tuple returns the tuple that a type is, names and limits taken off; nil when it is none.
func (t *Type) tuple() *Type {
	for t.Kind == Named || t.Kind == Limited {
		if t.Base == nil {
			return nil
		}
		t = t.Base
	}
	if t.Kind != Tuple {
		return nil
	}
	return t
}

// Function returns the type of functions.
func (u *Universe) Function(parameters []*Type, required int, result *Type) *Type {
	key := fmt.Sprintf("function %d %d", required, result.id)
	for _, p := range parameters {
		key += " " + strconv.Itoa(p.id)
	}
	return u.intern(key, Type{Kind: Function, Parameters: parameters, Required: required, Result: result})
}

// Limit returns a type limited by conditions.
func (u *Universe) Limit(base *Type, conditions []*Condition) *Type {
	key := "limited " + strconv.Itoa(base.id)
	for _, c := range conditions {
		key += " " + strconv.Itoa(u.number(c))
	}
	return u.intern(key, Type{Kind: Limited, Base: base, Conditions: conditions})
}

// variable returns a type variable of the signature of a built-in function.
func (u *Universe) variable(name string) *Type {
	return u.intern("variable "+name, Type{Kind: Variable, Name: name})
}

// Named returns the declared type of an object; its Base is set when it has been resolved.
func (u *Universe) Named(object *Object) *Type {
	return u.intern("named "+strconv.Itoa(u.number(object)), Type{Kind: Named, Name: object.Name})
}

// Optional returns T | null.
func (u *Universe) Optional(t *Type) *Type { return u.Union(t, NullType) }

// Union returns the union of types, flattened; literals beside their own type disappear in it.
func (u *Universe) Union(types ...*Type) *Type {
	var members []*Type
	var known map[*Type]bool // of many members
	has := func(t *Type) bool {
		if known != nil {
			return known[t]
		}
		return slices.Contains(members, t)
	}
	var add func(t *Type)
	add = func(t *Type) {
		switch {
		case t.Kind == Union:
			for _, m := range t.Members {
				add(m)
			}
		case t.Kind != Never && !has(t):
			members = append(members, t)
			if known != nil {
				known[t] = true
			} else if len(members) > 16 {
				known = make(map[*Type]bool, 2*len(members))
				for _, m := range members {
					known[m] = true
				}
			}
		}
	}
	open := false
	for _, t := range types {
		if t.Kind == Invalid {
			return t
		}
		open = open || t.Kind == Any
		add(t)
	}
	if open { // which is all data, but never a function or an instance
		members = slices.DeleteFunc(members, func(t *Type) bool { return t.Kind != Any && IsData(t) })
	}
	members = slices.DeleteFunc(members, func(t *Type) bool {
		return t.Kind == Literal && has(t.Widen()) ||
			emptyLiteral(t) && slices.ContainsFunc(members,
				func(other *Type) bool { return other != t && other.Kind == t.Kind && Fits(t, other) })
	})
	switch len(members) {
	case 0:
		return NeverType
	case 1:
		return members[0]
	}
	var key strings.Builder
	key.WriteString("union")
	for _, m := range members {
		key.WriteString(" " + strconv.Itoa(m.id))
	}
	return u.intern(key.String(), Type{Kind: Union, Members: members})
}

// emptyLiteral reports whether a type is that of `[]` or `{}`, which fits into any other list, or record without
// required fields.
func emptyLiteral(t *Type) bool {
	return t.Kind == List && t.Element == NeverType || t.Kind == Record && len(t.Fields) == 0 && t.Rest == nil
}

// Widen returns the type of which a literal type is one value, and any other type as it is.
func (t *Type) Widen() *Type {
	if t.Kind != Literal {
		return t
	}
	switch t.Literal.(type) {
	case bool:
		return BoolType
	case int64:
		return IntType
	case float64:
		return FloatType
	}
	return StringType
}

// Core returns the type without its names and limits.
func (t *Type) Core() *Type {
	for t.Kind == Named || t.Kind == Limited || t.Kind == Tuple || t.Kind == Set {
		if t.Base == nil {
			return InvalidType
		}
		t = t.Base
	}
	return t
}

// Parts returns the members of a union, names and limits taken off, or the type itself as the only part.
func (t *Type) Parts() []*Type {
	core := t.Core()
	if core.Kind != Union {
		return []*Type{core}
	}
	var parts []*Type
	for _, m := range core.Members {
		parts = append(parts, m.Parts()...)
	}
	return parts
}

// alternatives is Parts with the names of the members kept.
func (t *Type) alternatives() []*Type {
	core := t.Core()
	if core.Kind != Union {
		return []*Type{t}
	}
	var parts []*Type
	for _, m := range core.Members {
		parts = append(parts, m.alternatives()...)
	}
	return parts
}

// MayBeNull reports whether null is one of the values.
func (t *Type) MayBeNull() bool {
	return slices.ContainsFunc(t.Parts(), func(p *Type) bool { return p.Kind == Null || p.Kind == Any })
}

// WithoutNull returns the type without null.
func (u *Universe) WithoutNull(t *Type) *Type {
	switch core := t.Core(); core.Kind {
	case Null:
		return NeverType
	case Union:
		if !t.MayBeNull() {
			return t
		}
		var members []*Type
		for _, m := range core.Members {
			members = append(members, u.WithoutNull(m))
		}
		return u.Union(members...)
	}
	return t
}

// Field returns the declared field of a record type.
func (t *Type) Field(name string) (*Field, bool) {
	if t.index != nil {
		if i, ok := t.index[name]; ok {
			return &t.Fields[i], true
		}
		return nil, false
	}
	for i := range t.Fields {
		if t.Fields[i].Name == name {
			return &t.Fields[i], true
		}
	}
	return nil, false
}

// hasField reports whether a record type can have a field.
func (t *Type) hasField(name string) bool {
	if t.Kind != Record {
		return false
	}
	_, ok := t.Field(name)
	return ok || t.Rest != nil
}

// FieldNames returns the names of the declared fields.
func (t *Type) FieldNames() []string {
	names := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		names[i] = f.Name
	}
	return names
}

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Type) String() string { return t.text(2) }

func (t *Type) text(depth int) string {
	switch t.Kind {
	case Invalid:
		return "?"
	case Never:
		return "nothing"
	case Any:
		return "any"
	case Null:
		return "null"
	case Bool:
		return "bool"
	case Int:
		return "int"
	case Float:
		return "float"
	case String:
		return "string"
	case Literal:
		if s, ok := t.Literal.(string); ok {
			return strconv.Quote(s)
		}
		if f, ok := t.Literal.(float64); ok {
			return value.FormatFloat(f)
		}
		return fmt.Sprint(t.Literal)
	case Named, Variable, Instance:
		return t.Name
	case Limited:
		return t.Base.text(depth)
	case Set:
		return "{" + t.Base.Element.text(depth) + "}"
	case Tuple:
		var elements []string
		for _, e := range t.Parameters {
			elements = append(elements, e.text(depth))
		}
		return "[" + strings.Join(elements, ", ") + "]"
	case Function:
		var parameters []string
		for _, p := range t.Parameters {
			parameters = append(parameters, p.text(depth))
		}
		return "fn(" + strings.Join(parameters, ", ") + ") -> " + t.Result.text(depth)
	case List:
		return "[" + t.Element.text(depth) + "]"
	case Union:
		for i := range t.Members {
			if other := t.Members[len(t.Members)-1-i]; len(t.Members) == 2 && t.Members[i] == NullType &&
				other.Kind != Literal && other.Kind != Function {
				return other.text(depth) + "?"
			}
		}
		var members []string
		for _, m := range t.Members {
			members = append(members, m.text(depth))
		}
		return strings.Join(members, " | ")
	}
	if len(t.Fields) == 0 && t.Rest == nil {
		return "{}"
	}
	if depth == 0 {
		return "{ … }"
	}
	var fields []string
	for i, f := range t.Fields {
		if i == 4 && len(t.Fields) > 5 {
			fields = append(fields, "…")
			break
		}
		mark := ""
		if f.Optional {
			mark = "?"
		}
		text := place.Key(f.Name) + mark + ": " + f.Type.text(depth-1)
		if f.Secret {
			text = "secret " + text
		}
		fields = append(fields, text)
	}
	if t.Rest != nil {
		fields = append(fields, "*: "+t.Rest.text(depth-1))
	}
	return "{ " + strings.Join(fields, ", ") + " }"
}

// Article puts "a" or "an" before the name of a type where a sentence needs it.
func Article(t *Type) string {
	switch t.Core().Kind {
	case Record:
		if t.Kind == Record {
			return "a record " + t.String()
		}
	case List:
		if t.Kind == List {
			return "a list " + t.String()
		}
	case Int:
		if t.Core() == t || t.Kind == Limited {
			return "an int"
		}
	case Bool, Float, String:
		if t.Core() == t || t.Kind == Limited {
			return "a " + t.String()
		}
	}
	return t.String()
}
