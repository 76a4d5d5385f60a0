package project

import (
	"slices"
	"strings"

	"knothole/core/data"
	"knothole/core/value"
)

// HasValue returns whether an environment gives an input a value; for no environment it gives none.
func (p *Project) HasValue(e *Environment) func(*Input) bool {
	return func(in *Input) bool { return e != nil && !in.lastIn(e.AllLayers()).IsAbsent() }
}

// Blank returns a layer to fill in: inputs that must be decided first, then as comments those that need not be, with
// their default. Has tells which inputs have a value already.
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
		writeBlank(&b, append(first, last...), 0, -1)
		return b.String()
	}
	var b strings.Builder
	for i, in := range append(required, optional...) {
		if i > 0 {
			b.WriteByte('\n')
		}
		for _, line := range in.about() {
			b.WriteString("# " + line + "\n")
		}
		b.WriteString(blankLine(in) + "\n")
	}
	return b.String()
}

// about tells an input in comments: its description, type and limits.
func (in *Input) about() []string {
	var lines []string
	if in.Description != "" {
		lines = strings.Split(in.Description, "\n")
	}
	text := in.Type.String()
	if in.Required() {
		text += ", required"
	}
	for _, limit := range in.Limits() {
		text += " where " + strings.Join(strings.Fields(limit.Text), " ")
	}
	return append(lines, text)
}

// blankLine is the line of one input in a TOML layer to fill in. It is a comment, since TOML has no key without a
// value.
func blankLine(in *Input) string {
	if in.Required() {
		return "# " + in.Name() + " ="
	}
	return "# " + in.Name() + " = " + inputDefault(in, "toml")
}

// writeBlank writes inputs as a mapping of YAML, those of one record below each other. What must be decided is a key
// without a value, which says nothing; what need not be is a comment. Comment is the depth at which one has begun; -1
// for none.
func writeBlank(b *strings.Builder, inputs []*Input, depth, comment int) {
	line := func(from int, text string) {
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
		if from < 0 && !slices.ContainsFunc(inputs[i:last], (*Input).Required) {
			from = depth
		}
		if len(in.Path) > depth+1 {
			line(from, key)
			writeBlank(b, inputs[i:last], depth+1, from)
		} else {
			for _, text := range in.about() {
				line(comment, "# "+text)
			}
			if !in.Required() {
				key += " " + inputDefault(in, "yaml")
			}
			line(from, key)
		}
		i = last
	}
}

// inputDefault writes the default of an input in a format, as it is written in the module when it is not a literal.
func inputDefault(in *Input, format string) string {
	switch {
	case !in.Literal.IsAbsent() && !in.Literal.IsNull():
		return data.Literal(in.Literal, data.Format(format))
	case in.optional && in.Default == "":
		return "…"
	case in.Literal.IsNull() && format == "toml":
		return "…"
	}
	return strings.Join(strings.Fields(in.Default), " ")
}
