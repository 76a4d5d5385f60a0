package present

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
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
	for i, g := range groups {
		// Documents that are on one side only stand below each other.
		if i == 0 || len(g.Rows) > 0 || len(groups[i-1].Rows) > 0 {
			p.printf("\n")
		}
		p.groupTitle(c, g, layout)
		for _, row := range g.Rows {
			p.row(row, layout)
		}
	}
	if reasons := c.Reasons(); len(reasons) > 0 {
		var texts []string
		for i, r := range reasons {
			text := fmt.Sprintf("%s (%d)", r.Name, r.Places)
			if i == 0 {
				text = fmt.Sprintf("%s (%s)", r.Name, source.Count(r.Places, "place"))
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
	}{{compare.Same, "same"}, {compare.Differs, "differ"}, {compare.OnlyLeft, "only in " + c.Left},
		{compare.OnlyRight, "only in " + c.Right}} {
		if n := c.Count(s.status); n > 0 {
			if s.status == compare.Differs && n == 1 {
				s.text = "differs"
			}
			parts = append(parts, fmt.Sprintf("%d %s", n, s.text))
		}
	}
	return source.Count(len(c.Documents), "document") + ": " + strings.Join(parts, ", ")
}

// groupTitle prints the line above the rows of a group. A document that is on one side only has no rows: where it is,
// and why, stands behind it, in the columns of the rows.
func (p *Presenter) groupTitle(c *compare.Comparison, g compare.Group, l layout) {
	if len(g.Documents) > 1 {
		pattern := commonPattern(g.Documents)
		var names []string
		for _, d := range g.Documents {
			name := d.Path
			if folder := path.Dir(pattern); folder != "." {
				name = strings.TrimPrefix(name, folder+"/")
			}
			if ending := path.Ext(pattern); ending != "" {
				name = strings.TrimSuffix(name, ending)
			}
			switch {
			case d.Stream && pattern == d.Path:
				name = d.Title
			case d.Stream:
				name += "[" + d.Title + "]"
			}
			names = append(names, name)
		}
		list := strings.Join(names, ", ")
		if len(g.Documents) > 6 {
			shown := 5
			for shown > 1 && len(strings.Join(names[:shown], ", ")) > maxNames {
				shown--
			}
			list = strings.Join(names[:shown], ", ") + ", …"
		}
		p.printf("%s, %d documents: %s\n", p.bold(pattern), len(g.Documents), list)
		return
	}
	d := g.Documents[0]
	title, shown := d.Path, p.bold(d.Path)
	if d.Title != "" {
		title += " · " + d.Title
		shown += " · " + d.Title
	}
	at := p.column(0, title, shown)
	side := ""
	switch d.Status {
	case compare.OnlyLeft:
		side = "only in " + c.Left
	case compare.OnlyRight:
		side = "only in " + c.Right
	default:
		p.printf("\n")
		return
	}
	gap := max(3, l.path+5-at)
	at += gap + p.column(gap, side, p.yellow(side))
	if cause := p.cause(d.Cause); cause != "" {
		p.column(max(3, l.path+l.values+8-at), cause, p.cyan(cause))
	}
	p.printf("\n")
}

// maxNames is how wide the names of many documents are together at most.
const maxNames = 80

// commonPattern returns a pattern that the paths have in common: a folder and an ending where they share them.
func commonPattern(documents []*compare.Document) string {
	if !slices.ContainsFunc(documents, func(d *compare.Document) bool { return d.Path != documents[0].Path }) {
		return documents[0].Path
	}
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
			return path.Join(folder, "**", name)
		}
	}
	return path.Join(folder, name)
}

// layout is the widths of the columns of paths and values, and the paths as they are shown.
type layout struct {
	path, values int
	short        map[string]string // by the whole path
}

// Widths that columns may have at least; in a wide terminal they may have more.
const (
	minPathLimit  = 44
	minValueLimit = 36
)

func (p *Presenter) layout(groups []compare.Group) layout {
	l := layout{path: 20, values: 10, short: map[string]string{}}
	pathLimit, valueLimit := max(minPathLimit, p.Width*30/100), max(minValueLimit, p.Width*29/100)
	taken := map[string]string{}
	for _, g := range groups {
		for _, row := range g.Rows {
			whole, short := row.Path.String(), shortPath(row.Path, pathLimit)
			if other, ok := taken[short]; ok && other != whole {
				l.short[other] = Clean(other) // two paths that look the same when shortened are shown whole
				short = Clean(whole)
			}
			taken[short] = whole
			l.short[whole] = short
		}
	}
	for _, g := range groups {
		for _, row := range g.Rows {
			l.path = max(l.path, utf8.RuneCountInString(l.short[row.Path.String()]))
			left, right := shorten(row)
			l.values = max(l.values, utf8.RuneCountInString(left+arrow+right))
		}
	}
	l.path, l.values = min(l.path, pathLimit), min(l.values, valueLimit)
	return l
}

// row shows one row. What is too long for its column moves the rest to a line of its own.
func (p *Presenter) row(row compare.Row, l layout) {
	name := l.short[row.Path.String()]
	left, right := shorten(row)
	at := p.column(0, "  "+name, "  "+name)
	if at > l.path+2 {
		p.printf("\n")
		at = 0
	}
	at = p.column(l.path+5-at, left+arrow+right, p.side(row.Left, left, p.red)+arrow+p.side(row.Right, right, p.green))
	cause := p.cause(row.Cause)
	if cause == "" {
		p.printf("\n")
		return
	}
	gap := l.values - at + 3
	if at > l.values {
		p.printf("\n")
		gap = l.path + l.values + 8
	}
	p.column(gap, cause, p.cyan(cause))
	p.printf("\n")
}

