package schema

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"knothole/core/source"
	"knothole/core/value"
)

// Schema is a schema in a document. It is compiled when it is first used.
type Schema struct {
	store    *Store
	raw      value.Value
	resource *resource
	// loose says that fields which it does not name may be there, in OpenAPI.
	loose atomic.Bool
	once  sync.Once
	rules *rules
	// beyond remembers whether it says more than a type can.
	beyond, loosely beyond
	shape           atomic.Pointer[Shape] // nil until somebody asks
	// mistakes are what is wrong with it and all in it, once that was looked at.
	looked   sync.Once
	mistakes source.Findings
}

// rules are what a schema asks for.
type rules struct {
	never bool // the schema false
	// intricate says that only a whole validation can tell whether a value is right.
	intricate bool
	findings  source.Findings

	types    kinds // 0 for any
	enum     []value.Value
	enumKeys map[string]bool
	constant value.Value // Absent for none

	minimum, maximum           *limit
	exclusiveMin, exclusiveMax *limit
	multipleOf                 *limit

	minLength, maxLength *limit
	pattern              *matcher
	patternText          string
	format               *format
	formatName           string // also when the format is a note

	prefix                   []*Schema
	items                    *Schema // behind the prefix
	contains                 *Schema
	minContains, maxContains *limit
	minItems, maxItems       *limit
	uniqueItems              bool

	properties        map[string]*Schema
	names             []string // of the properties, in their order
	patternProperties []patternProperty
	additional        *Schema
	propertyNames     *Schema
	required          []string
	minProperties     *limit
	maxProperties     *limit
	dependentRequired []dependency
	dependentSchemas  []dependency

	ref                 *Schema
	onlyRef             bool    // there is nothing beside it
	dynamicRef          *Schema // where it leads when nothing around says otherwise
	dynamicAnchor       string  // that is asked for around; empty for none
	recursiveRef        bool
	allOf, anyOf, oneOf []*Schema
	not                 *Schema
	condition           *Schema
	then, otherwise     *Schema

	unevaluatedItems, unevaluatedProperties *Schema
	// itemsSeen says that contains counts as having looked at what it found.
	containsSees bool

	title, description string
	fallback           value.Value // the default; Absent for none
	defaults           []string    // the fields that have one, once that is asked for
	defaultsOnce       sync.Once

	*extended
}

// extended is what the schema objects of custom resource definitions say besides; nil in other dialects.
type extended struct {
	builtIn    bool
	structural bool // fields that are not named are dropped
	embedded   bool // the value is an object with a kind of its own
	nullable   bool
	listKeys   []string // by which elements are known
	isSet      bool     // of scalars
	rulesAbout []expression
}

type patternProperty struct {
	pattern *matcher
	text    string
	schema  *Schema
}

// dependency is what the presence of a field asks for.
type dependency struct {
	field  string
	names  []string
	schema *Schema
}

// kinds are the types of JSON Schema, as bits.
type kinds uint8

const (
	aNull kinds = 1 << iota
	aBoolean
	aString
	anInteger
	aNumber
	anArray
	anObject
)

// kindNames are the names of types and the words for them, in the order of the bits.
var kindNames = []struct{ name, words string }{
	{"null", "null"}, {"boolean", "true or false"}, {"string", "a string"}, {"integer", "an integer"},
	{"number", "a number"}, {"array", "a list"}, {"object", "a record"},
}

// words says what is allowed.
func (k kinds) words() string {
	if k&aNumber != 0 {
		k &^= anInteger
	}
	var words []string
	for i, n := range kindNames[1:] {
		if k&(2<<i) != 0 {
			words = append(words, n.words)
		}
	}
	if k&aNull != 0 {
		words = append(words, kindNames[0].words)
	}
	return either(words)
}

// either joins alternatives.
func either(words []string) string {
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + " or " + words[n-1]
	}
	return strings.Join(words, "")
}

// compiled returns what a schema asks for.
func (s *Schema) compiled() *rules {
	s.once.Do(func() {
		c := &compiler{Schema: s, rules: &rules{}}
		c.compile()
		c.rules.intricate = c.rules.isIntricate()
		s.rules = c.rules
	})
	return s.rules
}

