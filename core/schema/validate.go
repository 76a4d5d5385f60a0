package schema

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Result is what came of a validation.
type Result struct {
	Problems []Problem
	// Schema are mistakes in the schema that were come upon; what depends on them was not checked.
	Schema source.Findings
	// NotKnown is how many values are not known, so that nothing was said of them.
	NotKnown int
	// Transitions is how many rules compare with the value before a change, and cannot be judged on a file.
	Transitions int
}

// Validate validates a value. Numbers are those in it that 64 bits do not hold; nil for none.
func (s *Schema) Validate(v value.Value, numbers data.Numbers) *Result {
	return s.validate(v, numbers, false)
}

func (s *Schema) validate(v value.Value, numbers data.Numbers, shaped bool) *Result {
	r := &run{store: s.store, top: s, numbers: numbers, shaped: shaped, result: &Result{}}
	start := &scope{resource: s.resource}
	if !r.check(s, v, nil, start, nil, nil, nil) {
		out := &sink{}
		r.open, r.result.Transitions = 0, 0
		r.check(s, v, nil, start, nil, nil, out)
		r.result.Problems = tidy(out.problems)
	}
	if r.open > 0 {
		value.Walk([]value.Value{v}, func(x value.Value) bool {
			if x.Unknown() {
				r.result.NotKnown++
			}
			return true
		})
	}
	return r.result
}

// run is one validation.
type run struct {
	store   *Store
	top     *Schema // of the whole
	numbers data.Numbers
	result  *Result
	// open counts what was passed over since it is not known.
	open int
	told map[*Schema]bool // whose mistakes were told
	free []*visit         // that are not used any more
	// shaped says that the value passed into the type of the schema, so that what a type says need not be looked at.
	shaped bool
}

// scope is the resources that validation has gone into, innermost first (JSON Schema 2020-12, section 7.1).
type scope struct {
	resource *resource
	outer    *scope
}

func (s *scope) in(r *resource) *scope {
	if s.resource == r {
		return s
	}
	return &scope{r, s}
}

// here is the schemas that are looking at one value, innermost first.
type here struct {
	schema *Schema
	outer  *here
}

// evaluated is which parts of a value were looked at.
type evaluated struct {
	parts []bool
	all   bool
}

func (e *evaluated) see(i, of int) {
	if e.parts == nil {
		e.parts = make([]bool, of)
	}
	e.parts[i] = true
}

func (e *evaluated) seen(i int) bool { return e.all || i < len(e.parts) && e.parts[i] }

func (e *evaluated) merge(inner *evaluated, of int) {
	e.all = e.all || inner.all
	for i, seen := range inner.parts {
		if seen {
			e.see(i, of)
		}
	}
}

// visit is one schema that looks at one value.
type visit struct {
	*run
	*rules
	schema *Schema
	value  value.Value
	path   *place.Path
	scope  *scope
	here   *here
	node   here       // the last of here, while a reference is followed
	seen   *evaluated // nil when nobody asks
	out    *sink      // nil at the first look
	failed bool
	isTop  bool // the value is the whole that is validated
	// unsure says that a schema beside failed, so that what was looked at is not known.
	unsure bool
}

// check reports whether a value is as a schema asks.
func (r *run) check(s *Schema, v value.Value, path *place.Path, in *scope, at *here, seen *evaluated, out *sink) bool {
	rules := s.compiled()
	if rules.findings != nil && !r.told[s] {
		if r.told == nil {
			r.told = map[*Schema]bool{}
		}
		r.told[s] = true
		r.result.Schema = append(r.result.Schema, rules.findings...)
	}
	if v.Unknown() {
		r.open++
		return true
	}
	if r.shaped {
		if seen == nil && !s.says() {
			return true
		}
		if s.isLoose() { // nor are the parts of the value of the types that it names
			r.shaped = false
			defer func() { r.shaped = true }()
		}
	}
	c := r.visit()
	*c = visit{run: r, rules: rules, schema: s, value: v, path: path, isTop: s == r.top, scope: in.in(s.resource),
		here: at, seen: seen, out: out}
	outer := seen
	if rules.unevaluatedItems != nil || rules.unevaluatedProperties != nil {
		c.seen = &evaluated{}
	}
	c.all()
	if c.seen != outer && outer != nil {
		outer.merge(c.seen, v.Len())
	}
	failed := c.failed
	r.free = append(r.free, c)
	return !failed
}

