package project

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"strings"
	"sync"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// Association says which schema some documents have: an entry of [[schemas]].
type Association struct {
	Documents string // a pattern of their paths
	ByKind    bool   // each has that of its kind
	// Optional says that a kind which the catalogue lacks is no error.
	Optional bool
	Span     source.Span // of the pattern

	reference value.Value // the path of the schema, and after a # the part of it
	Schema    *schema.Schema
}

// Name is how the schema is written; empty when each document has that of its kind.
func (a *Association) Name() string {
	if a.reference.IsAbsent() {
		return ""
	}
	return a.reference.Text()
}

// Matches reports whether a document is one of those that are meant.
func (a *Association) Matches(path string) bool { return place.Match(a.Documents, path) }

// Schemas are the schemas of a project. They are read when something is validated.
type Schemas struct {
	Catalogue    *schema.Catalogue
	Associations []*Association
	// Findings are what is wrong with the schemas and the directories of the catalogue.
	Findings source.Findings
}

// schemas is what the project file says of schemas, and what was read of them.
type schemas struct {
	associations []*Association
	folders      []value.Value // of the catalogue
	once         sync.Once
	read         *readSchemas
	written      sync.Once
	records      map[source.Pos]*syntax.Record // that are written in modules, once one is asked for
	mu           sync.Mutex
	listKeys     map[listPlace][]string // that were asked for
}

// listPlace is a list in what a schema describes, by the fields that lead to it.
type listPlace struct {
	schema *schema.Schema
	path   string
}

// HasSchemas reports whether the project says of any documents which schema they have.
func (p *Project) HasSchemas() bool { return len(p.schemas.associations) > 0 }

// readAssociations reads [[schemas]] and [catalogue] of the project file.
func (p *Project) readAssociations(top *configuration) {
	if list, ok := top.get("schemas", value.List); ok {
		for _, table := range list.Elements() {
			c := &configuration{p, "[[schemas]]", table}
			if table.Kind() != value.Record {
				p.report(source.WrongType, source.At(table.Origin().Pos()), "write a table: [[schemas]]",
					"an entry of schemas is a table, not %s", table.Show(40))
				continue
			}
			if a := c.association(); a != nil {
				p.schemas.associations = append(p.schemas.associations, a)
			}
		}
	}
	if table, ok := top.get("catalogue", value.Record); ok {
		c := &configuration{p, "[catalogue]", table}
		c.known("dirs")
		p.schemas.folders = c.texts("dirs", "paths of directories")
	}
}

func (c *configuration) association() *Association {
	c.known("documents", "kind", "schema", "optional")
	a := &Association{Span: c.keyOf(c.table)}
	documents, ok := c.get("documents", value.String)
	switch {
	case ok:
		a.Documents, a.Span = documents.Text(), source.At(documents.Origin().Pos())
	case documents.IsAbsent():
		c.report(source.MissingField, a.Span, `write: documents = "k8s/**"`,
			"an entry of [[schemas]] says which documents it is for")
		return nil
	default:
		return nil
	}
	if v, ok := c.get("kind", value.Bool); ok {
		a.ByKind = v.Bool()
	}
	if v, ok := c.get("schema", value.String); ok {
		a.reference = v
	}
	if v, ok := c.get("optional", value.Bool); ok {
		a.Optional = v.Bool()
	}
	if a.ByKind == (a.reference.Kind() == value.String) && c.table.Get("kind").Kind() != value.String {
		c.report(source.MissingField, a.Span, `write schema = "PATH", or kind = true for the schemas of their kinds`,
			"an entry of [[schemas]] names either a schema or the kinds")
		return nil
	}
	return a
}

// Schemas returns the schemas of the project. They are read once.
func (p *Project) Schemas() *Schemas { return &p.readSchemas().Schemas }

// readSchemas are schemas that were read, and the files that this took. Snapshots share them as long as these are the
// same.
type readSchemas struct {
	Schemas
	file *source.File // the project file that names them

	mu    sync.Mutex
	files fs.FS // of the last snapshot
	read  []schemaFile
}

