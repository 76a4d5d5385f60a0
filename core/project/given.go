package project

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// WithLayer returns the run with one more layer over those that it has. Name is what messages call it.
func (r *Run) WithLayer(name string, format data.Format, text []byte) *Run {
	return r.with(r.Unit.givenLayer(name, format, text))
}

// givenLayer reads a layer that is given for one run.
func (u *Unit) givenLayer(name string, format data.Format, text []byte) *Layer {
	p := u.Project
	l := &Layer{Path: name, Bad: true, Given: true}
	file, err := p.Sources.Add(name, text)
	if err != nil {
		l.findings.Add(source.Finding{Code: source.TooMuchWork, Message: err.Error()})
		return l
	}
	root, findings := data.Read(file, format, p.keys)
	p.fill(l, root, findings)
	u.hideResembling(l)
	return l
}

// WithLater returns the run with values of later inputs, from a layer that has no others.
func (r *Run) WithLater(name string, format data.Format, text []byte) *Run {
	u := r.Unit
	l := u.givenLayer(name, format, text)
	if l.Root.IsAbsent() || u.Module == nil {
		return r.with(l)
	}
	var names []string
	for _, o := range u.Inputs() {
		if _, later := Placeholder(o); later {
			names = append(names, o.Name)
		}
	}
	for i, key := range l.Root.Shape().Keys() {
		o := u.Module.Objects[key]
		if o == nil || o.Kind != check.ObjectInput || slices.Contains(names, key) {
			continue // not an input is reported with all layers
		}
		help := "those that are: " + strings.Join(names, ", ")
		if len(names) == 0 {
			help = fmt.Sprintf("declare it so: later input %s: %s as \"<%s>\"", key, o.Type, key)
		}
		l.findings.Add(source.Finding{Code: source.WrongUse, Span: u.Project.keyOf(l.Root.Values()[i]),
			Message: fmt.Sprintf("%q is not an input that is known only later", key), Help: help,
			Related: []source.Related{{Span: o.Span, Text: o.Summary()}}})
	}
	return r.with(l)
}

// WithInput returns the run in which one input, or a field of one, has another value. The text is read as the
// type of the input; label is what messages call the text. Of a secret input no message shows it. The error says why
// there is no such input, or why the text cannot be read.
func (r *Run) WithInput(name, label, text string) (*Run, error) {
	u := r.Unit
	l := &Layer{Path: label, Given: true}
	if u.Module == nil {
		return r, nil
	}
	in, err := u.InputNamed(name)
	if err != nil {
		return nil, err
	}
	var v value.Value
	if in.Secret {
		l.Secret = true
		read, err := readSecretText(text, in.Type)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", label, err)
		}
		v = value.MarkAll(eval.Originate(read, value.From(in.Object.Span.Start)), value.Secret)
	} else {
		file, err := u.Project.Sources.Add(label, []byte(text))
		if err != nil {
			return nil, err
		}
		v, l.findings = readTyped(file, in.Type, u.Project.keys)
		l.Bad = l.findings.HasErrors()
	}
	if !l.Bad {
		for _, key := range slices.Backward(in.Path) {
			v = value.RecordOf(value.NewShape([]string{key}), []value.Value{v}, v.Origin())
		}
		l.Root = v
	}
	return r.with(l), nil
}

// TryInput returns what is wrong with a text as the value of an input; nothing when it fits.
func (r *Run) TryInput(name, text string) string {
	with, err := r.WithInput(name, "the answer for "+name, text)
	if err != nil {
		return err.Error()
	}
	if len(with.Given) == len(r.Given) { // there is no module that has inputs
		return ""
	}
	if l := with.Given[len(with.Given)-1]; l.findings.HasErrors() {
		return l.findings[0].Message
	}
	for _, f := range with.World(false).Findings() {
		if f.Input == name {
			return f.Message
		}
	}
	return ""
}

// readTyped reads a text as a value of a type: a string is taken as it is, null where the type has it, other
// scalars as they are written in the language, lists and records as YAML or JSON. What is none of these is a string,
// which then does not fit.
func readTyped(file *source.File, t types.Type, keys data.Keys) (value.Value, source.Findings) {
	text, o := file.Text, value.From(file.Pos(0))
	is, structured := map[types.Type]bool{}, false
	for _, part := range types.Parts(t) {
		wide := types.Widen(part)
		is[wide] = true
		switch wide.(type) {
		case *types.List, *types.Record:
			structured = true
		}
	}
	if is[types.String] && len(is) == 1 {
		return value.StringOf(text, o), nil
	}
	trimmed := strings.TrimSpace(text)
	if (is[types.Null] || is[types.Any]) && trimmed == "null" {
		return value.NullOf(o), nil
	}
	if (is[types.Bool] || is[types.Any]) && (trimmed == "true" || trimmed == "false") {
		return value.BoolOf(trimmed == "true", o), nil
	}
	if is[types.Int] || is[types.Float] || is[types.Any] {
		if n, err := strconv.ParseInt(trimmed, 10, 64); err == nil {
			return value.IntOf(n, o), nil
		}
		// An int that is too large is no float: it would be rounded.
		if f, err := strconv.ParseFloat(trimmed, 64); strings.ContainsAny(trimmed, ".eE") && err == nil &&
			!math.IsInf(f, 0) && !math.IsNaN(f) && strings.ContainsAny(trimmed, "0123456789") &&
			!strings.ContainsAny(trimmed, "xX_") {
			return value.FloatOf(f, o), nil
		}
	}
	if (structured || is[types.Any]) &&
		(trimmed != "" && strings.ContainsAny(trimmed[:1], "[{") || !is[types.String] && !is[types.Any]) {
		return data.Read(file, data.YAML, keys)
	}
	return value.StringOf(text, o), nil
}
