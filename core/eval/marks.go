package eval

import (
	"slices"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/types"
	"knothole/core/value"
)

// derived gives a value the marks of what it was computed from. When that is not there, neither is the value: only
// its kind is known, and what stands for it is what stands for the first operand that is not there.
func derived(v value.Value, operands ...value.Value) value.Value {
	var m value.Mark
	for _, x := range operands {
		m |= x.Mark()
	}
	if m == 0 {
		return v
	}
	return bearing(v, m, operands)
}

// bearing is derived for marks that are known.
func bearing(v value.Value, m value.Mark, operands []value.Value) value.Value {
	if m&value.Unknown == 0 {
		return value.MarkAll(v, m)
	}
	kind := v.Kind()
	if kind != value.Bool && kind != value.Int && kind != value.Float {
		kind = value.String
	}
	return value.UnknownOf(kind, standsFor(operands), m, v.Origin())
}

// standsFor returns the placeholder of the first of several values that is not there.
func standsFor(values []value.Value) string {
	text := value.Hidden
	for _, v := range values {
		if found := !value.Walk([]value.Value{v}, func(x value.Value) bool {
			if x.Unknown() {
				text = x.Placeholder()
			}
			return !x.Unknown()
		}); found {
			break
		}
	}
	return text
}

// joined gives a text the marks of the texts that it was put together from. What stands for those that are not there
// stands in it.
func joined(v value.Value, operands ...value.Value) value.Value {
	for _, x := range operands {
		v = v.WithMark(x.Mark())
	}
	return v
}

// marks returns the marks of all that values hold. Where nothing is secret or open there are none to look for.
func (t *thread) marks(values ...value.Value) value.Mark {
	if !t.world.program.marked {
		return 0
	}
	return value.Marks(values...)
}

// marked returns a value among those that another contains that is hidden or open, rather one that is not known; absent
// when there is none.
func (t *thread) marked(v value.Value) (found value.Value) {
	if t.marks(v) == 0 {
		return value.Value{}
	}
	value.Walk([]value.Value{v}, func(x value.Value) bool {
		if x.Mark() != 0 && !x.IsNull() {
			found = x
		}
		return !found.Unknown()
	})
	return found
}

// compared gives the result of a comparison the marks of what was compared. Whether something is there is not hidden.
func (t *thread) compared(v, a, b value.Value) value.Value {
	if a.IsNull() || b.IsNull() {
		return v
	}
	if m := t.marks(a, b); m != 0 {
		return bearing(v, m, []value.Value{a, b})
	}
	return v
}

// maxLooked is how many parts of two values are looked at to find that they differ whatever is hidden in them.
const maxLooked = 100_000

// differ reports whether two values are certain to differ: by their kinds, by how much is in them, by keys, or by
// scalars that are not hidden. What is hidden does then not decide whether they are equal.
func (t *thread) differ(a, b value.Value) bool {
	left := maxLooked
	var differ func(a, b value.Value) bool
	differ = func(a, b value.Value) bool {
		left--
		switch {
		case left < 0 || a.Identity() != 0 && a.Identity() == b.Identity():
			return false
		case a.Kind() == value.List && b.Kind() == value.List:
			if a.Len() != b.Len() {
				return true
			}
			for i, x := range a.Elements() {
				if differ(x, b.Elements()[i]) {
					return true
				}
			}
			return false
		case a.Kind() == value.Record && b.Kind() == value.Record:
			if a.Len() != b.Len() {
				return true
			}
			for i, key := range a.Shape().Keys() {
				if other := b.Get(key); other.IsAbsent() || differ(a.Values()[i], other) {
					return true
				}
			}
			return false
		case a.Mark() != 0 || b.Mark() != 0:
			return false
		}
		return !value.Equal(a, b, func(n int) { left -= n })
	}
	result := differ(a, b)
	t.steps += maxLooked - max(0, left)
	return result
}

func adjective(m value.Mark) string {
	if m&value.Secret != 0 {
		return "secret"
	}
	return "known only after deployment"
}

// decides reports a value that may decide nothing, but would. What names the decision, such as "a condition".
func (t *thread) decides(v value.Value, what string, at source.Span) {
	finding := check.Decides(at, what, v.Mark())
	finding.Related = t.cameFrom(v, at)
	t.fail(finding)
}

// decide returns a value that decides something, which must not be hidden or open.
func (t *thread) decide(v value.Value, what string, at source.Span) value.Value {
	if v.Mark() != 0 {
		t.decides(v, what, at)
	}
	return v
}

// cameFrom is the related place of a value that is hidden or open.
func (t *thread) cameFrom(v value.Value, at source.Span) []source.Related {
	p := t.recorder.Pos(v.Origin())
	if !p.IsValid() || at.IsValid() && p == at.Start {
		return nil
	}
	return []source.Related{{Span: source.At(p), Text: "the value comes from here"}}
}

// known returns a value whose inside is needed: what is not there has none.
func (t *thread) known(v value.Value, at source.Span) value.Value {
	if v.Unknown() {
		help := "go through something that is known"
		if v.Secret() {
			help = "secrets are read only when they are written; give the parts that are needed an input each"
		}
		t.failAt(source.NotKnown, at, help, "the contents of this value are not available, because it is %s",
			adjective(v.Mark()))
	}
	return v
}

func (t *thread) unchecked(v value.Value, at source.Span) { t.notChecked(Unchecked{at, v.Secret()}) }

