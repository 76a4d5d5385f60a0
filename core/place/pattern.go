package place

import (
	"slices"

	"knothole/core/value"
)

// PatternKind says which places a step of a pattern names.
type PatternKind uint8

// The kinds of steps of patterns.
const (
	OneKey       PatternKind = iota // the field with the key
	SomeKeys                        // those of the fields with the keys that are there
	AnyKey                          // every field
	AnyDepth                        // the place itself, and every place below it that has the next step
	OneIndex                        // the element at the position, counted from the end when negative
	End                             // behind the last element
	OneElement                      // the only element that holds
	SomeElements                    // every element that holds; there must be one
	AnyElement                      // every element
	NamedElement                    // the only element that is known by the key, or the field with it
)

// PatternStep is one step of a pattern.
type PatternStep struct {
	Kind  PatternKind
	Keys  []string // OneKey, NamedElement: one; SomeKeys: all
	Index int64
	// Holds reports whether an element is meant; for OneElement and SomeElements.
	Holds func(element value.Value) bool
}

// Pattern names places in data: none, one or several.
type Pattern []PatternStep

// Verb is what Change does at the places that a pattern names.
type Verb uint8

// The verbs. Add puts a value where none is, Replace where one is, Put where the place around it is; Merge lays a
// record over one that is there; Remove takes away what is there.
const (
	Add Verb = iota
	Replace
	Put
	Merge
	Remove
)

// Reason says why a place does not meet a verb.
type Reason uint8

// The reasons.
const (
	Missing    Reason = iota // there is no such field, element or place
	NotRecord                // the step needs a record
	NotList                  // the step needs a list
	Taken                    // Add: something is there
	Several                  // OneElement: more than one holds
	NoneHolds                // OneElement, SomeElements: none holds
	CannotJoin               // Merge: what is there is no record
	TooDeep                  // AnyDepth: the data nests too deep
)

// Miss says how far a pattern led before something did not meet it.
type Miss struct {
	Reason   Reason
	Step     int         // the step that is not met; the number of steps when all are, but not the verb
	Path     *Path       // how far the steps before it led
	Found    value.Value // what is there
	Elements []int       // Several: the positions of the elements
	More     int         // how many places did not meet it either
}

// Edit is a change of data.
type Edit struct {
	Verb Verb
	// Lenient leaves alone what does not meet the verb or the pattern.
	Lenient bool
	// Value makes the new value from the one that is there, which is Absent where none is. Merge gets the record to
	// lay over.
	Value func(old value.Value) value.Value
	// Join lays one record over another.
	Join func(under, over value.Value) value.Value
	// Spend counts work.
	Spend func(steps int)

	seen func(v value.Value, path *Path) // of Find, which changes nothing
}

// Found is a place that a pattern names.
type Found struct {
	Path  *Path
	Value value.Value
}

// Find returns the places that a pattern names, in order. When something does not meet the pattern, it returns the
// first such place too.
func Find(data value.Value, pattern Pattern, spend func(steps int)) (found []Found, miss *Miss) {
	edit := &Edit{Verb: Replace, Spend: spend,
		seen: func(v value.Value, path *Path) { found = append(found, Found{path, v}) }}
	_, _, miss = Change(data, pattern, edit)
	return found, miss
}

// searchDepth is how deep AnyDepth looks.
const searchDepth = 1000

// copyCost is how many steps an element counts that is copied, or a value that is made.
const copyCost = 8

// change is one Change on its way.
type change struct {
	*Edit
	pattern Pattern
	places  int
	first   *Miss // the first place that did not meet the pattern or the verb
	nothing *Miss // the first step that goes to all that is there, where nothing was
	depth   int
}

// Change returns data in which all places that a pattern names were changed, and how many they are. A result that is
// Absent says that the data itself was removed. When something does not meet the pattern, the data is returned as it
// was, with the first such place.
func Change(data value.Value, pattern Pattern, edit *Edit) (result value.Value, places int, miss *Miss) {
	c := &change{Edit: edit, pattern: pattern}
	result = c.at(data, 0, nil, false)
	if c.places == 0 && c.first == nil && !c.Lenient {
		c.first = c.nothing
	}
	if c.first != nil {
		return data, 0, c.first
	}
	return result, c.places, nil
}

func (c *change) miss(reason Reason, step int, path *Path, found value.Value) {
	switch {
	case c.Lenient && reason != Several && reason != TooDeep:
	case c.first == nil:
		c.first = &Miss{Reason: reason, Step: step, Path: path, Found: found}
	default:
		c.first.More++
	}
}

// goesToAll notes a step that goes to all that is there: when nothing at all is changed, there was nothing.
func (c *change) goesToAll(number int, path *Path, found value.Value) {
	if c.nothing == nil {
		c.nothing = &Miss{Reason: Missing, Step: number, Path: path, Found: found}
	}
}

// meet changes a place that all steps led to. v is Absent where nothing is.
func (c *change) meet(v value.Value, path *Path) value.Value {
	c.Spend(copyCost)
	if c.seen != nil && !v.IsAbsent() {
		c.places++
		c.seen(v, path)
		return v
	}
	switch {
	case c.Verb == Add && !v.IsAbsent():
		c.miss(Taken, len(c.pattern), path, v)
		return v
	case (c.Verb == Replace || c.Verb == Merge || c.Verb == Remove) && v.IsAbsent():
		return v // that the step is missing has been noted
	case c.Verb == Merge && v.Kind() != value.Record:
		c.miss(CannotJoin, len(c.pattern), path, v)
		return v
	}
	c.places++
	switch c.Verb {
	case Remove:
		return value.Value{}
	case Merge:
		return c.Join(v, c.Value(v))
	}
	return c.Value(v)
}

