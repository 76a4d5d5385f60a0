package schema

import (
	"fmt"
	"net/url"
	"path"
	"strings"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Validator validates the documents of plain files.
type Validator struct {
	Catalogue *Catalogue
	// Schema is what every document must be as; nil when each says itself, or is of a kind.
	Schema     *Schema
	SchemaName string
	// Check, when it is not nil, is asked about every document instead.
	Check func(v value.Value, keys data.Keys) source.Findings
	// UnknownKinds says that a kind which the catalogue lacks is no error; its documents are not checked.
	UnknownKinds bool
	// Address returns the path in the address of a file, by the path of the file. It may be nil.
	Address func(path string) string
	// Add is the command that adds a kind to the catalogue.
	Add string
}

// Validated is what became of one document.
type Validated struct {
	Title string // what it is, such as "Deployment bay-map"; the path of its file when it does not say
	Kind  string // of the object; empty for other data
	// By names what it was checked against; empty when it was not checked, and Why says why.
	By, Why string
	Wrong   bool
	// NotKnown is how many values are not known, so that nothing was said of them.
	NotKnown int
	// Transitions is how many rules compare with the object before a change, and were not judged.
	Transitions int
}

// File validates the documents of a file. Those that cannot be read are reported, and the others validated.
func (v *Validator) File(file *source.File, format data.Format) (all []Validated, findings source.Findings) {
	keys, numbers := data.Keys{}, data.Numbers{}
	var documents []value.Value
	if format.Streams() {
		documents, findings = data.ReadEach(file, keys, numbers)
	} else {
		var one value.Value
		one, findings = data.ReadExact(file, format, keys, numbers)
		if !findings.HasErrors() {
			documents = []value.Value{one}
		}
	}
	named := v.named(file, format)
	for _, d := range documents {
		for _, object := range Objects(d) {
			one := &validating{Validator: v, file: file, keys: keys, numbers: numbers, whole: object}
			one.document(named, len(documents) > 1 || object != d)
			all, findings = append(all, one.result), append(findings, one.findings...)
		}
	}
	return all, findings
}

// Objects returns the objects that an object lists; itself, if it is none that does.
func Objects(v value.Value) []value.Value {
	if items, is := ListItems(v); is {
		return items
	}
	return []value.Value{v}
}

// ListItems returns the objects of a list of the open object format; is says whether a document is one.
func ListItems(v value.Value) (items []value.Value, is bool) {
	if v.Kind() != value.Record || !strings.HasSuffix(textOf(v.Get("kind")), "List") ||
		textOf(v.Get("apiVersion")) == "" || v.Get("items").Kind() != value.List {
		return nil, false
	}
	return v.Get("items").Elements(), true
}

// commentWord is what a first line begins with that names the schema of a file.
const commentWord = "schema:"

// named returns the reference by which the first comment of a file names a schema.
func (v *Validator) named(file *source.File, format data.Format) *reference {
	if format.Comment() == "" {
		return nil
	}
	text := strings.TrimPrefix(file.Text, "\uFEFF")
	skipped := len(file.Text) - len(text)
	line, _, _ := strings.Cut(text, "\n")
	comment, ok := strings.CutPrefix(strings.TrimSpace(line), format.Comment())
	if !ok {
		return nil
	}
	name, ok := strings.CutPrefix(strings.TrimSpace(comment), commentWord)
	if name = strings.TrimSpace(name); !ok || name == "" {
		return nil
	}
	at := skipped + strings.Index(text, name)
	return &reference{name, file.Span(at, at+len(name))}
}

// reference is where a file names its schema.
type reference struct {
	name string
	span source.Span
}

// validating is the validation of one document.
type validating struct {
	*Validator
	file     *source.File
	keys     data.Keys
	numbers  data.Numbers
	whole    value.Value
	label    string // of the document in messages; empty when the file says it
	result   Validated
	findings source.Findings
}

func (v *validating) document(named *reference, several bool) {
	d := v.whole
	v.result = Validated{Title: place.Title(d), Kind: place.Kind(d)}
	if several {
		v.label = v.result.Title
	}
	if v.result.Title == "" {
		v.result.Title = v.file.Path
	}
	apiVersion, kind := KindOf(d)
	if d.Kind() == value.Record {
		if own := d.Get("$schema"); named == nil && textOf(own) != "" && kind == "" {
			named = &reference{own.Text(), source.At(own.Origin().Pos())}
			if !isMetaschema(named.name) {
				v.whole = without(d, "$schema") // it is about the file, not in its data
			}
		}
	}
	switch {
	case v.Check != nil:
		v.result.By = v.SchemaName
		found := v.Check(d, v.keys)
		v.result.Wrong = found.HasErrors()
		v.findings = append(v.findings, found...)
	case v.Schema != nil:
		v.against(v.Schema, v.SchemaName, false)
	case named != nil:
		if s := v.follow(named); s != nil {
			v.against(s, named.name, false)
		}
	case apiVersion != "" && kind != "":
		v.byKind(apiVersion, kind)
	case kind != "" || apiVersion != "":
		v.result.Why = "it has a kind, but no apiVersion"
		if kind == "" {
			v.result.Why = "it has an apiVersion, but no kind"
		}
	default:
		v.result.Why = "nothing says which schema it has"
	}
}

// follow returns the schema that a file names.
func (v *validating) follow(r *reference) *Schema {
	if isMetaschema(r.name) {
		return v.metaschema(r.name)
	}
	uri, err := url.Parse(r.name)
	if err == nil && uri.Scheme == "" {
		address := "/" + v.file.Path
		if v.Address != nil {
			address = v.Address(v.file.Path)
		}
		name, fragment, _ := strings.Cut(r.name, "#")
		uri = &url.URL{Scheme: fileScheme, Path: path.Join(path.Dir(address), name), Fragment: fragment}
	}
	why := fmt.Sprintf("%q is not a reference to a schema", r.name)
	help := ""
	if err == nil {
		var s *Schema
		if s, why, help = v.Catalogue.Store.resolve(uri.String(), &resource{uri: uri}); s != nil {
			return s
		}
	}
	v.result.Why = "its schema is not there"
	v.findings.Add(source.Finding{Code: source.BadSchema, Span: r.span, Message: why, Help: help})
	return nil
}

// isMetaschema reports whether an address is that of a dialect: the file is a schema itself then.
func isMetaschema(name string) bool {
	_, ok := dialects[strings.TrimSuffix(name, "#")]
	return ok
}

func (v *validating) metaschema(name string) *Schema {
	s := v.Catalogue.Store
	uri, _ := url.Parse(strings.TrimSuffix(name, "#"))
	s.mu.Lock()
	defer s.mu.Unlock()
	r := s.load(uri, nil)
	return s.schema(r.root, r)
}

func (v *validating) byKind(apiVersion, kind string) {
	k := v.Catalogue.Find(apiVersion, kind)
	if k == nil {
		v.result.Why = fmt.Sprintf("the catalogue has no %s %s", apiVersion, kind)
		if !v.UnknownKinds {
			v.findings.Add(v.Catalogue.Unknown(apiVersion, kind, v.whole.Get("kind").Origin().Pos(), v.Add))
		}
		return
	}
	if f, ok := k.Finding(source.At(v.whole.Get("apiVersion").Origin().Pos())); ok {
		f.Message = v.titled(f.Message)
		v.findings.Add(f)
	}
	v.against(k.Schema, k.Key(), true)
	if isDefinition(v.whole) {
		v.definition()
	}
}

// definition looks at the schemas in a custom resource definition.
func (v *validating) definition() {
	kinds, findings := NewCatalogue(v.Catalogue.Store).Add(v.file.Path, Document{Root: v.whole, Numbers: v.numbers})
	for _, k := range kinds {
		findings = append(findings, k.Schema.Mistakes()...)
	}
	v.result.Wrong = v.result.Wrong || findings.HasErrors()
	v.findings = append(v.findings, findings...)
}

// titled puts the name of the document before a message.
func (v *validating) titled(message string) string {
	if v.label == "" {
		return message
	}
	return v.label + ": " + message
}

// against validates the document.
func (v *validating) against(s *Schema, name string, asObject bool) {
	v.result.By = name
	validate := s.Validate
	if asObject {
		validate = s.ValidateObject
	}
	r := validate(v.whole, v.numbers)
	v.findings = append(v.findings, r.Schema...)
	v.result.NotKnown, v.result.Transitions = r.NotKnown, r.Transitions
	for _, p := range r.Problems {
		v.result.Wrong = v.result.Wrong || !p.Warning
		v.findings.Add(p.Finding(v.label, v.whole, Places{func(o value.Origin) source.Pos { return o.Pos() },
			func(_ value.Value, _ string, under value.Value) source.Pos { return v.keys[under.Origin().Pos()] }}))
	}
}

// ReadDocument reads a file that is a schema, or holds some.
func ReadDocument(file *source.File) Document {
	d := Document{Numbers: data.Numbers{}}
	format, ok := data.ReadableFormatOf(file.Path)
	if !ok {
		format = data.JSON
	}
	d.Root, d.Findings = data.ReadExact(file, format, nil, d.Numbers)
	return d
}

// IsFile reports whether an address is that of a file.
func IsFile(uri *url.URL) bool { return uri.Scheme == fileScheme }

// Part returns the schema at a JSON Pointer, or with an anchor, in the document of a schema; nil when there is none,
// and why not.
func (s *Schema) Part(fragment string) (part *Schema, why, help string) {
	return s.store.resolve("#"+fragment, s.resource)
}

// AddFile takes the definitions of kinds out of a file. That a file has none is said.
func (c *Catalogue) AddFile(file *source.File) source.Findings {
	numbers := data.Numbers{}
	var documents []value.Value
	var findings source.Findings
	if format, ok := data.FormatOf(file.Path); ok && format.Streams() {
		documents, findings = data.ReadEach(file, nil, numbers)
	} else {
		d := ReadDocument(file)
		if numbers, findings = d.Numbers, d.Findings; !findings.HasErrors() {
			documents = []value.Value{d.Root}
		}
	}
	count := 0
	for _, d := range documents {
		added, found := c.Add(file.Path, Document{Root: d, Numbers: numbers})
		findings = append(findings, found...)
		count += len(added)
	}
	if count == 0 && !findings.HasErrors() {
		findings.Add(source.Finding{Code: source.BadSchema, Severity: source.Warning, Span: file.Span(0, 0),
			Message: "no kind is defined here", Help: "a definition is an object of kind CustomResourceDefinition, or a JSON " +
				"Schema that says of which kind it is"})
	}
	return findings
}