// notChecked notes what is not tested, once.
func (t *thread) notChecked(note Unchecked) {
	w := t.reports
	if w.constant() {
		return // nothing that is constant is unknown
	}
	for _, other := range w.unchecked {
		if other == note {
			return
		}
	}
	w.unchecked = append(w.unchecked, note)
}

// standIn returns what stands for a value of a type that is not there; ok is false when its shape would have to be
// known.
func standIn(v value.Value, t types.Type) (result value.Value, ok bool) {
	of := func(k value.Kind) (value.Value, bool) {
		return value.UnknownOf(k, v.Placeholder(), v.Mark(), v.Origin()), true
	}
	switch core := types.Core(t).(type) {
	case *types.Variable:
		return of(value.String)
	case *types.Basic:
		switch types.Type(core) {
		case types.String, types.Any:
			return of(value.String)
		case types.Bool:
			return of(value.Bool)
		case types.Int:
			return of(value.Int)
		case types.Float:
			return of(value.Float)
		}
	case *types.Literal:
		return standIn(v, types.Widen(core))
	case *types.Union:
		for _, m := range core.Members {
			if types.Core(m) != types.Null {
				return standIn(v, m)
			}
		}
	case *types.Record:
		if core.Rest != nil {
			return v, false
		}
		var b value.Builder
		for _, f := range core.Fields {
			part := value.UnknownOf(value.String, v.Placeholder(), v.Mark(), v.Origin())
			if f.Secret {
				part = value.UnknownOf(value.String, value.Hidden, v.Mark()|value.Secret, v.Origin())
			} else if !v.Secret() {
				part = value.UnknownOf(value.String, v.Placeholder()+"."+f.Name, v.Mark(), v.Origin())
			}
			x, ok := standIn(part, f.Type)
			if !ok || f.Optional {
				return v, false
			}
			b.Set(f.Name, x)
		}
		return b.Record(v.Origin()), true
	}
	return v, false
}

// absentInput is what stands for an input that is not there.
func absentInput(o *check.Object, m value.Mark, origin value.Origin) value.Value {
	text := value.Hidden
	if d, ok := o.Declaration.(*syntax.Input); ok && d.Placeholder != nil {
		text, _ = d.Placeholder.Plain()
	}
	v, _ := standIn(value.UnknownOf(value.String, text, m, origin), o.Type)
	return v
}

// inputMark returns the mark that the values of an input bear.
func inputMark(o *check.Object) value.Mark {
	d, ok := o.Declaration.(*syntax.Input)
	switch {
	case ok && d.Secret:
		return value.Secret
	case ok && d.Placeholder != nil:
		return value.Later
	}
	return 0
}

// notThere converts what is not known into a type.
func (c *conversion) notThere(v value.Value, to types.Type, path *place.Path) value.Value {
	if union := types.AsUnion(to); union != nil && c.wavers(v, union, path) {
		return c.undecided(v, v, union, path)
	}
	result, ok := standIn(v, to)
	if !ok {
		c.misfit(path, v, source.NotKnown, "give the parts that are needed an input each",
			"a value of %s is needed here, and it is %s", to, adjective(v.Mark()))
		return v
	}
	for t := types.AsLimited(to); t != nil; t = types.AsLimited(t.Base) {
		for _, condition := range t.Conditions {
			if condition.Schema != nil {
				continue // which is validated where it is known
			}
			c.unchecked(v, c.world.program.checked.Condition(condition).Tree.Span)
		}
	}
	return result
}

// Exposed is a secret where it must not be.
type Exposed struct {
	Path  *place.Path // in the value that holds it; nil for the value itself
	Value value.Value
}

// FindSecret looks for a secret in a value that may hold none, other than in the secret fields of its type, which may
// be nil.
func FindSecret(v value.Value, t types.Type) (Exposed, bool) {
	if value.Marks(v)&value.Secret == 0 {
		return Exposed{}, false
	}
	var of []types.Type
	if t != nil {
		of = []types.Type{t}
	}
	return findSecret(v, of, nil)
}

// findSecret is FindSecret for a value of one of some types, if there are any.
func findSecret(v value.Value, of []types.Type, path *place.Path) (found Exposed, ok bool) {
	switch v.Kind() {
	case value.List:
		elements := types.ElementsOf(of)
		for i, x := range v.Elements() {
			if found, ok = findSecret(x, elements, path.Index(i)); ok {
				return found, true
			}
		}
	case value.Record:
		records := recordsOf(v, of)
		for i, key := range v.Shape().Keys() {
			inner, secret, _ := types.FieldsOf(records, key)
			if secret {
				continue
			}
			if found, ok = findSecret(v.Values()[i], inner, path.Field(key)); ok {
				return found, true
			}
		}
	}
	return Exposed{path, v}, v.Secret()
}

// recordsOf returns the records among some types that a record is of, as far as literals tell them apart.
func recordsOf(v value.Value, of []types.Type) []*types.Record {
	return slices.DeleteFunc(types.RecordsOf(of), func(record *types.Record) bool {
		for _, f := range record.Fields {
			x, literal := v.Get(f.Name), types.LiteralValue(types.Core(f.Type))
			if literal != nil && !x.IsAbsent() && x.Mark() == 0 && !isLiteral(x, literal) {
				return true
			}
		}
		return false
	})
}

// expose fails when a value holds a secret and gets to an audience that must not see it.
func (t *thread) expose(v value.Value, declared types.Type, to check.Audience, at source.Span) {
	if !t.world.program.marked {
		return
	}
	found, ok := FindSecret(v, declared)
	if !ok {
		return
	}
	finding := to.Exposed(at, found.Path.String())
	finding.Related = t.cameFrom(found.Value, at)
	t.fail(finding)
}