// visit returns a visit that is not used any more, or a new one.
func (r *run) visit() *visit {
	n := len(r.free)
	if n == 0 {
		return &visit{}
	}
	c := r.free[n-1]
	r.free = r.free[:n-1]
	return c
}

// fail notes a problem; at the first look only that there is one.
func (c *visit) fail(kind ProblemKind, help, format string, arguments ...any) {
	if c.failed = true; c.out != nil {
		c.out.add(Problem{Kind: kind, Path: c.path, Value: c.value, Message: fmt.Sprintf(format, arguments...), Help: help,
			Schema: c.schema.shownAt(), Description: c.description})
	}
}

// asks names the keyword that the last problem is about.
func (c *visit) asks(keyword string) {
	if c.out == nil {
		return
	}
	if v := c.schema.raw; v.Kind() == value.Record && c.schema.shownAt() != 0 {
		if at := v.Get(keyword); !at.IsAbsent() {
			c.out.problems[len(c.out.problems)-1].Schema = at.Origin()
		}
	}
}

// stopped reports whether enough is known: at the first look, that there is a problem.
func (c *visit) stopped() bool { return c.failed && c.out == nil }

// all looks at everything that a schema asks for.
func (c *visit) all() {
	if c.never {
		c.fail(Forbidden, "leave it out", "nothing may be here")
		return
	}
	if !c.isOfType() {
		return // one mistake: what else is asked of a value of another type says nothing
	}
	if c.values(); c.stopped() {
		return
	}
	if c.scalars(); c.stopped() {
		return
	}
	if c.inPlace(); c.stopped() {
		return
	}
	if c.parts(); c.stopped() {
		return
	}
	if c.unevaluatedItems != nil || c.unevaluatedProperties != nil {
		c.unevaluatedParts()
	}
	if c.extended != nil {
		c.holdRules()
	}
}

// kindOf returns the types that a value is of.
func (c *visit) kindOf() kinds {
	switch c.value.Kind() {
	case value.Null:
		return aNull
	case value.Bool:
		return aBoolean
	case value.String:
		return aString
	case value.Int:
		return anInteger | aNumber
	case value.Float:
		if c.schema.resource.dialect.version > draft4 && isInteger(c.value, c.numbers) || c.value.Kind() == value.Float &&
			c.numbers != nil && c.numbers[c.value.Origin().Pos()] != nil && isInteger(c.value, c.numbers) {
			return anInteger | aNumber
		}
		return aNumber
	case value.List:
		return anArray
	case value.Record:
		return anObject
	}
	return 0
}

func (c *visit) isOfType() bool {
	if c.types == 0 || c.types&c.kindOf() != 0 {
		return true
	}
	c.fail(WrongType, typeHelp(c.types, c.value), "expected %s, found %s", c.expected(), c.found(c.value))
	c.asks("type")
	return false
}

// expected says what is expected in place of a value of another type.
func (c *visit) expected() string {
	if n := len(c.enum); n > 0 && n <= fewValues {
		return c.enumText()
	}
	return c.types.words()
}

// fewValues is how many values are listed where one of them must be.
const fewValues = 12

// enumText says which values are allowed.
func (r *rules) enumText() string {
	texts := make([]string, 0, len(r.enum))
	for _, x := range r.enum {
		texts = append(texts, x.Show(40))
	}
	switch {
	case len(texts) == 1:
		return texts[0]
	case len(texts) > fewValues:
		return "one of " + strings.Join(texts[:fewValues], ", ") + fmt.Sprintf(" and %d more", len(texts)-fewValues)
	}
	return "one of " + strings.Join(texts, ", ")
}

// found shows a value that was found.
func (c *visit) found(v value.Value) string {
	switch v.Kind() {
	case value.Float:
		if large, ok := c.numbers[v.Origin().Pos()]; ok {
			return numberText(large)
		}
	case value.List:
		return "a list of " + source.Count(v.Len(), "element")
	case value.Record:
		return "a record with " + source.Count(v.Len(), "field")
	}
	return v.Show(60)
}

