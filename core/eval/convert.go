package eval

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// passing says where a value passes into a declared type.
type passing struct {
	at       source.Span   // the expression, when it is one
	what     string        // what receives the value, such as "input"; may be empty
	name     string        // its name; the path in the value is shown as part of it
	declared *check.Object // where the type is declared, for the related place
	keys     Keys          // the places of keys that the program does not know; nil for none
}

// misfit is one reason why a value does not fit a type.
type misfit struct {
	path    *place.Path
	value   value.Value
	code    source.Code
	message string // without the path
	help    string
	related []source.Related
	key     bool // the key is to blame, not the value
	hidden  bool // in a trial: whether it does not fit depends on a value that is hidden or open
}

// conversion is one value on its way into a type.
type conversion struct {
	*thread
	passing
	misfits   []misfit
	depth     int
	fill      bool // fill in defaults
	visits    int
	converted map[shared]value.Value
	trial     bool // misfits only matter by their number: no messages
	// tried remembers what trials came to, for all trials of one conversion: a union tries its members again at each
	// level.
	tried map[trial]tried
	// tested is a value that is hidden or open and was tested in a trial: what this came to must not decide which
	// member of a union is taken. It is absent when there is none.
	tested value.Value
}

// convertTo converts a value into a type and reports all that does not fit.
func (t *thread) convertTo(v value.Value, to types.Type, p passing) value.Value {
	c := &conversion{thread: t, passing: p, fill: true}
	result := c.value(v, to, nil)
	c.finish()
	return result
}

// convert is convertTo for a value whose static type is known: what fits already is not looked at again.
func (t *thread) convert(v value.Value, from, to types.Type, p passing) value.Value {
	if is, told := plainly(v, to); told && is {
		return v
	}
	c := &conversion{thread: t, passing: p, fill: true}
	result := c.known(v, from, to, nil)
	c.finish()
	return result
}

// finish reports the misfits and gives up if there are any.
func (c *conversion) finish() {
	if len(c.misfits) == 0 {
		return
	}
	last := len(c.misfits) - 1
	for _, m := range c.misfits[:last] {
		guard(func() { c.fail(c.finding(m)) })
	}
	c.fail(c.finding(c.misfits[last]))
}

// keyAt returns the place of the key of a value in data, where that is known, else the place of the value.
func (c *conversion) keyAt(value source.Span) source.Span {
	for _, keys := range []Keys{c.keys, c.world.program.keys} {
		if key, ok := keys[value.Start]; ok {
			return source.At(key)
		}
	}
	return value
}

func (c *conversion) finding(m misfit) source.Finding {
	span := source.At(c.recorder.Pos(m.value.Origin()))
	if m.key {
		span = c.keyAt(span)
	}
	if !span.IsValid() || span.Start == c.at.Start {
		span = c.at
	}
	subject := m.path.String()
	if c.what != "" {
		if m.path != nil {
			subject = "." + subject
		}
		subject = c.what + " \"" + strings.Replace(c.name+subject, ".[", "[", 1) + "\""
	}
	message := m.message
	if subject != "" {
		message = subject + ": " + message
	}
	f := source.Finding{Code: m.code, Span: span, Message: message, Help: m.help, Related: m.related}
	if c.what == "input" {
		f.Input = c.name
	}
	switch {
	case c.declared != nil && c.declared.Span.IsValid() && len(m.related) == 0:
		f.Related = []source.Related{{Span: c.declared.Span, Text: c.declared.Summary()}}
	case c.at.IsValid() && span.Start != c.at.Start:
		f.Related = append(f.Related, source.Related{Span: c.at, Text: "passed on here"})
	}
	return f
}

func (c *conversion) misfit(path *place.Path, v value.Value, code source.Code, help, format string, arguments ...any) {
	m := misfit{path: path, value: v, code: code}
	if !c.trial {
		m.message, m.help = fmt.Sprintf(format, arguments...), help
	}
	c.misfits = append(c.misfits, m)
}

// howToAdd says how a field that is missing is added: one that is secret is not in a layer.
func (c *conversion) howToAdd(f *types.Field, path *place.Path) string {
	if !f.Secret || c.what != "input" {
		return fmt.Sprintf("add it: %s: …", place.Key(f.Name))
	}
	names := []string{c.name}
	for _, step := range append(path.Steps(), place.Step{Kind: place.Field, Name: f.Name}) {
		if step.Kind != place.Field {
			return "it is secret, and elements of lists have no source of their own: make it an input, or a field " +
				"of one"
		}
		names = append(names, step.Name)
	}
	if says := c.world.program.checked.SecretGiven; says != nil {
		return says(names)
	}
	return ""
}

