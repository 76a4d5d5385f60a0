// Package compare finds what differs between two sides, each a set of documents, and why. It exists to answer the
// question that a folder of rendered files leaves open: not only what differs, but which line made it so.
package compare

import (
	"fmt"
	"slices"
	"strings"

	"knothole/core/check"
	"knothole/core/eval"
	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// Status says what became of a document.
type Status string

// The statuses of a document.
const (
	Same      Status = "same"
	Differs   Status = "differs"
	OnlyLeft  Status = "only-left"
	OnlyRight Status = "only-right"
)

// Comparison is what differs between two sides.
type Comparison struct {
	Left, Right string // the names of the sides
	Documents   []Document
	// Unread is how many places of both sides hold secrets that are not read, and so not compared.
	Unread int
}

// Document is one path that at least one of the sides has. Documents stand in the order of their paths.
type Document struct {
	Path   string
	Title  string // what kind of thing it is, such as "Deployment bay-map"; may be empty
	Stream bool
	Status Status
	Rows   []Row         // where it differs
	Cause  explain.Cause // why it is only on one side
}

// Row is one place at which a document differs.
type Row struct {
	Path        *place.Path
	Left, Right value.Value // Absent when the place is not there
	// Order says that the elements are the same and only their order differs; Left and Right are then their keys.
	Order bool
	Cause explain.Cause

	around *holders // of the place
}

// Equal reports whether nothing differs.
func (c *Comparison) Equal() bool { return c.Count(Same) == len(c.Documents) }

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

// Environments compares what two environments of a project render to. Only what differs is evaluated again, recorded,
// to find the causes. The comparison is nil when there are errors.
func Environments(p *project.Project, left, right *project.Environment) (*Comparison, source.Findings) {
	pair := []*project.Environment{left, right}
	if left == right {
		pair = pair[:1]
	}
	results, findings := render.All(p, pair, render.Options{})
	if findings.HasErrors() {
		return nil, findings
	}
	a, b := index(results[0]), index(results[len(results)-1])
	c := &Comparison{Left: left.Name, Right: right.Name}
	for path, d := range a.documents {
		if other := b.documents[path]; other != nil && left != right {
			c.Unread += min(unread(d.Value), unread(other.Value))
		}
	}
	differing := map[string]bool{}
	for _, path := range paths(a, b) {
		d := compareDocuments(path, a.documents[path], b.documents[path])
		differing[path] = d.Status != Same
		c.Documents = append(c.Documents, d)
	}
	if c.Equal() {
		return c, findings
	}
	options := render.Options{Recording: true, Only: func(path string) bool { return differing[path] }}
	recorded, _ := render.All(p, pair, options)
	a, b = index(recorded[0]), index(recorded[len(recorded)-1])
	differs := differingInputs(p, a.Result, b.Result)
	for i := range c.Documents {
		if d := &c.Documents[i]; d.Status != Same {
			*d = compareDocuments(d.Path, a.documents[d.Path], b.documents[d.Path])
			addCauses(d, a, b, differs)
		}
	}
	t := &trials{differences: newDifferences(p, a.Result, b.Result), documents: [2]map[string]*render.Document{a.documents,
		b.documents}, outcomes: map[string]*outcome{}, left: budget + len(differing)}
	t.confirm(c.Documents)
	return c, findings
}

// unread counts the secrets in a value that are not read.
func unread(v value.Value) int {
	n := 0
	value.Walk([]value.Value{v}, func(x value.Value) bool {
		if x.Secret() && x.Unknown() {
			n++
		}
		return true
	})
	return n
}

// side is one side of a comparison of environments.
type side struct {
	*render.Result
	documents map[string]*render.Document
}

func index(r *render.Result) side {
	s := side{r, make(map[string]*render.Document, len(r.Documents))}
	for i := range r.Documents {
		s.documents[r.Documents[i].Path] = &r.Documents[i]
	}
	return s
}

// paths returns the paths of both sides, sorted.
func paths(a, b side) []string {
	var all []string
	for _, s := range []side{a, b} {
		for path := range s.documents {
			all = append(all, path)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// differingInputs returns whether an input, or a part of one, has different values in two environments.
func differingInputs(p *project.Project, left, right *render.Result) func(string) bool {
	a, b := left.World, right.World
	differing := map[string]bool{}
	return func(name string) bool {
		known, ok := differing[name]
		if !ok {
			fields := explain.Fields(name)
			known = !samePart(inputOf(p, a, fields[0]), inputOf(p, b, fields[0]), fields[1:])
			differing[name] = known
		}
		return known
	}
}

// inputOf returns the value of an input; Absent when there is none.
func inputOf(p *project.Project, w *eval.World, name string) value.Value {
	at := slices.IndexFunc(p.Inputs(), func(o *check.Object) bool { return o.Name == name })
	if at < 0 {
		return value.Value{}
	}
	v, _ := w.Value(p.Inputs()[at])
	return v
}

// samePart reports whether what fields lead to is the same in two values. The fields of a list are those of all its
// elements.
func samePart(a, b value.Value, fields []string) bool {
	switch {
	case len(fields) == 0:
		return value.Identical(a, b)
	case a.Kind() == value.List && b.Kind() == value.List:
		return slices.EqualFunc(a.Elements(), b.Elements(), func(x, y value.Value) bool { return samePart(x, y, fields) })
	case a.Kind() == value.List || b.Kind() == value.List:
		return false
	}
	return samePart(a.Get(fields[0]), b.Get(fields[0]), fields[1:])
}

func addCauses(d *Document, a, b side, differs func(string) bool) {
	of := func(s side, v value.Value) explain.Side { return explain.Side{Recorder: s.Recorder(), Value: v} }
	for i := range d.Rows {
		row := &d.Rows[i]
		left, right := of(a, row.Left), of(b, row.Right)
		left.Around, right.Around = row.around.sides()
		if one, other := a.documents[d.Path], b.documents[d.Path]; one != nil && other != nil {
			left.Block, right.Block = one.Name.Origin(), other.Name.Origin()
		}
		row.Cause = explain.Difference(left, right, differs)
	}
	left, right := a.documents[d.Path], b.documents[d.Path]
	switch {
	case left == nil && right != nil:
		d.Cause = explain.Difference(explain.Side{}, of(b, right.Name), differs)
	case right == nil && left != nil:
		d.Cause = explain.Difference(of(a, left.Name), explain.Side{}, differs)
	}
}

func compareDocuments(path string, left, right *render.Document) Document {
	d := Document{Path: path, Status: Same}
	switch {
	case left == nil:
		d.Status, d.Title = OnlyRight, place.Title(right.Value)
	case right == nil:
		d.Status, d.Title = OnlyLeft, place.Title(left.Value)
	default:
		d.Title, d.Stream = place.Title(right.Value), right.Stream
		d.Rows = Values(left.Value, right.Value)
		if len(d.Rows) > 0 {
			d.Status = Differs
		}
	}
	return d
}

// Values returns the places at which two values differ.
func Values(left, right value.Value) []Row {
	var w walk
	w.values(nil, left, right)
	return w.rows
}

type walk struct {
	rows   []Row
	around *holders
}

// holders are the origins of a record or list on both sides, and of those around it.
type holders struct {
	outer       *holders
	left, right value.Origin
}

// sides returns the origins of each side, innermost first.
func (h *holders) sides() (left, right []value.Origin) {
	for ; h != nil; h = h.outer {
		left, right = append(left, h.left), append(right, h.right)
	}
	return left, right
}

// within compares what two records or lists hold.
func (w *walk) within(left, right value.Value, compare func()) {
	w.around = &holders{w.around, left.Origin(), right.Origin()}
	compare()
	w.around = w.around.outer
}

func (w *walk) row(path *place.Path, left, right value.Value) {
	w.rows = append(w.rows, Row{Path: path, Left: left, Right: right, around: w.around})
}

func (w *walk) values(path *place.Path, left, right value.Value) {
	if id := left.Identity(); id != 0 && id == right.Identity() && left.Kind() == right.Kind() {
		return
	}
	switch {
	case left.Kind() == value.Record && right.Kind() == value.Record:
		w.within(left, right, func() { w.records(path, left, right) })
	case left.Kind() == value.List && right.Kind() == value.List:
		w.within(left, right, func() { w.lists(path, left.Elements(), right.Elements()) })
	case !value.Identical(left, right):
		w.row(path, left, right)
	}
}

func (w *walk) records(path *place.Path, left, right value.Value) {
	for i, key := range left.Shape().Keys() {
		y := right.Get(key)
		if y.IsAbsent() {
			w.row(path.Field(key), left.Values()[i], y)
			continue
		}
		w.values(path.Field(key), left.Values()[i], y)
	}
	for i, key := range right.Shape().Keys() {
		if left.Get(key).IsAbsent() {
			w.row(path.Field(key), value.Value{}, right.Values()[i])
		}
	}
}

func (w *walk) lists(path *place.Path, left, right []value.Value) {
	if len(left)+len(right) > 0 {
		// As many elements with other keys throughout: it is the key that differs.
		accept := func(keys [][]string) bool {
			a, b := keys[0], keys[1]
			return len(a) != len(b) || slices.ContainsFunc(a, func(key string) bool { return slices.Contains(b, key) })
		}
		if keys := place.Keys(accept, left, right); keys != nil {
			w.keyed(path, left, right, keys[0], keys[1])
			return
		}
	}
	w.aligned(path, left, right)
}

// keyed compares lists whose elements are known by keys.
func (w *walk) keyed(path *place.Path, left, right []value.Value, a, b []string) {
	position := make(map[string]int, len(b))
	for i, key := range b {
		position[key] = i
	}
	var before, after []int // positions on both sides of what is in both
	for i, key := range a {
		j, ok := position[key]
		if !ok {
			w.row(path.Keyed(key, i), left[i], value.Value{})
			continue
		}
		before, after = append(before, i), append(after, j)
		w.values(path.Keyed(key, j), left[i], right[j])
	}
	here := make(map[string]bool, len(a))
	for _, key := range a {
		here[key] = true
	}
	for j, key := range b {
		if !here[key] {
			w.row(path.Keyed(key, j), value.Value{}, right[j])
		}
	}
	if slices.IsSorted(after) {
		return
	}
	sorted := slices.Sorted(slices.Values(after))
	order := func(keys []string, positions []int, elements []value.Value) value.Value {
		var texts []value.Value
		for _, i := range positions {
			texts = append(texts, value.StringOf(keys[i], elements[i].Origin()))
		}
		return value.ListOf(texts, texts[0].Origin())
	}
	w.rows = append(w.rows, Row{Path: path, Left: order(a, before, left), Right: order(b, sorted, right), Order: true})
}

// aligned compares lists element by element, after finding what they have in common, so that an insertion does not
// shift all that follows. It is quadratic, so long lists are only compared from both ends.
func (w *walk) aligned(path *place.Path, left, right []value.Value) {
	start := 0
	for start < len(left) && start < len(right) && value.Identical(left[start], right[start]) {
		start++
	}
	endLeft, endRight := len(left), len(right)
	for endLeft > start && endRight > start && value.Identical(left[endLeft-1], right[endRight-1]) {
		endLeft--
		endRight--
	}
	a, b := left[start:endLeft], right[start:endRight]
	pairs := commonPairs(a, b)
	i, j := 0, 0
	gap := func(toLeft, toRight int) {
		for i < toLeft || j < toRight {
			switch {
			case i < toLeft && j < toRight:
				w.values(path.Index(start+j), a[i], b[j])
				i++
				j++
			case i < toLeft:
				w.row(path.Index(start+i), a[i], value.Value{})
				i++
			default:
				w.row(path.Index(start+j), value.Value{}, b[j])
				j++
			}
		}
	}
	for _, pair := range pairs {
		gap(pair[0], pair[1])
		i, j = pair[0]+1, pair[1]+1
	}
	gap(len(a), len(b))
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

// Group is rows that several documents share, or the rows of one document.
type Group struct {
	Documents []*Document
	Rows      []Row
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
			if first.Kind != place.Keyed || !below && (row.Order || !row.Left.IsAbsent() && !row.Right.IsAbsent()) {
				whole.Rows = append(whole.Rows, row)
				continue
			}
			if !below {
				status := OnlyLeft
				if row.Left.IsAbsent() {
					status = OnlyRight
				}
				inside = append(inside, &Document{Path: d.Path, Title: first.Name, Stream: true, Status: status,
					Cause: row.Cause})
				continue
			}
			if n := len(inside); n == 0 || inside[n-1].Title != first.Name {
				inside = append(inside, &Document{Path: d.Path, Title: first.Name, Stream: true, Status: d.Status})
			}
			row.Path = rest
			part := inside[len(inside)-1]
			part.Rows = append(part.Rows, row)
		}
		parts = append(append(parts, &whole), inside...)
	}
	return parts
}

// Groups folds equal differences of several documents into one row: first the rows that a document has alone, by
// document, then those that are shared, by the documents that share them.
func (c *Comparison) Groups() []Group {
	type shared struct {
		row       Row
		documents []*Document
	}
	var keys []string
	byKey := map[string]*shared{}
	documents := c.parts()
	for _, d := range documents {
		for _, row := range d.Rows {
			key := rowKey(row)
			s, ok := byKey[key]
			if !ok {
				s = &shared{row: row}
				byKey[key] = s
				keys = append(keys, key)
			}
			s.documents = append(s.documents, d)
		}
	}
	var single, several []Group
	position := map[string]int{}
	for _, key := range keys {
		s := byKey[key]
		if len(s.documents) == 1 {
			continue
		}
		var names []string
		for _, d := range s.documents {
			names = append(names, d.Path)
		}
		set := strings.Join(names, "\n")
		at, ok := position[set]
		if !ok {
			at = len(several)
			position[set] = at
			several = append(several, Group{Documents: s.documents})
		}
		several[at].Rows = append(several[at].Rows, s.row)
	}
	for _, d := range documents {
		g := Group{Documents: []*Document{d}}
		for _, row := range d.Rows {
			if len(byKey[rowKey(row)].documents) == 1 {
				g.Rows = append(g.Rows, row)
			}
		}
		if len(g.Rows) > 0 || d.Status == OnlyLeft || d.Status == OnlyRight {
			single = append(single, g)
		}
	}
	return append(single, several...)
}

// rowKey is a text that is the same for rows that say the same.
func rowKey(r Row) string {
	const all = 1 << 20
	return fmt.Sprintf("%s\n%s\n%s\n%v %v %v", r.Path, r.Left.Show(all), r.Right.Show(all), r.Cause.Left,
		r.Cause.Right, r.Cause.Because)
}

// Reasons counts for each cause how many rows it explains, the most frequent first.
func (c *Comparison) Reasons() []ReasonCount {
	counts := map[string]int{}
	var names []string
	add := func(cause explain.Cause) {
		for _, reason := range cause.Because {
			if counts[reason.Name] == 0 {
				names = append(names, reason.Name)
			}
			counts[reason.Name]++
		}
	}
	for _, d := range c.Documents {
		for _, row := range d.Rows {
			add(row.Cause)
		}
		if d.Status == OnlyLeft || d.Status == OnlyRight {
			add(d.Cause)
		}
	}
	result := make([]ReasonCount, len(names))
	for i, name := range names {
		result[i] = ReasonCount{name, counts[name]}
	}
	slices.SortStableFunc(result, func(a, b ReasonCount) int {
		if a.Places != b.Places {
			return b.Places - a.Places
		}
		return strings.Compare(a.Name, b.Name)
	})
	return result
}

// ReasonCount says how many places differ because of something.
type ReasonCount struct {
	Name   string
	Places int
}
