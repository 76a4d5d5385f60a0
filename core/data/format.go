package data

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/value"
)

// Format is a format of data files. What it can do is in the table of formats; a format of which nothing is there is
// an error in the program.
type Format string

// The formats.
const (
	YAML Format = "yaml"
	JSON Format = "json"
	TOML Format = "toml"
	Env  Format = "env"
	Text Format = "txt"
)

// LineForm says how the lines of a written document relate to its values.
type LineForm uint8

// The forms of lines.
const (
	ReadLines  LineForm = iota + 1 // reading the text back gives the values with their lines
	EntryLines                     // each entry of the record begins a line
	TextLines                      // the document is a string, and its lines are those of the string
)

// format is what a format can do.
type format struct {
	name       Format
	extensions []string // the first is the common one
	called     string   // what messages call a file
	read       func(r *reader) value.Value
	write      func(v value.Value) ([]byte, error)
	comment    string // begins a comment that ends with the line; empty where there are none
	null       bool   // it has null
	stream     bool   // a file can hold several documents
	flat       bool   // a document is a record of scalars
	lines      LineForm
	// root is what a document must be; nil for anything. The help is for one that is something else.
	root     func(k value.Kind) bool
	is, help string
}

// formats is the table of all formats. It is filled in init, since writers ask for the properties of formats.
var formats []*format

func init() {
	record := func(k value.Kind) bool { return k == value.Record }
	formats = []*format{
		{name: YAML, extensions: []string{"yaml", "yml"}, called: "YAML", read: (*reader).yaml, write: writeYAML,
			comment: "#", null: true, stream: true, lines: ReadLines},
		{name: JSON, extensions: []string{"json"}, called: "JSON", read: (*reader).json, write: writeJSON, null: true,
			lines: ReadLines},
		{name: TOML, extensions: []string{"toml"}, called: "TOML", read: (*reader).toml, write: certain(writeTOML),
			comment: "#",
			lines:   ReadLines, root: record, is: "a TOML file is a record", help: "put it under a key"},
		{name: Env, extensions: []string{"env"}, called: "an env file", write: certain(writeEnv), comment: "#", flat: true,
			lines: EntryLines, root: record, is: "an env file is a record of names and scalars"},
		{name: Text, extensions: []string{"txt"}, called: "a text file", write: writeText, null: true, lines: TextLines,
			root: func(k value.Kind) bool { return k == value.String }, is: "a text file is a string",
			help: "name the document .yaml or .json for data"},
	}
}

// of returns what a format can do.
func (f Format) of() *format {
	for _, one := range formats {
		if one.name == f {
			return one
		}
	}
	panic(fmt.Sprintf("the format %q is not in the table", string(f)))
}

// Readable reports whether files of the format can be read.
func (f Format) Readable() bool { return f.of().read != nil }

// Streams reports whether a file can hold several documents.
func (f Format) Streams() bool { return f.of().stream }

// Comment returns what begins a comment that ends with the line; empty where there are none.
func (f Format) Comment() string { return f.of().comment }

// HasNull reports whether the format can hold null.
func (f Format) HasNull() bool { return f.of().null }

// Lines returns how the lines of a document relate to its values.
func (f Format) Lines() LineForm { return f.of().lines }

// Extensions returns the file extensions of all formats, without a dot, as the language names formats too.
func Extensions() []string { return extensions(func(*format) bool { return true }) }

// ReadableExtensions returns the file extensions of the formats that can be read, each with a dot.
func ReadableExtensions() []string {
	all := extensions(func(f *format) bool { return f.read != nil })
	for i, e := range all {
		all[i] = "." + e
	}
	return all
}

func extensions(wanted func(*format) bool) (all []string) {
	for _, f := range formats {
		if wanted(f) {
			all = append(all, f.extensions...)
		}
	}
	return all
}

// FormatOf returns the format of a file extension, which a path ends with or which is alone, and whether it has one.
func FormatOf(path string) (Format, bool) {
	extension := path[strings.LastIndexAny(path, "./")+1:]
	for _, f := range formats {
		if slices.Contains(f.extensions, extension) {
			return f.name, true
		}
	}
	return "", false
}

// ReadableFormatOf is FormatOf for formats that can be read.
func ReadableFormatOf(path string) (Format, bool) {
	f, ok := FormatOf(path)
	return f, ok && f.Readable()
}

// certain is a writer that cannot fail.
func certain(write func(v value.Value) []byte) func(v value.Value) ([]byte, error) {
	return func(v value.Value) ([]byte, error) { return write(v), nil }
}

func writeJSON(v value.Value) ([]byte, error) { return append(appendJSON(nil, v, 0, 2), '\n'), nil }

func writeText(v value.Value) ([]byte, error) {
	text := v.Text()
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return []byte(text), nil
}

// Write writes a value that Check has no problem with.
func Write(v value.Value, format Format) ([]byte, error) { return format.of().write(v) }
