package place

import (
	"fmt"
	"strings"
	"unicode"

	"knothole/core/value"
)

// Kind returns the kind of an object in the open object format, as its field of that name says; empty when it says
// none, or it is hidden.
func Kind(v value.Value) string { return plainText(v, "kind") }

// Object returns the kind of an object in the open object format and the name in its metadata; ok is false when it does
// not have both, or one of them is hidden.
func Object(v value.Value) (kind, name string, ok bool) {
	kind = Kind(v)
	if kind == "" {
		return "", "", false
	}
	metadata := v.Get("metadata")
	if metadata.Kind() != value.Record || metadata.Get("name").Kind() != value.String || metadata.Get("name").Mark() != 0 {
		return "", "", false
	}
	return kind, metadata.Get("name").Text(), true
}

// Title names an object by its kind and name, such as "Deployment bay-map"; it is empty for what is none.
func Title(v value.Value) string {
	if kind, name, ok := Object(v); ok {
		return kind + " " + name
	}
	return ""
}

// plainText returns the text of a field of a record; empty when it has none, or it is hidden.
func plainText(v value.Value, field string) string {
	if v.Kind() != value.Record {
		return ""
	}
	if text := v.Get(field); text.Kind() == value.String && text.Mark() == 0 {
		return text.Text()
	}
	return ""
}

// title stands for the kind and the name of an object, by which those of a stream are known.
const title = "kind and name"

// identifying are the fields by which the elements of a list are known: the first that all have, and no two the same.
var identifying = []string{"name", title, "id", "key", "path", "host", "port"}

// key returns the text by which an element is known through a field. An object in the open format is known by the name
// in its metadata.
func key(element value.Value, field string) (string, bool) {
	if element.Kind() != value.Record {
		return "", false
	}
	if field == title {
		text := Title(element)
		return text, text != ""
	}
	if metadata := element.Get("metadata"); field == "name" && metadata.Kind() == value.Record {
		element = metadata
	}
	k := element.Get(field)
	if k.Mark() != 0 {
		return "", false // it would be shown
	}
	return k.Scalar()
}

// keysBy returns the texts by which elements are known through a field; ok is false when an element lacks it or two
// have the same.
func keysBy(elements []value.Value, field string) (keys []string, ok bool) {
	seen := make(map[string]bool, len(elements))
	for _, x := range elements {
		text, found := key(x, field)
		if !found || seen[text] {
			return nil, false
		}
		seen[text] = true
		keys = append(keys, text)
	}
	return keys, true
}

// Keys returns the texts by which the elements of several lists are known, through the first field that all of them
// have, in each list no two the same; accept says whether a field may be taken. It is nil when there is none.
func Keys(accept func(keys [][]string) bool, lists ...[]value.Value) [][]string {
fields:
	for _, field := range identifying {
		all := make([][]string, len(lists))
		for i, elements := range lists {
			keys, ok := keysBy(elements, field)
			if !ok {
				continue fields
			}
			all[i] = keys
		}
		if accept(all) {
			return all
		}
	}
	return nil
}

// KeysBy returns the texts of a field by which elements are known, and whether they are numbers; ok is false when an
// element lacks it, two have the same, or one has no string or whole number there.
func KeysBy(elements []value.Value, field string) (keys []string, numbers []bool, ok bool) {
	if keys, ok = keysBy(elements, field); !ok {
		return nil, nil, false
	}
	numbers = make([]bool, len(elements))
	for i, x := range elements {
		switch k := x.Get(field).Kind(); k {
		case value.Int, value.String:
			numbers[i] = k == value.Int
		default:
			return nil, nil, false
		}
	}
	return keys, numbers, true
}

// IsElement reports whether an element is the one to which a step leads by what it is known by.
func IsElement(element value.Value, step Step) bool {
	if step.By == "" {
		return IsKnownAs(element, step.Name)
	}
	text, ok := key(element, step.By)
	return ok && text == step.Name && (element.Get(step.By).Kind() == value.Int) == step.Number
}

// IsKnownAs reports whether an element is known by a text, through whatever field.
func IsKnownAs(element value.Value, name string) bool {
	for _, field := range identifying {
		if text, ok := key(element, field); ok && text == name {
			return true
		}
	}
	if element.Kind() != value.Record { // an object may have a name beside that in its metadata
		return false
	}
	text, ok := element.Get("name").Scalar()
	return ok && element.Get("name").Mark() == 0 && text == name
}

// Finder finds elements of lists by what they are known by. It remembers what it found of each list, so that each of
// many elements is found without going through all.
type Finder struct {
	lists map[indexed]map[string][]int
}

// indexed is a list, and by which field its elements are known; empty for any. The list itself is held: where it is in
// memory another would be, once it is gone.
type indexed struct {
	list value.Value
	by   string
}

// Find returns the elements to which a step leads, as IsElement says.
func (f *Finder) Find(list value.Value, step Step) (found []value.Value) {
	for _, i := range f.known(list, step.By)[step.Name] {
		if element := list.Elements()[i]; IsElement(element, step) {
			found = append(found, element)
		}
	}
	return found
}

// known returns the positions of elements by the texts that they may be known by.
func (f *Finder) known(list value.Value, by string) map[string][]int {
	at := indexed{list, by}
	if known, ok := f.lists[at]; ok {
		return known
	}
	known := map[string][]int{}
	add := func(text string, i int) {
		if all := known[text]; len(all) == 0 || all[len(all)-1] != i {
			known[text] = append(all, i)
		}
	}
	fields := identifying
	if by != "" {
		fields = []string{by}
	}
	for i, element := range list.Elements() {
		for _, field := range fields {
			if text, ok := key(element, field); ok {
				add(text, i)
			}
		}
		if by == "" && element.Kind() == value.Record {
			if text, ok := element.Get("name").Scalar(); ok {
				add(text, i)
			}
		}
	}
	if f.lists == nil {
		f.lists = map[indexed]map[string][]int{}
	}
	f.lists[at] = known
	return known
}

// Namer shows elements of lists by what they are known by. It remembers what it found of each list.
type Namer struct{ known map[value.Value][]string }

// Path returns a path in data on which the elements of lists are known by their keys, where they have any.
func (n *Namer) Path(data value.Value, path *Path) *Path {
	var result *Path
	for _, step := range path.Steps() {
		if step.Kind == Field {
			result, data = result.Field(step.Name), data.Get(step.Name)
			continue
		}
		if keys := n.keys(data); keys != nil && keys[step.Index] != "" {
			result = result.Keyed(keys[step.Index], step.Index)
		} else {
			result = result.Index(step.Index)
		}
		data = data.Elements()[step.Index]
	}
	return result
}

func (n *Namer) keys(list value.Value) []string {
	keys, ok := n.known[list]
	if !ok {
		if all := Keys(func([][]string) bool { return true }, list.Elements()); all != nil {
			keys = all[0]
		}
		if n.known == nil {
			n.known = map[value.Value][]string{}
		}
		n.known[list] = keys
	}
	return keys
}

// Quote writes a text as the language does: in double quotes, in which a dollar sign begins no interpolation and what
// cannot be seen is escaped.
func Quote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\' || r == '$':
			b.WriteString("\\" + string(r))
		case !unicode.IsPrint(r):
			fmt.Fprintf(&b, "\\u{%x}", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}
