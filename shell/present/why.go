package present

import (
	"encoding/json"
	"fmt"
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

// fewReasons is how many lines a short answer has for each kind of reason.
const fewReasons = 2

// WhyShort says in a few lines why a value is what it is: the line that gave it, what that overrode, what chose it,
// and what is there in other environments.
func (p *Presenter) WhyShort(w *explain.Why, elsewhere []compare.Elsewhere) {
	p.valueOf(w)
	var rows [][]cell
	told := map[string]bool{} // lines
	row := func(text string, at source.Pos) {
		if told[p.line(at)] {
			return
		}
		told[p.line(at)] = true
		rows = append(rows, []cell{{text: "  " + text}, {text: p.line(at), paint: p.cyan},
			{text: p.lineText(at), paint: p.faint}})
	}
	if e := givenBy(w.Events); e != nil {
		event := p.eventRow(*e)
		event[0].text = "  " + strings.TrimSpace(event[0].text)
		rows = append(rows, event)
		told[p.line(e.Pos)] = true
	}
	for _, life := range w.Inputs[:min(len(w.Inputs), fewReasons)] {
		all := life.Settings.All
		if len(all) == 0 {
			row("default of "+Clean(life.Input.Name()), life.Input.Span.Start)
			continue
		}
		row("input "+Clean(life.Input.Name()), all[len(all)-1].At)
		if len(all) > 1 && len(w.Inputs) == 1 {
			row("overrides "+cut(shortValue(all[len(all)-2].Value), 40), all[len(all)-2].At)
		}
	}
	p.upstream(w.Upstream, row)
	for _, e := range w.Events {
		if e.Kind == explain.Chosen {
			row(eventTexts[explain.Chosen], e.Pos)
			break
		}
	}
	if len(w.Holders) > 0 {
		row("its record or list exists because of "+Clean(w.Holders[0].Name), w.Holders[0].Pos)
	}
	p.table(rows, 1, 30)
	if text := elsewhereText(elsewhere); text != "" {
		p.printf("  elsewhere: %s\n", text)
	}
	p.printf("\n%s\n", p.faint("--all shows its whole life"))
}

// upstream shows what values depend on in upstream environments.
func (p *Presenter) upstream(all []explain.UpstreamValue, row func(text string, at source.Pos)) {
	for _, from := range all[:min(len(all), fewReasons)] {
		for _, leaf := range from.Leaves[:min(len(from.Leaves), fewReasons)] {
			what := "input "
			if leaf.Name == explain.EnvironmentName {
				what = ""
			}
			row("from the outputs of "+Clean(from.By.Name)+": "+what+Clean(leaf.Name), leaf.Pos)
		}
		p.upstream(from.Upstream, row)
	}
}

// givenBy returns what gave a value what it is: the last that happened to the value itself, or that computed it.
func givenBy(events []explain.Event) (by *explain.Event) {
	for i, e := range events {
		switch {
		case by == nil:
			by = &events[i]
		case e.Depth > 0 && by.Kind == explain.Passed:
			// What was passed tells less than what computed it.
			by = &events[i]
		case e.Depth > 0 || by.Kind == explain.Patched || by.Kind == explain.Computed:
			return by
		case e.Kind != explain.Chosen:
			by = &events[i]
		}
	}
	return by
}

// elsewhereText names what is at a place in other environments, those with the same together.
func elsewhereText(all []compare.Elsewhere) string {
	var texts []string
	names := map[string][]string{}
	for _, e := range all {
		text := "the same"
		if e.Unread {
			text = "a secret that is not read"
		}
		if e.Differs {
			if text = "another value"; !e.Value.IsAbsent() {
				text = cut(wholeValue(e.Value), 40)
			}
		}
		if names[text] == nil {
			texts = append(texts, text)
		}
		names[text] = append(names[text], Clean(e.Environment))
	}
	for i, text := range texts {
		in := names[text]
		if len(in) > 4 {
			in = append(in[:3:3], fmt.Sprintf("%d more", len(in)-3))
		}
		texts[i] = text + " in " + strings.Join(in, ", ")
	}
	return strings.Join(texts, "; ")
}

// Why tells the life of a value: what it is, what happened to it from the document back to where it was written, and
// the inputs on which it depends.
func (p *Presenter) Why(w *explain.Why) {
	p.valueOf(w)
	p.printf("\n")
	p.events(w)
	for _, life := range w.Inputs {
		p.printf("\n")
		p.lifeOf(life)
	}
	if len(w.Upstream) > 0 {
		var rows [][]cell
		p.upstream(w.Upstream, func(text string, at source.Pos) {
			rows = append(rows, []cell{{text: text}, {text: p.line(at), paint: p.cyan},
				{text: p.lineText(at), paint: p.faint}})
		})
		p.printf("\n")
		p.table(rows, 1, 30)
	}
}

// valueOf shows the value that is explained, and where it is.
func (p *Presenter) valueOf(w *explain.Why) {
	path := w.Path.String()
	if path == "" {
		path = "(the whole document)"
	}
	if w.Line > 0 {
		path = strings.TrimPrefix(fmt.Sprintf("%s line %d", w.Path, w.Line), " ")
	}
	p.printf("%s  %s  %s\n\n  %s\n", w.Run.Name, p.bold(w.Document.Path), p.bold(path),
		p.green(wholeValue(w.Value)))
	if w.Value.Secret() {
		p.printf("  %s\n", p.faint("secrets are neither read nor shown here"))
	} else if w.Value.Unknown() {
		p.printf("  %s\n", p.faint("known only after deployment; --later FILE fills it in"))
	}
}

// events shows what happened to a value, one line for each.
func (p *Presenter) events(w *explain.Why) {
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
		rows = append(rows, []cell{{text: "its record or list exists because of " + Clean(leaf.Name)},
			{text: p.line(leaf.Pos), paint: p.cyan}, {text: p.lineText(leaf.Pos), paint: p.faint}})
	}
	p.table(rows, 1, 30)
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
		case e.Unread && !e.Differs:
			row = append(row, cell{text: "a secret that is not read", paint: p.faint}, cell{})
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
	if e.Name() != "" && e.Kind == explain.Input {
		text += " " + e.Name()
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
		Version     int             `json:"version"`
		Environment string          `json:"environment"`
		Document    string          `json:"document"`
		Path        string          `json:"path"`
		Pointer     string          `json:"pointer"`
		Line        int             `json:"line,omitempty"` // of the string there; the value is then the line
		Value       json.RawMessage `json:"value"`
		Secret      bool            `json:"secret,omitempty"`
		Open        bool            `json:"unresolved,omitempty"`
		Events      []eventJSON     `json:"events"`
		Around      []eventJSON     `json:"around,omitempty"`
		Inputs      []lifeJSON      `json:"inputs"`
		Upstream    []upstreamJSON  `json:"upstream,omitempty"`
	}
	eventJSON struct {
		Kind     explain.EventKind `json:"kind"`
		Name     string            `json:"name,omitempty"`
		Depth    int               `json:"depth"`
		Place    *jsonPlace        `json:"location,omitempty"`
		Replaced json.RawMessage   `json:"replaced,omitempty"`
	}
	upstreamJSON struct {
		Name     string         `json:"name"` // of the input that another environment told, with the path in it
		By       string         `json:"by"`
		Because  []leafJSON     `json:"because"`
		Upstream []upstreamJSON `json:"upstream,omitempty"` // what others told that one
	}
	leafJSON struct {
		Name  string     `json:"name"`
		Place *jsonPlace `json:"location"`
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
		Version: 2, Environment: w.Run.Name, Document: w.Document.Path, Path: w.Path.String(),
		Pointer: (*place.Path).Pointer(w.Path), Line: w.Line, Value: raw(w.Value),
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
	out.Upstream = p.upstreamJSON(w.Upstream)
	return writeJSON(p.Out, out)
}

func (p *Presenter) upstreamJSON(all []explain.UpstreamValue) (out []upstreamJSON) {
	for _, told := range all {
		j := upstreamJSON{Name: told.Name, By: told.By.Name, Upstream: p.upstreamJSON(told.Upstream), Because: []leafJSON{}}
		for _, leaf := range told.Leaves {
			j.Because = append(j.Because, leafJSON{leaf.Name, p.jsonPlace(leaf.Pos)})
		}
		out = append(out, j)
	}
	return out
}

func (p *Presenter) eventJSON(e explain.Event) eventJSON {
	j := eventJSON{Kind: e.Kind, Name: e.Name(), Depth: e.Depth, Place: p.jsonPlace(e.Pos)}
	if e.Replaced != nil {
		j.Replaced = raw(*e.Replaced)
	}
	return j
}
