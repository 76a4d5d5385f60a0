package data

import (
	"encoding/json"
	"errors"
	"io"
	"math"
	"strconv"
	"strings"

	"knothole/core/source"
	"knothole/core/value"
)

type jsonReader struct {
	*reader
	decoder *json.Decoder
	last    int // offset after the last token
}

func (r *reader) json() value.Value {
	// The whole text is looked at first, since the reader of tokens is more lenient than RFC 8259.
	var raw json.RawMessage
	text := strings.TrimPrefix(r.file.Text, "\uFEFF")
	skipped := len(r.file.Text) - len(text)
	if err := json.Unmarshal([]byte(text), &raw); err != nil {
		r.jsonMistake(err, skipped)
	}
	r.loneSurrogates(text, skipped)
	j := &jsonReader{reader: r, decoder: json.NewDecoder(strings.NewReader(text)), last: skipped}
	j.decoder.UseNumber()
	return j.value(0, skipped)
}

// loneSurrogates reports an escape such as \ud800 that is half of a character (RFC 8259 section 8.2): no text of the
// language can hold it. The text is JSON.
func (r *reader) loneSurrogates(text string, skipped int) {
	half := func(i int) uint64 { // the surrogate whose escape begins at an offset, or 0
		if i+6 > len(text) || text[i] != '\\' || text[i+1] != 'u' {
			return 0
		}
		code, _ := strconv.ParseUint(text[i+2:i+6], 16, 16)
		if code < 0xD800 || code > 0xDFFF {
			return 0
		}
		return code
	}
	for i := 0; i < len(text); i++ {
		if text[i] != '\\' {
			continue
		}
		if code := half(i); code != 0 {
			if next := half(i + 6); code >= 0xDC00 || next < 0xDC00 {
				r.fail(r.file.Span(i+skipped, i+skipped+6), "write the character itself, or both halves",
					"%s is half of a character", text[i:i+6])
			}
			i += 6
		}
		i++
	}
}

func (r *reader) jsonMistake(err error, skipped int) {
	var mistake *json.SyntaxError
	if !errors.As(err, &mistake) {
		r.fail(r.file.Span(0, 0), "", "this is not JSON: %s", err)
	}
	offset := max(0, int(mistake.Offset)-1) + skipped
	message := mistake.Error()
	help := ""
	switch {
	case strings.Contains(message, "max depth"):
		r.tooDeep(r.file.Span(offset, offset+1))
	case strings.TrimSpace(r.file.Text) == "":
		help, message = "write {} for an empty record", "the file is empty"
	case strings.Contains(message, "unexpected end"):
		offset, help = len(strings.TrimRight(r.file.Text, " \t\r\n")),
			"close what is open: a bracket, a brace or a string"
	case strings.Contains(message, "beginning of object key string"):
		help = "keys are written in double quotes; no comma after the last entry"
	case strings.Contains(message, "beginning of value"):
		help = "strings are written in double quotes; no comma after the last element; no comments"
	}
	r.fail(r.file.Span(offset, min(offset+1, len(r.file.Text))), help, "this is not JSON: %s", message)
}

// token returns the next token and the offset at which it begins.
func (j *jsonReader) token(skipped int) (json.Token, int) {
	start := j.last
	for start < len(j.file.Text) && strings.IndexByte(" \t\r\n,:", j.file.Text[start]) >= 0 {
		start++
	}
	t, err := j.decoder.Token()
	if err != nil && err != io.EOF {
		j.fail(j.file.Span(start, start), "", "this is not JSON: %s", err)
	}
	j.last = int(j.decoder.InputOffset()) + skipped
	return t, start
}

func (j *jsonReader) value(depth, skipped int) value.Value {
	t, start := j.token(skipped)
	span := j.file.Span(start, j.last)
	origin := value.From(span.Start)
	if depth > maxDepth {
		j.tooDeep(span)
	}
	switch t := t.(type) {
	case json.Delim:
		if t == '[' {
			var elements []value.Value
			for j.decoder.More() {
				elements = append(elements, j.value(depth+1, skipped))
			}
			j.token(skipped)
			return value.ListOf(elements, origin)
		}
		return j.object(depth, skipped, origin)
	case string:
		return value.StringOf(t, origin)
	case bool:
		return value.BoolOf(t, origin)
	case json.Number:
		return j.number(string(t), span)
	}
	return value.NullOf(origin)
}

