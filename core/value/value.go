// Package value holds the data that evaluation works on. It exists so that every stage behind evaluation (rendering,
// comparing, explaining) walks the same values, each of which knows where it came from.
package value

import (
	"maps"
	"math"
	"slices"
	"sync/atomic"
	"unsafe"

	"knothole/core/source"
)

// A program of 32 bits is refused by the compiler at this line: lengths, positions and counts of the language are
// ints of 64 bits, and would be cut there without a word.
const _ = uint(1) << 63

// Kind says what a value is.
type Kind uint8

// The kinds of values. Absent is not a value of the language: it stands for a field that is not there.
const (
	Absent Kind = iota
	Null
	Bool
	Int
	Float
	String
	List
	Record
	Function
	Instance
)

var kindTexts = [...]string{"absent", "null", "bool", "int", "float", "string", "list", "record", "function",
	"instance"}

// String returns the kind as it is in messages.
func (k Kind) String() string { return kindTexts[k] }

// Article returns the kind with "a" or "an" before it where a sentence needs it.
func (k Kind) Article() string {
	switch k {
	case Null:
		return "null"
	case Int, Instance:
		return "an " + k.String()
	}
	return "a " + k.String()
}

// Origin says what decided a value. Usually it is the source.Pos of the line that did; in an evaluation that is being
// recorded it may be the number of an entry of the record, marked by its highest bit.
type Origin uint32

// recorded marks an origin that is the number of a recorded step.
const recorded Origin = 1 << 31

// From returns the origin that is a place.
func From(p source.Pos) Origin { return Origin(p) }

// Recorded returns the origin that is the recorded step with a number.
func Recorded(number int) Origin { return recorded | Origin(number) }

// Step returns the number of the recorded step, if the origin is one.
func (o Origin) Step() (int, bool) { return int(o &^ recorded), o&recorded != 0 }

// Pos returns the place, if the origin is one.
func (o Origin) Pos() source.Pos {
	if o&recorded != 0 {
		return source.NoPos
	}
	return source.Pos(o)
}

// Value is one value with its origin. Values are immutable and may be shared.
//
// It is 24 bytes so that lists of values stay small: what a value refers to is one pointer, whose meaning its kind
// tells (bytes of a string, elements of a list, a record), and a number (bits of a scalar, length of a string or list).
// It has four fields and no more: of a structure with five the compiler keeps none in registers.
type Value struct {
	pointer unsafe.Pointer
	number  uint64
	origin  Origin
	tag     tag
}

// tag is the kind of a value in its low byte, and its marks in the high one.
type tag uint16

// NullOf, BoolOf, IntOf, FloatOf, StringOf and ListOf make values.
func NullOf(o Origin) Value { return Value{tag: tag(Null), origin: o} }

// BoolOf makes a bool.
func BoolOf(b bool, o Origin) Value {
	v := Value{tag: tag(Bool), origin: o}
	if b {
		v.number = 1
	}
	return v
}

// IntOf makes an int.
func IntOf(i int64, o Origin) Value { return Value{tag: tag(Int), number: uint64(i), origin: o} }

// FloatOf makes a float, which must be neither NaN nor infinite.
func FloatOf(f float64, o Origin) Value {
	return Value{tag: tag(Float), number: math.Float64bits(f), origin: o}
}

// StringOf makes a string.
func StringOf(s string, o Origin) Value {
	return Value{tag: tag(String), pointer: unsafe.Pointer(unsafe.StringData(s)), number: uint64(len(s)), origin: o}
}

// ListOf makes a list. The elements must not be changed afterwards.
func ListOf(elements []Value, o Origin) Value {
	return Value{tag: tag(List), pointer: unsafe.Pointer(unsafe.SliceData(elements)), number: uint64(len(elements)),
		origin: o}
}

// RecordOf makes a record.
func RecordOf(shape *Shape, values []Value, o Origin) Value {
	return Value{tag: tag(Record), pointer: unsafe.Pointer(&record{shape: shape, values: values}), origin: o}
}

// Extend returns a record with more entries after those that it has; none of the keys may be there already. To add
// one entry after the other takes time in proportion to how many there are, but for a factor that grows with its
// logarithm.
func (v Value) Extend(keys []string, values []Value, o Origin) Value {
	if len(keys) == 0 {
		return v.WithOrigin(o)
	}
	r := v.record()
	before, after := len(r.values), len(r.values)+len(keys)
	if r.room == nil || cap(r.values) < after || cap(r.shape.keys) < after ||
		!r.room.used.CompareAndSwap(int64(before), int64(after)) {
		grown := &record{shape: &Shape{keys: make([]string, before, 2*after), index: r.shape.index,
			layers: r.shape.layers}, values: make([]Value, before, 2*after), room: &room{}}
		copy(grown.shape.keys, r.shape.keys)
		copy(grown.values, r.values)
		grown.room.used.Store(int64(after))
		r = grown
	}
	shape := &Shape{keys: append(r.shape.keys[:before], keys...), index: r.shape.index, layers: r.shape.layers}
	shape.note(before)
	extended := &record{shape: shape, values: append(r.values[:before], values...), room: r.room}
	return Value{tag: tag(Record), pointer: unsafe.Pointer(extended), origin: o}
}

