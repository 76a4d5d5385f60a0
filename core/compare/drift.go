package compare

import (
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"knothole/core/place"
	"knothole/core/value"
)

// What runs is more than what was rendered: servers fill in defaults, and note what becomes of an object. So only what
// is rendered is compared, and what means the same is the same.

// DriftOptions say how what is rendered is compared with what runs.
type DriftOptions struct {
	// Namespace is that of objects which name none; empty when it does not matter.
	Namespace string
	// Owned says whether an object that only runs is one that should be rendered; nil for none.
	Owned func(object value.Value) bool
}

// Drift compares the objects of a rendered side with those that run. Documents that are no objects are not compared:
// it returns how many these are.
func Drift(rendered Side, running []value.Value, o DriftOptions) (c *Comparison, others int) {
	c = &Comparison{Sides: []string{rendered.Name, "running"}}
	taken := make([]bool, len(running))
	index := map[string][]int{}
	for i, v := range running {
		if id, ok := identity(v); ok {
			index[id] = append(index[id], i)
		}
	}
	for _, path := range paths([]Side{rendered}) {
		unit := rendered.Contents[path]
		objects := objectsOf(unit.Value)
		if len(objects) == 0 {
			others++
		}
		for _, left := range objects {
			id, ok := identity(left)
			if !ok {
				others++
				continue
			}
			d := Document{Path: path, Title: place.Title(left), On: []bool{true, false}, Status: OnlyLeft, Against: 1}
			at := slices.IndexFunc(index[id],
				func(i int) bool { return !taken[i] && o.sameNamespace(left, running[i]) })
			if at < 0 {
				d.Cause.Left = left.Origin().Pos()
				c.Documents = append(c.Documents, d)
				continue
			}
			i := index[id][at]
			taken[i] = true
			d.On[1], d.Status, d.Against = true, Same, 0
			if d.Root = CompareBy(rendered.known, left, within(left, running[i], nil)); d.Root != nil {
				d.Status, d.Rows = Differs, d.Root.Rows()
			}
			c.Documents = append(c.Documents, d)
		}
	}
	for i, v := range running {
		if _, ok := identity(v); ok && !taken[i] && o.Owned != nil && o.Owned(v) && !isControlled(v) {
			c.Documents = append(c.Documents, Document{Path: "running", Title: place.Title(v), On: []bool{false, true},
				Status: OnlyRight, Against: 1})
		}
	}
	return c, others
}

// ExplainDrift adds the lines that made what is rendered.
func (c *Comparison) ExplainDrift(rendered Side) {
	recorder := rendered.recorder()
	for i := range c.Documents {
		d := &c.Documents[i]
		if d.Against > 0 && d.Rows == nil {
			if unit := rendered.Contents[d.Path]; unit != nil {
				d.Cause.Left = recorder.Pos(unit.Name.Origin())
			}
		}
		for j := range d.Rows {
			if row := &d.Rows[j]; !row.Left().IsAbsent() {
				row.Cause.Left, row.Against = recorder.Pos(row.Left().Origin()), 1
			}
		}
	}
}

// Objects returns the objects in data: itself, those of a stream, and those of a list of objects.
func Objects(v value.Value) []value.Value { return objectsOf(v) }

func objectsOf(v value.Value) []value.Value {
	switch {
	case v.Kind() == value.List:
		var all []value.Value
		for _, x := range v.Elements() {
			all = append(all, objectsOf(x)...)
		}
		return all
	case v.Kind() != value.Record:
		return nil
	case strings.HasSuffix(place.Kind(v), "List") && v.Get("items").Kind() == value.List:
		return objectsOf(v.Get("items"))
	case place.Kind(v) == "":
		return nil
	}
	return []value.Value{v}
}

// identity is by what an object is known, its name space aside.
func identity(v value.Value) (string, bool) {
	kind, name, ok := place.Object(v)
	version := v.Get("apiVersion")
	if !ok || version.Kind() != value.String || version.Mark() != 0 {
		return "", false
	}
	group, _, grouped := strings.Cut(version.Text(), "/") // one object has several versions
	if !grouped {
		group = ""
	}
	return fmt.Sprintf("%s\n%s\n%s", group, kind, name), true
}

func (o DriftOptions) sameNamespace(left, right value.Value) bool {
	of := func(v value.Value) string {
		if n := v.Get("metadata").Get("namespace"); n.Kind() == value.String {
			return n.Text()
		}
		return ""
	}
	wanted := of(left)
	if wanted == "" {
		wanted = o.Namespace
	}
	return wanted == "" || of(right) == "" || wanted == of(right)
}

// isControlled reports whether another object made an object, and would make it again.
func isControlled(v value.Value) bool {
	owners := v.Get("metadata").Get("ownerReferences")
	return owners.Kind() == value.List && slices.ContainsFunc(owners.Elements(), func(x value.Value) bool {
		return x.Kind() == value.Record && x.Get("controller").Kind() == value.Bool && x.Get("controller").Bool()
	})
}