// told returns what a schema says of a value: the schema itself, or what it only refers to.
func (s *Schema) told() *rules {
	r := s.compiled()
	for range maxReferences {
		if r.ref == nil || r.types != 0 || r.enum != nil || !r.constant.IsAbsent() || r.properties != nil ||
			r.description != "" {
			break
		}
		r = r.ref.compiled()
	}
	return r
}

// maxReferences is how many references are followed that say nothing themselves.
const maxReferences = 20

// Title and Description are what a schema says of itself; empty for none.
func (s *Schema) Title() string { return s.told().title }

// Description is what a schema says of what it describes; empty for none.
func (s *Schema) Description() string { return s.told().description }

// Origin is the place of the schema.
func (s *Schema) Origin() value.Origin { return s.raw.Origin() }

// Shown is the place of the schema for people; none for what is built in.
func (s *Schema) Shown() value.Origin { return s.shownAt() }

// shownAt is the place of the schema for people; none for what is built in, which nobody can change.
func (s *Schema) shownAt() value.Origin {
	if s.resource.uri.Scheme == builtInScheme {
		return 0
	}
	return s.raw.Origin()
}

// compiler compiles one schema.
type compiler struct {
	*Schema
	rules *rules
}

func (c *compiler) report(at value.Value, help, format string, arguments ...any) {
	c.rules.findings.Add(source.Finding{Code: source.BadSchema, Span: source.At(at.Origin().Pos()),
		Message: fmt.Sprintf(format, arguments...), Help: help})
}

func (c *compiler) compile() {
	r := c.rules
	if c.raw.Kind() == value.Bool {
		r.never = !c.raw.Bool()
		return
	}
	if c.raw.Kind() != value.Record {
		c.report(c.raw, "", "a schema is a record, or true or false, not %s", c.raw.Kind().Article())
		return
	}
	if c.raw.Origin() == c.resource.root.Origin() && c.resource.unknownDialect {
		name := c.raw.Get("$schema")
		c.report(name, "known are "+strings.Join(Dialects(), ", "), "the dialect %s is not known", name.Text())
	}
	r.title, r.description, r.fallback = c.text("title"), c.text("description"), c.raw.Get("default")
	if ref := c.keyword("$ref", draft4); ref.Kind() == value.String {
		r.ref = c.reference(ref)
		if c.resource.dialect.refAlone() {
			r.onlyRef = r.ref != nil
			return
		}
	}
	c.references()
	if c.resource.dialect.has(applicator) {
		c.applicators()
		c.ofArrays()
		c.ofObjects()
	}
	if c.resource.dialect.has(unevaluated) {
		r.unevaluatedItems = c.schemaAt("unevaluatedItems", draft2019)
		r.unevaluatedProperties = c.schemaAt("unevaluatedProperties", draft2019)
	}
	if c.resource.dialect.has(validation) {
		c.assertions()
	}
	if c.resource.dialect.openAPI {
		c.extend()
	}
	if name := c.text("format"); name != "" {
		r.formatName = name
		asserted := !c.store.FormatsAreNotes || c.resource.dialect.has(assertedFormats)
		if f, ok := formatsOf(name, c.resource.dialect); ok && asserted {
			r.format = &f
		}
	}
}

// keyword returns the value of a keyword that there is since a version; Absent for none.
func (c *compiler) keyword(name string, since int) value.Value {
	if c.resource.dialect.version < since {
		return value.Value{}
	}
	return c.raw.Get(name)
}

func (c *compiler) text(name string) string {
	if v := c.raw.Get(name); v.Kind() == value.String {
		return v.Text()
	}
	return ""
}

func (c *compiler) reference(v value.Value) *Schema {
	target, why, help := c.store.resolve(v.Text(), c.resource)
	if target == nil {
		c.report(v, help, "%s", why)
	}
	return target
}

