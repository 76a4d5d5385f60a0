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

// maxDepth is how deep data may nest; maxBytes how much of it a document may be, maxExpansion how many values the
// aliases of a YAML file may stand for.
const (
	maxDepth     = 1000
	maxBytes     = 64 << 20
	maxExpansion = 1_000_000
)

// Keys remembers where the keys are under which values were read, by the place of the value.
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
		of := format.of()
		if of.read == nil {
			r.fail(file.Span(0, 0), "", "%s is not read as data", of.called)
		}
		return of.read(r)
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
	c := &checking{format: format, of: format.of()}
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
	case c.of.root != nil && !c.of.root(v.Kind()):
		return append(c.problems, Problem{v.Origin(), fmt.Sprintf("%s, not %s", c.of.is, v.Kind().Article()), c.of.help})
	}
	return c.problems
}

type checking struct {
	format   Format
	of       *format
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
		if c.of.flat && strings.ContainsRune(v.Text(), 0) {
			c.problems = append(c.problems, Problem{v.Origin(), "an env file cannot carry a NUL character" + under(),
				""})
		}
	case value.Null:
		if !c.of.null {
			c.problems = append(c.problems,
				Problem{v.Origin(), fmt.Sprintf("%s has no null, which is%s", c.of.called, under()),
					"leave the entry out: mark it ?"})
		}
	case value.List:
		if c.of.flat && depth > 0 {
			c.problems = append(c.problems,
				Problem{v.Origin(), "an env file carries scalars only, not a list" + under(), "join it: text.join(…)"})
			return
		}
		for _, x := range v.Elements() {
			c.value(x, depth+1, key)
		}
	case value.Record:
		if c.of.flat && depth > 0 {
			c.problems = append(c.problems,
				Problem{v.Origin(), "an env file carries scalars only, not a record" + under(),
					"give each of its entries a name of its own"})
			return
		}
		for i, k := range v.Shape().Keys() {
			c.bytes += len(k)
			c.values++
			if c.of.flat && !envName(k) {
				c.problems = append(c.problems,
					Problem{v.Values()[i].Origin(), fmt.Sprintf("%q is not a valid name in an env file", k),
						"letters, digits and _, not beginning with a digit"})
			}
			c.value(v.Values()[i], depth+1, k)
		}
	}
}
