package present

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// Inputs is what is to be shown of the inputs of a module.
type Inputs struct {
	Module   string // the path of it
	Inputs   []*project.Input
	Runs     []*project.Run       // none for a module without any
	Settings [][]project.Settings // by input, then environment
	Meaning  func(types.Type) []string
	Detailed bool // by input, not as a table
}

// Only keeps the inputs that are wanted.
func (in *Inputs) Only(wanted func(name string) bool) {
	kept := *in
	kept.Inputs, kept.Settings = nil, nil
	for i, input := range in.Inputs {
		if wanted(input.Name()) {
			kept.Inputs, kept.Settings = append(kept.Inputs, input), append(kept.Settings, in.Settings[i])
		}
	}
	*in = kept
}

// shortValue returns a value as it is in a table: texts without quotes, if they could be nothing else.
func shortValue(v value.Value) string {
	v = value.Shown(v)
	if v.Kind() == value.String && !looksOther(v.Text()) {
		return Clean(v.Text())
	}
	if v.Kind() == value.String {
		return `"` + Clean(v.Text()) + `"`
	}
	if text, ok := v.Scalar(); ok && text != "" {
		return text
	}
	return v.Show(60)
}

// looksOther reports whether a text without quotes could be taken for a value of another kind, or for none.
func looksOther(s string) bool {
	if s == "" || s == "null" || s == "true" || s == "false" || strings.TrimSpace(s) != s ||
		strings.ContainsRune(`"[{`, rune(s[0])) {
		return true
	}
	_, err := strconv.ParseFloat(s, 64)
	return err == nil
}

// InputsTable shows inputs as one table: a line for each, a column for each environment, with who gave it its value.
func (p *Presenter) InputsTable(in *Inputs) {
	if len(in.Runs) > columnSides {
		p.manyInputs(in)
		return
	}
	var files []string
	letter := func(l *project.Layer) string {
		i := slices.Index(files, l.Path)
		if i < 0 {
			i = len(files)
			files = append(files, l.Path)
		}
		return letters(i)
	}
	// The letters are in the order of the layers.
	for _, e := range in.Runs {
		for _, l := range e.AllLayers() {
			letter(l)
		}
	}
	head := []cell{{text: "input", paint: p.bold}, {text: "type", paint: p.bold}, {text: "default", paint: p.bold}}
	for _, e := range in.Runs {
		head = append(head, cell{text: e.Name, paint: p.bold})
	}
	rows := [][]cell{head}
	over, repeats := false, false
	for i, input := range in.Inputs {
		row := []cell{plainCell(input.Name()), {text: typeText(input), paint: p.faint}, defaultCell(p, input)}
		for j := range in.Runs {
			s := in.Settings[i][j]
			row = append(row, p.settingCell(input, s, letter))
			over = over || len(s.All) > 1 && !s.Repeats
			repeats = repeats || s.Repeats
		}
		rows = append(rows, row)
	}
	for i, columns := range p.blocks(rows, len(in.Runs)) {
		if i > 0 {
			p.printf("\n")
		}
		var block [][]cell
		for _, row := range rows {
			var part []cell
			for _, column := range columns {
				part = append(part, row[column])
			}
			block = append(block, part)
		}
		p.table(block, 0, inputShare)
	}
	if len(in.Runs) == 0 {
		return
	}
	p.printf("\n")
	var legend []string
	for i, name := range files {
		legend = append(legend, letters(i)+" "+p.file(name))
	}
	p.list(legend)
	var notes []string
	if over {
		notes = append(notes, "b>a: b overrides a")
	}
	if repeats {
		notes = append(notes, "b=a: b repeats the value of a")
	}
	notes = append(notes, "no letter: the default")
	p.list(notes)
}