// within returns of what runs what is rendered: what servers add is left out, and what means the same is as it is
// rendered.
func within(left, right value.Value, path []string) value.Value {
	switch {
	case left.Unknown() || right.IsAbsent() && isNothing(left):
		return left
	case right.IsAbsent():
		return right
	case left.Kind() == value.Record && right.Kind() == value.Record:
		var b value.Builder
		for i, key := range left.Shape().Keys() {
			x, y := left.Values()[i], right.Get(key)
			if len(path) == 0 && key == "stringData" && place.Kind(left) == "Secret" && y.IsAbsent() {
				y = decoded(x, right.Get("data"))
			}
			if y = within(x, y, append(path, key)); !y.IsAbsent() {
				b.Set(key, y)
			}
		}
		return b.Record(right.Origin())
	case left.Kind() == value.List && right.Kind() == value.List:
		return withinList(left, right, path)
	case meansTheSame(left, right, path):
		return left
	}
	return right
}

// isNothing reports whether servers leave a value out: it says nothing, or no more than that it is not there. Where
// something else is the default they have it, since they fill that in.
func isNothing(v value.Value) bool {
	switch v.Kind() {
	case value.Null:
		return true
	case value.Record, value.List:
		return v.Len() == 0
	case value.Bool:
		return !v.Bool()
	case value.Int:
		return v.Int() == 0
	case value.String:
		return v.Text() == ""
	}
	return false
}

// withinList looks at elements with keys one by one, in the order in which they are rendered; what only runs comes
// last.
func withinList(left, right value.Value, path []string) value.Value {
	keys := place.Keys(func([][]string) bool { return true }, left.Elements(), right.Elements())
	var elements []value.Value
	if keys == nil {
		for i, y := range right.Elements() {
			if i < left.Len() && left.Len() == right.Len() {
				y = within(left.Elements()[i], y, append(path, "[]"))
			}
			elements = append(elements, y)
		}
		return value.ListOf(elements, right.Origin())
	}
	for i, key := range keys[0] {
		if at := slices.Index(keys[1], key); at >= 0 {
			elements = append(elements, within(left.Elements()[i], right.Elements()[at], append(path, "[]")))
		}
	}
	for i, key := range keys[1] {
		if !slices.Contains(keys[0], key) {
			elements = append(elements, right.Elements()[i])
		}
	}
	return value.ListOf(elements, right.Origin())
}

// shownOfSecret are the fields that identify a Secret. Any other field may contain secret data.
var shownOfSecret = []string{"apiVersion", "kind", "type", "immutable", "metadata"}

// HideSecrets redacts the data of Secrets in a running object, including objects inside others. It also redacts the
// annotations of a Secret, because tools store copies of objects in them.
func HideSecrets(v value.Value) value.Value {
	switch v.Kind() {
	case value.List:
		elements := make([]value.Value, v.Len())
		for i, x := range v.Elements() {
			elements[i] = HideSecrets(x)
		}
		return value.ListOf(elements, v.Origin())
	case value.Record:
		var b value.Builder
		secret := place.Kind(v) == "Secret"
		for i, key := range v.Shape().Keys() {
			x := v.Values()[i]
			switch {
			case !secret:
				x = HideSecrets(x)
			case !slices.Contains(shownOfSecret, key):
				x = value.MarkAll(x, value.Secret)
			case key == "metadata" && x.Kind() == value.Record && !x.Get("annotations").IsAbsent():
				x = value.Put(x, []string{"annotations"}, value.MarkAll(x.Get("annotations"), value.Secret))
			}
			b.Set(key, x)
		}
		return b.Record(v.Origin())
	}
	return v
}

// decoded returns what runs of a secret, by the names that are rendered. It stays secret.
func decoded(left, data value.Value) value.Value {
	if left.Kind() != value.Record || data.Kind() != value.Record {
		return value.Value{}
	}
	var b value.Builder
	for _, key := range left.Shape().Keys() {
		v := data.Get(key)
		if v.Kind() != value.String {
			continue
		}
		if text, err := base64.StdEncoding.DecodeString(v.Text()); err == nil {
			v = value.StringOf(string(text), v.Origin())
		}
		b.Set(key, value.MarkAll(v, value.Secret))
	}
	return b.Record(data.Origin())
}

// quantities are the fields in which amounts stand.
var quantities = []string{"limits", "requests", "capacity", "hard", "storage", "sizeLimit", "divisor", "overhead"}

// meansTheSame reports whether two scalars are one amount, or a number and its text where either may stand.
func meansTheSame(left, right value.Value, path []string) bool {
	if left.Mark() != 0 || right.Mark() != 0 || !slices.ContainsFunc(path, func(key string) bool {
		return slices.Contains(quantities, key)
	}) {
		return false
	}
	a, ok := left.Scalar()
	if !ok {
		return false
	}
	b, ok := right.Scalar()
	if !ok {
		return false
	}
	x, okX := amount(a)
	y, okY := amount(b)
	return okX && okY && x.Cmp(y) == 0
}