// typeHelp is the likely fix for a value of the wrong type.
func typeHelp(want kinds, v value.Value) string {
	text, isText := "", v.Kind() == value.String && !v.Secret()
	if isText {
		text = v.Text()
	}
	switch {
	case isText && want&(aNumber|anInteger) != 0 && numberForm.MatchString(text),
		isText && want&aBoolean != 0 && (text == "true" || text == "false"):
		return "write " + text + " without quotes"
	case isText && want&aBoolean != 0 && slices.Contains([]string{"yes", "no", "on", "off"}, strings.ToLower(text)):
		return fmt.Sprintf("write true or false: %s is a string", text)
	case want&aString != 0 && !v.Secret() && (isNumber(v) || v.Kind() == value.Bool):
		return fmt.Sprintf("write it in quotes: %q", v.Show(40))
	case want&anArray != 0 && v.Kind() != value.List && v.Kind() != value.Null:
		return "write a list, also of one element"
	case v.Kind() == value.Null:
		return "leave it out, or give it a value"
	}
	return ""
}

// values looks at enum and const.
func (c *visit) values() {
	if c.enum == nil && c.constant.IsAbsent() {
		return
	}
	if value.Marks(c.value)&value.Unknown != 0 {
		c.open++
		return
	}
	key := keyOf(c.value, c.numbers)
	if c.enum != nil && !c.enumKeys[key] {
		c.fail(NotOneOf, nearest(c.value, c.enum), "expected %s, found %s", c.enumText(), c.found(c.value))
		c.asks("enum")
		return
	}
	if !c.constant.IsAbsent() && key != keyOf(c.constant, c.schema.resource.numbers) {
		c.fail(NotOneOf, "", "expected %s, found %s", c.constant.Show(60), c.found(c.value))
		c.asks("const")
	}
}

// nearest suggests the allowed value that a text was probably meant to be.
func nearest(v value.Value, allowed []value.Value) string {
	text, ok := v.Scalar()
	if !ok || v.Secret() {
		return ""
	}
	var all []string
	for _, x := range allowed {
		if x.Kind() == value.String {
			all = append(all, x.Text())
		}
	}
	if near, ok := source.Nearest(text, all); ok {
		return source.DidYouMean(near)
	}
	return ""
}

// scalars looks at numbers and texts.
func (c *visit) scalars() {
	switch c.value.Kind() {
	case value.Int, value.Float:
		c.number()
	case value.String:
		c.text()
	}
}

func (c *visit) number() {
	v := c.value
	below := func(l *limit, keyword string, orEqual bool, words string) {
		if l == nil {
			return
		}
		order := l.compare(v, c.numbers)
		if keyword == "maximum" || keyword == "exclusiveMaximum" {
			order = -order
		}
		if order < 0 || order == 0 && orEqual {
			c.fail(Limit, "", "it must be %s %s, found %s", words, l.text, c.found(v))
			c.asks(keyword)
		}
	}
	if c.extended != nil && c.formatName == "int32" && v.Kind() == value.Int && int64(int32(v.Int())) != v.Int() {
		c.fail(Limit, "", "expected an integer of 32 bits, found %s", c.found(v))
		c.asks("format")
	}
	below(c.minimum, "minimum", false, "at least")
	below(c.maximum, "maximum", false, "at most")
	exclusive := [2]string{"exclusiveMinimum", "exclusiveMaximum"}
	below(c.exclusiveMin, exclusive[0], true, "more than")
	below(c.exclusiveMax, exclusive[1], true, "less than")
	if c.multipleOf != nil && !c.multipleOf.divides(v, c.numbers) {
		c.fail(Limit, "", "it must be a multiple of %s, found %s", c.multipleOf.text, c.found(v))
		c.asks("multipleOf")
	}
}

