// Package data reads and writes plain data: YAML, JSON, TOML, env files and text. It exists so that every other
// package deals in values that know where in their file they stand, whatever the format.
package data

import (
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"unicode/utf8"

	"knothole/core/source"
	"knothole/core/value"
)

// Format is a format of data files.
type Format string

// The formats.
const (
	YAML Format = "yaml"
	JSON Format = "json"
	TOML Format = "toml"
	Env  Format = "env"
	Text Format = "txt"
)

// Formats are the names of the formats, as endings of paths and where the language names one.
var Formats = []string{"yaml", "yml", "json", "toml", "env", "txt"}

// FormatOf returns the format that the ending of a path or a name tells, and whether it does.
func FormatOf(path string) (Format, bool) {
	ending := path[strings.LastIndexAny(path, "./")+1:]
	switch ending {
	case "yaml", "yml":
		return YAML, true
	case "json":
		return JSON, true
	case "toml":
		return TOML, true
	case "env":
		return Env, true
	case "txt":
		return Text, true
	}
	return "", false
}

// Readable are the formats that can be read.
var Readable = []Format{YAML, JSON, TOML}

// maxDepth is how deep data may nest; maxBytes how much of it a document may be, maxExpansion how many values the
// aliases of a YAML file may stand for.
const (
	maxDepth     = 1000
	maxBytes     = 64 << 20
	maxExpansion = 1_000_000
)

// Keys remembers where the keys stand under which values were read, by the place of the value.
type Keys map[source.Pos]source.Pos

// Numbers are the numbers that 64 bits do not hold, by the place of the value: in the data stands the nearest float.
type Numbers map[source.Pos]*big.Rat

// reader is what the readers of all formats share.
type reader struct {
	file     *source.File
	keys     Keys
	numbers  Numbers // nil when such numbers are refused
	before   int     // lines of the file before the part that is read
	findings source.Findings
	warnings source.Findings // of what can be read
}

// unreadable ends reading; its finding is reported.
type unreadable struct{}

func (r *reader) report(f source.Finding) { r.findings.Add(f) }

func (r *reader) fail(span source.Span, help, format string, arguments ...any) {
	r.report(source.Finding{Code: source.BadData, Span: span, Message: fmt.Sprintf(format, arguments...), Help: help})
	panic(unreadable{})
}

// maxDigits is how long a number may be, and its exponent, of which the exact value is kept.
const maxDigits = 1000

// large is a number that 64 bits do not hold; text is how Go writes it.
func (r *reader) large(text string, span source.Span, help, format string) value.Value {
	exponent := 0
	if at := strings.IndexAny(text, "eE"); at >= 0 && !strings.HasPrefix(strings.TrimLeft(text, "+-"), "0x") {
		exponent, _ = strconv.Atoi(text[at+1:])
	}
	exact, ok := new(big.Rat), r.numbers != nil && len(text) <= maxDigits && max(exponent, -exponent) <= maxDigits
	if ok {
		exact, ok = exact.SetString(text)
	}
	if !ok {
		r.fail(span, help, format, text)
	}
	r.numbers[span.Start] = exact
	nearest, _ := exact.Float64()
	return value.FloatOf(max(-math.MaxFloat64, min(nearest, math.MaxFloat64)), value.From(span.Start))
}

const (
	tooLargeInt   = "%s is too large for an int of 64 bits"
	tooLargeFloat = "%s is too large for a float of 64 bits"
	notForCounts  = "put it in quotes if it is not for counting"
	notNumber     = "put it in quotes if it is a string"
)

func (r *reader) duplicate(key string, at, first source.Span) {
	r.report(source.Finding{
		Code: source.DuplicateKey, Span: at, Message: fmt.Sprintf("the key %q occurs for the second time here", key),
		Help: "remove one of the two", Related: []source.Related{{Span: first, Text: "the first"}},
	})
}

// tooMuch ends reading what is too much to be read in time and memory that can be foreseen.
func (r *reader) tooMuch(help, format string, arguments ...any) {
	r.report(source.Finding{Code: source.TooMuchWork, Span: r.file.Span(0, 0),
		Message: fmt.Sprintf(format, arguments...), Help: help})
	panic(unreadable{})
}

// maxData is how many bytes of data are read from one file; maxMarks how many marks a text of YAML may have between
// which values can stand: its library takes a thousand bytes of memory for each value.
const (
	maxData  = 64 << 20
	maxMarks = 1_250_000
)

// bounded refuses a text that is too much for a format.
func (r *reader) bounded(format Format) {
	text := r.file.Text
	if len(text) > maxData {
		r.tooMuch("split the file", "a file of data has at most %d MiB", maxData>>20)
	}
	if format != YAML || len(text) < maxMarks {
		return
	}
	marks := 0
	for _, mark := range []string{"\n", ",", "[", "{"} {
		marks += strings.Count(text, mark)
	}
	if marks > maxMarks {
		r.tooMuch("split the file, or keep such data in JSON", "this YAML may hold more than a million values")
	}
}

