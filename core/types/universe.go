package types

import (
	"fmt"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
)

// Universe makes types and hash-conses them: equal ones are one. It may be used by several goroutines.
type Universe struct {
	work  atomic.Int64 // see Work
	mu    sync.Mutex
	types map[string]Type
	next  int
	// made remembers what was made of types: they share their parts, so that one part may be met very often.
	made map[derivation]Type
	// relations are the questions about two types that have been answered.
	relations relations
	// unresolved is how many names do not stand for anything yet: what is found meanwhile may not hold afterwards.
	unresolved atomic.Int64
	// described are the types of schemas; validations counts down the numbers of the conditions that are some.
	described   map[description]Type
	validations int
}

// derivation is a way in which one type is made of another.
type derivation struct {
	way string
	of  Type
}

// NewUniverse returns an empty universe.
func NewUniverse() *Universe {
	return &Universe{types: map[string]Type{}, next: firstNumber, made: map[derivation]Type{}}
}

// derive returns what is made of a type in some way, once.
func (u *Universe) derive(way string, t Type, make func() Type) Type {
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

// Work counts the types that were made and the members of unions that were looked at: what checking a program costs,
// the same on every machine.
func (u *Universe) Work() int64 { return u.work.Load() }

// intern returns the type with a key, which is made when there is none.
func intern[T Type](u *Universe, key string, make func(identity) T) T {
	u.mu.Lock()
	defer u.mu.Unlock()
	if existing, ok := u.types[key]; ok {
		return existing.(T)
	}
	made := make(u.identify())
	u.types[key] = made
	return made
}

// identify returns the identity of a new type. The universe is locked.
func (u *Universe) identify() identity {
	u.next++
	u.work.Add(1)
	return identity{u.next, u}
}

// number returns the number by which a type is part of the key of another.
func number(t Type) string { return strconv.Itoa(t.id().number) }

// numbers returns the numbers of types, each with a blank before it.
func numbers(all []Type) string {
	var b strings.Builder
	for _, t := range all {
		b.WriteByte(' ')
		b.WriteString(number(t))
	}
	return b.String()
}

// Literal returns the type of exactly one bool, int64, float64 or string.
func (u *Universe) Literal(value any) Type {
	key := fmt.Sprintf("literal %T %v", value, value)
	return intern(u, key, func(id identity) *Literal { return &Literal{id, value} })
}

// List returns the type of lists of an element type.
func (u *Universe) List(element Type) Type { return u.list(element) }

func (u *Universe) list(element Type) *List {
	return intern(u, "list "+number(element), func(id identity) *List { return &List{id, element} })
}

// Set returns the type of sets of an element type.
func (u *Universe) Set(element Type) Type {
	list := u.list(element)
	return intern(u, "set "+number(element), func(id identity) *Set { return &Set{id, element, list} })
}

// Tuple returns the type of lists of exactly these elements.
func (u *Universe) Tuple(elements ...Type) Type {
	list := u.list(u.Gathered(elements...))
	return intern(u, "tuple"+numbers(elements), func(id identity) *Tuple { return &Tuple{id, elements, list} })
}

// Map returns `{ *: T }`.
func (u *Universe) Map(rest Type) Type { return u.record(nil, rest, false) }

// Record returns a record type; rest is the type of all other fields, nil when there are none.
func (u *Universe) Record(fields []Field, rest Type) Type { return u.record(fields, rest, false) }

// RecordOf returns a record type. Loose says that its values have not passed into it, so that their fields are in any
// order.
func (u *Universe) RecordOf(fields []Field, rest Type, loose bool) Type {
	return u.record(fields, rest, loose)
}

// manyFields is the number of fields up to which looking through them is faster than a map.
const manyFields = 8

func (u *Universe) record(fields []Field, rest Type, loose bool) *Record {
	var key strings.Builder
	key.WriteString("record")
	for i := range fields {
		fields[i].key(&key)
	}
	if loose {
		key.WriteString(" loose")
	}
	if rest != nil {
		key.WriteString(" *" + number(rest))
	}
	return intern(u, key.String(), func(id identity) *Record {
		var index map[string]int
		if len(fields) > manyFields {
			index = make(map[string]int, len(fields))
			for i, f := range fields {
				index[f.Name] = i
			}
		}
		return &Record{id, fields, rest, loose, index}
	})
}

// key writes what a field adds to the key of its record. What is reported of a field is reported of the one that was
// declared at its place, so that the place is part of the key.
func (f *Field) key(b *strings.Builder) {
	fmt.Fprintf(b, " %q %d", f.Name, f.Type.id().number)
	if f.Optional {
		b.WriteByte('?')
	}
	if f.Default != nil {
		fmt.Fprintf(b, "=%d", f.Default.Number)
	}
	if f.Secret {
		b.WriteByte('!')
	}
	if f.Deprecated != "" {
		fmt.Fprintf(b, "-%q", f.Deprecated)
	}
	if f.Span.IsValid() {
		fmt.Fprintf(b, "@%d", f.Span.Start)
	}
}

// Function returns the type of functions.
func (u *Universe) Function(parameters []Type, required int, result Type) Type {
	key := fmt.Sprintf("function %d %s%s", required, number(result), numbers(parameters))
	return intern(u, key, func(id identity) *Function { return &Function{id, parameters, required, result} })
}

// Instance returns the type of the instances of a module; name is what messages call it.
func (u *Universe) Instance(module int, name string) Type {
	key := "instance " + strconv.Itoa(module)
	return intern(u, key, func(id identity) *Instance { return &Instance{id, name, module} })
}

// Limit returns a type limited by conditions.
func (u *Universe) Limit(base Type, conditions []*Condition) Type {
	key := "limited " + number(base)
	for _, c := range conditions {
		key += " " + strconv.Itoa(c.Number)
	}
	return intern(u, key, func(id identity) *Limited { return &Limited{id, base, conditions} })
}

// Named returns a new type with a name, unlike any other. What it stands for is told by Resolve.
func (u *Universe) Named(name string) *Named {
	u.unresolved.Add(1)
	return u.named(name, nil)
}

func (u *Universe) named(name string, expand func() Type) *Named {
	u.mu.Lock()
	defer u.mu.Unlock()
	return &Named{identity: u.identify(), Name: name, expand: expand}
}

// Lazy returns a new type with a name. What it stands for is found when it is first needed.
func (u *Universe) Lazy(name string, expand func() Type) *Named {
	return u.named(name, expand)
}

// Variable returns a type variable of the signature of a built-in function.
func (u *Universe) Variable(name string) Type {
	return intern(u, "variable "+name, func(id identity) *Variable { return &Variable{id, name} })
}

// Optional returns T | null.
func (u *Universe) Optional(t Type) Type { return u.Union(t, Null) }