func (c *conversion) wrongKind(path *place.Path, v value.Value, to types.Type, help string) value.Value {
	c.misfit(path, v, source.WrongType, help, "expected %s, found %s", types.Article(to), describeValue(v))
	return v
}

// known converts along the static type: a part whose type is the wanted one already is left as it is.
func (c *conversion) known(v value.Value, from, to types.Type, path *place.Path) value.Value {
	if tells(from) && !types.Converts(from, to) || c.fits(v, to, 0) {
		return v
	}
	if !tells(from) {
		return c.value(v, to, path)
	}
	if limited := types.AsLimited(to); limited != nil && !v.Unknown() && !c.trial {
		before := len(c.misfits)
		v = c.known(v, from, limited.Base, path)
		if len(c.misfits) == before {
			c.conditions(v, limited, path)
		}
		return v
	}
	target, static := types.AsRecord(to), types.AsRecord(from)
	if target == nil || static == nil || v.Kind() != value.Record {
		return c.value(v, to, path)
	}
	return c.once(v, to, func() value.Value { return c.record(v, static, target, path) })
}

// tells reports whether a static type says of what shape a value is.
func tells(from types.Type) bool {
	return from != nil && from != types.Any && types.AsUnion(from) == nil && from != types.Invalid
}

// manyVisits is how many values a conversion visits before it remembers which it has converted: few values are
// shared, but some are shared so often that visiting each use would never end.
const manyVisits = 1 << 14

// shared is a list or record that was converted to a type.
type shared struct {
	identity uintptr
	length   int
	to       types.Type
}

// value converts a value of which nothing is known.
func (c *conversion) value(v value.Value, to types.Type, path *place.Path) value.Value {
	return c.once(v, to, func() value.Value { return c.visit(v, to, path) })
}

// once converts a value, unless the same one was converted to the same type and fits.
func (c *conversion) once(v value.Value, to types.Type, convert func() value.Value) value.Value {
	if c.trial && v.Identity() != 0 {
		return c.memoized(v, to, convert)
	}
	if c.visits++; c.visits < manyVisits || v.Identity() == 0 {
		return convert()
	}
	key := shared{v.Identity(), v.Len(), to}
	if known, ok := c.converted[key]; ok {
		return known.WithOrigin(v.Origin())
	}
	before := len(c.misfits)
	result := convert()
	if len(c.misfits) == before {
		if c.converted == nil {
			c.converted = map[shared]value.Value{}
		}
		c.converted[key] = result
	}
	return result
}

func (c *conversion) visit(v value.Value, to types.Type, path *place.Path) value.Value {
	c.spend(1, source.At(c.recorder.Pos(v.Origin())))
	c.depth++
	defer func() { c.depth-- }()
	if c.depth > dataDepthLimit {
		c.misfit(path, v, source.TooDeep, "", "nested deeper than %d levels", dataDepthLimit)
		return v
	}
	if v.Unknown() && !c.trial {
		return c.notThere(v, to, path)
	}
	switch to := to.(type) {
	case *types.Basic:
		return c.basic(v, to, path)
	case *types.Literal:
		return c.literal(v, to, path)
	case *types.Named:
		base := to.Base()
		if base == nil {
			panic(abort{})
		}
		c.depth--
		v = c.value(v, base, path)
		c.depth++
		return v
	case *types.Limited:
		before := len(c.misfits)
		v = c.value(v, to.Base, path)
		if len(c.misfits) == before {
			c.conditions(v, to, path)
		}
		return v
	case *types.Function:
		return c.function(v, to, path)
	case *types.Instance:
		if v.Kind() != value.Instance || v.Instance().(*World).instance.module.Number != to.Module {
			return c.wrongKind(path, v, to, "")
		}
	case *types.Union:
		return c.union(v, to, path)
	case *types.List:
		return c.list(v, to, path)
	case *types.Tuple:
		return c.tuple(v, to, path)
	case *types.Set:
		return c.set(v, to, path)
	case *types.Record:
		if v.Kind() != value.Record {
			return c.wrongKind(path, v, to, "")
		}
		return c.record(v, nil, to, path)
	}
	return v
}