func (c *visit) text() {
	text := c.value.Text()
	if c.minLength != nil || c.maxLength != nil {
		c.counted(utf8.RuneCountInString(text), c.minLength, c.maxLength, "Length", "character")
	}
	if c.failed {
		return // one mistake
	}
	if c.pattern != nil && !c.pattern.MatchString(text) {
		c.fail(Form, "", "it must match the pattern %s, found %s", c.patternText, c.found(c.value))
		c.asks("pattern")
		return
	}
	if c.format != nil && !c.format.holds(text) {
		c.fail(Form, "", "expected %s, found %s", c.format.what, c.found(c.value))
		c.asks("format")
	}
}

// counted looks at how many there are of something.
func (c *visit) counted(n int, least, most *limit, keyword, what string) {
	if least == nil && most == nil {
		return
	}
	count := value.IntOf(int64(n), 0)
	few, many := least != nil && least.compare(count, nil) < 0, most != nil && most.compare(count, nil) > 0
	if !few && !many {
		return
	}
	shown := source.Count(n, what)
	switch {
	case c.value.Secret():
		shown = value.Hidden
	case n == 0:
		shown = "none"
	}
	if few {
		c.fail(Limit, "", "it must have at least %s, found %s", countOf(least, what), shown)
		c.asks("min" + keyword)
	}
	if many {
		c.fail(Limit, "", "it must have at most %s, found %s", countOf(most, what), shown)
		c.asks("max" + keyword)
	}
}

func countOf(l *limit, what string) string {
	if l.isWhole && l.whole >= 0 && l.whole < 1<<31 {
		return source.Count(int(l.whole), what)
	}
	return l.text + " " + what + "s"
}

// inner checks a part of the value.
func (c *visit) inner(s *Schema, v value.Value, path *place.Path) bool {
	ok := c.check(s, v, path, c.scope, nil, nil, c.out)
	c.failed = c.failed || !ok
	return ok
}

// beside checks the value against another schema; what that has looked at counts here too, if it holds.
func (c *visit) beside(s *Schema, out *sink) bool {
	if c.seen == nil {
		return c.check(s, c.value, c.path, c.scope, c.here, nil, out)
	}
	var inner evaluated
	ok := c.check(s, c.value, c.path, c.scope, c.here, &inner, out)
	if ok {
		c.seen.merge(&inner, c.value.Len())
	}
	return ok
}

// must checks the value against a schema that must hold too.
func (c *visit) must(s *Schema) {
	if !c.beside(s, c.out) {
		c.failed, c.unsure = true, true
	}
}

// inPlace looks at the schemas that are about the same value.
func (c *visit) inPlace() {
	if c.ref != nil {
		c.follow(c.ref)
	}
	if c.dynamicRef != nil {
		c.follow(c.dynamicTarget())
	}
	// What these say of the shape, the type does not.
	shaped := c.shaped
	c.run.shaped = false
	defer func() { c.run.shaped = shaped }()
	for _, s := range c.allOf {
		if c.must(s); c.stopped() {
			return
		}
	}
	if c.anyOf != nil {
		c.any()
	}
	if c.oneOf != nil && !c.stopped() {
		c.one()
	}
	if c.not != nil && !c.stopped() {
		c.forbidden()
	}
	if c.condition != nil && !c.stopped() {
		c.branch()
	}
	if c.value.Kind() == value.Record {
		for _, d := range c.dependentSchemas {
			if !c.value.Get(d.field).IsAbsent() {
				c.must(d.schema)
			}
		}
	}
}

// follow goes on with another schema, unless that is looking at the value already.
func (c *visit) follow(s *Schema) {
	for at := c.here; at != nil; at = at.outer {
		if at.schema == s {
			if !c.told[c.schema] {
				if c.told == nil {
					c.told = map[*Schema]bool{}
				}
				c.told[c.schema] = true
				c.result.Schema.Add(source.Finding{Code: source.BadSchema, Span: source.At(c.schema.raw.Origin().Pos()),
					Message: "this reference leads back to itself without going into the value",
					Help:    "put it under properties, items or another part that goes into the value"})
			}
			return
		}
	}
	outer := c.here
	c.node = here{s, outer}
	c.here = &c.node
	c.must(s)
	c.here = outer
}

