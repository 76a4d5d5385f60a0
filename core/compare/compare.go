// Package compare finds what differs between sides, each a set of documents, and why. It exists to answer the question
// that a directory of rendered files leaves open: not only what differs, but which line made it so.
package compare

import (
	"context"
	"slices"

	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// Status says what became of a document.
type Status string

// The statuses of a document. Of two sides one that is not on both is on the left or on the right only.
const (
	Same      Status = "same"
	Differs   Status = "differs"
	OnlyLeft  Status = "only-left"
	OnlyRight Status = "only-right"
	OnlySome  Status = "only-some" // of three sides or more
	// SameUnread is the same as far as it is compared: it holds secrets that are not read.
	SameUnread Status = "unread"
)

// Comparison is what differs between two sides or more.
type Comparison struct {
	Sides []string // their names
	// Sources are those in which the places of each side are; nil when all are in those of one project.
	Sources   []*source.Set
	Documents []Document
	// Tried says that causes were tried, as far as that does not take too long: see Cause.Tried of each.
	Tried bool
	// Unread is how many places of all sides hold secrets that are not read, and so not compared.
	Unread int
}

// Document is one path that at least one of the sides has. Documents are in the order of their paths.
type Document struct {
	Path   string
	Title  string // what kind of thing it is, such as "Deployment bay-map"; may be empty
	Stream bool
	Status Status
	On     []bool // which sides have it
	Root   *Node  // how it differs between those that have it; nil when it does not
	Rows   []Row  // where it differs
	Unread []Unread
	// Reordered says that the data is the same and the order of its keys is not, so that it is written otherwise.
	Reordered bool
	// Cause says why it is not on all sides: Against is the side with which the first was compared for it.
	Cause   explain.Cause
	Against int
}

// Left and Right are the names of the first two sides.
func (c *Comparison) Left() string { return c.Sides[0] }

// Right returns the name of the second side.
func (c *Comparison) Right() string { return c.Sides[1] }

// Equal reports whether nothing differs.
func (c *Comparison) Equal() bool { return c.Count(Same)+c.Count(SameUnread) == len(c.Documents) }

// Alike reports whether nothing differs in a document, as far as it is compared.
func (d *Document) Alike() bool { return d.Status == Same || d.Status == SameUnread }

// Count returns how many documents have a status.
func (c *Comparison) Count(s Status) int {
	n := 0
	for _, d := range c.Documents {
		if d.Status == s {
			n++
		}
	}
	return n
}

// Values returns the places at which two values differ.
func Values(left, right value.Value) []Row { return Compare(left, right).Rows() }

// Options say what of two sides is compared.
type Options struct {
	// Only selects documents by their paths; nil takes all.
	Only func(path string) bool
	// Ignore takes out of the document with a path what is not compared; nil for nothing.
	Ignore func(path string, v value.Value) value.Value
	// Budget is how much may be tried to find causes, in documents that are evaluated; nil for as much as is
	// reasonable.
	Budget *int
}

func (o Options) only(path string) bool { return o.Only == nil || o.Only(path) }

func (o Options) filtered(path string, v value.Value) value.Value {
	if o.Ignore == nil {
		return v
	}
	return o.Ignore(path, v)
}

// Environments compares what environments of a project render to. They are evaluated once, recorded, for the causes:
// to evaluate again what differs takes longer where much does, and saves little where little does. The comparison is
// nil when there are errors. The error is that of the context of the project.
func Environments(p *project.Project, runs []*project.Run, o Options) (*Comparison, source.Findings, error) {
	results, findings, err := renderAll(p, runs, render.Options{Only: o.only, Recording: true})
	if err != nil || findings.HasErrors() {
		return nil, findings, err
	}
	c, err := between(p.Context(), results, o)
	return c, findings, err
}

// between compares what environments of a project have rendered to, recorded.
func between(ctx context.Context, results []*render.Result, o Options) (*Comparison, error) {
	sides := make([]Side, len(results))
	for i, r := range results {
		sides[i] = Rendered(r, o)
	}
	c, err := Compared(ctx, sides)
	if err == nil && (!c.Equal() || c.Unread > 0) {
		err = c.Explain(ctx, sides, o)
	}
	if err != nil {
		return nil, err
	}
	return c, nil
}

// Compared compares sides; the causes of what differs are only where it is written. The error is that of the context.
func Compared(ctx context.Context, sides []Side) (*Comparison, error) {
	c := &Comparison{}
	for _, s := range sides {
		c.Sides = append(c.Sides, s.Name)
	}
	for _, path := range paths(sides) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		d := compareDocuments(path, sides)
		d.addUnread(sides)
		c.Unread += len(d.Unread)
		c.Documents = append(c.Documents, d)
	}
	return c, nil
}

