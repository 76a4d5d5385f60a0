package present

import (
	"encoding/json"
	"fmt"
	"path"
	"strings"
	"unicode/utf8"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/source"
	"knothole/core/value"
)

// Comparison shows what differs between two sides: grouped by document, one row for each differing place with its
// cause at the right, equal differences of several documents folded, causes summed up at the end.
func (p *Presenter) Comparison(c *compare.Comparison) {
	p.printf("%s → %s   %s\n", p.bold(c.Left), p.bold(c.Right), comparisonCounts(c))
	groups := c.Groups()
	layout := p.layout(groups)
	for _, g := range groups {
		p.printf("\n%s\n", p.groupTitle(c, g))
		for _, row := range g.Rows {
			p.row(row, layout)
		}
	}
	if reasons := c.Reasons(); len(reasons) > 0 {
		var texts []string
		for i, r := range reasons {
			text := fmt.Sprintf("%s (%d)", r.Name, r.Places)
			if i == 0 {
				text = fmt.Sprintf("%s (%s)", r.Name, Count(r.Places, "place"))
			}
			texts = append(texts, text)
		}
		p.printf("\nBecause of: %s\n", strings.Join(texts, ", "))
	}
}

func comparisonCounts(c *compare.Comparison) string {
	if len(c.Documents) == 0 {
		return "no documents"
	}
	var parts []string
	for _, s := range []struct {
		status compare.Status
		text   string
	}{{compare.Same, "same"}, {compare.Differs, "differ"}, {compare.OnlyLeft, "only in " + c.Left}, {compare.OnlyRight, "only in " + c.Right}} {
		if n := c.Count(s.status); n > 0 {
			if s.status == compare.Differs && n == 1 {
				s.text = "differs"
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, s.text))
		}
	}
	return Count(len(c.Documents), "document") + ": " + strings.Join(parts, ", ")
}

func (p *Presenter) groupTitle(c *compare.Comparison, g compare.Group) string {
	if len(g.Documents) > 1 {
		var names []string
		for _, d := range g.Documents {
			names = append(names, strings.TrimSuffix(path.Base(d.Path), path.Ext(d.Path)))
		}
		list := strings.Join(names, ", ")
		if len(g.Documents) > 6 {
			list = strings.Join(names[:5], ", ") + ", …"
		}
		return p.bold(commonPattern(g.Documents)) + fmt.Sprintf(", %d documents: %s", len(g.Documents), list)
	}
	d := g.Documents[0]
	title := p.bold(d.Path)
	if d.Title != "" {
		title += " · " + d.Title
	}
	side := ""
	switch d.Status {
	case compare.OnlyLeft:
		side = "only in " + c.Left
	case compare.OnlyRight:
		side = "only in " + c.Right
	default:
		return title
	}
	title += "   " + p.yellow(side)
	if cause := p.cause(d.Cause); cause != "" {
		title += "   " + p.cyan(cause)
	}
	return title
}

// commonPattern returns a pattern that the paths have in common: a folder and an ending where they share them.
func commonPattern(documents []*compare.Document) string {
	folder, ending := path.Dir(documents[0].Path), path.Ext(documents[0].Path)
	for _, d := range documents[1:] {
		for folder != "." && d.Path != folder && !strings.HasPrefix(d.Path, folder+"/") {
			folder = path.Dir(folder)
		}
		if path.Ext(d.Path) != ending {
			ending = ""
		}
	}
	name := "*" + ending
	for _, d := range documents {
		if path.Dir(d.Path) != folder {
			name = "**/*" + ending
		}
	}
	return path.Join(folder, name)
}

// layout is the widths of the columns of paths and values.
type layout struct{ path, values int }

// Widths of columns: no path or pair of values makes its column wider than these.
const (
	maxPathWidth  = 44
	maxValueWidth = 40
)