// manyInputs shows the inputs of many environments: of each the values that there are, the most common first.
func (p *Presenter) manyInputs(in *Inputs) {
	rows := [][]cell{{{text: "input", paint: p.bold}, {text: "type", paint: p.bold}, {text: "default", paint: p.bold},
		{text: "in " + source.Count(len(in.Runs), "environment"), paint: p.bold}}}
	for i, input := range in.Inputs {
		var texts []string
		count := map[string]int{}
		for j := range in.Runs {
			c := p.settingCell(input, in.Settings[i][j], func(*project.Layer) string { return "" })
			if count[c.text]++; count[c.text] == 1 {
				texts = append(texts, c.text)
			}
		}
		slices.SortStableFunc(texts, func(a, b string) int { return count[b] - count[a] })
		var shown []string
		for _, text := range texts[:min(len(texts), toldNames)] {
			if len(texts) == 1 {
				shown = append(shown, text)
			} else {
				shown = append(shown, fmt.Sprintf("%s in %d", text, count[text]))
			}
		}
		if n := len(texts) - len(shown); len(texts) == len(in.Runs) && n > 0 {
			shown = []string{fmt.Sprintf("%s, and another in each", texts[0])}
		} else if n > 0 {
			shown = append(shown, fmt.Sprintf("%d more", n))
		}
		rows = append(rows, []cell{plainCell(input.Name()), {text: typeText(input), paint: p.faint},
			defaultCell(p, input),
			{text: strings.Join(shown, ", ")}})
	}
	p.table(rows, 0, inputShare)
	p.printf("\n%s\n", p.faint("knothole inputs ENV shows all of one environment, knothole inputs INPUT all of "+
		"one input"))
}

// How the columns of the table of inputs share a terminal: the names of inputs in percent, the others in columns.
const (
	inputShare       = 25
	typeColumn       = 16
	defaultColumn    = 12
	settingColumn    = 12 // at least
	settingColumnMax = 20 // of what the name of an environment asks for
)

// blocks divides the columns of the table of inputs into tables below each other, where there are more environments
// than fit beside each other: what is cut to a few letters tells nothing. Each begins with the names of the inputs.
func (p *Presenter) blocks(rows [][]cell, environments int) [][]int {
	widest := func(column, most int) int {
		width := 0
		for _, row := range rows {
			width = max(width, row[column].width())
		}
		return min(width, most)
	}
	first := len(rows[0]) - environments
	setting := settingColumn
	for i := range environments {
		setting = max(setting, min(rows[0][first+i].width(), settingColumnMax))
	}
	names := widest(0, p.Width*inputShare/100) + columnGap
	fit := func(left int) int { return max(1, (left+columnGap)/(setting+columnGap)) }
	inFirst := fit(p.Width - names - widest(1, typeColumn) - widest(2, defaultColumn) - 2*columnGap)
	inOthers := fit(p.Width - names)
	if !p.Fit {
		inFirst = environments
	}
	// As few blocks as can be, and about as many environments in each.
	number := 1
	if environments > inFirst {
		number += (environments - inFirst + inOthers - 1) / inOthers
	}
	columns := []int{0, 1, 2}
	var blocks [][]int
	for done := 0; done < environments || blocks == nil; {
		each := (environments - done + number - 1) / number
		if blocks == nil {
			each = min(each, inFirst)
		}
		for range each {
			columns = append(columns, first+done)
			done++
		}
		blocks, columns, number = append(blocks, columns), []int{0}, number-1
	}
	return blocks
}

// list shows short texts one after the other, on as many lines as it takes.
func (p *Presenter) list(texts []string) {
	line := ""
	for _, text := range texts {
		switch {
		case line == "":
			line = text
		case p.Fit && columnsOf(line)+3+columnsOf(text) > p.Width:
			p.printf("%s\n", p.faint(line))
			line = text
		default:
			line += "   " + text
		}
	}
	if line != "" {
		p.printf("%s\n", p.faint(line))
	}
}

func typeText(in *project.Input) string {
	text := in.Type.String()
	switch {
	case in.Secret:
		text = "secret " + text
	case in.Later:
		text = "later " + text
	}
	return text
}

func defaultCell(p *Presenter, in *project.Input) cell {
	switch {
	case in.Literal.Kind() == value.String:
		return cell{text: shortValue(in.Literal), paint: p.faint}
	case in.Default != "":
		return cell{text: strings.Join(strings.Fields(in.Default), " "), paint: p.faint}
	case in.Required():
		return cell{text: "required", paint: p.faint}
	}
	return cell{text: "-", paint: p.faint}
}