// side colours one value of a row; what stands for an absent one is no value.
func (p *Presenter) side(v value.Value, text string, colour func(string) string) string {
	if v.IsAbsent() {
		return p.faint(text)
	}
	return colour(text)
}

// column prints a text behind a gap and returns its width; shown is the text with its colours.
func (p *Presenter) column(gap int, text, shown string) int {
	p.printf("%s%s", strings.Repeat(" ", gap), shown)
	return utf8.RuneCountInString(text)
}

// arrow stands between the values of a change.
const arrow = " → "

// shortPath shortens a path from its front, at a step.
func shortPath(at *place.Path, limit int) string {
	steps := at.Steps()
	text := place.Text(steps)
	if text == "" {
		return "(the whole document)"
	}
	for len(steps) > 1 && utf8.RuneCountInString(text) > limit {
		steps = steps[1:]
		text = "…" + place.Text(steps)
	}
	return Clean(text)
}

// valueLimit is how much of a value is shown, context how much of what two texts have in common.
const (
	valueLimit = 28
	context    = 5
)

// shorten shows the two values of a row. Of long texts the part is shown in which they differ.
func shorten(row compare.Row) (left, right string) {
	row.Left, row.Right = value.Shown(row.Left), value.Shown(row.Right)
	if row.Order {
		return "order " + row.Left.Show(valueLimit), row.Right.Show(valueLimit)
	}
	if row.Left.Kind() != value.String || row.Right.Kind() != value.String {
		return showSide(row.Left, "new"), showSide(row.Right, "gone")
	}
	a, b := []rune(row.Left.Text()), []rune(row.Right.Text())
	if len(a)+len(b) <= minValueLimit-10 {
		return Clean(row.Left.Show(2 * valueLimit)), Clean(row.Right.Show(2 * valueLimit))
	}
	start, end := 0, 0
	for start < len(a) && start < len(b) && a[start] == b[start] {
		start++
	}
	for end < len(a)-start && end < len(b)-start && a[len(a)-1-end] == b[len(b)-1-end] {
		end++
	}
	start, end = max(0, start-context), max(0, end-context)
	return shortText(a, start, end), shortText(b, start, end)
}

// shortText shows a text without as many characters at its start and end as two texts have in common.
func shortText(text []rune, start, end int) string {
	before, after := "", ""
	if start > 1 {
		text, before = text[start:], "…"
	}
	if end > 1 {
		text, after = text[:len(text)-end], "…"
	}
	if len(text) > valueLimit {
		text, after = text[:valueLimit], "…"
	}
	quoted := fmt.Sprintf("%q", string(text))
	return Clean(`"` + before + quoted[1:len(quoted)-1] + after + `"`)
}

// showSide shows a value; absent stands for one that is not there.
func showSide(v value.Value, absent string) string {
	if v.IsAbsent() {
		return absent
	}
	if v.Kind() == value.String {
		return shortText([]rune(v.Text()), 0, 0)
	}
	if title := place.Title(v); title != "" {
		return Clean(title)
	}
	text := Clean(v.Show(valueLimit))
	if utf8.RuneCountInString(text) > valueLimit {
		return string([]rune(text)[:valueLimit-1]) + "…"
	}
	return text
}

// cause says why two values differ: what they depend on, and the lines that decided them, of layers or of templates.
func (p *Presenter) cause(c explain.Cause) string {
	var names []string
	for _, r := range c.Because {
		names = append(names, r.Name)
	}
	left, right := p.line(c.Left), p.line(c.Right)
	if (left == right || left == "" || right == "") && len(c.Because) == 1 &&
		c.Because[0].Name != explain.EnvironmentName {
		// One line makes both, or the one that is there: what it depends on makes the difference.
		left, right = p.line(c.Because[0].Left), p.line(c.Because[0].Right)
	}
	if lines := fromTo(left, right); lines != "" {
		names = append(names, lines)
	}
	return strings.Join(names, ", ")
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
	out := jsonComparison{Left: c.Left, Right: c.Right, Equal: c.Equal(), Documents: []jsonDocument{},
		Because: []jsonCount{}}
	for _, d := range c.Documents {
		jd := jsonDocument{Path: d.Path, Title: d.Title, Status: d.Status}
		if d.Status == compare.OnlyLeft || d.Status == compare.OnlyRight {
			cause := p.jsonCause(d.Cause)
			jd.Cause = &cause
		}
		for _, row := range d.Rows {
			jd.Rows = append(jd.Rows, jsonRow{
				Pointer: row.Path.Pointer(), Path: row.Path.String(), Left: raw(row.Left), Right: raw(row.Right),
				Order: row.Order, Cause: p.jsonCause(row.Cause),
			})
		}
		out.Documents = append(out.Documents, jd)
	}
	for _, r := range c.Reasons() {
		out.Because = append(out.Because, jsonCount{r.Name, r.Places})
	}
	return writeJSON(p.Out, out)
}

func raw(v value.Value) json.RawMessage {
	if v.IsAbsent() {
		return nil
	}
	return json.RawMessage(data.CompactJSON(value.Shown(v)))
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