// at follows the pattern from the step with a number on. searching says that a step before was AnyDepth, so that a
// place that lacks this step is passed over.
func (c *change) at(v value.Value, number int, path *Path, searching bool) value.Value {
	if number == len(c.pattern) {
		return c.meet(v, path)
	}
	c.Spend(1)
	missing := func(reason Reason) value.Value {
		if !searching {
			c.miss(reason, number, path, v)
		}
		return v
	}
	step := &c.pattern[number]
	switch step.Kind {
	case AnyDepth:
		c.goesToAll(number, path, v)
		return c.search(v, number, path)
	case OneKey, SomeKeys, AnyKey:
		if v.Kind() != value.Record {
			return missing(NotRecord)
		}
		return c.keys(v, number, path, searching)
	}
	if step.Kind == NamedElement && v.Kind() == value.Record {
		return c.keys(v, number, path, searching)
	}
	if v.Kind() != value.List {
		return missing(NotList)
	}
	return c.elements(v, number, path, searching)
}

// creates reports whether the verb may put something where nothing is, at the last step.
func (c *change) creates(number int) bool {
	return number == len(c.pattern)-1 && (c.Verb == Add || c.Verb == Put)
}

func (c *change) keys(v value.Value, number int, path *Path, searching bool) value.Value {
	step := &c.pattern[number]
	keys := step.Keys
	if step.Kind == AnyKey {
		keys = v.Shape().Keys()
		c.goesToAll(number, path, v)
	}
	met := false
	result := v
	for _, key := range keys {
		child := v.Get(key)
		if child.IsAbsent() && (step.Kind == SomeKeys || searching || !c.creates(number)) {
			continue
		}
		met = true
		if changed := c.at(child, number+1, path.Field(key), false); changed != child {
			c.Spend(copyCost * (1 + result.Len()))
			result = withField(result, key, changed)
		}
	}
	if !met && !searching && step.Kind != AnyKey {
		c.miss(Missing, number, path, v)
	}
	return result
}

// withField returns a record with one field set, or removed when the value is Absent.
func withField(record value.Value, key string, v value.Value) value.Value {
	if i := record.Shape().Index(key); i >= 0 && !v.IsAbsent() {
		values := slices.Clone(record.Values())
		values[i] = v
		return value.RecordOf(record.Shape(), values, record.Origin())
	}
	var b value.Builder
	b.Grow(record.Len() + 1)
	for i, k := range record.Shape().Keys() {
		if k != key {
			b.Set(k, record.Values()[i])
		}
	}
	if !v.IsAbsent() {
		b.Set(key, v)
	}
	return b.Record(record.Origin())
}

func (c *change) elements(v value.Value, number int, path *Path, searching bool) value.Value {
	step := &c.pattern[number]
	elements := v.Elements()
	c.Spend(len(elements))
	var chosen []int
	switch step.Kind {
	case End:
		return c.insert(v, len(elements), path)
	case OneIndex:
		i := step.Index
		if i < 0 {
			i += int64(len(elements))
		}
		if c.Verb == Add && number == len(c.pattern)-1 && i >= 0 && i <= int64(len(elements)) {
			return c.insert(v, int(i), path)
		}
		if i >= 0 && i < int64(len(elements)) {
			chosen = append(chosen, int(i))
		} else if !searching {
			c.miss(Missing, number, path, v)
		}
	default:
		if step.Kind == AnyElement {
			c.goesToAll(number, path, v)
		}
		for i, x := range elements {
			if step.Kind == AnyElement || step.Kind == NamedElement && IsKnownAs(x, step.Keys[0]) ||
				step.Kind != NamedElement && step.Holds(x) {
				chosen = append(chosen, i)
			}
		}
		switch {
		case (step.Kind == OneElement || step.Kind == NamedElement) && len(chosen) > 1:
			if c.miss(Several, number, path, v); c.first.Elements == nil {
				c.first.Elements = chosen
			}
			return v
		case step.Kind != AnyElement && len(chosen) == 0 && !searching:
			c.miss(NoneHolds, number, path, v)
		}
	}
	var changed []value.Value
	for _, i := range chosen {
		if x := c.at(elements[i], number+1, path.Index(i), false); x != elements[i] {
			if changed == nil {
				c.Spend(copyCost * len(elements))
				changed = slices.Clone(elements)
			}
			changed[i] = x
		}
	}
	if changed == nil {
		return v
	}
	changed = slices.DeleteFunc(changed, value.Value.IsAbsent)
	return value.ListOf(changed, v.Origin())
}

// insert puts a new element before a position of a list.
func (c *change) insert(list value.Value, i int, path *Path) value.Value {
	v := c.meet(value.Value{}, path.Index(i))
	return value.ListOf(slices.Insert(slices.Clone(list.Elements()), i, v), list.Origin())
}

// search follows the steps behind AnyDepth from every place that has the next one.
func (c *change) search(v value.Value, number int, path *Path) value.Value {
	c.depth++
	defer func() { c.depth-- }()
	if c.depth > searchDepth {
		c.miss(TooDeep, number, path, v)
		return v
	}
	if v.Kind() != value.List && v.Kind() != value.Record {
		return v
	}
	c.Spend(1 + copyCost*v.Len())
	result := value.MapParts(v, func(i int, part value.Value) value.Value {
		if v.Kind() == value.List {
			return c.search(part, number, path.Index(i))
		}
		return c.search(part, number, path.Field(v.Shape().Keys()[i]))
	})
	return c.at(result, number+1, path, true)
}
