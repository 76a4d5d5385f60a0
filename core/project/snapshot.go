package project

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"knothole/core/builtin"
	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/syntax"
)

// A project is loaded again and again: at two revisions, with some lines as in another one, after each keystroke. Most
// files are the same each time. So files are told apart by their contents, trees and data by their files, and checked
// modules by their trees and all that checking them depends on: the modules that they use, the environments, the
// schemas. What is the same is shared.

// Snapshot is the files of a project at one time, and what was made of them. It does not change. A snapshot that is
// made after another shares all that is the same; only one of those that share may be made at a time.
type Snapshot struct {
	Sources *source.Set
	Program *eval.Program // nil when there is no main module

	files   fs.FS
	own     []*source.File // that were read
	store   *store
	checked *check.Program
	modules map[string]*moduleState
	sources map[*source.File]bool    // those of modules
	nameOf  func(path string) string // what messages call a file; nil for its path
	data    map[string]*dataFile
	keys    data.Keys
	made    Made
}

// Made counts what was made for a snapshot, and not shared with those before it.
type Made struct{ Parsed, Checked int }

// Made returns what was made for the snapshot.
func (s *Snapshot) Made() Made { return s.made }

// store is what snapshots share.
type store struct {
	sources *source.Set
	keys    data.Keys
	checks  *check.Store
	files   map[content]*source.File
	trees   map[*source.File]*syntax.Module
	data    map[parsedData]*dataFile
	modules map[string][]*checkedModule
	schemas *readSchemas // that were read last
	bytes   int          // of all files
}

// content identifies a file by its path and the digest of its bytes.
type content struct {
	path   string
	digest [sha256.Size]byte
}

type parsedData struct {
	file   *source.File
	format data.Format
}

// checkedModule is a module that was checked, with the schemas that its types come from; nil for none.
type checkedModule struct {
	module  *check.Module
	schemas *readSchemas
}

// mostShared is the maximum number of bytes of files that snapshots share. Beyond it, the next one shares nothing.
const mostShared = 512 << 20

// newSnapshot returns a snapshot of files of which nothing is made yet. It shares what was made for another one, if
// that is not nil.
func newSnapshot(files fs.FS, before *Snapshot) *Snapshot {
	s := &Snapshot{files: files, modules: map[string]*moduleState{}, sources: map[*source.File]bool{},
		data: map[string]*dataFile{}}
	if before != nil && before.store.bytes <= mostShared {
		s.store = before.store
	} else {
		s.store = &store{sources: source.NewSet(), keys: data.Keys{}, checks: check.NewStore(),
			files: map[content]*source.File{}, trees: map[*source.File]*syntax.Module{},
			data: map[parsedData]*dataFile{}, modules: map[string][]*checkedModule{}}
	}
	s.Sources, s.keys = s.store.sources, s.store.keys
	s.checked = &check.Program{Store: s.store.checks, Sources: s.Sources, Builtins: builtin.Table.Builtins,
		SecretGiven: func(names []string) string {
			return "it is secret: name its source in [environments.….secrets]: " + secretSource(names)
		}}
	return s
}

// addFile adds a file to the sources, or returns the one with the same path and contents.
func (s *Snapshot) addFile(name string, text []byte) (*source.File, error) {
	key := content{name, sha256.Sum256(text)}
	f, ok := s.store.files[key]
	if !ok {
		var err error
		if f, err = s.Sources.Add(name, text); err != nil {
			return nil, err
		}
		s.store.files[key] = f
		s.store.bytes += len(text)
	}
	if !slices.Contains(s.own, f) {
		s.own = append(s.own, f)
	}
	return f, nil
}

// Files returns the files of the project that were read for the snapshot, in the order in which they were.
func (s *Snapshot) Files() []*source.File { return s.own }

// parse returns the tree of a module.
func (s *Snapshot) parse(file *source.File) *syntax.Module {
	tree, ok := s.store.trees[file]
	if !ok {
		tree = syntax.Parse(file)
		s.store.trees[file] = tree
		s.made.Parsed++
	}
	return tree
}

// parseData returns the value of a data file, and its findings.
func (s *Snapshot) parseData(file *source.File, format data.Format) *dataFile {
	key := parsedData{file, format}
	d, ok := s.store.data[key]
	if !ok {
		d = &dataFile{}
		d.root, d.findings = data.Read(file, format, s.keys)
		s.store.data[key] = d
		s.made.Parsed++
	}
	return &dataFile{root: d.root, findings: slices.Clone(d.findings)}
}

// known returns a module that was checked before and would be found to be the same now, else the module.
func (p *Project) known(m *check.Module) *check.Module {
	key := keyOf(m, p.checked)
	for _, c := range p.store.modules[key] {
		if c.schemas == nil || c.schemas == p.readSchemas() {
			return c.module
		}
	}
	return m
}

// remember keeps the modules that were checked for the snapshot.
func (p *Project) remember() {
	for _, m := range p.checked.Modules {
		key, known := keyOf(m, p.checked), &checkedModule{module: m}
		if m.UsesSchemas {
			known.schemas = p.readSchemas()
		}
		if !slices.ContainsFunc(p.store.modules[key], func(c *checkedModule) bool { return c.module == m }) {
			p.store.modules[key] = append(p.store.modules[key], known)
			p.made.Checked++
		}
	}
}

// keyOf writes all that checking a module depends on but the schemas.
func keyOf(m *check.Module, p *check.Program) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %p %t %t %q %q %q %q", m.Path, m.Tree, m.Main, m.Enforced, m.Environments, m.Tags, p.Environments,
		p.Tags)
	for _, d := range m.Tree.Declarations {
		if use, ok := d.(*syntax.Use); ok {
			if imported := m.Imports[use]; imported != nil {
				fmt.Fprintf(&b, " %p %t", imported.Module, imported.Failed)
			}
		}
	}
	return b.String()
}
