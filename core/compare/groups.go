package compare

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"knothole/core/explain"
	"knothole/core/place"
)

// Group is what several documents have together, or what one has alone; or what has one cause.
type Group struct {
	Documents []*Document
	Cause     string // of all rows; empty when they are grouped by their documents
	Rows      []Folded
}

// Folded is one row that stands for others that say the same.
type Folded struct {
	Row
	// Pattern is the path with what differs in the others as *; it is that of the row when it stands for itself.
	Pattern string
	Places  int // how many rows it stands for
	// Values is how many different changes these are: with more than one the row is an example.
	Values    int
	Documents []*Document
}

// GroupOptions say how rows are grouped.
type GroupOptions struct {
	ByCause bool // and not by document
	Full    bool // each row that says something else is told
}

// parts returns the documents, with those of streams that are known by a key as documents of their own.
func (c *Comparison) parts() []*Document {
	var parts []*Document
	for i := range c.Documents {
		d := &c.Documents[i]
		if !d.Stream {
			parts = append(parts, d)
			continue
		}
		whole := *d
		whole.Rows = nil
		var inside []*Document
		for _, row := range d.Rows {
			first, rest, below := row.Path.Split()
			if first.Kind != place.Keyed || !below && row.Kind != Added && row.Kind != Removed {
				whole.Rows = append(whole.Rows, row)
				continue
			}
			if !below {
				part := &Document{Path: d.Path, Title: first.Name, Stream: true, Status: OnlySome, Cause: row.Cause,
					Against: row.Against, Root: row.Node}
				for _, v := range row.Cells {
					part.On = append(part.On, !v.IsAbsent())
				}
				if len(row.Cells) == 2 {
					part.Status = map[bool]Status{true: OnlyLeft, false: OnlyRight}[part.On[0]]
				}
				inside = append(inside, part)
				continue
			}
			if n := len(inside); n == 0 || inside[n-1].Title != first.Name {
				inside = append(inside, &Document{Path: d.Path, Title: first.Name, Stream: true, Status: d.Status,
					On: d.On})
			}
			row.Path = rest
			part := inside[len(inside)-1]
			part.Rows = append(part.Rows, row)
		}
		parts = append(append(parts, &whole), inside...)
	}
	return parts
}

// located is a row, and the document that it is in.
type located struct {
	Row
	document *Document
}

// fewAlike is how many rows of one kind that say different things are told one by one.
const fewAlike = 5

// Groups folds rows that say the same into one: over documents, and over the elements of lists. Where many are alike
// but for their values, one of them is an example. What most documents have comes first, then what each has alone.
func (c *Comparison) Groups(options GroupOptions) []Group {
	documents := c.parts()
	families := map[string][]located{}
	var order []string
	for _, d := range documents {
		for _, row := range d.Rows {
			key := familyKey(row)
			if families[key] == nil {
				order = append(order, key)
			}
			families[key] = append(families[key], located{row, d})
		}
	}
	var folded []Folded
	for _, key := range order {
		folded = append(folded, fold(families[key], options.Full)...)
	}
	if options.ByCause {
		return byCause(folded)
	}
	return byDocument(folded, documents)
}

// fold folds the rows of a family: those that say the same, and all where they say many things.
func fold(rows []located, full bool) []Folded {
	classes := map[string][]located{}
	var order []string
	for _, r := range rows {
		key := r.said()
		if classes[key] == nil {
			order = append(order, key)
		}
		classes[key] = append(classes[key], r)
	}
	if len(order) > fewAlike && !full {
		return []Folded{folded(rows, len(order))}
	}
	all := make([]Folded, len(order))
	for i, key := range order {
		all[i] = folded(classes[key], 1)
	}
	return all
}

func folded(rows []located, values int) Folded {
	f := Folded{Row: rows[0].Row, Places: len(rows), Values: values}
	for _, r := range rows {
		if n := len(f.Documents); n == 0 || f.Documents[n-1] != r.document {
			f.Documents = append(f.Documents, r.document)
		}
	}
	f.Pattern = pattern(rows)
	return f
}

// pattern returns the path that rows have together; elements of lists in which they differ are *.
func pattern(rows []located) string {
	steps := slices.Clone(rows[0].Path.Steps())
	wild := make([]bool, len(steps))
	for _, r := range rows[1:] {
		for i, step := range r.Path.Steps() {
			wild[i] = wild[i] || step != steps[i] && place.Text([]place.Step{step}) != place.Text(steps[i:i+1])
		}
	}
	for i := range steps {
		if wild[i] {
			steps[i] = place.Step{Kind: place.Keyed, Name: "*"}
		}
	}
	return place.Text(steps)
}