// dynamicTarget is where a dynamic reference leads: to the outermost schema with its anchor that validation has gone
// through (JSON Schema 2020-12, section 8.2.3.2, and 2019-09, section 8.2.4.2).
func (c *visit) dynamicTarget() *Schema {
	target := c.dynamicRef
	switch {
	case c.dynamicAnchor != "":
		for at := c.scope; at != nil; at = at.outer {
			if v, ok := at.resource.dynamic[c.dynamicAnchor]; ok {
				target = c.store.part(v, at.resource)
			}
		}
	case c.recursiveRef:
		for at := c.scope; at != nil; at = at.outer {
			if at.resource.recursive {
				target = c.store.part(at.resource.root, at.resource)
			}
		}
	}
	return target
}

// forbidden looks at what must not hold.
func (c *visit) forbidden() {
	open := c.open
	if !c.check(c.not, c.value, c.path, c.scope, c.here, nil, nil) || c.open != open {
		return
	}
	help := ""
	rules := c.not.compiled()
	what := "this value is not allowed"
	switch {
	case c.value.Kind() == value.Record && len(rules.required) == 1:
		what, help = fmt.Sprintf("the field %q must not be here", rules.required[0]), "leave it out"
	case c.value.Kind() == value.Record && len(rules.required) > 1:
		what = "the fields " + source.Quoted(rules.required) + " must not be here together"
	case rules.enum != nil || !rules.constant.IsAbsent():
		what = "it must not be " + c.found(c.value)
	case rules.types != 0:
		what = "it must not be " + rules.types.words()
	case rules.pattern != nil:
		what = fmt.Sprintf("it must not match the pattern %s, found %s", rules.patternText, c.found(c.value))
	case rules.title != "":
		what = "it must not be " + rules.title
	}
	c.fail(Forbidden, help, "%s", what)
	c.asks("not")
}

// branch looks at if, then and else.
func (c *visit) branch() {
	open := c.open
	holds := c.beside(c.condition, nil)
	switch {
	case c.open != open: // it is not known which of the two holds
	case holds && c.then != nil:
		c.must(c.then)
	case !holds && c.otherwise != nil:
		c.must(c.otherwise)
	}
}

// parts looks at what a list or record holds.
func (c *visit) parts() {
	switch c.value.Kind() {
	case value.List:
		c.list()
	case value.Record:
		c.record()
	}
}

func (c *visit) list() {
	elements := c.value.Elements()
	c.counted(len(elements), c.minItems, c.maxItems, "Items", "element")
	if c.stopped() {
		return
	}
	if c.uniqueItems && len(elements) > 1 {
		if first, second, ok := c.repeated(elements); ok {
			c.repeats(second, fmt.Sprintf("it is equal to element %d: %s", first, elements[second].Show(60)), "uniqueItems")
		}
	}
	if c.extended != nil {
		c.extensions()
	}
	for i, x := range elements {
		s := c.items
		if i < len(c.prefix) {
			s = c.prefix[i]
		}
		if s == nil {
			continue
		}
		if c.seen != nil {
			c.seen.see(i, len(elements))
		}
		if s.raw.Kind() == value.Bool && !s.raw.Bool() && len(c.prefix) > 0 && i >= len(c.prefix) {
			c.fail(Surplus, "", "it must have at most %s, found %s", source.Count(len(c.prefix), "element"),
				source.Count(len(elements), "element"))
			return
		}
		if c.inner(s, x, c.at(i)); c.stopped() {
			return
		}
	}
	if c.contains != nil && !c.stopped() {
		c.containing(elements)
	}
}

// repeats notes an element that is there already.
func (c *visit) repeats(i int, message, keyword string) {
	c.fail(Repetition, "leave one of them out", "%s", message)
	if c.asks(keyword); c.out != nil {
		p := &c.out.problems[len(c.out.problems)-1]
		p.Path, p.Value = c.path.Index(i), c.value.Elements()[i]
	}
}

// at is the path to an element. At the first look nobody asks for it.
func (c *visit) at(i int) *place.Path {
	if c.out == nil {
		return nil
	}
	return c.path.Index(i)
}

