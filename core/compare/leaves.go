package compare

import (
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// The environment itself comes first, if it differs.
const tagsName = "env.tags"

// delta is how a value, or a part of it, differs between two environments. A nil one says that it does not.
type delta struct {
	leaf int // the number of the leaf that it is as a whole; -1 when its parts are
	// order is the number of the leaf that is the order of its keys; -1 when that is the same.
	order    int
	keys     map[string]*delta
	elements []*delta
}

// differences are the leaves in which two environments differ, and how they are in the inputs.
type differences struct {
	unit   *project.Unit
	sides  [2]*project.Run
	worlds [2]*eval.World // recorded
	bases  [2]*eval.World // not recorded, of which what is tried is a variant; nil as long as nothing was
	given  [2][]project.Assignment
	inputs []*delta
	leaves []explain.Reason // a leaf is an input or a part of one, what the environment is called, or its tags
	// name and tags are the numbers of the leaves that say how the environment is called; -1 when it is the same.
	name, tags int
	byName     map[string][]int // what named found
	// beginning and complete index the leaves by the prefixes of their fields, and by all of them.
	beginning, complete map[string][]int
	values              int // how many there are in the inputs of a side
}

func newDifferences(u *project.Unit, left, right *render.Result) *differences {
	d := &differences{byName: map[string][]int{}, unit: u, name: -1, tags: -1,
		worlds: [2]*eval.World{left.World, right.World},
		sides:  [2]*project.Run{left.Run, right.Run}}
	for i, run := range d.sides {
		d.given[i] = run.Assignments()
	}
	if d.sides[0].Name != d.sides[1].Name {
		d.name = d.add(explain.Reason{Name: explain.EnvironmentName})
	}
	if !slices.Equal(d.sides[0].Tags, d.sides[1].Tags) {
		d.tags = d.add(explain.Reason{Name: tagsName})
	}
	for _, a := range d.given[0] {
		if !a.Missing {
			d.values += valuesIn(a.Value)
		}
	}
	for i := range d.given[0] {
		d.inputs = append(d.inputs, d.input(&d.given[0][i], &d.given[1][i]))
	}
	return d
}

func (d *differences) add(l explain.Reason) int {
	d.leaves = append(d.leaves, l)
	return len(d.leaves) - 1
}

// input finds how an input differs. Its defaults are taken as if they were given, unless they depend on something,
// such as the environment: then it is that which differs.
func (d *differences) input(a, b *project.Assignment) *delta {
	path := (*place.Path)(nil).Field(a.Input.Name)
	switch {
	case a.Missing && b.Missing:
		return nil // both are not known, and not compared
	case a.Missing || b.Missing:
		found := d.whole(path, a.Value, b.Value)
		l := &d.leaves[found.leaf]
		for i, at := range []*source.Pos{&l.Left, &l.Right} {
			if of := []*project.Assignment{a, b}[i]; of.Missing {
				*at = of.From.Pos()
			}
		}
		return found
	}
	if x, ok := d.filled(0, a.Input); ok {
		if y, ok := d.filled(1, a.Input); ok {
			a.Value, b.Value, a.Converted, b.Converted = x, y, true, true
		}
	}
	return d.value(path, a.Value, b.Value)
}

// filled returns the value of an input with its defaults; ok is false when one of them depends on something.
func (d *differences) filled(side int, o *check.Object) (v value.Value, ok bool) {
	if v, ok = d.worlds[side].Value(o); !ok {
		return v, false
	}
	return v, value.Walk([]value.Value{v}, func(x value.Value) bool {
		step, recorded := d.worlds[side].Recorder().Step(x.Origin())
		return !recorded || len(step.Operands) == 0
	})
}

// whole is a difference of which no part is told apart.
func (d *differences) whole(path *place.Path, a, b value.Value) *delta {
	return &delta{leaf: d.add(explain.Reason{Name: path.String(), Path: path, Left: d.posOf(0, path, a),
		Right: d.posOf(1, path, b)}), order: -1}
}

// posOf is the line that gives a part of an input its value on a side.
func (d *differences) posOf(side int, path *place.Path, v value.Value) source.Pos {
	if v.IsAbsent() {
		return d.absentAt(d.sides[side], path)
	}
	return d.worlds[side].Recorder().Pos(v.Origin())
}

// absentAt is the place that says that nothing is given: of the null that takes it away, or of the default.
func (d *differences) absentAt(run *project.Run, path *place.Path) source.Pos {
	fields := path.Fields()
	if len(path.Steps()) == len(fields) { // no list is on the way
		if at := run.AllLayers().TakenAway(fields); at.IsValid() {
			return at
		}
	}
	if len(fields) != 1 {
		return source.NoPos
	}
	for _, o := range d.unit.Inputs() {
		if in, ok := o.Declaration.(*syntax.Input); ok && o.Name == fields[0] && in.Default != nil {
			return in.Default.Place().Start
		}
	}
	return source.NoPos
}

func (d *differences) value(path *place.Path, a, b value.Value) *delta {
	switch {
	case a.Kind() == value.Record && b.Kind() == value.Record:
		return d.record(path, a, b)
	case a.Kind() == value.List && b.Kind() == value.List && a.Len() == b.Len():
		found := &delta{leaf: -1, order: -1, elements: make([]*delta, a.Len())}
		differ := false
		for i, x := range a.Elements() {
			found.elements[i] = d.value(path.Index(i), x, b.Elements()[i])
			differ = differ || found.elements[i] != nil
		}
		if differ {
			return found
		}
		return nil
	case a.IsAbsent() && b.IsAbsent() || !a.IsAbsent() && !b.IsAbsent() && value.Identical(a, b):
		return nil
	}
	return d.whole(path, a, b)
}

func (d *differences) record(path *place.Path, a, b value.Value) *delta {
	found := &delta{leaf: -1, order: -1, keys: map[string]*delta{}}
	var common [2][]string
	for i, key := range a.Shape().Keys() {
		other := b.Get(key)
		if kid := d.value(path.Field(key), a.Values()[i], other); kid != nil {
			found.keys[key] = kid
		}
		if !other.IsAbsent() {
			common[0] = append(common[0], key)
		}
	}
	for i, key := range b.Shape().Keys() {
		if !a.Get(key).IsAbsent() {
			common[1] = append(common[1], key)
		} else if kid := d.value(path.Field(key), value.Value{}, b.Values()[i]); kid != nil {
			found.keys[key] = kid
		}
	}
	if !slices.Equal(common[0], common[1]) {
		found.order = d.whole(path, a, b).leaf
	}
	if len(found.keys) == 0 && found.order < 0 {
		return nil
	}
	return found
}

// with returns the inputs of one side with some of the leaves as on the other.
func (d *differences) with(side int, on func(leaf int) bool) []project.Assignment {
	all := slices.Clone(d.given[side])
	for i := range all {
		change, other := d.inputs[i], d.given[1-side][i]
		switch {
		case change == nil:
		case change.leaf >= 0:
			if on(change.leaf) {
				all[i] = other
			}
		case change.changes(on):
			all[i].Value, all[i].Converted = change.apply(all[i].Value, other.Value, on), false
		}
	}
	return all
}

// changes reports whether a value has any of some leaves.
func (c *delta) changes(on func(leaf int) bool) bool {
	if c == nil {
		return false
	}
	if c.leaf >= 0 && on(c.leaf) || c.order >= 0 && on(c.order) {
		return true
	}
	for _, kid := range c.keys {
		if kid.changes(on) {
			return true
		}
	}
	return slices.ContainsFunc(c.elements, func(kid *delta) bool { return kid.changes(on) })
}

// apply returns a value with some of its leaves as in another.
func (c *delta) apply(v, other value.Value, on func(leaf int) bool) value.Value {
	switch {
	case !c.changes(on):
		return v
	case c.leaf >= 0 && on(c.leaf):
		return other
	case c.leaf >= 0:
		return v
	case c.elements != nil:
		return value.MapParts(v, func(i int, x value.Value) value.Value {
			return c.elements[i].apply(x, other.Elements()[i], on)
		})
	}
	keys := c.ordered(v.Shape().Keys(), other.Shape().Keys(), on)
	var b value.Builder
	for _, key := range keys {
		x := v.Get(key)
		if kid := c.keys[key]; kid != nil {
			x = kid.apply(x, other.Get(key), on)
		}
		if !x.IsAbsent() {
			b.Set(key, x)
		}
	}
	return b.Record(v.Origin())
}

// ordered returns the keys of both in the order of the first, or of the second if that is wanted. A key that is in the
// second alone comes after the one that it comes after there.
func (c *delta) ordered(own, others []string, on func(leaf int) bool) []string {
	if c.order >= 0 && on(c.order) {
		own, others = others, own
	}
	there := make(map[string]bool, len(own))
	for _, key := range own {
		there[key] = true
	}
	behind := map[string][]string{} // what is in the second alone, by what it comes after
	first := []string{}
	for i, key := range others {
		switch {
		case there[key]:
		case i == 0:
			first = append(first, key)
		default:
			behind[others[i-1]] = append(behind[others[i-1]], key)
		}
	}
	all := make([]string, 0, len(own)+len(others))
	for _, key := range append(first, own...) {
		for key, more := key, true; more; {
			all = append(all, key)
			next := behind[key]
			if more = len(next) > 0; more {
				key = next[0]
			}
		}
	}
	return all
}

func (d *differences) all() []explain.Reason { return d.leaves }

// effort is the cost of merging and converting the inputs, in documents.
func (d *differences) effort() int { return d.values / valuesOfDocument }

// valuesOfDocument is the number of input values whose conversion costs as much as evaluating a document.
const valuesOfDocument = 60

func valuesIn(v value.Value) int {
	n := 1
	for _, x := range value.Parts(v) {
		n += valuesIn(x)
	}
	return n
}

// named returns the leaves that the reasons of a cause name, or are a part of what they name, or have a part of that
// name.
func (d *differences) named(c *explain.Cause) (leaves []int) {
	for _, r := range c.Because {
		found, ok := d.byName[r.Name]
		if !ok {
			found = d.leavesOf(r)
			d.byName[r.Name] = found
		}
		leaves = append(leaves, found...)
	}
	slices.Sort(leaves)
	return slices.Compact(leaves)
}

// leavesOf returns the leaves that a reason names. It finds them by prefix, because a large input has many leaves.
func (d *differences) leavesOf(r explain.Reason) (leaves []int) {
	if d.beginning == nil {
		d.beginning, d.complete = map[string][]int{}, map[string][]int{}
		for i, l := range d.leaves {
			fields := l.Path.Fields()
			for n := range fields {
				key := strings.Join(fields[:n+1], "\x00")
				d.beginning[key] = append(d.beginning[key], i)
			}
			key := strings.Join(fields, "\x00")
			d.complete[key] = append(d.complete[key], i)
		}
	}
	if r.Path == nil {
		return d.complete[""] // what is no input
	}
	fields := r.Path.Fields()
	for n := 1; n < len(fields); n++ {
		leaves = append(leaves, d.complete[strings.Join(fields[:n], "\x00")]...)
	}
	return append(leaves, d.beginning[strings.Join(fields, "\x00")]...)
}

func (d *differences) render(side int, on set, wanted func(path string) bool) []render.Document {
	environment := eval.Environment{Name: d.sides[side].Name, Tags: d.sides[side].Tags}
	if d.name >= 0 && on.has(d.name) {
		environment.Name = d.sides[1-side].Name
	}
	if d.tags >= 0 && on.has(d.tags) {
		environment.Tags = d.sides[1-side].Tags
	}
	if d.bases[side] == nil {
		run := d.sides[side]
		d.bases[side] = d.unit.Project.WorldOf(eval.Environment{Name: run.Name, Tags: run.Tags}, d.given[side], false)
	}
	w := project.Variant(d.bases[side], environment, d.with(side, on.has),
		func(input int) bool { return d.inputs[input].changes(on.has) })
	w.LoseParts()
	return render.World(d.sides[side], w, render.Options{Only: wanted}).Documents
}