// familyKey is a text that is the same for rows that are alike: of one place but for the elements of lists, and of one
// cause but for the parts of inputs.
func familyKey(r Row) string {
	var b strings.Builder
	for _, step := range r.Path.Steps() {
		if step.Kind == place.Field {
			b.WriteString("." + place.Key(step.Name))
		} else {
			b.WriteString("[]")
		}
	}
	b.WriteString("\n" + string(r.Kind))
	if len(r.Cause.Because) == 0 { // nothing says that they belong together but that they say the same
		b.WriteString("\n" + r.said())
	}
	for _, reason := range r.Cause.Because {
		b.WriteString("\n" + reason.Whole())
		if reason.Whole() != reason.Name {
			b.WriteString(" part")
		}
	}
	return b.String()
}

// said is a text that is the same for rows that say the same of whatever element.
func (r *Row) said() string {
	const all = 1 << 20
	var b strings.Builder
	for _, v := range r.Cells {
		b.WriteString(v.Show(all))
		b.WriteByte('\n')
	}
	if len(r.Cause.Because) > 0 { // otherwise the lines are those of the compared files themselves
		b.WriteString(strconv.Itoa(int(r.Cause.Left)) + " " + strconv.Itoa(int(r.Cause.Right)))
		for _, reason := range r.Cause.Because {
			b.WriteString(" " + reason.String() + ",")
		}
	}
	return b.String()
}

func byCause(rows []Folded) []Group {
	groups := map[string]*Group{}
	for _, f := range rows {
		names := strings.Join(namesOf(f.Cause), ", ")
		if groups[names] == nil {
			groups[names] = &Group{Cause: cmp.Or(names, "the template")}
		}
		g := groups[names]
		g.Rows = append(g.Rows, f)
		for _, d := range f.Documents {
			if !slices.Contains(g.Documents, d) {
				g.Documents = append(g.Documents, d)
			}
		}
	}
	all := make([]Group, 0, len(groups))
	for _, name := range slices.Sorted(maps.Keys(groups)) {
		all = append(all, *groups[name])
	}
	slices.SortStableFunc(all, func(a, b Group) int { return places(b) - places(a) })
	return all
}

func places(g Group) (n int) {
	for _, f := range g.Rows {
		n += f.Places
	}
	return n
}

func byDocument(rows []Folded, documents []*Document) []Group {
	var shared []Group
	alone := map[*Document][]Folded{}
	position := map[string]int{}
	for _, f := range rows {
		if len(f.Documents) == 1 {
			alone[f.Documents[0]] = append(alone[f.Documents[0]], f)
			continue
		}
		key := fmt.Sprint(f.Documents)
		at, ok := position[key]
		if !ok {
			at = len(shared)
			position[key] = at
			shared = append(shared, Group{Documents: f.Documents})
		}
		shared[at].Rows = append(shared[at].Rows, f)
	}
	slices.SortStableFunc(shared, func(a, b Group) int { return len(b.Documents) - len(a.Documents) })
	only := map[string]int{} // the group of those that are on some sides only, for one cause
	for _, d := range documents {
		g := Group{Documents: []*Document{d}, Rows: alone[d]}
		if d.Alike() || d.Status == Differs {
			if g.Rows != nil {
				shared = append(shared, g)
			}
			continue
		}
		key := fmt.Sprint(d.On, d.Cause.Left, d.Cause.Right, d.Cause.Because, g.Rows == nil)
		if at, ok := only[key]; ok && g.Rows == nil {
			shared[at].Documents = append(shared[at].Documents, d)
			continue
		}
		only[key] = len(shared)
		shared = append(shared, g)
	}
	return shared
}

// Reasons counts for each input how many places it explains, the most frequent first. Parts of one input are told
// together where they are many.
func (c *Comparison) Reasons() []ReasonCount {
	counts := map[string]*ReasonCount{} // by name
	parts := map[string][]*ReasonCount{}
	add := func(cause explain.Cause) {
		for _, reason := range cause.Because {
			if counts[reason.Name] == nil {
				counts[reason.Name] = &ReasonCount{Name: reason.Name}
				parts[reason.Whole()] = append(parts[reason.Whole()], counts[reason.Name])
			}
			counts[reason.Name].Places++
		}
	}
	for _, d := range c.Documents {
		for _, row := range d.Rows {
			add(row.Cause)
		}
		if d.Against > 0 {
			add(d.Cause)
		}
	}
	var all []ReasonCount
	for whole, of := range parts {
		together := ReasonCount{Name: whole, Parts: len(of)}
		for _, one := range of {
			if together.Places += one.Places; len(of) <= fewParts {
				all = append(all, *one)
			}
		}
		if len(of) > fewParts {
			all = append(all, together)
		}
	}
	slices.SortFunc(all, func(a, b ReasonCount) int {
		return cmp.Or(b.Places-a.Places, strings.Compare(a.Name, b.Name))
	})
	return all
}

// ReasonCount says how many places differ because of something.
type ReasonCount struct {
	Name   string
	Places int
	Parts  int // how many parts of an input these are; 0 for one that is named as it is
}

// fewParts is how many parts of one input are counted one by one.
const fewParts = 3

func namesOf(c explain.Cause) []string {
	names := make([]string, len(c.Because))
	for i, r := range c.Because {
		names[i] = r.Name
	}
	return names
}
