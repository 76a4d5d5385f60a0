package project

import (
	"crypto/sha256"
	"io/fs"
	"slices"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/syntax"
)

// Parsed caches parsed files by their contents. Projects that share most of their files, such as trials of a revision,
// parse each file once. Only one project at a time may use it, and the locations in its files belong to all of these
// projects.
type Parsed struct {
	sources *source.Set
	keys    data.Keys
	files   map[content]*source.File
	trees   map[*source.File]*syntax.Module
	data    map[parsedData]*dataFile
	bytes   int
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

// mostParsed is the maximum number of bytes of cached files. Beyond it, the cache starts empty again.
const mostParsed = 512 << 20

// begin prepares the cache, and empties it if it is too large.
func (c *Parsed) begin() {
	if c.sources == nil || c.bytes > mostParsed {
		*c = Parsed{sources: source.NewSet(), keys: data.Keys{}, files: map[content]*source.File{},
			trees: map[*source.File]*syntax.Module{}, data: map[parsedData]*dataFile{}}
	}
}

// file returns the file with a path and contents.
func (c *Parsed) file(name string, text []byte) (*source.File, error) {
	key := content{name, sha256.Sum256(text)}
	if f, ok := c.files[key]; ok {
		return f, nil
	}
	f, err := c.sources.Add(name, text)
	if err == nil {
		c.files[key] = f
		c.bytes += len(text)
	}
	return f, err
}

// addFile adds a file to the sources, or returns the existing one with the same contents.
func (p *Project) addFile(name string, text []byte) (*source.File, error) {
	if p.parsed != nil {
		return p.parsed.file(name, text)
	}
	return p.Sources.Add(name, text)
}

// parse returns the tree of a module.
func (p *Project) parse(file *source.File) *syntax.Module {
	if p.parsed == nil {
		return syntax.Parse(file)
	}
	tree, ok := p.parsed.trees[file]
	if !ok {
		tree = syntax.Parse(file)
		p.parsed.trees[file] = tree
	}
	return tree
}

// parseData returns the value of a data file, and its findings.
func (p *Project) parseData(file *source.File, format data.Format) *dataFile {
	key := parsedData{file, format}
	if p.parsed != nil {
		if d, ok := p.parsed.data[key]; ok {
			return &dataFile{root: d.root, findings: slices.Clone(d.findings)}
		}
	}
	d := &dataFile{}
	d.root, d.findings = data.Read(file, format, p.keys)
	if p.parsed != nil {
		p.parsed.data[key] = &dataFile{root: d.root, findings: slices.Clone(d.findings)}
	}
	return d
}

// LoadAgain is LoadWithoutRules for a project many of whose files may be cached.
func LoadAgain(files fs.FS, parsed *Parsed) (*Project, error) {
	parsed.begin()
	return load(files, false, nil, parsed)
}
