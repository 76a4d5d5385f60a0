package project

import (
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/value"
)

// Gives returns whether the layers of the run give an input a value; those of no run give none.
func (r *Run) Gives(in *Input) bool {
	return r != nil && r.AllLayers().Has(in.Path)
}

// Blank returns a layer to fill in: inputs that must be decided first, then as comments those that need not be, with
// their default. Has says which inputs have a value already.
func Blank(inputs []*Input, format string, has func(*Input) bool) string {
	var required, optional []*Input
	for _, in := range inputs {
		switch {
		case in.Secret || in.Later || has(in):
		case in.Required():
			required = append(required, in)
		default:
			optional = append(optional, in)
		}
	}
	if format == "json" {
		var b value.Builder
		root := b.Record(0)
		for _, in := range required {
			root = value.Put(root, in.Path, value.NullOf(0))
		}
		return data.JSONText(root, 2) + "\n"
	}
	if format == "yaml" {
		// The fields of a record stay together: a key is there once.
		var first, last []*Input
		for _, in := range inputs {
			switch {
			case in.Secret || in.Later || has(in):
			case slices.ContainsFunc(required, func(r *Input) bool { return r.Path[0] == in.Path[0] }):
				first = append(first, in)
			default:
				last = append(last, in)
			}
		}
		var b strings.Builder
		defaults.yaml(&b, append(first, last...), 0, -1)
		return b.String()
	}
	var b strings.Builder
	defaults.toml(&b, append(required, optional...), "## ", (*Input).Name)
	return b.String()
}

// about tells an input in comments: its description, type and limits.
func (in *Input) about() []string {
	var lines []string
	if in.Description != "" {
		lines = strings.Split(in.Description, "\n")
	}
	text, meaning := in.Type.String(), []string(nil)
	if in.meaning != nil {
		meaning = in.meaning(in.Type)
	}
	if len(meaning) > 0 && strings.HasPrefix(meaning[0], text+" is ") {
		text, meaning = strings.TrimPrefix(meaning[0], text+" is "), meaning[1:] // with its limits
	} else {
		for _, limit := range in.Limits() {
			text += " where " + strings.Join(strings.Fields(limit.Text), " ")
		}
	}
	if in.Required() {
		text += ", required"
	} else if in.Needed() {
		text += ", required in " + in.Parent.Name()
	}
	if in.Default != "" && in.Literal.IsAbsent() {
		text += ", by default " + strings.Join(strings.Fields(in.Default), " ")
	}
	return append(append(lines, text), meaning...)
}

// blank writes inputs as a layer to be filled in.
type blank struct {
	open  func(*Input) bool        // whether an input is a key, which must be given a value, and not a comment
	given func(*Input) value.Value // what is written for an input; Absent for nothing
}

// defaults are layers to fill in: what must be decided is a key without a value, which says nothing; what need not be
// is a comment, with its default.
var defaults = blank{open: (*Input).Required, given: func(in *Input) value.Value { return in.Literal }}

// literal writes what is written for an input in a format. It is empty, which says nothing, when there is nothing, such
// as a default that is computed, and when the format cannot express it.
func (w blank) literal(in *Input, format data.Format) string {
	v := w.given(in)
	if v.IsAbsent() || v.IsNull() && !format.HasNull() {
		return ""
	}
	return data.Literal(v, format)
}

// toml writes inputs as comments of TOML, which has no key without a value. What is reported of an input begins with a
// sign; name returns its key.
func (w blank) toml(b *strings.Builder, inputs []*Input, sign string, name func(*Input) string) {
	for i, in := range inputs {
		if i > 0 && sign != "# " {
			b.WriteByte('\n')
		}
		for _, text := range in.about() {
			b.WriteString(sign + text + "\n")
		}
		b.WriteString(strings.TrimSuffix("# "+name(in)+" = "+w.literal(in, data.TOML), " ") + "\n")
	}
}

// yaml writes inputs that have a path in common up to a depth, those of one record below each other. Comment is the
// depth at which a comment has begun; -1 for none.
//
// What is reported of an input has one comment sign more than the input, so that the signs can be taken away from all.
func (w blank) yaml(b *strings.Builder, inputs []*Input, depth, comment int) {
	tell := "## "
	if comment >= 0 {
		tell = "# "
	}
	line := func(from, depth int, text string) {
		if from < 0 {
			b.WriteString(strings.Repeat("  ", depth) + text + "\n")
		} else {
			b.WriteString(strings.Repeat("  ", from) + "# " + strings.Repeat("  ", depth-from) + text + "\n")
		}
	}
	for i := 0; i < len(inputs); {
		in, last := inputs[i], i+1
		for len(in.Path) > depth+1 && last < len(inputs) && len(inputs[last].Path) > depth+1 &&
			inputs[last].Path[depth] == in.Path[depth] {
			last++
		}
		if i > 0 && depth == 0 {
			b.WriteByte('\n')
		}
		from, key := comment, data.Literal(value.StringOf(in.Path[depth], 0), data.YAML)+":"
		if from < 0 && !slices.ContainsFunc(inputs[i:last], w.open) {
			from = depth
		}
		if len(in.Path) > depth+1 {
			for of := in.Parent; of != nil; of = of.Parent {
				if len(of.Path) == depth+1 && of.Description != "" {
					for _, text := range strings.Split(of.Description, "\n") {
						line(comment, depth, tell+text)
					}
				}
			}
			line(from, depth, key)
			w.yaml(b, inputs[i:last], depth+1, from)
		} else {
			for _, text := range in.about() {
				line(comment, depth, tell+text)
			}
			first, block := blankYAML(w.given(in))
			line(from, depth, strings.TrimSuffix(key+" "+first, " "))
			for _, text := range block {
				line(from, depth+1, text)
			}
		}
		i = last
	}
}

// widestLiteral is how many columns a mapping or sequence takes at most on one line of a layer to fill in.
const widestLiteral = 60

// blankYAML writes a value of a layer to fill in after its key, or, when that is long, as lines below it.
func blankYAML(v value.Value) (first string, block []string) {
	if v.IsAbsent() {
		return "", nil
	}
	literal := data.Literal(v, data.YAML)
	if kind := v.Kind(); len(literal) <= widestLiteral || kind != value.Record && kind != value.List {
		return literal, nil
	}
	text, err := data.Write(v, data.YAML)
	if err != nil { // it is of a layer, which was read
		return literal, nil
	}
	return "", strings.Split(strings.TrimSuffix(string(text), "\n"), "\n")
}