func (p *Presenter) layout(groups []compare.Group) layout {
	l := layout{20, 10}
	for _, g := range groups {
		for _, row := range g.Rows {
			l.path = max(l.path, utf8.RuneCountInString(shortPath(row.Path)))
			l.values = max(l.values, utf8.RuneCountInString(plainChange(row)))
		}
	}
	return layout{min(l.path, maxPathWidth), min(l.values, maxValueWidth)}
}

func (p *Presenter) row(row compare.Row, l layout) {
	name, change := shortPath(row.Path), plainChange(row)
	shown := p.colored(change)
	pad := func(text string, width int) string {
		return strings.Repeat(" ", max(0, width-utf8.RuneCountInString(text)))
	}
	cause := p.cause(row.Cause)
	line := "  " + name + pad(name, l.path) + "   " + shown
	if cause != "" {
		line += pad(change, l.values) + "   " + p.cyan(cause)
	}
	p.printf("%s\n", line)
}

// colored colours the two values of a change.
func (p *Presenter) colored(change string) string {
	left, right, ok := strings.Cut(change, arrow)
	if !ok || !p.Color {
		return change
	}
	return p.red(left) + arrow + p.green(right)
}

// arrow stands between the values of a change. No value contains it, since Show writes one line with plain spaces
// only inside quotes; where one does, only the colours are off.
const arrow = " → "

// shortPath shortens a path from its front, at a step.
func shortPath(at *place.Path) string {
	steps := at.Steps()
	text := place.Text(steps)
	if text == "" {
		return "(the whole document)"
	}
	for len(steps) > 1 && utf8.RuneCountInString(text) > maxPathWidth {
		steps = steps[1:]
		text = "…" + place.Text(steps)
	}
	return clean(text)
}

// plainChange returns both values of a row, without colour.
func plainChange(row compare.Row) string {
	left, right := shorten(row.Left, row.Right)
	if row.Order {
		return "order " + left + arrow + right
	}
	return clean(left) + arrow + clean(right)
}

// valueLimit is how much of a value is shown.
const valueLimit = 30

// shorten shows two values. Long texts that begin alike are shown from where they begin to differ.
func shorten(left, right value.Value) (string, string) {
	if left.Kind() == value.String && right.Kind() == value.String {
		a, b := []rune(left.Text()), []rune(right.Text())
		if len(a) > valueLimit || len(b) > valueLimit {
			start := 0
			for start < len(a) && start < len(b) && a[start] == b[start] {
				start++
			}
			start = max(0, start-8)
			return shortText(a, start), shortText(b, start)
		}
	}
	return showSide(left, "new"), showSide(right, "gone")
}

func shortText(text []rune, start int) string {
	before, after := "", ""
	if start > 3 {
		text, before = text[start:], "…"
	}
	if len(text) > valueLimit {
		text, after = text[:valueLimit], "…"
	}
	return before + fmt.Sprintf("%q", string(text)) + after
}

// showSide shows a value; absent stands for one that is not there.
func showSide(v value.Value, absent string) string {
	if v.IsAbsent() {
		return absent
	}
	text := v.Show(valueLimit)
	if utf8.RuneCountInString(text) > valueLimit+12 {
		return string([]rune(text)[:valueLimit+10]) + "…"
	}
	return text
}

// cause says why two values differ: the input and the line that gave it its value, or the line of the template and
// what it depends on.
func (p *Presenter) cause(c explain.Cause) string {
	var names []string
	for _, r := range c.Because {
		names = append(names, r.Name)
	}
	list := strings.Join(names, ", ")
	left, right := p.line(c.Left), p.line(c.Right)
	switch {
	case left == right && len(c.Because) == 1 && c.Because[0].Name != explain.EnvironmentName:
		// One line computes both: what it is computed from makes the difference.
		left, right = p.line(c.Because[0].Left), p.line(c.Because[0].Right)
		return list + ", " + fromTo(left, right)
	case len(c.Because) == 1 && (c.Left == c.Because[0].Left || c.Right == c.Because[0].Right):
		return list + ", " + fromTo(left, right)
	case list == "":
		return fromTo(left, right)
	}
	return fromTo(left, right) + ", " + list
}

