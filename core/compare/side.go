package compare

import (
	"crypto/sha256"
	"fmt"
	"strings"
	"unicode/utf8"

	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// Side is one of the sides of a comparison: what an environment renders to, or files.
type Side struct {
	Name     string
	Contents map[string]*Content // by their paths
	// broken are the paths of files that cannot be read, which are not compared.
	broken map[string]bool

	unit   *project.Unit // nil for files
	known  []string      // fields by which elements of lists are known
	result *render.Result
}

// Content is a document of a side.
type Content struct {
	Value  value.Value
	Stream bool
	// Name is the path, which knows what chose it; of a file it is where that begins.
	Name value.Value
}

func (s Side) recorder() *eval.Recorder { return s.result.Recorder() }

// Rendered is the side of what an environment renders to.
func Rendered(r *render.Result, o Options) Side {
	s := Side{Name: r.Run.Name, Contents: make(map[string]*Content, len(r.Documents)), result: r, unit: r.Run.Unit,
		known: r.Run.Unit.Project.ListKeys}
	for i := range r.Documents {
		d := &r.Documents[i]
		s.Contents[d.Path] = &Content{Value: o.filtered(d.Path, d.Value), Stream: d.Stream, Name: d.Name}
	}
	return s
}

// AsFiles makes the documents of a rendered side what they are in files: those in formats that are not read are
// strings, and what is not known yet is its placeholder. Documents that are secret are not compared with files: it
// returns how many these are.
func (s Side) AsFiles() (secret int) {
	for i := range s.result.Documents {
		d := &s.result.Documents[i]
		unit := s.Contents[d.Path]
		switch {
		case d.Secret:
			delete(s.Contents, d.Path)
			secret++
			continue
		case d.Open:
			unit.Value = value.WithPlaceholders(unit.Value)
		}
		if d.Format.Readable() {
			continue
		}
		if text, err := d.Text(); err == nil && value.Marks(d.Value) == 0 {
			unit.Value = value.StringOf(string(text), d.Name.Origin())
		}
	}
	return secret
}

// File is a file of a side.
type File struct {
	Source *source.File // nil when it is no text
	Text   string
}

// Files is the side of files, by the paths by which they are compared. A file that cannot be read is not compared, and
// among the findings.
func Files(name string, files map[string]File, o Options) (Side, source.Findings) {
	s := Side{Name: name, Contents: make(map[string]*Content, len(files))}
	var findings source.Findings
	for path, file := range files {
		if !o.only(path) {
			continue
		}
		unit, found := readUnit(file)
		findings = append(findings, found...)
		if found.HasErrors() {
			if s.broken == nil {
				s.broken = map[string]bool{}
			}
			s.broken[path] = true
			continue
		}
		unit.Value = o.filtered(path, unit.Value)
		s.Contents[path] = unit
	}
	return s, findings
}

// readUnit reads a file: as data when its name tells a format that can be read, else as a string.
func readUnit(f File) (*Content, source.Findings) {
	if f.Source == nil || !utf8.ValidString(f.Text) || strings.ContainsRune(f.Text, 0) {
		return &Content{Value: value.StringOf(fmt.Sprintf("no text: %s, SHA-256 %x", source.Count(len(f.Text), "byte"),
			sha256.Sum256([]byte(f.Text))), 0)}, nil
	}
	file := f.Source
	at := value.From(file.Pos(0))
	unit := &Content{Name: value.StringOf(file.Path, at)}
	format, ok := data.FormatOf(file.Path)
	if !ok || !format.Readable() {
		unit.Value = value.StringOf(file.Text, at)
		return unit, nil
	}
	if format.Streams() {
		documents, findings := data.ReadEach(file, nil, nil)
		unit.Stream = len(documents) != 1
		if unit.Value = value.ListOf(documents, at); !unit.Stream {
			unit.Value = documents[0]
		}
		return unit, findings
	}
	v, findings := data.Read(file, format, nil)
	if findings.HasErrors() {
		return nil, findings
	}
	unit.Value = v
	return unit, findings
}