func (r *reader) tooDeep(at source.Span) {
	r.report(source.Finding{Code: source.TooDeep, Span: at,
		Message: fmt.Sprintf("data nested deeper than %d levels", maxDepth)})
	panic(unreadable{})
}

// Read reads one document of data. The origins of the values are their places in the file. keys is filled with the
// places of the keys. What cannot be read is reported; the value is then Absent. Where keys are asked for, so that it
// is a file of somebody, it is warned of what other readers of the format would take for something else.
func Read(file *source.File, format Format, keys Keys) (v value.Value, findings source.Findings) {
	return ReadExact(file, format, keys, nil)
}

// ReadExact is Read that keeps numbers of any size: those that 64 bits do not hold are filled into numbers.
func ReadExact(file *source.File, format Format, keys Keys, numbers Numbers) (v value.Value,
	findings source.Findings) {
	return read(file, keys, func(r *reader) value.Value {
		r.numbers = numbers
		r.bounded(format)
		switch format {
		case YAML:
			return r.yaml()
		case JSON:
			return r.json()
		case TOML:
			return r.toml()
		}
		return value.Value{}
	})
}

// ReadStream reads a YAML file of any number of documents as a list of them; empty documents do not count.
func ReadStream(file *source.File, keys Keys) (value.Value, source.Findings) {
	return ReadStreamExact(file, keys, nil)
}

// ReadStreamExact is ReadStream that keeps numbers of any size, as ReadExact does.
func ReadStreamExact(file *source.File, keys Keys, numbers Numbers) (value.Value, source.Findings) {
	return read(file, keys, func(r *reader) value.Value {
		r.numbers = numbers
		r.bounded(YAML)
		return value.ListOf(r.yamlStream(0), value.From(file.Pos(0)))
	})
}

// ReadEach reads the documents of a YAML file one by one, so that one that cannot be read does not keep the others from
// being read.
func ReadEach(file *source.File, keys Keys, numbers Numbers) (documents []value.Value, findings source.Findings) {
	all, findings := ReadStreamExact(file, keys, numbers)
	if !findings.HasErrors() {
		return all.Elements(), findings
	}
	if strings.HasPrefix(file.Text, "%") || strings.Contains(file.Text, "\n%") || findings[0].Code != source.BadData &&
		findings[0].Code != source.DuplicateKey {
		return nil, findings // directives, or more than can be read at all
	}
	findings = nil
	lines := 0
	for _, part := range splitDocuments(file.Text) {
		list, found := read(file, keys, func(r *reader) value.Value {
			r.numbers = numbers
			return value.ListOf(r.yamlPart(part, lines, 0), 0)
		})
		findings = append(findings, found...)
		if list.Kind() == value.List {
			documents = append(documents, list.Elements()...)
		}
		lines += strings.Count(part, "\n")
	}
	return documents, findings
}

// splitDocuments cuts a stream of YAML before each line that begins a document (YAML 1.2.2 section 9.1.2).
func splitDocuments(text string) []string {
	var parts []string
	begin := 0
	for at := 0; at < len(text); {
		end := len(text)
		if next := strings.IndexByte(text[at:], '\n'); next >= 0 {
			end = at + next + 1
		}
		if line := text[at:end]; at > begin && strings.HasPrefix(line, "---") &&
			strings.IndexAny(line[3:]+" ", " \t\r\n") == 0 {
			parts = append(parts, text[begin:at])
			begin = at
		}
		at = end
	}
	return append(parts, text[begin:])
}

// ReadText reads a file as one text.
func ReadText(file *source.File) (value.Value, source.Findings) {
	return read(file, nil, func(r *reader) value.Value { return value.StringOf(file.Text, value.From(file.Pos(0))) })
}

func read(file *source.File, keys Keys, body func(r *reader) value.Value) (v value.Value, findings source.Findings) {
	r := &reader{file: file, keys: keys}
	defer func() {
		findings = r.findings
		if problem := recover(); problem != nil {
			if _, ok := problem.(unreadable); !ok {
				panic(problem)
			}
		}
		if findings.HasErrors() {
			v = value.Value{}
		} else {
			findings = append(findings, r.warnings...)
		}
	}()
	if !utf8.ValidString(file.Text) {
		offset := 0
		for c, size := utf8.DecodeRuneInString(file.Text); c != utf8.RuneError || size != 1; c,
			size = utf8.DecodeRuneInString(file.Text[offset:]) {
			offset += size
		}
		r.report(source.Finding{Code: source.NotUTF8, Span: file.Span(offset, offset+1),
			Message: fmt.Sprintf("byte 0x%02X is not UTF-8", file.Text[offset]), Help: "save the file as UTF-8"})
		return
	}
	v = body(r)
	return
}