// FunctionOf makes a function; what it is made of is for evaluation to know.
func FunctionOf(function any, o Origin) Value {
	return Value{tag: tag(Function), pointer: unsafe.Pointer(&function), origin: o}
}

// Function returns what a value of kind Function was made of.
func (v Value) Function() any {
	if v.Kind() != Function {
		v.misread(Function)
		return nil
	}
	return *(*any)(v.pointer)
}

// InstanceOf makes an instance of a module; what it is made of is for evaluation to know.
func InstanceOf(instance any, o Origin) Value {
	return Value{tag: tag(Instance), pointer: unsafe.Pointer(&instance), origin: o}
}

// Instance returns what a value of kind Instance was made of.
func (v Value) Instance() any {
	if v.Kind() != Instance {
		v.misread(Instance)
		return nil
	}
	return *(*any)(v.pointer)
}

// Kind returns what the value is.
func (v Value) Kind() Kind { return Kind(v.tag & 0xFF) }

// Origin returns what decided the value.
func (v Value) Origin() Origin { return v.origin }

// WithOrigin returns the value with another origin.
func (v Value) WithOrigin(o Origin) Value {
	v.origin = o
	return v
}

// IsAbsent, IsNull report these kinds.
func (v Value) IsAbsent() bool { return v.Kind() == Absent }

// IsNull reports whether the value is null.
func (v Value) IsNull() bool { return v.Kind() == Null }

// Misread is the panic of who reads a value as of a kind that it is not. That is an error in the program: what a value
// refers to must never be taken for something else.
type Misread struct{ Wanted, Found Kind }

// Error says what was read as what.
func (m *Misread) Error() string {
	return "a value of kind " + m.Found.String() + " was read as a " + m.Wanted.String()
}

// misread ends the reading of a value as of a kind that it is not. What is not known has no contents to misread: it
// reads as nothing of the wanted kind.
func (v Value) misread(wanted Kind) {
	if !v.Unknown() {
		panic(&Misread{wanted, v.Kind()})
	}
}

// Bool returns the bool that a value of kind Bool is.
func (v Value) Bool() bool {
	if v.Kind() != Bool {
		v.misread(Bool)
		return false
	}
	return v.number != 0
}

// Int returns the int that a value of kind Int is.
func (v Value) Int() int64 {
	if v.Kind() != Int {
		v.misread(Int)
		return 0
	}
	return int64(v.number)
}

// Float returns the float that a value of kind Float is, or an int as a float.
func (v Value) Float() float64 {
	switch v.Kind() {
	case Int:
		return float64(int64(v.number))
	case Float:
		return math.Float64frombits(v.number)
	}
	v.misread(Float)
	return 0
}

// Text returns the string that a value of kind String is.
func (v Value) Text() string {
	if v.Kind() != String {
		v.misread(String)
		return ""
	}
	return unsafe.String((*byte)(v.pointer), int(v.number))
}

// Elements returns the elements of a value of kind List, none of others. They must not be changed.
func (v Value) Elements() []Value {
	if v.Kind() != List {
		return nil
	}
	return unsafe.Slice((*Value)(v.pointer), int(v.number))
}

// Identity returns a number that is the same for lists and records that share their contents, 0 for others.
func (v Value) Identity() uintptr {
	if v.Kind() == List && v.number > 0 || v.Kind() == Record || v.Kind() == Function || v.Kind() == Instance {
		return uintptr(v.pointer)
	}
	return 0
}

// record is what a value of kind Record refers to.
type record struct {
	shape  *Shape
	values []Value
	room   *room // behind the values and keys; nil when there is none
}

// room is the rest of the arrays in which the keys and values of a record stand. Records that grew out of one another
// share them: each sees its own part from the front. Who takes the place after the last entry first may write there,
// others copy.
type room struct{ used atomic.Int64 }

var emptyRecord = &record{shape: NewShape(nil)}

// record is the empty record for what is none: what is not known may be where a record is expected.
func (v Value) record() *record {
	if v.Kind() != Record {
		return emptyRecord
	}
	return (*record)(v.pointer)
}

// Shape returns the keys of a value of kind Record.
func (v Value) Shape() *Shape { return v.record().shape }

// Values returns the values of a record, in the order of its keys. They must not be changed.
func (v Value) Values() []Value { return v.record().values }

