package present

import (
	"encoding/json"
	"strings"

	"knothole/core/compare"
	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// eventTexts say what happened, for people.
var eventTexts = map[explain.EventKind]string{
	explain.Written: "written", explain.Placed: "placed in record", explain.Passed: "passed as argument",
	explain.Patched: "patched", explain.Computed: "computed", explain.Chosen: "chosen because of",
	explain.Input: "input", explain.Environment: "environment",
}

// Why tells the life of a value: what it is, what happened to it from the document back to where it was written, and
// the inputs on which it depends.
func (p *Presenter) Why(w *explain.Why) {
	path := w.Path.String()
	if path == "" {
		path = "(the whole document)"
	}
	p.printf("%s  %s  %s\n\n  %s\n", w.Environment.Name, p.bold(w.Document.Path), p.bold(path),
		p.green(wholeValue(w.Value)))
	if w.Value.Secret() {
		p.printf("  %s\n", p.faint("secrets are neither read nor shown here"))
	} else if w.Value.Unknown() {
		p.printf("  %s\n", p.faint("known only after deployment; --later FILE fills it in"))
	}
	p.printf("\n")
	rows := [][]cell{}
	last, depth, because := "", 0, false
	for _, e := range w.Events {
		// What happened on one line is told once.
		line := p.line(e.Pos)
		if line == last && e.Kind != explain.Input && e.Kind != explain.Environment && e.Kind != explain.Patched {
			because = because || e.Kind == explain.Chosen
			continue
		}
		last, depth = line, min(e.Depth, depth+1)
		e.Depth = depth
		row := p.eventRow(e)
		if because && e.Kind != explain.Chosen {
			row[0].text = strings.Repeat("  ",
				depth) + eventTexts[explain.Chosen] + " " + strings.TrimSpace(row[0].text)
		}
		because = false
		rows = append(rows, row)
	}
	for _, e := range w.Around {
		row := p.eventRow(e)
		row[0].text = "enclosing record patched"
		rows = append(rows, row)
	}
	for _, leaf := range w.Holders {
		rows = append(rows, []cell{{text: "what holds it is there because of " + Clean(leaf.Name)},
			{text: p.line(leaf.Pos), paint: p.cyan}, {text: p.lineText(leaf.Pos), paint: p.faint}})
	}
	p.table(rows, 1, 30)
	for _, life := range w.Inputs {
		p.printf("\n")
		p.lifeOf(life)
	}
}

// Elsewhere shows what is at the place in other environments, and because of what.
func (p *Presenter) Elsewhere(all []compare.Elsewhere, more int) {
	if len(all) == 0 {
		return
	}
	p.printf("\nelsewhere\n")
	var rows [][]cell
	for _, e := range all {
		row := []cell{{text: "  " + Clean(e.Environment)}}
		switch {
		case !e.Differs:
			row = append(row, cell{text: "the same", paint: p.faint}, cell{})
		default:
			text, because := "differs", ""
			if !e.Value.IsAbsent() {
				text = cut(wholeValue(e.Value), 60)
			}
			for i, r := range e.Cause.Because {
				if i > 0 {
					because += ", "
				}
				because += Clean(r.Name)
			}
			if because != "" {
				because = "because of " + because
			}
			row = append(row, cell{text: text, paint: p.green}, cell{text: because, paint: p.cyan})
		}
		rows = append(rows, row)
	}
	p.table(rows, 1, 40)
	if more > 0 {
		p.printf("  and %d more\n", more)
	}
}

// wholeValue returns a value for one line, longer than elsewhere.
func wholeValue(v value.Value) string {
	v = value.Shown(v)
	return Clean(v.Show(400))
}

func (p *Presenter) eventRow(e explain.Event) []cell {
	text := eventTexts[e.Kind]
	if e.Name != "" && e.Kind == explain.Input {
		text += " " + e.Name
	}
	if e.Replaced != nil {
		text += ", in place of " + cut(shortValue(*e.Replaced), 40)
		if from := p.line(e.From); from != "" {
			text += " (" + from + ")"
		}
	}
	return []cell{
		{text: strings.Repeat("  ", min(e.Depth, 12)) + text},
		{text: p.line(e.Pos), paint: p.cyan},
		{text: p.lineText(e.Pos), paint: p.faint},
	}
}

// lineText returns the source line of a place, without what does not belong to the eye.
func (p *Presenter) lineText(at source.Pos) string {
	l := p.Sources.Locate(at)
	if l.File == nil || l.File.Hidden(l.Line) {
		return ""
	}
	return cut(strings.TrimSpace(visible(l.File.Line(l.Line))), 80)
}

func (p *Presenter) lifeOf(life explain.InputLife) {
	in := life.Input
	p.printf("%s   %s   %s\n", p.bold(in.Name()), typeText(in), p.faint(p.line(in.Span.Start)))
	description := in.Description
	if description == "" {
		description = in.Object.Declaration.Declared().Description // of the record that the field is in
	}
	if description != "" {
		first, _, _ := strings.Cut(description, "\n")
		p.printf("  %s\n", Clean(first))
	}
	p.settings(in, life.Settings, "")
	if in.Default != "" && len(life.Settings.All) > 0 {
		p.printf("    overrides the default %s   %s\n", strings.Join(strings.Fields(in.Default), " "),
			p.cyan(p.line(in.Span.Start)))
	}
	verdict := "passed"
	if in.Secret || life.Settings.Value.Unknown() {
		verdict = "not checked here"
	}
	for _, limit := range in.Limits() {
		p.printf("  %s where %s   %s\n", p.faint(verdict), Clean(limit.Text), p.cyan(p.line(limit.Span.Start)))
	}
}

// The form of a story as JSON.
type (
	whyJSON struct {
		Environment string          `json:"environment"`
		Document    string          `json:"document"`
		Path        string          `json:"path"`
		Pointer     string          `json:"pointer"`
		Value       json.RawMessage `json:"value"`
		Secret      bool            `json:"secret,omitempty"`
		Open        bool            `json:"open,omitempty"`
		Events      []eventJSON     `json:"events"`
		Around      []eventJSON     `json:"around,omitempty"`
		Inputs      []lifeJSON      `json:"inputs"`
	}
	eventJSON struct {
		Kind     explain.EventKind `json:"kind"`
		Name     string            `json:"name,omitempty"`
		Depth    int               `json:"depth"`
		Place    *jsonPlace        `json:"place,omitempty"`
		Replaced json.RawMessage   `json:"replaced,omitempty"`
	}
	lifeJSON struct {
		Name    string        `json:"name"`
		Type    string        `json:"type"`
		Default string        `json:"default,omitempty"`
		Limits  []string      `json:"limits,omitempty"`
		Repeats bool          `json:"repeats,omitempty"`
		From    []settingJSON `json:"from"` // strongest first; empty when the default holds
	}
)

// WhyJSON tells the same for programs.
func (p *Presenter) WhyJSON(w *explain.Why) error {
	out := whyJSON{
		Environment: w.Environment.Name, Document: w.Document.Path, Path: w.Path.String(),
		Pointer: (*place.Path).Pointer(w.Path), Value: raw(w.Value),
		Secret: w.Value.Secret(), Open: w.Value.Unknown() && !w.Value.Secret(), Events: []eventJSON{},
		Inputs: []lifeJSON{},
	}
	for _, e := range w.Events {
		out.Events = append(out.Events, p.eventJSON(e))
	}
	for _, e := range w.Around {
		out.Around = append(out.Around, p.eventJSON(e))
	}
	for _, life := range w.Inputs {
		l := lifeJSON{Name: life.Input.Name(), Type: life.Input.Type.String(), Default: life.Input.Default,
			Repeats: life.Settings.Repeats, From: p.settingsJSON(life.Settings)}
		for _, limit := range life.Input.Limits() {
			l.Limits = append(l.Limits, limit.Text)
		}
		out.Inputs = append(out.Inputs, l)
	}
	return writeJSON(p.Out, out)
}

func (p *Presenter) eventJSON(e explain.Event) eventJSON {
	j := eventJSON{Kind: e.Kind, Name: e.Name, Depth: e.Depth, Place: p.jsonPlace(e.Pos)}
	if e.Replaced != nil {
		j.Replaced = raw(*e.Replaced)
	}
	return j
}