// schemaFile is a file that was read for schemas, or a directory.
type schemaFile struct {
	name   string
	digest [sha256.Size]byte // of the contents; of the names in a directory
}

// readSchemas reads the schemas of the project, unless a snapshot before has read the same.
func (p *Project) readSchemas() *readSchemas {
	p.schemas.once.Do(func() {
		if before := p.store.schemas; before == nil || before.file != p.file || !before.same(p.files) {
			p.store.schemas = &readSchemas{file: p.file, files: p.files}
			p.fillSchemas(p.store.schemas)
		}
		p.schemas.read = p.store.schemas
	})
	return p.schemas.read
}

// same reports whether all that was read is the same in other files, which it then reads further files from.
func (s *readSchemas) same(files fs.FS) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, one := range s.read {
		if digestIn(files, one.name) != one.digest {
			return false
		}
	}
	s.files = files
	return true
}

// note notes that a file was read, and returns the files to read it from.
func (s *readSchemas) note(name string) fs.FS {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.read = append(s.read, schemaFile{name, digestIn(s.files, name)})
	return s.files
}

// digestIn returns a digest of a file, or of the names of a directory; zero when there is none.
func digestIn(files fs.FS, name string) (digest [sha256.Size]byte) {
	if text, err := fs.ReadFile(files, name); err == nil {
		return sha256.Sum256(text)
	}
	entries, err := fs.ReadDir(files, name)
	if err != nil {
		return digest
	}
	var names strings.Builder
	for _, e := range entries {
		fmt.Fprintf(&names, "%s\x00", e.Name())
	}
	return sha256.Sum256([]byte(names.String()))
}

func (p *Project) fillSchemas(s *readSchemas) {
	store := schema.NewStore(p.Sources)
	snapshot := p.Snapshot
	store.Load = func(address string) (schema.Document, bool) {
		uri, err := url.Parse(address)
		if err != nil || !schema.IsFile(uri) {
			return schema.Document{}, false
		}
		name := strings.TrimPrefix(uri.Path, "/")
		text, err := fs.ReadFile(s.note(name), name)
		if err != nil {
			return schema.Document{}, false
		}
		file, err := snapshot.addFile(name, text)
		if err != nil {
			return schema.Document{}, false
		}
		return schema.ReadDocument(file), true
	}
	s.Catalogue, s.Associations = schema.NewCatalogue(store), p.schemas.associations
	for _, folder := range p.schemas.folders {
		p.readCatalogue(s, folder)
	}
	told := map[*schema.Schema]bool{}
	for _, a := range s.Associations {
		if a.Name() == "" {
			continue
		}
		var why, help string
		at := source.At(a.reference.Origin().Pos())
		if a.Schema, why, help = store.Named(a.Name()); a.Schema == nil {
			s.Findings.Add(source.Finding{Code: source.BadSchema, Span: at, Message: why, Help: help})
		} else if !told[a.Schema] {
			told[a.Schema] = true
			s.Findings = append(s.Findings, a.Schema.Mistakes()...)
		}
	}
}

// SchemaOf returns the schema of a document, or of an object in one; nil when it has none.
func (p *Project) SchemaOf(document string, v value.Value) *schema.Schema {
	if !p.HasSchemas() {
		return nil
	}
	s := p.Schemas()
	for _, a := range s.Associations {
		switch {
		case !a.Matches(document):
		case a.Schema != nil:
			return a.Schema
		case a.ByKind:
			if k := s.Catalogue.Find(schema.KindOf(v)); k != nil {
				return k.Schema
			}
		}
	}
	return nil
}

// ListKeysAt returns the fields by which the elements of a list in a document are known, as its schema says. The path
// is that of fields, with [] for elements.
func (p *Project) ListKeysAt(document string, v value.Value, path []string) []string {
	of := p.SchemaOf(document, v)
	if of == nil {
		return nil
	}
	at := listPlace{of, strings.Join(path, "\x00")}
	p.schemas.mu.Lock()
	defer p.schemas.mu.Unlock()
	keys, known := p.schemas.listKeys[at]
	if !known {
		for _, name := range path {
			if of != nil {
				of = of.Describes(name)
			}
		}
		if of != nil {
			keys = of.ListKeys()
		}
		if p.schemas.listKeys == nil {
			p.schemas.listKeys = map[listPlace][]string{}
		}
		p.schemas.listKeys[at] = keys
	}
	return keys
}