// fromTo joins two places; the file is not repeated.
func fromTo(left, right string) string {
	switch {
	case left == "" || left == right:
		return right
	case right == "":
		return left
	}
	if file, _, ok := strings.Cut(left, ":"); ok && strings.HasPrefix(right, file+":") {
		return left + " → " + strings.TrimPrefix(right, file)
	}
	return left + " → " + right
}

type jsonPlace struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

type jsonReason struct {
	Name  string     `json:"name"`
	Left  *jsonPlace `json:"left,omitempty"`
	Right *jsonPlace `json:"right,omitempty"`
}

type jsonCause struct {
	Left    *jsonPlace   `json:"left,omitempty"`
	Right   *jsonPlace   `json:"right,omitempty"`
	Because []jsonReason `json:"because,omitempty"`
}

type jsonRow struct {
	Pointer string          `json:"pointer"`
	Path    string          `json:"path"`
	Left    json.RawMessage `json:"left,omitempty"`
	Right   json.RawMessage `json:"right,omitempty"`
	Order   bool            `json:"order,omitempty"`
	Cause   jsonCause       `json:"cause"`
}

type jsonDocument struct {
	Path   string         `json:"path"`
	Title  string         `json:"title,omitempty"`
	Status compare.Status `json:"status"`
	Rows   []jsonRow      `json:"rows,omitempty"`
	Cause  *jsonCause     `json:"cause,omitempty"`
}

type jsonComparison struct {
	Left      string         `json:"left"`
	Right     string         `json:"right"`
	Equal     bool           `json:"equal"`
	Documents []jsonDocument `json:"documents"`
	Because   []jsonCount    `json:"because"`
}

type jsonCount struct {
	Name   string `json:"name"`
	Places int    `json:"places"`
}

// ComparisonJSON shows the same as JSON. Paths are JSON Pointers (RFC 6901), of the right side unless the place is
// only on the left; nothing is folded.
func (p *Presenter) ComparisonJSON(c *compare.Comparison) error {
	out := jsonComparison{Left: c.Left, Right: c.Right, Equal: c.Equal(), Documents: []jsonDocument{}, Because: []jsonCount{}}
	for _, d := range c.Documents {
		jd := jsonDocument{Path: d.Path, Title: d.Title, Status: d.Status}
		if d.Status == compare.OnlyLeft || d.Status == compare.OnlyRight {
			cause := p.jsonCause(d.Cause)
			jd.Cause = &cause
		}
		for _, row := range d.Rows {
			jd.Rows = append(jd.Rows, jsonRow{
				Pointer: row.Path.Pointer(), Path: row.Path.String(), Left: raw(row.Left), Right: raw(row.Right), Order: row.Order, Cause: p.jsonCause(row.Cause),
			})
		}
		out.Documents = append(out.Documents, jd)
	}
	for _, r := range c.Reasons() {
		out.Because = append(out.Because, jsonCount{r.Name, r.Places})
	}
	encoder := json.NewEncoder(p.Out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(out)
}

func raw(v value.Value) json.RawMessage {
	if v.IsAbsent() {
		return nil
	}
	return json.RawMessage(data.CompactJSON(v))
}

func (p *Presenter) jsonCause(c explain.Cause) jsonCause {
	j := jsonCause{Left: p.jsonPlace(c.Left), Right: p.jsonPlace(c.Right)}
	for _, r := range c.Because {
		j.Because = append(j.Because, jsonReason{r.Name, p.jsonPlace(r.Left), p.jsonPlace(r.Right)})
	}
	return j
}

func (p *Presenter) jsonPlace(at source.Pos) *jsonPlace {
	l := p.Sources.Locate(at)
	if l.File == nil {
		return nil
	}
	return &jsonPlace{p.file(l.File.Path), l.Line, l.Column}
}