func (j *jsonReader) object(depth, skipped int, origin value.Origin) value.Value {
	var b value.Builder
	places := map[string]source.Span{}
	for j.decoder.More() {
		t, start := j.token(skipped)
		key, _ := t.(string)
		at := j.file.Span(start, j.last)
		v := j.value(depth+1, skipped)
		if first, ok := places[key]; ok {
			j.duplicate(key, at, first)
			continue
		}
		places[key] = at
		if j.keys != nil {
			j.keys[v.Origin().Pos()] = at.Start
		}
		b.Set(key, v)
	}
	j.token(skipped)
	return b.Record(origin)
}

func (j *jsonReader) number(text string, at source.Span) value.Value {
	if strings.ContainsAny(text, ".eE") {
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsInf(f, 0) {
			return j.large(text, at, notNumber, tooLargeFloat)
		}
		return value.FloatOf(f, value.From(at.Start))
	}
	i, err := strconv.ParseInt(text, 10, 64)
	if err != nil {
		return j.large(text, at, notForCounts, tooLargeInt)
	}
	return value.IntOf(i, value.From(at.Start))
}

// appendJSON writes JSON with an indentation of so many spaces.
func appendJSON(b []byte, v value.Value, depth, indent int) []byte {
	line := func(depth int) {
		b = append(b, '\n')
		for range depth * indent {
			b = append(b, ' ')
		}
	}
	switch v.Kind() {
	case value.List:
		if v.Len() == 0 {
			return append(b, "[]"...)
		}
		b = append(b, '[')
		for i, x := range v.Elements() {
			if i > 0 {
				b = append(b, ',')
			}
			line(depth + 1)
			b = appendJSON(b, x, depth+1, indent)
		}
		line(depth)
		return append(b, ']')
	case value.Record:
		if v.Len() == 0 {
			return append(b, "{}"...)
		}
		b = append(b, '{')
		for i, key := range v.Shape().Keys() {
			if i > 0 {
				b = append(b, ',')
			}
			line(depth + 1)
			b = append(appendQuoted(b, key), ": "...)
			b = appendJSON(b, v.Values()[i], depth+1, indent)
		}
		line(depth)
		return append(b, '}')
	}
	return appendScalar(b, v)
}

// JSONText writes JSON without white space, or with so many spaces for each level, without a line end.
func JSONText(v value.Value, indent int) string {
	if indent == 0 {
		return CompactJSON(v)
	}
	return string(appendJSON(nil, v, 0, indent))
}

// CompactJSON writes JSON without white space.
func CompactJSON(v value.Value) string { return string(appendCompact(nil, v)) }

func appendCompact(b []byte, v value.Value) []byte {
	switch v.Kind() {
	case value.List:
		b = append(b, '[')
		for i, x := range v.Elements() {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendCompact(b, x)
		}
		return append(b, ']')
	case value.Record:
		b = append(b, '{')
		for i, key := range v.Shape().Keys() {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendCompact(append(appendQuoted(b, key), ':'), v.Values()[i])
		}
		return append(b, '}')
	}
	return appendScalar(b, v)
}

func appendScalar(b []byte, v value.Value) []byte {
	if v.Kind() == value.String {
		return appendQuoted(b, v.Text())
	}
	if text, ok := v.Scalar(); ok {
		return append(b, text...)
	}
	return append(b, "null"...)
}

// appendQuoted writes a string with the escapes that RFC 8259 section 7 demands, and no others.
func appendQuoted(b []byte, s string) []byte {
	const hex = "0123456789abcdef"
	b = append(b, '"')
	from := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= ' ' && c != '"' && c != '\\' {
			continue
		}
		b = append(b, s[from:i]...)
		from = i + 1
		switch c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\n':
			b = append(b, '\\', 'n')
		case '\r':
			b = append(b, '\\', 'r')
		case '\t':
			b = append(b, '\\', 't')
		default:
			b = append(b, '\\', 'u', '0', '0', hex[c>>4], hex[c&15])
		}
	}
	return append(append(b, s[from:]...), '"')
}