// readCatalogue adds the definitions in a directory to the catalogue.
func (p *Project) readCatalogue(s *readSchemas, folder value.Value) {
	at := source.At(folder.Origin().Pos())
	name := path.Clean(folder.Text())
	found := 0
	err := fs.WalkDir(p.files, name, func(name string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		s.note(name)
		format, ok := data.FormatOf(name)
		if entry.IsDir() || !ok || !format.Readable() {
			return nil
		}
		if file, ok := p.read(name, at); ok {
			found++
			s.Findings = append(s.Findings, s.Catalogue.AddFile(file)...)
		}
		return nil
	})
	switch {
	case err != nil:
		s.Findings.Add(source.Finding{Code: source.NoFile, Span: at, Help: "make the directory, or leave it out",
			Message: "the directory " + folder.Text() + " of the catalogue cannot be read"})
	case found == 0:
		s.Findings.Add(source.Finding{Code: source.NoFile, Severity: source.Warning, Span: at,
			Message: "the directory " + folder.Text() + " of the catalogue has no definitions"})
	}
}

// defaultCatalogue is the directory of the catalogue of a project that names none.
const defaultCatalogue = "schemas/kinds"

// CatalogueFolders returns the directories of the catalogue.
func (p *Project) CatalogueFolders() []string {
	var all []string
	for _, v := range p.schemas.folders {
		all = append(all, path.Clean(v.Text()))
	}
	return all
}

// CatalogueFolder returns the directory that definitions are added to, and whether the project names it.
func (p *Project) CatalogueFolder() (folder string, named bool) {
	if len(p.schemas.folders) > 0 {
		return path.Clean(p.schemas.folders[0].Text()), true
	}
	return defaultCatalogue, false
}

// KeyOf returns the place of a key in a record, under which a value is, by the places of both: where the record is
// written in a module, or was read from data. It is no place when the record was put together, or is not there.
func (p *Project) KeyOf(record, under source.Pos, name string) source.Pos {
	if !p.InSource(source.At(record)) {
		return p.keys[under]
	}
	literal := p.recordAt(record)
	if literal == nil {
		return source.NoPos
	}
	for _, entry := range literal.Entries {
		if !entry.Spread && entry.Key.Value == nil && entry.Key.Name == name {
			return entry.Key.Span.Start
		}
	}
	return source.NoPos
}

// recordAt returns the record that is written at a place in a module; nil for none.
func (p *Project) recordAt(at source.Pos) *syntax.Record {
	p.schemas.written.Do(func() {
		p.schemas.records = map[source.Pos]*syntax.Record{}
		for _, m := range p.Modules() {
			for _, d := range m.Tree.Declarations {
				syntax.Inspect(d, func(n syntax.Node) bool {
					if r, ok := n.(*syntax.Record); ok {
						p.schemas.records[r.Place().Start] = r
					}
					return true
				})
			}
		}
	})
	return p.schemas.records[at]
}

// SchemaAt returns the schema that a module names by a path from its directory.
func (p *Project) SchemaAt(module, reference string) (found *schema.Schema, why, help string) {
	name, part, hasPart := strings.Cut(reference, "#")
	full := path.Join(path.Dir(module), name)
	if !fs.ValidPath(full) {
		return nil, fmt.Sprintf("%q leads out of the project", reference), "schemas are files of the project"
	}
	if hasPart {
		full += "#" + part
	}
	return p.Schemas().Catalogue.Store.Named(full)
}

// SchemaOfKind returns a kind of the catalogue.
func (p *Project) SchemaOfKind(apiVersion, name string) (*schema.Kind, source.Finding) {
	catalogue := p.Schemas().Catalogue
	if k := catalogue.Find(apiVersion, name); k != nil {
		return k, source.Finding{}
	}
	return nil, catalogue.Unknown(apiVersion, name, source.NoPos, "add its definition: knothole schema add FILE")
}