func (c *visit) field(name string) *place.Path {
	if c.out == nil {
		return nil
	}
	return c.path.Field(name)
}

// containing looks at how many elements are as contains says.
func (c *visit) containing(elements []value.Value) {
	matches, open := 0, 0
	shaped := c.shaped
	c.run.shaped = false
	defer func() { c.run.shaped = shaped }()
	for i, x := range elements {
		before := c.open
		if !c.check(c.contains, x, nil, c.scope, nil, nil, nil) {
			continue
		}
		if c.open != before {
			open++
		} else {
			matches++
		}
		if c.seen != nil && c.containsSees {
			c.seen.see(i, len(elements))
		}
	}
	least := int64(1)
	if c.minContains != nil {
		least = 0
		if c.minContains.compare(value.IntOf(int64(matches+open), 0), nil) > 0 || c.minContains.isWhole {
			least = c.minContains.whole
		}
	}
	what := "element as it is asked for"
	if title := c.contains.compiled().title; title != "" {
		what = "element that is " + title
	}
	if int64(matches+open) < least {
		c.fail(Limit, "", "it must have at least %d %s, found %d of %d", least, what, matches, len(elements))
		c.asks("contains")
	}
	if c.maxContains != nil && c.maxContains.compare(value.IntOf(int64(matches), 0), nil) > 0 {
		c.fail(Limit, "", "it must have at most %s %s, found %d of %d", c.maxContains.text, what, matches, len(elements))
		c.asks("maxContains")
	}
}

func (c *visit) record() {
	v := c.value
	c.counted(v.Len(), c.minProperties, c.maxProperties, "Properties", "field")
	if c.missing(); c.stopped() {
		return
	}
	keys, values := v.Shape().Keys(), v.Values()
	for i, key := range keys {
		s, known := c.properties[key]
		if key == "metadata" && c.extended != nil && c.isImplied(key) && c.schema.shownAt() != 0 {
			s, known = c.store.metadata(), true // what a definition says of it hardly matters
		}
		if known {
			c.inner(s, values[i], c.field(key))
		}
		for _, p := range c.patternProperties {
			if p.pattern.MatchString(key) {
				known = true
				c.inner(p.schema, values[i], c.field(key))
			}
		}
		if !known && c.extended != nil && c.structural {
			if !c.isImplied(key) {
				c.surplus(key, values[i], "properties")
			}
			continue
		}
		if !known && c.additional != nil {
			known = true
			c.other(c.additional, key, values[i], "additionalProperties")
		}
		if known && c.seen != nil {
			c.seen.see(i, len(keys))
		}
		if c.stopped() {
			return
		}
	}
	if c.propertyNames != nil {
		c.fieldNames(keys)
	}
}

// isImplied reports whether a field is there without being named: at the top of an object with a kind.
func (c *visit) isImplied(key string) bool {
	return (c.embedded || c.isTop) && slices.Contains(implied, key)
}

// other checks a field that is not among those that are named.
func (c *visit) other(s *Schema, key string, v value.Value, keyword string) {
	if s.raw.Kind() != value.Bool || s.raw.Bool() {
		c.inner(s, v, c.field(key))
		return
	}
	c.surplus(key, v, keyword)
}

// surplus notes a field that must not be there.
func (c *visit) surplus(key string, v value.Value, keyword string) {
	if c.failed = true; c.out == nil {
		return
	}
	names := c.known()
	help, meant := "it has no fields at all", ""
	if near, ok := source.Nearest(key, names); ok && !c.given(near) {
		help, meant = source.DidYouMean(near), near
	} else if len(names) > 0 {
		help = "it has " + someOf(names)
	} else if len(c.patternProperties) > 0 {
		help = "the names of its fields match " + c.patternProperties[0].text
	}
	p := Problem{Kind: Surplus, Path: c.path.Field(key), Value: v, Field: key, Meant: meant, Holder: c.value,
		Message: fmt.Sprintf("there is no field %q here", key), Help: help, Schema: c.schema.shownAt(),
		Description: c.description}
	c.out.add(p)
	c.asks(keyword)
}