// Explain adds why documents and values differ: for sides that are not all environments of one project, the lines that
// they come from. The error is that of the context.
func (c *Comparison) Explain(ctx context.Context, sides []Side, o Options) error {
	for against := 1; against < len(sides); against++ {
		if err := addCauses(ctx, c, sides, against, o); err != nil {
			return err
		}
	}
	return nil
}

// renderAll renders the environments of runs, a run that is named twice once.
func renderAll(p *project.Project, runs []*project.Run, options render.Options) ([]*render.Result, source.Findings,
	error) {
	var once []*project.Run
	for _, r := range runs {
		if !slices.Contains(once, r) {
			once = append(once, r)
		}
	}
	results, findings, err := render.All(p, once, options)
	if err != nil {
		return nil, nil, err
	}
	all := make([]*render.Result, len(runs))
	for i, r := range runs {
		all[i] = results[slices.Index(once, r)]
	}
	return all, findings, nil
}

// paths returns the paths of all sides, sorted.
func paths(sides []Side) []string {
	var all []string
	for _, s := range sides {
		for path := range s.Contents {
			if !slices.ContainsFunc(sides, func(s Side) bool { return s.broken[path] }) {
				all = append(all, path)
			}
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// knownBy returns the fields by which the projects of some sides say that elements of lists are known.
func knownBy(sides []Side) (fields []string) {
	for _, s := range sides {
		for _, field := range s.known {
			if !slices.Contains(fields, field) {
				fields = append(fields, field)
			}
		}
	}
	return fields
}

// knownIn is by what elements of lists are known in a document: what the projects of the sides say, and then what the
// schema does that the first project has for it.
func knownIn(path string, sides []Side, cells []value.Value, stream bool) matchKey {
	known := matchKey{fields: knownBy(sides), stream: stream}
	for i, s := range sides {
		if s.unit != nil && s.unit.Project.HasSchemas() && !cells[i].IsAbsent() {
			known.object = cells[i]
			known.at = func(object value.Value, fields []string) []string {
				return s.unit.Project.ListKeysAt(path, object, fields)
			}
			break
		}
	}
	return known
}

func compareDocuments(path string, sides []Side) Document {
	d := Document{Path: path, Status: Same, On: make([]bool, len(sides))}
	cells := make([]value.Value, len(sides))
	on := 0
	for i, s := range sides {
		unit := s.Contents[path]
		if unit == nil {
			continue
		}
		d.On[i], cells[i], d.Stream, d.Title = true, unit.Value, unit.Stream, place.Title(unit.Value)
		on++
	}
	if on == len(sides) {
		if d.Root = compareKnown(knownIn(path, sides, cells, d.Stream), cells...); d.Root != nil {
			d.Status, d.Rows = Differs, d.Root.Rows()
		} else {
			d.Reordered = slices.ContainsFunc(cells[1:], func(v value.Value) bool { return !sameOrder(cells[0], v) })
		}
		return d
	}
	d.Root = compareKnown(knownIn(path, sides, cells, d.Stream), cells...)
	switch {
	case len(sides) > 2:
		d.Status = OnlySome
		if d.Root.Kids != nil {
			d.Rows = slices.DeleteFunc(d.Root.Rows(), func(r Row) bool { return r.Path == nil })
		}
	case d.On[0]:
		d.Status = OnlyLeft
	default:
		d.Status = OnlyRight
	}
	return d
}

// Reordered returns the documents with the same data on all sides, and the keys in another order.
func (c *Comparison) Reordered() (paths []string) {
	for _, d := range c.Documents {
		if d.Reordered {
			paths = append(paths, d.Path)
		}
	}
	return paths
}

// sameOrder reports whether the keys of two values that are the same are in the same order.
func sameOrder(a, b value.Value) bool {
	if a.Kind() != value.List && a.Kind() != value.Record || a.Identity() != 0 && a.Identity() == b.Identity() {
		return true
	}
	if a.Kind() == value.Record && !slices.Equal(a.Shape().Keys(), b.Shape().Keys()) {
		return false
	}
	others := value.Parts(b)
	for i, x := range value.Parts(a) {
		if !sameOrder(x, others[i]) {
			return false
		}
	}
	return true
}

// addCauses finds why documents and places differ between the first side and another, where these are the first that
// differ.
func addCauses(ctx context.Context, c *Comparison, sides []Side, against int, o Options) error {
	a, b := sides[0], sides[against]
	var differs explain.Differing
	together := a.unit != nil && a.unit == b.unit
	if together {
		differs = explain.DifferingInputs(a.unit, a.result.World, b.result.World)
	}
	for i := range c.Documents {
		if err := ctx.Err(); err != nil {
			return err
		}
		d := &c.Documents[i]
		if d.Alike() {
			continue
		}
		one, other := a.Contents[d.Path], b.Contents[d.Path]
		if (one == nil) != (other == nil) && d.Against == 0 {
			d.Against = against
			left, right := explain.Side{}, explain.Side{}
			if one != nil {
				left = explain.Side{Recorder: a.recorder(), Value: one.Name}
			} else {
				right = explain.Side{Recorder: b.recorder(), Value: other.Name}
			}
			d.Cause = explain.Difference(left, right, differs)
		}
		for j := range d.Rows {
			row := &d.Rows[j]
			if row.Against > 0 ||
				row.Kind != Moved && !differ([]value.Value{row.Cells[0], row.Cells[against]}) {
				continue
			}
			row.Against = against
			left, right := row.side(a, 0), row.side(b, against)
			if one != nil && other != nil {
				left.Block, right.Block = one.Name.Origin(), other.Name.Origin()
			}
			row.Cause = explain.Difference(left, right, differs)
		}
	}
	if together && a.result.Run != b.result.Run {
		t := &trials{variation: newDifferences(a.unit, a.result, b.result), options: o, against: against,
			units: [2]map[string]*Content{a.Contents, b.Contents}, outcomes: map[string]*outcome{},
			left: o.budgetFor(len(c.Documents))}
		if err := t.confirm(ctx, c.Documents); err != nil {
			return err
		}
		c.Tried = true
	}
	if together {
		runs := [2]*project.Run{a.result.Run, b.result.Run}
		for i := range c.Documents {
			if err := ctx.Err(); err != nil {
				return err
			}
			d := &c.Documents[i]
			if d.Against == against {
				d.Cause.FollowUpstream(runs)
			}
			for j := range d.Rows {
				if d.Rows[j].Against == against {
					d.Rows[j].Cause.FollowUpstream(runs)
				}
			}
		}
	}
	c.addLines(sides, against)
	return ctx.Err() // without which what was evaluated for it is whole
}

// side is what a row has on a side.
func (r *Row) side(s Side, number int) explain.Side {
	of := explain.Side{Recorder: s.recorder(), Value: r.Cells[number]}
	for _, holder := range r.around {
		of.Around = append(of.Around, holder.Cells[number].Origin())
	}
	return of
}

// maxTable bounds the table of commonPairs.
const maxTable = 1 << 20

// commonPairs returns the positions of a longest common subsequence.
func commonPairs(a, b []value.Value) [][2]int {
	n, m := len(a), len(b)
	if n == 0 || m == 0 || n*m > maxTable {
		return nil
	}
	table := make([]int32, (n+1)*(m+1))
	at := func(i, j int) *int32 { return &table[i*(m+1)+j] }
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if value.Identical(a[i], b[j]) {
				*at(i, j) = *at(i+1, j+1) + 1
			} else {
				*at(i, j) = max(*at(i+1, j), *at(i, j+1))
			}
		}
	}
	var pairs [][2]int
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case value.Identical(a[i], b[j]):
			pairs = append(pairs, [2]int{i, j})
			i++
			j++
		case *at(i+1, j) >= *at(i, j+1):
			i++
		default:
			j++
		}
	}
	return pairs
}