// basic converts a value into a type without parts.
func (c *conversion) basic(v value.Value, to *types.Basic, path *place.Path) value.Value {
	fits, help := true, ""
	switch types.Type(to) {
	case types.Invalid:
		panic(abort{})
	case types.Never:
		fits = false
	case types.Null:
		fits = v.IsNull()
	case types.Bool:
		if fits = v.Kind() == value.Bool; !fits && v.Kind() == value.String && !v.Secret() &&
			(v.Text() == "true" || v.Text() == "false") {
			help = "write it without quotes"
		}
	case types.Int:
		if fits = v.Kind() == value.Int; !fits {
			help = numberHelp(v)
		}
	case types.Float:
		return c.float(v, to, path)
	case types.String:
		if fits = v.Kind() == value.String; !fits && !v.Secret() {
			if text, ok := v.Scalar(); ok {
				help = fmt.Sprintf("put it in quotes: %q", text)
			}
		}
	}
	if !fits {
		return c.wrongKind(path, v, to, help)
	}
	return v
}

// float converts a number into a float.
func (c *conversion) float(v value.Value, to types.Type, path *place.Path) value.Value {
	switch v.Kind() {
	case value.Float:
		return v
	case value.Int:
		if !c.fill {
			return c.wrongKind(path, v, to, "") // nothing is to be changed
		}
		f := value.FloatOf(float64(v.Int()), v.Origin()).WithMark(v.Mark())
		if value.Compare(f, v) != 0 {
			c.misfit(path, v, source.BadNumber, "nothing is rounded: write it as a float, or keep it an int",
				"no float of 64 bits is exactly %s", v.Show(30))
			return v
		}
		return f
	}
	return c.wrongKind(path, v, to, numberHelp(v))
}

// literal reports whether a value is the one of a literal type.
func (c *conversion) literal(v value.Value, to *types.Literal, path *place.Path) value.Value {
	if c.trial && v.Mark() != 0 && isOfKind(v, to.Value) {
		c.test(v)
		if !v.Unknown() && !isLiteral(v, to.Value) {
			c.misfits = append(c.misfits, misfit{path: path, value: v, hidden: true})
		}
		return v
	}
	if !isLiteral(v, to.Value) {
		return c.wrongKind(path, v, to, "")
	}
	return v
}

func numberHelp(v value.Value) string {
	if v.Kind() == value.String && v.Text() != "" && !v.Secret() {
		for _, r := range v.Text() {
			if (r < '0' || r > '9') && r != '.' && r != '-' {
				return ""
			}
		}
		return "write it without quotes: " + v.Text()
	}
	return ""
}

// isOfKind reports whether a value is of the kind of a literal.
func isOfKind(v value.Value, literal any) bool {
	switch literal.(type) {
	case string:
		return v.Kind() == value.String
	case int64:
		return v.Kind() == value.Int
	case float64:
		return v.Kind() == value.Float
	}
	return v.Kind() == value.Bool
}

func isLiteral(v value.Value, literal any) bool {
	switch l := literal.(type) {
	case string:
		return v.Kind() == value.String && v.Text() == l
	case int64:
		return v.Kind() == value.Int && v.Int() == l
	case float64:
		return v.Kind() == value.Float && v.Float() == l
	case bool:
		return v.Kind() == value.Bool && v.Bool() == l
	}
	return false
}

func (c *conversion) list(v value.Value, to *types.List, path *place.Path) value.Value {
	if v.Kind() != value.List {
		return c.wrongKind(path, v, to, "")
	}
	var changed []value.Value
	for i, x := range v.Elements() {
		y := c.value(x, to.Element, path.Index(i))
		if changed == nil && y != x {
			changed = append(make([]value.Value, 0, v.Len()), v.Elements()[:i]...)
		}
		if changed != nil {
			changed = append(changed, y)
		}
	}
	if changed == nil {
		return v
	}
	return value.ListOf(changed, v.Origin())
}

// tuple converts a list of exactly so many elements.
func (c *conversion) tuple(v value.Value, to *types.Tuple, path *place.Path) value.Value {
	if v.Kind() != value.List {
		return c.wrongKind(path, v, to, "")
	}
	if v.Len() != len(to.Elements) {
		c.misfit(path, v, source.WrongType, "", "expected %s, found %s", to, source.Count(v.Len(), "element"))
		return v
	}
	elements := make([]value.Value, v.Len())
	for i, x := range v.Elements() {
		elements[i] = c.value(x, to.Elements[i], path.Index(i))
	}
	return value.ListOf(elements, v.Origin())
}

