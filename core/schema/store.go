package schema

import (
	"fmt"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Store holds documents with schemas, and the schemas in them. It may be used from any goroutine.
type Store struct {
	// Sources are the files that the documents are read from, embedded ones too.
	Sources *source.Set
	// Load returns the document of an address that was not added, without its fragment; ok is false when there is none.
	// It is asked once for each address. It may be nil.
	Load func(uri string) (document Document, ok bool)
	// Outside reports whether a path leads out of where references may lead; then it is not asked for. It may be nil.
	Outside func(path string) bool
	// NameOf returns the path of a file as people know it, by the path in its address. It may be nil.
	NameOf func(path string) string
	// FormatsAreNotes makes formats say nothing about what is right, as the standard has it where a schema does not
	// ask for more.
	FormatsAreNotes bool

	mu        sync.Mutex
	documents map[string]bool      // the addresses that were added, or asked for
	resources map[string]*resource // by their addresses
	roots     map[value.Origin]*resource
	schemas   map[value.Origin]*Schema
	custom    map[string]*dialect // by their metaschemas
	patterns  sync.Map            // of *compiledPattern, by their text
	// dynamic says that some reference may lead elsewhere for whoever refers to the schema that it is in.
	dynamic atomic.Bool
}

// Document is data that is a schema, or holds some.
type Document struct {
	Root    value.Value
	Numbers data.Numbers // of the data that 64 bits do not hold
	// Findings say why the document could not be read, if that is so.
	Findings source.Findings
}

// NewStore returns a store without documents.
func NewStore(sources *source.Set) *Store {
	return &Store{Sources: sources, documents: map[string]bool{}, resources: map[string]*resource{},
		roots: map[value.Origin]*resource{}, schemas: map[value.Origin]*Schema{}, custom: map[string]*dialect{}}
}

// resource is a schema with an address of its own, and all in it that has none (JSON Schema 2020-12, section 4.3.5).
type resource struct {
	uri     *url.URL
	root    value.Value
	numbers data.Numbers // of the document
	// findings say why it could not be read, if that is so.
	findings source.Findings
	dialect  *dialect
	anchors  map[string]value.Value
	// dynamic are the anchors that a $dynamicRef finds from outside; recursive is $recursiveAnchor.
	dynamic   map[string]value.Value
	recursive bool
	// unknownDialect says that it names a dialect that is not known; the default holds then.
	unknownDialect bool
}

// Add adds a document under an address and returns the schema that it is.
func (s *Store) Add(uri string, d Document) *Schema {
	s.mu.Lock()
	defer s.mu.Unlock()
	base, err := url.Parse(uri)
	if err != nil {
		base = &url.URL{Path: uri}
	}
	base.Fragment = ""
	s.documents[base.String()] = true
	r := s.add(base, d, nil)
	return s.schema(r.root, r)
}

// AddOpenAPI adds a document whose schemas are objects of OpenAPI 3.0, as custom resource definitions carry them.
func (s *Store) AddOpenAPI(uri string, d Document) *Schema {
	s.mu.Lock()
	defer s.mu.Unlock()
	base := &url.URL{Scheme: fileScheme, Path: uri}
	s.documents[base.String()] = true
	r := s.add(base, d, openAPI)
	return s.schema(r.root, r)
}

// add scans a document for the resources in it.
func (s *Store) add(base *url.URL, d Document, of *dialect) *resource {
	r := s.resource(base, d.Root, of)
	r.numbers, r.findings = d.Numbers, d.Findings
	s.resources[base.String()] = r
	s.scan(d.Root, r, true)
	return r
}

func (s *Store) resource(base *url.URL, root value.Value, of *dialect) *resource {
	r := &resource{uri: base, root: root, dialect: of, anchors: map[string]value.Value{},
		dynamic: map[string]value.Value{}}
	if root.Kind() == value.Record && (of == nil || !of.openAPI) { // those have no dialect to name
		if name := root.Get("$schema"); name.Kind() == value.String {
			r.dialect = s.dialect(name.Text())
			r.unknownDialect = r.dialect == nil
		}
	}
	if r.dialect == nil {
		r.dialect = dialects[DefaultDialect]
	}
	s.roots[root.Origin()] = r
	return r
}

// dialect returns the dialect of a metaschema; nil when it is not known.
func (s *Store) dialect(uri string) *dialect {
	uri = strings.TrimSuffix(uri, "#")
	if d, ok := dialects[uri]; ok {
		return d
	}
	if d, ok := s.custom[uri]; ok {
		return d
	}
	s.custom[uri] = nil // a metaschema that is its own has no meaning yet
	address, err := url.Parse(uri)
	if err != nil {
		return nil
	}
	r := s.load(address, nil)
	if r == nil {
		return nil
	}
	d := *r.dialect
	if words := r.root.Get("$vocabulary"); words.Kind() == value.Record && d.version >= draft2019 {
		d.vocabularies = 0
		for _, name := range words.Shape().Keys() {
			d.vocabularies |= vocabularies[name]
		}
	}
	s.custom[uri] = &d
	return &d
}

// load returns the resource of an address, which may have to be loaded; nil when there is none. Of is the dialect that
// it has if it does not say which: that of the schema that refers to it.
func (s *Store) load(uri *url.URL, of *dialect) *resource {
	address := withoutFragment(uri)
	if r, ok := s.resources[address]; ok {
		return r
	}
	if s.documents[address] {
		return nil
	}
	s.documents[address] = true
	base, err := url.Parse(address)
	if err != nil {
		return nil
	}
	if name, text, ok := metaschema(address); ok {
		file, err := s.Sources.Add("knothole:"+name, text)
		if err != nil {
			return nil
		}
		root, findings := data.Read(file, data.JSON, nil)
		if findings.HasErrors() {
			panic(fmt.Sprintf("the embedded %s cannot be read: %s", name, findings[0].Message))
		}
		return s.add(base, Document{Root: root}, nil)
	}
	if d, ok := s.builtInDocument(base); ok {
		return s.add(base, d, openAPI)
	}
	if s.Load == nil {
		return nil
	}
	d, ok := s.Load(address)
	if !ok {
		return nil
	}
	return s.add(base, d, of)
}

func withoutFragment(uri *url.URL) string {
	plain := *uri
	plain.Fragment, plain.RawFragment = "", ""
	return plain.String()
}

// parts says where in a schema the values of a keyword are schemas.
type parts uint8

const (
	oneSchema parts = iota
	listOfSchemas
	mapOfSchemas
	oneOrList // items, before 2020-12
	mixedMap  // dependencies: schemas, or lists of names
)

// applicators are the keywords that hold schemas, with the versions from and to which they do.
var applicators = map[string]struct {
	holds    parts
	from, to int
}{
	"allOf": {listOfSchemas, draft4, draft2020}, "anyOf": {listOfSchemas, draft4, draft2020},
	"oneOf": {listOfSchemas, draft4, draft2020}, "not": {oneSchema, draft4, draft2020},
	"if": {oneSchema, draft7, draft2020}, "then": {oneSchema, draft7, draft2020}, "else": {oneSchema, draft7, draft2020},
	"items": {oneOrList, draft4, draft2020}, "additionalItems": {oneSchema, draft4, draft2019},
	"prefixItems": {listOfSchemas, draft2020, draft2020}, "contains": {oneSchema, draft6, draft2020},
	"properties": {mapOfSchemas, draft4, draft2020}, "patternProperties": {mapOfSchemas, draft4, draft2020},
	"additionalProperties": {oneSchema, draft4, draft2020}, "propertyNames": {oneSchema, draft6, draft2020},
	"dependencies": {mixedMap, draft4, draft2020}, "dependentSchemas": {mapOfSchemas, draft2019, draft2020},
	"unevaluatedItems":      {oneSchema, draft2019, draft2020},
	"unevaluatedProperties": {oneSchema, draft2019, draft2020},
	"contentSchema":         {oneSchema, draft2019, draft2020},
	"definitions":           {mapOfSchemas, draft4, draft2020}, "$defs": {mapOfSchemas, draft2019, draft2020},
}

// scan finds the addresses and anchors in a schema. An address that a schema has is relative to that around it.
func (s *Store) scan(v value.Value, r *resource, isRoot bool) {
	if v.Kind() != value.Record {
		return
	}
	alone := r.dialect.refAlone() && !v.Get("$ref").IsAbsent()
	if id := v.Get(r.dialect.idKeyword()); id.Kind() == value.String && !alone {
		name, fragment, _ := strings.Cut(id.Text(), "#")
		if name != "" {
			if uri, err := r.uri.Parse(name); err == nil {
				if isRoot {
					r.uri = uri
				} else {
					numbers := r.numbers
					r = s.resource(uri, v, r.dialect)
					r.numbers = numbers
				}
				if known, ok := s.resources[uri.String()]; !ok || known.root.IsAbsent() {
					s.resources[uri.String()] = r
				}
			}
		}
		if fragment != "" && r.dialect.version <= draft7 {
			r.anchors[fragment] = v
		}
	}
	if !alone && r.dialect.version >= draft2019 {
		if anchor := v.Get("$anchor"); anchor.Kind() == value.String {
			r.anchors[anchor.Text()] = v
		}
		if anchor := v.Get("$dynamicAnchor"); anchor.Kind() == value.String && r.dialect.version >= draft2020 {
			r.anchors[anchor.Text()], r.dynamic[anchor.Text()] = v, v
			s.dynamic.Store(true)
		}
		if v.Origin() == r.root.Origin() && v.Get("$recursiveAnchor").Kind() == value.Bool {
			r.recursive = v.Get("$recursiveAnchor").Bool()
			s.dynamic.Store(true)
		}
	}
	for i, key := range v.Shape().Keys() {
		a, ok := applicators[key]
		if !ok || r.dialect.version < a.from || r.dialect.version > a.to || alone && key != "definitions" {
			continue
		}
		inner := v.Values()[i]
		if a.holds == oneSchema || inner.Kind() == value.Record && a.holds == oneOrList {
			s.scan(inner, r, false)
			continue
		}
		for _, part := range value.Parts(inner) {
			if part.Kind() == value.Record {
				s.scan(part, r, false)
			}
		}
	}
}

// schema returns the schema at a place.
func (s *Store) schema(v value.Value, r *resource) *Schema {
	if own, ok := s.roots[v.Origin()]; ok {
		r = own
	}
	known, ok := s.schemas[v.Origin()]
	if !ok {
		known = &Schema{store: s, raw: v, resource: r}
		s.schemas[v.Origin()] = known
	}
	return known
}

// beside returns a schema about the same value as another: in OpenAPI only the one around it says which fields there
// are.
func (s *Store) beside(v value.Value, r *resource) *Schema {
	s.mu.Lock()
	defer s.mu.Unlock()
	known := s.schema(v, r)
	known.loose.Store(true)
	return known
}

// within returns a schema about a part of what another is about.
func (s *Store) within(v value.Value, of *Schema) *Schema {
	s.mu.Lock()
	defer s.mu.Unlock()
	known := s.schema(v, of.resource)
	if of.loose.Load() {
		known.loose.Store(true)
	}
	return known
}

// part returns a schema that is in another.
func (s *Store) part(v value.Value, r *resource) *Schema {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.schema(v, r)
}

func (s *Store) nameOf(path string) string {
	if s.NameOf == nil {
		return strings.TrimPrefix(path, "/")
	}
	return s.NameOf(path)
}

// resolve follows a reference (JSON Schema 2020-12, section 8.2.3). Why says why it leads nowhere.
func (s *Store) resolve(reference string, from *resource) (target *Schema, why, help string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	uri, err := from.uri.Parse(reference)
	if err != nil {
		return nil, fmt.Sprintf("%q is not a reference", reference), "write a path, an address, or # and a JSON Pointer"
	}
	r := s.load(uri, from.dialect)
	if r == nil {
		help := "add the document; nothing is fetched"
		if uri.Scheme == fileScheme && s.Outside != nil && s.Outside(uri.Path) {
			return nil, fmt.Sprintf("the schema %s is outside of the project and of the directories on the command line",
				s.nameOf(uri.Path)), "copy it into the project, or add its directory to the command line"
		}
		if uri.Scheme == fileScheme {
			return nil, fmt.Sprintf("there is no schema %s", s.nameOf(uri.Path)), "add the file, or fix the reference"
		}
		return nil, fmt.Sprintf("the schema %s is not here", withoutFragment(uri)), help
	}
	if r.findings.HasErrors() {
		return nil, fmt.Sprintf("the schema %s cannot be read: %s", s.nameOf(uri.Path), r.findings[0].Message),
			r.findings[0].Help
	}
	fragment := uri.Fragment
	if fragment != "" && fragment[0] != '/' {
		if v, ok := r.anchors[fragment]; ok {
			return s.schema(v, r), "", ""
		}
		var names []string
		for name := range r.anchors {
			names = append(names, name)
		}
		if near, ok := source.Nearest(fragment, names); ok {
			help = source.DidYouMean(near)
		}
		return nil, fmt.Sprintf("nothing has the anchor %q", fragment), help
	}
	steps, err := place.ParsePointer(fragment)
	if err != nil {
		return nil, fmt.Sprintf("%q is not a JSON Pointer", fragment), "write / before each step"
	}
	v := r.root
	for i, step := range steps {
		next, ok := place.Child(v, step)
		if !ok {
			if v.Kind() == value.Record {
				if near, ok := source.Nearest(step, v.Shape().Keys()); ok {
					help = source.DidYouMean(near)
				}
			}
			return nil, fmt.Sprintf("there is no /%s in the schema", strings.Join(steps[:i+1], "/")), help
		}
		v = next
		if own, ok := s.roots[v.Origin()]; ok {
			r = own
		}
	}
	if v.Kind() != value.Record && v.Kind() != value.Bool {
		return nil, fmt.Sprintf("%s leads to %s, not to a schema", reference, v.Kind().Article()), ""
	}
	return s.schema(v, r), "", ""
}

// fileScheme is that of the addresses of files of the project, which have no other.
const fileScheme = "file"

// FileURI returns the address of a file by its path.
func FileURI(path string) string {
	return (&url.URL{Scheme: fileScheme, Path: "/" + strings.TrimPrefix(path, "/")}).String()
}

// compiledPattern is a pattern, or why it cannot be used.
type compiledPattern struct {
	pattern *matcher
	err     error
}

// pattern compiles a pattern; the same one, which definitions have often, once.
func (s *Store) pattern(text string, d *dialect) (*matcher, error) {
	compile, key := compilePattern, "ecma "+text
	if d.openAPI { // servers take the patterns of definitions for those of RE2
		compile, key = compileRE2, "re2 "+text
	}
	known, ok := s.patterns.Load(key)
	if !ok {
		made := &compiledPattern{}
		if pattern, err := compile(text); err != nil {
			made.err = err
		} else {
			made.pattern = &matcher{Regexp: pattern, length: Instructions(pattern.String())}
		}
		known, _ = s.patterns.LoadOrStore(key, made)
	}
	c := known.(*compiledPattern)
	return c.pattern, c.err
}

// Named returns the schema that a path names, from the top of the project; nil when there is none, and why not.
func (s *Store) Named(reference string) (target *Schema, why, help string) {
	return s.resolve(reference, &resource{uri: &url.URL{Scheme: fileScheme, Path: "/"}})
}
