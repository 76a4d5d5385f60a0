// Package types knows what the types of the language are: their kinds, which of them fits into which, what becomes of
// them when they are united, and how they are written in messages. It knows no syntax tree. It exists so that schemas,
// modules and whatever else describes data speak of the same types.
package types

import (
	"slices"
	"sync"
	"sync/atomic"

	"knothole/core/schema"
	"knothole/core/source"
)

// Type is a type: a Basic, a Literal, a Union, a List, a Set, a Tuple, a Record, a Function, an Instance, a Limited, a
// Named or a Variable. Types of one Universe are equal exactly when they are the same (==).
type Type interface {
	// Underlying returns the type without its names and limits. It is Invalid for a name that is being resolved.
	Underlying() Type
	// String returns the type as it would be written, limits left out, long records shortened.
	String() string

	id() *identity
}

// identity is what tells the types of a universe apart.
type identity struct {
	number   int
	universe *Universe // nil for those that every universe has
}

func (i *identity) id() *identity { return i }

// Basic is a type without parts.
type Basic struct {
	identity
	name string
}

// The basic types. Invalid is the type of what has already been reported: it fits everywhere and is reported nowhere
// again. Never is the type of what cannot be, such as an element of an empty list.
var (
	Invalid Type = &Basic{identity{number: 1}, "?"}
	Never   Type = &Basic{identity{number: 2}, "nothing"}
	Any     Type = &Basic{identity{number: 3}, "any"}
	Null    Type = &Basic{identity{number: 4}, "null"}
	Bool    Type = &Basic{identity{number: 5}, "bool"}
	Int     Type = &Basic{identity{number: 6}, "int"}
	Float   Type = &Basic{identity{number: 7}, "float"}
	String  Type = &Basic{identity{number: 8}, "string"}
)

// firstNumber is the number of the first type that a universe makes.
const firstNumber = 100

// ByName are the types that have a name in the language.
var ByName = map[string]Type{
	"any": Any, "null": Null, "bool": Bool, "int": Int, "float": Float, "string": String,
}

// Underlying returns the type itself.
func (t *Basic) Underlying() Type { return t }

// Literal is the type of exactly one value.
type Literal struct {
	identity
	Value any // bool, int64, float64 or string
}

// Underlying returns the type itself.
func (t *Literal) Underlying() Type { return t }

// Union is the type of values that are of one of its members.
type Union struct {
	identity
	Members []Type // at least two, none of them a union
	// told says how the records among many members are told apart, found when it is first asked for.
	told *distinction
	once sync.Once
}

// Underlying returns the type itself.
func (t *Union) Underlying() Type { return t }

// List is the type of lists whose elements are of one type.
type List struct {
	identity
	Element Type
}

// Underlying returns the type itself.
func (t *List) Underlying() Type { return t }

// Set is the type of lists in order and without repetitions.
type Set struct {
	identity
	Element Type
	list    *List
}

// Underlying returns the type itself.
func (t *Set) Underlying() Type { return t }

// List returns the list that a set is when it is read.
func (t *Set) List() *List { return t.list }

// Tuple is the type of lists of exactly these elements.
type Tuple struct {
	identity
	Elements []Type
	list     *List
}

// Underlying returns the type itself.
func (t *Tuple) Underlying() Type { return t }

// List returns the list that a tuple is where it does not matter which element is where.
func (t *Tuple) List() *List { return t.list }

// Record is the type of records.
type Record struct {
	identity
	Fields []Field // in the order of declaration
	Rest   Type    // of all other fields; nil when there are none
	// Loose says that the fields of its values are in any order: they fit, but have not passed into it, or nothing is
	// said of the order.
	Loose bool
	index map[string]int // of many fields: their positions
}

// Underlying returns the type itself.
func (t *Record) Underlying() Type { return t }

// Field is one field of a record type.
type Field struct {
	Name        string
	Type        Type
	Optional    bool // may be absent
	Default     *Default
	Description string
	Deprecated  string // what to do instead; empty when it is not deprecated
	Secret      bool   // hidden, as a secret input is
	Span        source.Span
}

// Default is the default of a field. A type knows that there is one; what it is, who declared the type knows.
type Default struct {
	Number int // among those of all types that are checked together
}

