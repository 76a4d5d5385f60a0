package present

import (
	"encoding/json"
	"fmt"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/explain"
	"knothole/core/source"
	"knothole/core/value"
)

type jsonPlace struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

// String returns a location as messages have it. What has none is said of the program.
func (p *jsonPlace) String() string {
	if p == nil {
		return "knothole"
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

type jsonReason struct {
	Name     string        `json:"name"`
	Places   []*jsonPlace  `json:"locations"` // on the first side, and on that with which it was compared
	Upstream *jsonUpstream `json:"upstream,omitempty"`
}

// jsonUpstream is why other environments differ that told a value.
type jsonUpstream struct {
	By    [2]string  `json:"by"`
	Cause *jsonCause `json:"cause"`
}

type jsonCause struct {
	Against string       `json:"against"`
	Lines   []*jsonPlace `json:"lines"`
	Because []jsonReason `json:"because"`
	Tried   bool         `json:"tried"`
}

type jsonRow struct {
	Path     string            `json:"path"`
	Kind     string            `json:"kind"`
	Pointers []*string         `json:"pointers"`
	Cells    []json.RawMessage `json:"cells"`
	Cause    *int              `json:"cause,omitempty"` // its number among the causes
	Lines    []jsonLine        `json:"lines,omitempty"`
}

// jsonLine is a line of a text that one side has, of the two that were compared for the cause.
type jsonLine struct {
	Side    string     `json:"side"`
	Number  int        `json:"number"`
	Place   *jsonPlace `json:"location"`
	Because []string   `json:"because"`
}

// jsonUnread is a secret that was not compared. From is empty where the source is not known.
type jsonUnread struct {
	Path string   `json:"path"`
	From []string `json:"from"`
}

type jsonDocument struct {
	Path   string         `json:"path"`
	Title  string         `json:"title,omitempty"`
	Status compare.Status `json:"status"`
	On     []bool         `json:"on"`
	Rows   []jsonRow      `json:"rows,omitempty"`
	Unread []jsonUnread   `json:"unread,omitempty"`
	Order  bool           `json:"reordered,omitempty"`
	Cause  *int           `json:"cause,omitempty"`
}

// jsonGroup is what several documents have together, or one has alone, as the text shows it.
type jsonGroup struct {
	Documents []jsonName       `json:"documents"`
	Cause     string           `json:"cause,omitempty"` // of all rows, where they are grouped so
	Rows      []jsonGroupedRow `json:"rows"`
}

// jsonName names a document, or an object of a stream.
type jsonName struct {
	Path  string `json:"path"`
	Title string `json:"title,omitempty"`
}

// jsonGroupedRow is one row that stands for several places. Where these say different things it is an example.
type jsonGroupedRow struct {
	Path      string            `json:"path"` // with * for what differs
	Kind      string            `json:"kind"`
	Places    int               `json:"paths"`
	Values    int               `json:"values"` // how many different changes these are
	Cells     []json.RawMessage `json:"cells"`
	Documents []jsonName        `json:"documents"`
	Cause     *int              `json:"cause,omitempty"`
}

type jsonComparison struct {
	Version   int            `json:"version"`
	Sides     []string       `json:"sides"`
	Equal     bool           `json:"equal"`
	Unread    int            `json:"unread"`
	Documents []jsonDocument `json:"documents"`
	Causes    []*jsonCause   `json:"causes"`
	Groups    []jsonGroup    `json:"groups"`
	Because   []jsonCount    `json:"because"`
}

type jsonCount struct {
	Name   string `json:"name"`
	Places int    `json:"paths"`
}

// comparisonVersion is that of the form of comparisons in JSON.
const comparisonVersion = 4

// comparisonModel returns a comparison as JSON has it. Pointers (RFC 6901) and cells are those of each side, null where
// there is none; nothing is folded but in the groups. What is equal on all sides and was not read is not equal.
func (p *Presenter) comparisonModel(c *compare.Comparison, o ComparisonOptions) *jsonComparison {
	out := &jsonComparison{Version: comparisonVersion, Sides: c.Sides, Equal: c.Equal() && c.Unread == 0,
		Unread: c.Unread, Documents: []jsonDocument{}, Causes: []*jsonCause{}, Groups: []jsonGroup{},
		Because: []jsonCount{}}
	causes := &jsonCauses{Presenter: p, c: c, out: out, numbers: map[string]int{}}
	for _, d := range c.Documents {
		out.Documents = append(out.Documents, p.documentJSON(c, d, causes))
	}
	for _, g := range c.Groups(o.GroupOptions) {
		group := jsonGroup{Documents: names(g.Documents), Cause: g.Cause, Rows: []jsonGroupedRow{}}
		for _, f := range g.Rows {
			row := jsonGroupedRow{Path: f.Pattern, Kind: string(f.Kind), Places: f.Places, Values: f.Values,
				Documents: names(f.Documents), Cause: causes.number(f.Cause, f.Against)}
			for _, v := range f.Cells {
				row.Cells = append(row.Cells, raw(v))
			}
			group.Rows = append(group.Rows, row)
		}
		out.Groups = append(out.Groups, group)
	}
	for _, r := range c.Reasons() {
		out.Because = append(out.Because, jsonCount{r.Name, r.Places})
	}
	return out
}

func (p *Presenter) documentJSON(c *compare.Comparison, d compare.Document, causes *jsonCauses) jsonDocument {
	jd := jsonDocument{Path: d.Path, Title: d.Title, Status: d.Status, On: d.On, Order: d.Reordered,
		Cause: causes.number(d.Cause, d.Against)}
	for _, row := range d.Rows {
		jr := jsonRow{Path: row.Path.String(), Kind: string(row.Kind), Cause: causes.number(row.Cause, row.Against)}
		for i, v := range row.Cells {
			var pointer *string
			if !v.IsAbsent() {
				text := row.Paths[i].Pointer()
				pointer = &text
			}
			jr.Pointers, jr.Cells = append(jr.Pointers, pointer), append(jr.Cells, raw(v))
		}
		for _, line := range row.Changed {
			side := 0
			if line.Right {
				side = row.Against
			}
			jr.Lines = append(jr.Lines, jsonLine{c.Sides[side], line.Number, p.jsonPlaceOn(c, side, line.At),
				append([]string{}, line.Because...)})
		}
		jd.Rows = append(jd.Rows, jr)
	}
	for _, u := range d.Unread {
		jd.Unread = append(jd.Unread, jsonUnread{u.Path.String(), u.From})
	}
	return jd
}

func names(documents []*compare.Document) []jsonName {
	all := make([]jsonName, len(documents))
	for i, d := range documents {
		if all[i].Path = d.Path; d.Stream {
			all[i].Title = d.Title
		}
	}
	return all
}

// jsonCauses numbers causes, each once.
type jsonCauses struct {
	*Presenter
	c       *compare.Comparison
	out     *jsonComparison
	numbers map[string]int
}

// number returns the number of a cause; nil for what was compared with no other side.
func (j *jsonCauses) number(cause explain.Cause, against int) *int {
	if against == 0 {
		return nil
	}
	key := fmt.Sprint(against, cause.Left, cause.Right, cause.Because, cause.Tried)
	n, known := j.numbers[key]
	if !known {
		n = len(j.out.Causes)
		j.numbers[key], j.out.Causes = n, append(j.out.Causes, j.jsonCause(j.c, cause, against))
	}
	return &n
}

func raw(v value.Value) json.RawMessage {
	if v.IsAbsent() {
		return json.RawMessage("null")
	}
	return json.RawMessage(data.CompactJSON(value.Shown(v)))
}

func (p *Presenter) jsonCause(c *compare.Comparison, cause explain.Cause, against int) *jsonCause {
	place := func(side int, at source.Pos) *jsonPlace { return p.jsonPlaceOn(c, side, at) }
	j := &jsonCause{Against: c.Sides[against], Tried: cause.Tried, Because: []jsonReason{},
		Lines: []*jsonPlace{place(0, cause.Left), place(against, cause.Right)}}
	for _, r := range cause.Because {
		reason := jsonReason{Name: r.Name, Places: []*jsonPlace{place(0, r.Left), place(against, r.Right)}}
		if r.Upstream != nil {
			reason.Upstream = &jsonUpstream{By: r.Upstream.By, Cause: p.jsonCause(c, r.Upstream.Cause, against)}
		}
		j.Because = append(j.Because, reason)
	}
	return j
}

// jsonPlaceOn is a place of a side of a comparison.
func (p *Presenter) jsonPlaceOn(c *compare.Comparison, side int, at source.Pos) *jsonPlace {
	if c.Sources == nil {
		return p.jsonPlace(at)
	}
	on := *p
	on.Sources = c.Sources[side]
	return on.jsonPlace(at)
}

func (p *Presenter) jsonPlace(at source.Pos) *jsonPlace {
	l := p.Sources.Locate(at)
	if l.File == nil {
		return nil
	}
	return &jsonPlace{p.file(l.File.Path), l.Line, l.Column}
}
