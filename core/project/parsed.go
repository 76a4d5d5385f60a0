package project

import (
	"crypto/sha256"
	"io/fs"
	"slices"

	"knothole/core/data"
	"knothole/core/source"
	"knothole/core/syntax"
)

// Parsed is what was read of files, by their contents. Projects that have most of their files in common, such as one
// with some of its lines as they are in another revision, read each of them once. It is not for several projects at a
// time, and no place in a file of one is a place in another project's only.
type Parsed struct {
	sources *source.Set
	keys    data.Keys
	files   map[content]*source.File
	trees   map[*source.File]*syntax.Module
	data    map[parsedData]*dataFile
	bytes   int
}

// content is by what a file is known: its path, and its bytes by their digest.
type content struct {
	path   string
	digest [sha256.Size]byte
}

type parsedData struct {
	file   *source.File
	format data.Format
}

// mostParsed is how many bytes of files are kept before it begins anew.
const mostParsed = 512 << 20

// begin makes a place for what is read, anew when there is too much.
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

// addFile adds a file to the sources, or returns the one that is there with these contents.
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

// parseData returns what a file of data holds, and what is wrong with it.
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

// LoadAgain is LoadWithoutRules for a project of which many files may have been read before.
func LoadAgain(files fs.FS, parsed *Parsed) (*Project, error) {
	parsed.begin()
	return load(files, false, nil, parsed)
}