func (c *compiler) references() {
	r := c.rules
	if c.resource.dialect.version == draft2019 {
		if ref := c.raw.Get("$recursiveRef"); ref.Kind() == value.String {
			r.dynamicRef = c.reference(ref)
			r.recursiveRef = r.dynamicRef != nil && r.dynamicRef.resource.recursive
		}
	}
	if ref := c.keyword("$dynamicRef", draft2020); ref.Kind() == value.String {
		if r.dynamicRef = c.reference(ref); r.dynamicRef != nil {
			_, fragment, _ := strings.Cut(ref.Text(), "#")
			if _, ok := r.dynamicRef.resource.dynamic[fragment]; ok {
				r.dynamicAnchor = fragment
			}
		}
	}
}

func (c *compiler) schemaAt(name string, since int) *Schema {
	v := c.keyword(name, since)
	if v.IsAbsent() {
		return nil
	}
	return c.store.within(v, c.Schema)
}

// schemasAt returns the schemas in a list, each about a part of the value.
func (c *compiler) schemasAt(name string, since int) []*Schema {
	var all []*Schema
	if v := c.keyword(name, since); v.Kind() == value.List {
		for _, x := range v.Elements() {
			all = append(all, c.store.within(x, c.Schema))
		}
	}
	return all
}

// formsAt returns the schemas in a list, each about the value itself.
func (c *compiler) formsAt(name string) []*Schema {
	var all []*Schema
	if v := c.raw.Get(name); v.Kind() == value.List {
		for _, x := range v.Elements() {
			all = append(all, c.store.beside(x, c.resource))
		}
	}
	return all
}

func (c *compiler) applicators() {
	r := c.rules
	r.allOf, r.anyOf, r.oneOf = c.formsAt("allOf"), c.formsAt("anyOf"), c.formsAt("oneOf")
	if v := c.raw.Get("not"); !v.IsAbsent() {
		r.not = c.store.beside(v, c.resource)
	}
	if r.condition = c.schemaAt("if", draft7); r.condition != nil {
		r.then, r.otherwise = c.schemaAt("then", draft7), c.schemaAt("else", draft7)
	}
}

func (c *compiler) ofArrays() {
	r, version := c.rules, c.resource.dialect.version
	items := c.raw.Get("items")
	switch {
	case version >= draft2020:
		r.prefix, r.items = c.schemasAt("prefixItems", draft2020), c.schemaAt("items", draft4)
		r.containsSees = true
	case items.Kind() == value.List:
		r.prefix, r.items = c.schemasAt("items", draft4), c.schemaAt("additionalItems", draft4)
	default:
		r.items = c.schemaAt("items", draft4)
	}
	if r.contains = c.schemaAt("contains", draft6); r.contains != nil && c.resource.dialect.has(validation) {
		r.minContains, r.maxContains = c.number("minContains", draft2019), c.number("maxContains", draft2019)
	}
}

func (c *compiler) ofObjects() {
	r := c.rules
	if all := c.raw.Get("properties"); all.Kind() == value.Record {
		r.names = all.Shape().Keys()
		r.properties = make(map[string]*Schema, len(r.names))
		for i, name := range r.names {
			r.properties[name] = c.store.within(all.Values()[i], c.Schema)
		}
	}
	if all := c.raw.Get("patternProperties"); all.Kind() == value.Record {
		for i, text := range all.Shape().Keys() {
			if pattern := c.pattern(text, all.Values()[i]); pattern != nil {
				r.patternProperties = append(r.patternProperties,
					patternProperty{pattern, text, c.store.within(all.Values()[i], c.Schema)})
			}
		}
	}
	r.additional = c.schemaAt("additionalProperties", draft4)
	r.propertyNames = c.schemaAt("propertyNames", draft6)
	for _, keyword := range []string{"dependencies", "dependentSchemas"} {
		all := c.raw.Get(keyword)
		if all.Kind() != value.Record || keyword == "dependentSchemas" && c.resource.dialect.version < draft2019 {
			continue
		}
		for i, field := range all.Shape().Keys() {
			d := dependency{field: field}
			if v := all.Values()[i]; v.Kind() == value.List {
				d.names = texts(v)
				r.dependentRequired = append(r.dependentRequired, d)
			} else {
				d.schema = c.store.beside(v, c.resource)
				r.dependentSchemas = append(r.dependentSchemas, d)
			}
		}
	}
}