// Len returns the number of elements or entries of a list or record.
func (v Value) Len() int {
	switch v.Kind() {
	case List:
		return int(v.number)
	case Record:
		return len(v.record().values)
	}
	return 0
}

// Get returns the entry of a record with a key; it is Absent when there is none.
func (v Value) Get(key string) Value {
	r := v.record()
	if i := r.shape.Index(key); i >= 0 {
		return r.values[i]
	}
	return Value{}
}

// Shape is the keys of a record, in order. Records that are made at one place of a source share it.
type Shape struct {
	keys  []string
	index map[string]int // nil for few keys
	// layers are the positions of keys that were added, the last ones last. None of them is ever changed, and each is
	// at most half as large as the one before it, so that there are few.
	layers []map[string]int
}

// note enters the positions of the keys from one on.
func (s *Shape) note(from int) {
	if s.index == nil && s.layers == nil && len(s.keys) <= few {
		return
	}
	if s.index == nil && s.layers == nil {
		from = 0
	}
	layer := make(map[string]int, len(s.keys)-from)
	for i, key := range s.keys[from:] {
		layer[key] = from + i
	}
	layers := slices.Clone(s.layers)
	for n := len(layers); n > 0 && len(layers[n-1]) <= 2*len(layer); n = len(layers) {
		joined := make(map[string]int, len(layers[n-1])+len(layer))
		maps.Copy(joined, layers[n-1])
		maps.Copy(joined, layer)
		layer, layers = joined, layers[:n-1]
	}
	s.layers = append(layers, layer)
}

// few is the number of keys up to which looking through them is faster than a map.
const few = 8

// NewShape returns the shape with these keys, which must differ and must not be changed afterwards.
func NewShape(keys []string) *Shape {
	s := &Shape{keys: keys}
	if len(keys) > few {
		s.index = make(map[string]int, len(keys))
		for i, k := range keys {
			s.index[k] = i
		}
	}
	return s
}

// Keys returns the keys in order. They must not be changed.
func (s *Shape) Keys() []string { return s.keys }

// Index returns the position of a key, or -1.
func (s *Shape) Index(key string) int {
	for i := len(s.layers) - 1; i >= 0; i-- {
		if at, ok := s.layers[i][key]; ok {
			return at
		}
	}
	if s.index != nil {
		if i, ok := s.index[key]; ok {
			return i
		}
		return -1
	}
	if s.layers != nil {
		return -1
	}
	for i, k := range s.keys {
		if k == key {
			return i
		}
	}
	return -1
}

// Builder makes a record entry by entry. The zero Builder is ready for use.
type Builder struct {
	keys   []string
	values []Value
	index  map[string]int
}

// Grow makes room for n entries.
func (b *Builder) Grow(n int) {
	b.keys = make([]string, 0, n)
	b.values = make([]Value, 0, n)
}

// Index returns the position of a key, or -1.
func (b *Builder) Index(key string) int {
	if b.index != nil {
		if i, ok := b.index[key]; ok {
			return i
		}
		return -1
	}
	for i, k := range b.keys {
		if k == key {
			return i
		}
	}
	return -1
}

// Set puts a value under a key; a key that is there keeps its position. It returns the position.
func (b *Builder) Set(key string, v Value) int {
	if i := b.Index(key); i >= 0 {
		b.values[i] = v
		return i
	}
	i := len(b.keys)
	b.keys = append(b.keys, key)
	b.values = append(b.values, v)
	if b.index != nil {
		b.index[key] = i
	} else if len(b.keys) > few {
		b.index = make(map[string]int, 2*len(b.keys))
		for j, k := range b.keys {
			b.index[k] = j
		}
	}
	return i
}

// Update replaces the values from a position on by what f makes of them.
func (b *Builder) Update(from int, f func(Value) Value) {
	for i := from; i < len(b.values); i++ {
		b.values[i] = f(b.values[i])
	}
}

// Len returns the number of entries so far.
func (b *Builder) Len() int { return len(b.keys) }

// Record returns the record. The builder must not be used afterwards.
func (b *Builder) Record(o Origin) Value {
	shape := &Shape{keys: b.keys, index: b.index}
	return RecordOf(shape, b.values, o)
}

// Put returns a record with a value at a path of keys; records on the way are made where there are none.
func Put(v Value, path []string, x Value) Value {
	if len(path) == 0 {
		return x
	}
	var b Builder
	var inner Value
	o := x.Origin()
	if v.Kind() == Record {
		o, inner = v.Origin(), v.Get(path[0])
		for i, key := range v.Shape().Keys() {
			b.Set(key, v.Values()[i])
		}
	}
	b.Set(path[0], Put(inner, path[1:], x))
	return b.Record(o)
}