// Problem says why a value cannot be written in a format.
type Problem struct {
	Origin  value.Origin
	Message string
	Help    string
}

// Check finds what a format cannot carry. It stops at what is too large or too deep.
func Check(v value.Value, format Format) []Problem {
	c := &checking{format: format}
	c.value(v, 0, "")
	switch {
	case c.tooMany():
		return append(c.problems,
			Problem{v.Origin(), fmt.Sprintf("the YAML document would hold more than %d values", maxWritten),
				"make several documents of it, or one of JSON"})
	case c.bytes > maxBytes:
		return append(c.problems,
			Problem{v.Origin(), fmt.Sprintf("the document would be larger than %d MiB", maxBytes>>20),
				"make several documents of it"})
	case format == TOML && v.Kind() != value.Record:
		return append(c.problems, Problem{v.Origin(), fmt.Sprintf("a TOML file is a record, not %s", v.Kind().Article()),
			"put it under a key"})
	case format == Env && v.Kind() != value.Record:
		return append(c.problems,
			Problem{v.Origin(), fmt.Sprintf("an env file is a record of names and scalars, not %s", v.Kind().Article()), ""})
	case format == Text && v.Kind() != value.String:
		return append(c.problems, Problem{v.Origin(), fmt.Sprintf("a text file is a string, not %s", v.Kind().Article()),
			"name the document .yaml or .json for data"})
	}
	return c.problems
}

type checking struct {
	format   Format
	bytes    int
	values   int // and keys
	problems []Problem
}

// maxWritten is how many values and keys a document of YAML may have: its library takes a thousand bytes of memory for
// each.
const maxWritten = 600_000

func (c *checking) tooMany() bool { return c.format == YAML && c.values > maxWritten }

// scalarBytes is about how much room a value takes beside its text.
const scalarBytes = 4

func (c *checking) value(v value.Value, depth int, key string) {
	if c.bytes > maxBytes || c.tooMany() {
		return
	}
	c.values++
	if depth > maxDepth {
		if len(c.problems) == 0 {
			c.problems = append(c.problems,
				Problem{v.Origin(), fmt.Sprintf("the document nests deeper than %d levels", maxDepth), ""})
		}
		return
	}
	c.bytes += scalarBytes
	under := func() string {
		if key == "" {
			return ""
		}
		return fmt.Sprintf(" under %q", key)
	}
	switch v.Kind() {
	case value.String:
		c.bytes += len(v.Text())
		if c.format == Env && strings.ContainsRune(v.Text(), 0) {
			c.problems = append(c.problems, Problem{v.Origin(), "an env file cannot carry a NUL character" + under(),
				""})
		}
	case value.Null:
		if c.format == TOML || c.format == Env {
			c.problems = append(c.problems,
				Problem{v.Origin(), fmt.Sprintf("%s has no null, which is%s", formatName(c.format), under()),
					"leave the entry out: mark it ?"})
		}
	case value.List:
		if c.format == Env && depth > 0 {
			c.problems = append(c.problems,
				Problem{v.Origin(), "an env file carries scalars only, not a list" + under(), "join it: text.join(…)"})
			return
		}
		for _, x := range v.Elements() {
			c.value(x, depth+1, key)
		}
	case value.Record:
		if c.format == Env && depth > 0 {
			c.problems = append(c.problems,
				Problem{v.Origin(), "an env file carries scalars only, not a record" + under(),
					"give each of its entries a name of its own"})
			return
		}
		for i, k := range v.Shape().Keys() {
			c.bytes += len(k)
			c.values++
			if c.format == Env && !envName(k) {
				c.problems = append(c.problems,
					Problem{v.Values()[i].Origin(), fmt.Sprintf("%q is not a valid name in an env file", k),
						"letters, digits and _, not beginning with a digit"})
			}
			c.value(v.Values()[i], depth+1, k)
		}
	}
}

func formatName(f Format) string {
	switch f {
	case Env:
		return "an env file"
	case Text:
		return "a text file"
	}
	return strings.ToUpper(string(f))
}

// Write writes a value that Check has no problem with.
func Write(v value.Value, format Format) ([]byte, error) {
	switch format {
	case YAML:
		return writeYAML(v)
	case JSON:
		return append(appendJSON(nil, v, 0, 2), '\n'), nil
	case TOML:
		return writeTOML(v), nil
	case Env:
		return writeEnv(v), nil
	}
	text := v.Text()
	if !strings.HasSuffix(text, "\n") {
		text += "\n"
	}
	return []byte(text), nil
}
