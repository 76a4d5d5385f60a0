package types

import (
	"fmt"
	"strconv"
	"strings"

	"knothole/core/place"
	"knothole/core/value"
)

// textDepth is how deep the fields of records are shown, shownFields how many of them.
const (
	textDepth   = 2
	shownFields = 4
)

// String returns the name of the type.
func (t *Basic) String() string { return t.name }

// String returns the value as it would be written.
func (t *Literal) String() string {
	switch v := t.Value.(type) {
	case string:
		return strconv.Quote(v)
	case float64:
		return value.FormatFloat(v)
	}
	return fmt.Sprint(t.Value)
}

// String returns the name.
func (t *Named) String() string { return t.Name }

// String returns the name.
func (t *Variable) String() string { return t.Name }

// String returns the name.
func (t *Instance) String() string { return t.Name }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Limited) String() string { return text(t, textDepth) }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *List) String() string { return text(t, textDepth) }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Set) String() string { return text(t, textDepth) }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Tuple) String() string { return text(t, textDepth) }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Union) String() string { return text(t, textDepth) }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Function) String() string { return text(t, textDepth) }

// String returns the type as it would be written, limits left out, long records shortened.
func (t *Record) String() string { return text(t, textDepth) }

// text writes a type; depth is how deep the fields of records are shown.
func text(t Type, depth int) string {
	switch t := t.(type) {
	case *Limited:
		return text(t.Base, depth)
	case *Set:
		return "{" + text(t.Element, depth) + "}"
	case *List:
		return "[" + text(t.Element, depth) + "]"
	case *Tuple:
		return "[" + texts(t.Elements, ", ", depth) + "]"
	case *Function:
		return "fn(" + texts(t.Parameters, ", ", depth) + ") -> " + text(t.Result, depth)
	case *Union:
		if other := t.orNull(); other != nil {
			return text(other, depth) + "?"
		}
		return texts(t.Members, " | ", depth)
	case *Record:
		return t.text(depth)
	}
	return t.String()
}

func texts(all []Type, separator string, depth int) string {
	written := make([]string, len(all))
	for i, t := range all {
		written[i] = text(t, depth)
	}
	return strings.Join(written, separator)
}

// orNull returns the type of which a union is written with a question mark; nil when it is not.
func (t *Union) orNull() Type {
	if len(t.Members) != 2 {
		return nil
	}
	for i, m := range t.Members {
		switch other := t.Members[1-i]; other.(type) {
		case *Literal, *Function:
		default:
			if m == Null {
				return other
			}
		}
	}
	return nil
}

func (t *Record) text(depth int) string {
	if len(t.Fields) == 0 && t.Rest == nil {
		return "{}"
	}
	if depth == 0 {
		return "{ … }"
	}
	var fields []string
	for i, f := range t.Fields {
		if i == shownFields && len(t.Fields) > shownFields+1 {
			fields = append(fields, "…")
			break
		}
		mark := ""
		if f.Optional {
			mark = "?"
		}
		written := place.Key(f.Name) + mark + ": " + text(f.Type, depth-1)
		if f.Secret {
			written = "secret " + written
		}
		fields = append(fields, written)
	}
	if t.Rest != nil {
		fields = append(fields, "*: "+text(t.Rest, depth-1))
	}
	return "{ " + strings.Join(fields, ", ") + " }"
}

// Article puts "a" or "an" before the name of a type where a sentence needs it.
func Article(t Type) string {
	switch t := t.(type) {
	case *Record:
		return "a record " + t.String()
	case *List:
		return "a list " + t.String()
	case *Basic, *Limited:
		switch Core(t) {
		case Int:
			return "an int"
		case Bool, Float, String:
			return "a " + t.String()
		}
	}
	return t.String()
}

// Describe names what was found: a literal by its own type and value.
func Describe(t Type) string {
	if LiteralValue(t) != nil {
		return fmt.Sprintf("the %s %s", Widen(t), t)
	}
	return Article(t)
}

// Difference says in which part a record or list does not fit another; it is empty when the whole is of another kind.
func Difference(got, want Type) string { return difference(got, want, "") }

func difference(got, want Type, path string) string {
	at := func(name string) string { return strings.TrimPrefix(path+"."+name, ".") }
	if from, to := AsList(got), AsList(want); from != nil && to != nil {
		if AsTuple(want) != nil && AsTuple(got) == nil {
			return "it may have any number of elements"
		}
		if inner := difference(from.Element, to.Element, path+"[]"); inner != "" {
			return inner
		}
		return fmt.Sprintf("its elements are %s, not %s", from.Element, to.Element)
	}
	from, to := AsRecord(got), AsRecord(want)
	if from == nil || to == nil {
		return ""
	}
	unlike := func(name string, got, want Type) string {
		if inner := difference(got, want, at(name)); inner != "" {
			return inner
		}
		return fmt.Sprintf("%s is %s, not %s", at(name), Describe(got), Article(want))
	}
	for _, f := range to.Fields {
		given, ok := from.Field(f.Name)
		required := !f.Optional && f.Default == nil
		switch {
		case ok && !Assignable(given.Type, f.Type):
			return unlike(f.Name, given.Type, f.Type)
		case ok && given.Optional && required:
			return at(f.Name) + " may be absent"
		case !ok && required && from.Rest == nil:
			return at(f.Name) + " is missing"
		}
	}
	for _, f := range from.Fields {
		if _, ok := to.Field(f.Name); ok {
			continue
		}
		if to.Rest == nil {
			return "there is no field " + at(f.Name)
		}
		if !Assignable(f.Type, to.Rest) {
			return unlike(f.Name, f.Type, to.Rest)
		}
	}
	if from.Rest != nil && to.Rest == nil {
		return "it may have any other fields"
	}
	return ""
}