// looseRecord converts a record into a type that says nothing of the order of fields, and fills nothing in.
func (c *conversion) looseRecord(v value.Value, from, to *types.Record, path *place.Path) value.Value {
	var meant []string // fields that unknown ones were probably meant for
	result := value.MapParts(v, func(i int, x value.Value) value.Value {
		key := v.Shape().Keys()[i]
		into := to.Rest
		if f, declared := to.Field(key); declared {
			c.warnDeprecated(f, x)
			into = f.Type
		}
		if into == nil {
			if near, ok := source.Nearest(key, to.FieldNames()); ok {
				meant = append(meant, near)
			}
			c.unknown(key, x, to, path)
			return x
		}
		var static types.Type
		if from != nil {
			if f, ok := from.Field(key); ok {
				static = f.Type
			}
		}
		if tells(static) && !types.Converts(static, into) {
			return x
		}
		return c.known(x, static, into, path.Field(key))
	})
	for i := range to.Fields {
		f := &to.Fields[i]
		if !f.Optional && v.Get(f.Name).IsAbsent() && !slices.Contains(meant, f.Name) {
			c.misfit(path, v, source.MissingField, c.howToAdd(f, path), "the field %q (%s) is missing", f.Name, f.Type)
		}
	}
	c.spend(v.Len()*elementCost, source.At(c.recorder.Pos(v.Origin())))
	return result
}

// fewDefaults is for how many fields that are filled in there is room from the beginning.
const fewDefaults = 4

// record converts a record; from is its static type where that is known, else nil.
func (c *conversion) record(v value.Value, from, to *types.Record, path *place.Path) value.Value {
	if to.Loose {
		return c.looseRecord(v, from, to, path)
	}
	var b value.Builder
	b.Grow(v.Len() + min(len(to.Fields), fewDefaults))
	fromField := func(name string) types.Type {
		if from != nil {
			if f, ok := from.Field(name); ok {
				return f.Type
			}
		}
		return nil
	}
	var meant []string // fields that unknown ones were probably meant for
	if to.Rest == nil {
		for _, key := range v.Shape().Keys() {
			if _, declared := to.Field(key); !declared {
				if near, ok := source.Nearest(key, to.FieldNames()); ok {
					meant = append(meant, near)
				}
			}
		}
	}
	for i := range to.Fields {
		f := &to.Fields[i]
		given := v.Get(f.Name)
		switch {
		case !given.IsAbsent():
			c.warnDeprecated(f, given)
			if f.Secret {
				given = value.MarkAll(given, value.Secret) // so that no message shows it
			}
			x := c.known(given, fromField(f.Name), f.Type, path.Field(f.Name))
			if f.Secret {
				x = value.MarkAll(x, value.Secret)
			}
			b.Set(f.Name, x)
		case f.Default != nil:
			if c.fill {
				b.Set(f.Name, c.defaultOf(f))
			} else {
				c.misfit(path, v, source.MissingField, "", "the field %q is missing", f.Name)
			}
		case !f.Optional && !slices.Contains(meant, f.Name):
			c.misfit(path, v, source.MissingField, c.howToAdd(f, path), "the field %q (%s) is missing", f.Name, f.Type)
		}
	}
	for i, key := range v.Shape().Keys() {
		if _, declared := to.Field(key); declared {
			continue
		}
		x := v.Values()[i]
		if to.Rest == nil {
			c.unknown(key, x, to, path)
			continue
		}
		b.Set(key, c.known(x, fromField(key), to.Rest, path.Field(key)))
	}
	c.spend(v.Len()*elementCost, source.At(c.recorder.Pos(v.Origin())))
	return b.Record(v.Origin())
}

// warnDeprecated warns of a deprecated field in a layer. Those in modules are known before anything is evaluated.
func (c *conversion) warnDeprecated(f *types.Field, v value.Value) {
	if f.Deprecated == "" || c.trial || c.what != "input" {
		return
	}
	span := source.At(c.recorder.Pos(v.Origin()))
	span = c.keyAt(span)
	c.report(check.DeprecatedField(span, f))
}

func (c *conversion) unknown(key string, v value.Value, to types.Type, path *place.Path) {
	help, record := "", types.AsRecord(to)
	if v.Secret() { // so is its key, which a store said
		c.misfit(path, v, source.UnknownField, "", "there is a field that %s has not", types.Article(to))
		c.misfits[len(c.misfits)-1].key = true
		return
	}
	help = source.Suggest(key, record.FieldNames(), help)
	if slices.ContainsFunc(record.Fields, func(f types.Field) bool { return f.Secret }) {
		// A key that is near to no field may be a secret that a mark too many has made a key of, and what is behind
		// the word that it begins with may be one that a space is missing before.
		if word := source.WordOf(key); word != key {
			key = word
		} else if _, near := source.Nearest(key, record.FieldNames()); !near && v.IsNull() {
			key = "…"
		}
	}
	c.misfit(path, v, source.UnknownField, help, "there is no field %q in %s", key, types.Article(to))
	c.misfits[len(c.misfits)-1].key = true
}