// given reports whether the value itself has a field, not only by its default.
func (c *visit) given(name string) bool {
	v := c.value.Get(name)
	if v.IsAbsent() {
		return false
	}
	s := c.properties[name]
	return s == nil || s.told().fallback.IsAbsent() || s.told().fallback.Origin() != v.Origin()
}

// someOf lists the first of some names.
func someOf(names []string) string {
	const some = 15
	if len(names) > some {
		return strings.Join(names[:some], ", ") + fmt.Sprintf(" and %d more", len(names)-some)
	}
	return strings.Join(names, ", ")
}

// known returns the names of the fields that the schemas about this value name.
func (c *visit) known() []string {
	var names []string
	var gather func(s *Schema, depth int)
	gather = func(s *Schema, depth int) {
		if s == nil || depth > 5 {
			return
		}
		r := s.compiled()
		for _, name := range r.names {
			if !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
		gather(r.ref, depth+1)
		for _, all := range [][]*Schema{r.allOf, r.anyOf, r.oneOf} {
			for _, inner := range all {
				gather(inner, depth+1)
			}
		}
		gather(r.then, depth+1)
		gather(r.otherwise, depth+1)
	}
	gather(c.schema, 0)
	return names
}

// missing looks for fields that must be there.
func (c *visit) missing() {
	lack := func(name, because, keyword string) {
		if c.failed = true; c.out == nil {
			return
		}
		p := Problem{Kind: Missing, Path: c.path, Value: c.value, Field: name, Help: "add it", Schema: c.schema.shownAt(),
			Message: fmt.Sprintf("the field %q is missing%s", name, because)}
		if s := c.properties[name]; s != nil {
			rules := s.told()
			p.Description = rules.description
			switch {
			case rules.enum != nil:
				p.Help = "add it: " + rules.enumText()
			case rules.types != 0:
				p.Help = "add it: " + rules.types.words()
			}
		}
		c.out.add(p)
		c.asks(keyword)
	}
	for _, name := range c.required {
		if c.value.Get(name).IsAbsent() {
			lack(name, "", "required")
		}
	}
	for _, d := range c.dependentRequired {
		if !c.value.Get(d.field).IsAbsent() {
			for _, name := range d.names {
				if !c.value.Get(name).IsAbsent() {
					continue
				}
				lack(name, fmt.Sprintf(", which must be there when %q is", d.field), "dependentRequired")
			}
		}
	}
}

// fieldNames looks at the names of fields.
func (c *visit) fieldNames(keys []string) {
	shaped := c.shaped
	c.run.shaped = false
	defer func() { c.run.shaped = shaped }()
	for i, key := range keys {
		name := value.StringOf(key, c.value.Values()[i].Origin())
		if c.check(c.propertyNames, name, nil, c.scope, nil, nil, nil) {
			continue
		}
		if c.failed = true; c.out == nil {
			return
		}
		out := &sink{}
		c.check(c.propertyNames, name, c.path.Field(key), c.scope, nil, nil, out)
		for _, p := range out.problems {
			p.Message = "the name of a field: " + p.Message
			p.Field = key
			c.out.add(p)
		}
	}
}

// unevaluatedParts looks at what nothing else has looked at.
func (c *visit) unevaluatedParts() {
	if c.unsure && c.out != nil {
		return // what has failed beside would have looked at some of it
	}
	switch {
	case c.value.Kind() == value.List && c.unevaluatedItems != nil:
		for i, x := range c.value.Elements() {
			if c.seen.seen(i) {
				continue
			}
			if s := c.unevaluatedItems; s.raw.Kind() == value.Bool && !s.raw.Bool() {
				c.fail(Surplus, "leave it out", "element %d has no meaning here", i)
				c.asks("unevaluatedItems")
			} else {
				c.inner(s, x, c.at(i))
			}
		}
		c.seen.all = true
	case c.value.Kind() == value.Record && c.unevaluatedProperties != nil:
		for i, key := range c.value.Shape().Keys() {
			if !c.seen.seen(i) {
				c.other(c.unevaluatedProperties, key, c.value.Values()[i], "unevaluatedProperties")
			}
		}
		c.seen.all = true
	}
}

var numberForm = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?$`)