// Field returns the declared field of a record type.
func (t *Record) Field(name string) (*Field, bool) {
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

// Possible returns what a record type says of a field: its type, nil when it is never there, and whether it may be
// absent.
func (t *Record) Possible(name string) Field {
	if f, ok := t.Field(name); ok {
		return *f
	}
	return Field{Type: t.Rest, Optional: true}
}

// FieldNames returns the names of the declared fields.
func (t *Record) FieldNames() []string {
	names := make([]string, len(t.Fields))
	for i, f := range t.Fields {
		names[i] = f.Name
	}
	return names
}

// Function is the type of functions.
type Function struct {
	identity
	Parameters []Type // those that are required, then those that have a default
	Required   int
	Result     Type
}

// Underlying returns the type itself.
func (t *Function) Underlying() Type { return t }

// Instance is the type of the instances of a module.
type Instance struct {
	identity
	Name   string
	Module int // the number of the module among those that are checked together
}

// Underlying returns the type itself.
func (t *Instance) Underlying() Type { return t }

// Limited is a type whose values are limited by conditions.
type Limited struct {
	identity
	Base       Type
	Conditions []*Condition
}

// Underlying returns what is underlying the type that is limited.
func (t *Limited) Underlying() Type { return t.Base.Underlying() }

// Condition is one limit of a type. A type knows its text; how it is tested, who declared it knows.
type Condition struct {
	Number int         // among those of all types that are checked together
	Text   string      // the test as it is written
	Span   source.Span // where it is written
	// Schema is what values are validated against, where that is the condition; nil for one that is written in a
	// module. Object says that they are objects of a kind, as a server validates them.
	Schema *schema.Schema
	Object bool
}

// Named is a type with a name. Two of the same name are two types.
type Named struct {
	identity
	Name string
	base atomic.Pointer[Type]
	// expand finds what the name stands for when that is first needed; nil when it is told by Resolve. It may speak of
	// the name, but not look into it.
	expand func() Type
	once   sync.Once
	// described says that a schema describes its values.
	described bool
}

// Base returns the type that a name stands for; nil while it is being resolved.
func (t *Named) Base() Type {
	if base := t.base.Load(); base != nil {
		return *base
	}
	if t.expand == nil {
		return nil
	}
	t.once.Do(func() { t.Resolve(t.expand()) })
	return *t.base.Load()
}

// Resolve says what a name stands for.
func (t *Named) Resolve(base Type) {
	if t.base.Swap(&base) == nil && t.expand == nil {
		t.universe.unresolved.Add(-1)
	}
}

// Underlying returns what is underlying the type that the name stands for.
func (t *Named) Underlying() Type {
	if base := t.Base(); base != nil {
		return base.Underlying()
	}
	return Invalid
}

// Variable is a type variable of the signature of a built-in function.
type Variable struct {
	identity
	Name string
}

// Underlying returns the type itself.
func (t *Variable) Underlying() Type { return t }

// Unnamed returns a type with its names taken off, but not its limits.
func Unnamed(t Type) Type {
	for {
		named, ok := t.(*Named)
		if !ok || named.Base() == nil {
			return t
		}
		t = named.Base()
	}
}

// Core returns a type without its names and limits, and a set or a tuple as the list that it is when it is read.
func Core(t Type) Type {
	switch t := t.Underlying().(type) {
	case *Set:
		return t.list
	case *Tuple:
		return t.list
	default:
		return t
	}
}

// AsRecord returns the record type that a type is, names and limits taken off; nil when it is none.
func AsRecord(t Type) *Record {
	record, _ := t.Underlying().(*Record)
	return record
}

// AsList returns the list type that a type is when it is read, as sets and tuples are, names and limits taken off; nil
// when it is none.
func AsList(t Type) *List {
	list, _ := Core(t).(*List)
	return list
}

// AsSet returns the set that a type is, names and limits taken off; nil when it is none.
func AsSet(t Type) *Set {
	set, _ := t.Underlying().(*Set)
	return set
}

// AsTuple returns the tuple that a type is, names and limits taken off; nil when it is none.
func AsTuple(t Type) *Tuple {
	tuple, _ := t.Underlying().(*Tuple)
	return tuple
}

// AsUnion returns the union that a type is, names and limits taken off; nil when it is none.
func AsUnion(t Type) *Union {
	union, _ := t.Underlying().(*Union)
	return union
}

// AsFunction returns the function type that a type is, names and limits taken off; nil when it is none.
func AsFunction(t Type) *Function {
	function, _ := t.Underlying().(*Function)
	return function
}

// AsInstance returns the type of instances that a type is, names and limits taken off; nil when it is none.
func AsInstance(t Type) *Instance {
	instance, _ := t.Underlying().(*Instance)
	return instance
}

// AsLimited returns the limited type that a type is, names taken off; nil when it is none.
func AsLimited(t Type) *Limited {
	limited, _ := Unnamed(t).(*Limited)
	return limited
}

// LiteralValue returns the value of a literal type; nil for any other.
func LiteralValue(t Type) any {
	if literal, ok := t.(*Literal); ok {
		return literal.Value
	}
	return nil
}

// LiteralTexts returns the strings among the parts of a type that are literals.
func LiteralTexts(t Type) []string {
	var texts []string
	for _, p := range Parts(t) {
		if text, ok := LiteralValue(p).(string); ok {
			texts = append(texts, text)
		}
	}
	return texts
}

// Widen returns the type of which a literal type is one value, and any other type as it is.
func Widen(t Type) Type {
	switch LiteralValue(t).(type) {
	case bool:
		return Bool
	case int64:
		return Int
	case float64:
		return Float
	case string:
		return String
	}
	return t
}

// Parts returns the members of a union, names and limits taken off, or the type itself as the only part. Sets and
// tuples are the lists that they are when they are read.
func Parts(t Type) []Type {
	core := Core(t)
	union, ok := core.(*Union)
	if !ok {
		return []Type{core}
	}
	var parts []Type
	for _, m := range union.Members {
		parts = append(parts, Parts(m)...)
	}
	return parts
}

// Alternatives is Parts with the names of the members kept.
func Alternatives(t Type) []Type {
	union := AsUnion(t)
	if union == nil {
		return []Type{t}
	}
	var parts []Type
	for _, m := range union.Members {
		parts = append(parts, Alternatives(m)...)
	}
	return parts
}

// OnlyRecord returns the one record type among the parts of a type, nil when there is none or more than one, or when
// one of them is any, with a condition. OnlyList and OnlyFunction are told with it.
func OnlyRecord(t Type) *Record { return only[*Record](t) }

// OnlyList is told with OnlyRecord.
func OnlyList(t Type) *List { return only[*List](t) }

// OnlyFunction is told with OnlyRecord.
func OnlyFunction(t Type) *Function { return only[*Function](t) }

func only[T Type](t Type) (found T) {
	var none T
	count := 0
	for _, p := range Parts(t) {
		if p == Any {
			return none
		}
		if of, ok := p.(T); ok {
			found = of
			count++
		}
	}
	if count != 1 {
		return none
	}
	return found
}

// ElementOf and FieldOf return the type of the elements of the lists, or of a field of the records, among the values
// of a type; nil when that is not one type.
func ElementOf(t Type) Type {
	if list := OnlyList(t); list != nil {
		return list.Element
	}
	return nil
}

// FieldOf is told with ElementOf.
func FieldOf(t Type, name string) Type {
	record := OnlyRecord(t)
	if record == nil {
		return nil
	}
	return record.Possible(name).Type
}

// ElementsOf returns what the elements of a list may be that is of one of some types: those of all lists among them.
// Sets and tuples are the lists that they are when they are read.
func ElementsOf(of []Type) (elements []Type) {
	for _, t := range of {
		for _, part := range Parts(t) {
			if list, ok := part.(*List); ok {
				elements = append(elements, list.Element)
			}
		}
	}
	return elements
}

// RecordsOf returns the records among some types, of which a record may be.
func RecordsOf(of []Type) (records []*Record) {
	for _, t := range of {
		for _, part := range Parts(t) {
			if record, ok := part.(*Record); ok {
				records = append(records, record)
			}
		}
	}
	return records
}

// FieldsOf returns what a field may be of a record that is of one of some types. Secret says that they all declare it
// secret, sometimes that one of them does.
func FieldsOf(of []*Record, name string) (types []Type, secret, sometimes bool) {
	n := 0
	for _, record := range of {
		field := record.Possible(name)
		if field.Type == nil {
			continue
		}
		types = append(types, field.Type)
		if field.Secret {
			n++
		}
	}
	return types, n > 0 && n == len(types), n > 0
}

// HasField reports whether a type is a record that can have a field.
func HasField(t Type, name string) bool {
	record, ok := t.(*Record)
	return ok && record.Possible(name).Type != nil
}

// IsSet reports whether the lists among the values of a type are sets.
func IsSet(t Type) bool {
	found := false
	for _, part := range Alternatives(t) {
		if AsSet(part) != nil {
			found = true
		} else if AsList(part) != nil {
			return false
		}
	}
	return found
}

// MayBeNull reports whether null is one of the values.
func MayBeNull(t Type) bool {
	return slices.ContainsFunc(Parts(t), func(p Type) bool { return p == Null || p == Any })
}

// HoldsRecord reports whether some values of a type are records.
func HoldsRecord(t Type) bool {
	return slices.ContainsFunc(Parts(t), func(p Type) bool {
		_, record := p.(*Record)
		return record || p == Any
	})
}