func texts(list value.Value) []string {
	var all []string
	if list.Kind() != value.List {
		return nil
	}
	for _, x := range list.Elements() {
		if x.Kind() == value.String {
			all = append(all, x.Text())
		}
	}
	return all
}

// pattern compiles a pattern; at is where it is.
func (c *compiler) pattern(text string, at value.Value) *matcher {
	pattern, err := c.store.pattern(text, c.resource.dialect)
	switch {
	case isInvalid(err):
		c.report(at, "", "the pattern %q is %s", text, err)
	case err != nil:
		c.report(at, "say the same without it", "the pattern %q cannot be used: %s", text, err)
	}
	return pattern
}

// number returns the limit that a keyword says; nil for none.
func (c *compiler) number(name string, since int) *limit {
	v := c.keyword(name, since)
	if !isNumber(v) {
		return nil
	}
	return newLimit(v, c.resource.numbers)
}

func (c *compiler) assertions() {
	r := c.rules
	r.types = c.types()
	if v := c.raw.Get("enum"); v.Kind() == value.List {
		r.enum = v.Elements()
		r.enumKeys = make(map[string]bool, len(r.enum))
		for _, x := range r.enum {
			r.enumKeys[keyOf(x, c.resource.numbers)] = true
		}
	}
	r.constant = c.keyword("const", draft6)
	c.ofNumbers()
	r.minLength, r.maxLength = c.number("minLength", draft4), c.number("maxLength", draft4)
	if v := c.raw.Get("pattern"); v.Kind() == value.String {
		r.pattern, r.patternText = c.pattern(v.Text(), v), v.Text()
	}
	r.minItems, r.maxItems = c.number("minItems", draft4), c.number("maxItems", draft4)
	if v := c.raw.Get("uniqueItems"); v.Kind() == value.Bool {
		r.uniqueItems = v.Bool()
	}
	r.required = texts(c.raw.Get("required"))
	r.minProperties, r.maxProperties = c.number("minProperties", draft4), c.number("maxProperties", draft4)
	if all := c.keyword("dependentRequired", draft2019); all.Kind() == value.Record {
		for i, field := range all.Shape().Keys() {
			r.dependentRequired = append(r.dependentRequired, dependency{field: field, names: texts(all.Values()[i])})
		}
	}
}

func (c *compiler) types() kinds {
	v := c.raw.Get("type")
	names := texts(v)
	if v.Kind() == value.String {
		names = []string{v.Text()}
	}
	var all kinds
	for _, name := range names {
		at := slices.IndexFunc(kindNames, func(k struct{ name, words string }) bool { return k.name == name })
		if at < 0 {
			var known []string
			for _, k := range kindNames {
				known = append(known, k.name)
			}
			c.report(v, "known are "+strings.Join(known, ", "), "there is no type %q", name)
			return 0
		}
		all |= 1 << at
	}
	return all
}

func (c *compiler) ofNumbers() {
	r := c.rules
	r.minimum, r.maximum = c.number("minimum", draft4), c.number("maximum", draft4)
	if c.resource.dialect.version == draft4 {
		if v := c.raw.Get("exclusiveMinimum"); v.Kind() == value.Bool && v.Bool() {
			r.minimum, r.exclusiveMin = nil, r.minimum
		}
		if v := c.raw.Get("exclusiveMaximum"); v.Kind() == value.Bool && v.Bool() {
			r.maximum, r.exclusiveMax = nil, r.maximum
		}
	} else {
		r.exclusiveMin, r.exclusiveMax = c.number("exclusiveMinimum", draft6), c.number("exclusiveMaximum", draft6)
	}
	if r.multipleOf = c.number("multipleOf", draft4); r.multipleOf != nil && r.multipleOf.exact.Sign() <= 0 {
		c.report(c.raw.Get("multipleOf"), "", "multipleOf must be more than 0")
		r.multipleOf = nil
	}
}