func (p *Presenter) settingCell(in *project.Input, s project.Settings, letter func(*project.Layer) string) cell {
	if s.Outside && !s.Removed {
		return cell{text: "-", paint: p.faint}
	}
	if len(s.All) == 0 {
		switch {
		case in.Later:
			return cell{text: "unresolved", paint: p.yellow}
		case s.Value.IsAbsent() && in.Required():
			return cell{text: "missing", paint: p.red}
		case s.Value.IsAbsent():
			return cell{text: "-", paint: p.faint}
		}
		return cell{text: shortValue(s.Value), paint: p.faint}
	}
	last := s.All[len(s.All)-1]
	if last.Reference != nil {
		return cell{text: last.Reference.Kind, paint: p.cyan}
	}
	text := shortValue(s.Value)
	if s.Value.IsAbsent() {
		text = shortValue(last.Value) // it does not fit
	}
	tail := " " + letter(last.Layer)
	switch {
	case s.Removed && len(s.All) > 1:
		return cell{"removed", p.yellow, tail + ">" + letter(s.All[len(s.All)-2].Layer)}
	case s.Removed:
		return cell{"removed", p.yellow, tail}
	case s.Repeats && len(s.All) > 1:
		return cell{text, p.yellow, tail + "=" + letter(s.All[len(s.All)-2].Layer)}
	case s.Repeats:
		return cell{text, p.yellow, tail + "="}
	case len(s.All) > 1:
		return cell{text, p.green, tail + ">" + letter(s.All[len(s.All)-2].Layer)}
	}
	return cell{text, nil, tail}
}

// InputsDetail shows each input with its description, limits and, for each environment, the whole way to its value.
func (p *Presenter) InputsDetail(in *Inputs) {
	var within *project.Input
	for i, input := range in.Inputs {
		if i > 0 {
			p.printf("\n")
		}
		top := input
		for top.Parent != nil {
			top = top.Parent
		}
		if top != input && (within == nil || within.Name() != top.Name()) && top.Description != "" {
			p.printf("%s   %s   %s\n", p.bold(top.Name()), typeText(top), p.faint(p.line(top.Span.Start)))
			p.about(top)
			p.printf("\n")
		}
		within = top
		head := p.bold(input.Name()) + "   " + typeText(input)
		switch {
		case input.Default != "":
			head += " = " + strings.Join(strings.Fields(input.Default), " ")
		case input.Required():
			head += ", required"
		}
		p.printf("%s   %s\n", head, p.faint(p.line(input.Span.Start)))
		p.about(input)
		if input.Deprecated != "" {
			p.printf("  deprecated: %s\n", Clean(input.Deprecated))
		}
		meaning := in.Meaning(input.Type)
		for _, limit := range input.Limits() {
			if !strings.Contains(strings.Join(meaning, "\n"), strings.Join(strings.Fields(limit.Text), " ")) {
				p.printf("  %s %s\n", p.faint("where"), Clean(limit.Text))
			}
		}
		for _, line := range meaning {
			p.printf("  %s\n", p.faint(p.wrapped(Clean(line), 4)))
		}
		if len(in.Runs) > columnSides {
			p.manySettings(input, in.Runs, in.Settings[i])
			continue
		}
		for j, e := range in.Runs {
			name := ""
			if len(in.Runs) > 1 {
				name = e.Name + ": "
			}
			p.settings(input, in.Settings[i][j], name)
		}
	}
}

// manySettings tells what many environments say of an input: those that say the same together.
func (p *Presenter) manySettings(in *project.Input, runs []*project.Run, all []project.Settings) {
	var texts []string
	of := map[string][]string{}
	for i, s := range all {
		var b strings.Builder
		one := *p
		one.Out = &b
		one.settings(in, s, environmentMark)
		if of[b.String()] == nil {
			texts = append(texts, b.String())
		}
		of[b.String()] = append(of[b.String()], runs[i].Name)
	}
	slices.SortStableFunc(texts, func(a, b string) int { return len(of[b]) - len(of[a]) })
	for i, text := range texts {
		if i == mostSettings {
			p.printf("  %s\n", p.faint("and "+source.Count(len(texts)-i, "other way")+" in other environments"))
			break
		}
		name := Names(of[text]) + ": "
		if n := len(of[text]); n > 1 {
			name = fmt.Sprintf("in %d, %s", n, name)
		}
		p.printf("%s", strings.ReplaceAll(text, environmentMark, name))
	}
}

// environmentMark is written where the names of environments go, until it is known which say the same.
const environmentMark = "‹env›"

// mostSettings is how many ways to a value are told of many environments.
const mostSettings = 12

// about tells the description of an input.
func (p *Presenter) about(in *project.Input) {
	if in.Description == "" {
		return
	}
	for _, line := range strings.Split(in.Description, "\n") {
		p.printf("  %s\n", Clean(line))
	}
}

func (p *Presenter) settings(in *project.Input, s project.Settings, name string) {
	if s.Outside && !s.Removed {
		p.printf("  → %snot there\n", name)
		return
	}
	if len(s.All) == 0 {
		text := "default: " + shortValue(s.Value)
		switch {
		case in.Later:
			text = "unresolved until --later gives its value: " + shortValue(s.Value)
		case s.Value.IsAbsent() && in.Required():
			text = p.red("missing")
		case s.Value.IsAbsent():
			text = "not there"
		case in.Secret && in.Required():
			text = "its fields have sources of their own: " + shortValue(s.Value)
		}
		p.printf("  → %s%s\n", name, text)
		return
	}
	for i := len(s.All) - 1; i >= 0; i-- {
		setting := s.All[i]
		at, text := p.line(setting.At), shortValue(setting.Value)
		if setting.Reference != nil {
			text = setting.Reference.String()
		}
		switch {
		case i == len(s.All)-1 && s.Removed:
			p.printf("  → %sremoved   %s\n", name, p.cyan(at))
		case i == len(s.All)-1 && s.Repeats:
			p.printf("  → %s%s   %s   %s\n", name, text, p.cyan(at),
				p.yellow("repeats the value that it has without this layer"))
		case i == len(s.All)-1 && setting.Layer != nil && setting.Layer.Outputs != nil:
			p.printf("  → %s%s   %s   %s\n", name, text, p.cyan(at), p.faint(Clean(setting.Layer.Path)))
		case i == len(s.All)-1:
			p.printf("  → %s%s   %s\n", name, text, p.cyan(at))
		default:
			p.printf("    overrides %s   %s\n", text, p.cyan(at))
		}
	}
}

// HoldsNow says what holds for an input that was unset.
func (p *Presenter) HoldsNow(environment string, u project.Unset) {
	from := "the default"
	if at := p.line(u.At); at != "" {
		from = at
	}
	text := "has no value"
	if !u.Value.IsAbsent() {
		text = "is " + shortValue(u.Value) + " now, " + from
	}
	p.printf("in %s, %s %s\n", Clean(environment), Clean(u.Name), text)
}

// The form of inputs as JSON.
type (
	inputJSON struct {
		Name         string                  `json:"name"`
		Type         string                  `json:"type"`
		Description  string                  `json:"description,omitempty"`
		Required     bool                    `json:"required"`
		Secret       bool                    `json:"secret,omitempty"`
		Later        bool                    `json:"later,omitempty"`
		Deprecated   string                  `json:"deprecated,omitempty"`
		Default      string                  `json:"default,omitempty"`
		Limits       []string                `json:"limits,omitempty"`
		Declared     *jsonPlace              `json:"declared"`
		Environments map[string]settingsJSON `json:"environments,omitempty"`
	}
	settingsJSON struct {
		Value   json.RawMessage `json:"value,omitempty"`
		Repeats bool            `json:"repeats,omitempty"`
		From    []settingJSON   `json:"from,omitempty"` // strongest first
	}
	settingJSON struct {
		Place  *jsonPlace      `json:"location,omitempty"`
		Value  json.RawMessage `json:"value,omitempty"`
		Source string          `json:"source,omitempty"`
	}
)

func (p *Presenter) settingsJSON(s project.Settings) []settingJSON {
	from := []settingJSON{}
	for _, one := range slices.Backward(s.All) {
		setting := settingJSON{Place: p.jsonPlace(one.At), Value: raw(one.Value)}
		if one.Reference != nil {
			setting.Source = one.Reference.String()
		}
		from = append(from, setting)
	}
	return from
}

// InputsJSON shows inputs for programs.
func (p *Presenter) InputsJSON(modules []*Inputs) error {
	all := []inputJSON{}
	for _, in := range modules {
		all = append(all, p.inputsJSON(in)...)
	}
	return writeJSON(p.Out, struct {
		Version int         `json:"version"`
		Inputs  []inputJSON `json:"inputs"`
	}{2, all})
}

func (p *Presenter) inputsJSON(in *Inputs) (all []inputJSON) {
	for i, input := range in.Inputs {
		one := inputJSON{
			Name: input.Name(), Type: input.Type.String(), Description: input.Description, Required: input.Required(),
			Secret: input.Secret, Later: input.Later,
			Deprecated: input.Deprecated, Default: input.Default, Declared: p.jsonPlace(input.Span.Start),
		}
		for _, limit := range input.Limits() {
			one.Limits = append(one.Limits, limit.Text)
		}
		for j, e := range in.Runs {
			s := in.Settings[i][j]
			settings := settingsJSON{Value: raw(s.Value), Repeats: s.Repeats, From: p.settingsJSON(s)}
			if one.Environments == nil {
				one.Environments = map[string]settingsJSON{}
			}
			one.Environments[e.Name] = settings
		}
		all = append(all, one)
	}
	return all
}
