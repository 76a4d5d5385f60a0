package compare

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strings"

	"knothole/core/explain"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// What the record of an evaluation says of the causes of a difference is where to look. Whether it is so is tried: the
// environment is rendered with the causes as they are in the other, and then the difference must be gone, in both
// directions; a cause without which it goes as well is none.

// trials finds causes by trying.
type trials struct {
	variation
	context  context.Context
	against  int // the side with which the first is compared
	options  Options
	units    [2]map[string]*Content
	outcomes map[string]*outcome
	again    again
	// left is how much may be tried yet, in documents that are evaluated.
	left int
}

// variation is what two sides have different that makes their documents, and how they are rendered with some of it as
// on the other.
type variation interface {
	all() []explain.Reason
	// named returns the leaves that the record of an evaluation names for a difference.
	named(c *explain.Cause) []int
	// render renders the documents of a side that are wanted, with some leaves as on the other side.
	render(side int, on set, wanted func(path string) bool) []render.Document
	// effort is how much a trial costs besides the documents, in documents.
	effort() int
}

// budgetFor returns the budget for trials, in documents, if so many documents differ. In a small project every
// difference is tried; in a large one, trials cost about as much as the comparison.
func (o Options) budgetFor(differ int) int {
	if o.Budget != nil {
		return *o.Budget
	}
	return min(6000, 120_000/max(1, differ)) + 2*differ
}

// set is a set of leaves, with one bit for the number of each.
type set []uint64

func (s set) has(i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

func (s set) key() string {
	b := make([]byte, 0, 8*len(s))
	for _, x := range s {
		b = binary.LittleEndian.AppendUint64(b, x)
	}
	return string(b)
}

func setOf(size int, leaves []int) set {
	s := make(set, (size+63)/64)
	for _, i := range leaves {
		s[i/64] |= 1 << (i % 64)
	}
	return s
}

// outcome is what the documents are when some leaves are made equal, from the left and from the right.
type outcome struct {
	on        set
	evaluated map[string]bool
	documents [2]map[string]value.Value
}

// subject is a difference whose causes are looked for: a row of a document, or that the document is on one side only.
type subject struct {
	document string
	row      *Row // nil for the document
	cause    *explain.Cause
	first    []int // the leaves that the record names
}

// confirm finds the causes of differences by trying. What the record says stays where it would cost too much. The error
// is that of the context.
func (t *trials) confirm(ctx context.Context, documents []Document) error {
	t.context = ctx
	var subjects []*subject
	add := func(s *subject) {
		s.first = t.named(s.cause)
		subjects = append(subjects, s)
	}
	for i := range documents {
		d := &documents[i]
		if d.Against == t.against {
			add(&subject{document: d.Path, cause: &d.Cause})
		}
		for j := range d.Rows {
			if d.Rows[j].Against == t.against {
				add(&subject{document: d.Path, row: &d.Rows[j], cause: &d.Rows[j].Cause})
			}
		}
	}
	groups := map[string][]*subject{}
	for _, s := range t.shared(subjects) {
		key := fmt.Sprint(s.first)
		groups[key] = append(groups[key], s)
	}
	// What explains the most is tried first.
	keys := slices.SortedFunc(maps.Keys(groups), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(groups[b]), len(groups[a])), cmp.Compare(a, b))
	})
	for _, key := range keys {
		t.group(groups[key])
	}
	return ctx.Err()
}

// shared finds differences that one leaf explains alone in many documents, such as the domain of a site. The record
// also names inputs of the single documents. It returns the subjects that the leaf does not explain.
// Differences from the same location in the sources have the same cause, tried or not.
func (t *trials) shared(subjects []*subject) (left []*subject) {
	type place struct{ left, right source.Pos }
	at := func(s *subject) place { return place{s.cause.Left, s.cause.Right} }
	byPlace := map[place][]*subject{}
	var places []place
	for _, s := range subjects {
		if len(s.first) < 2 {
			continue
		}
		if byPlace[at(s)] == nil {
			places = append(places, at(s))
		}
		byPlace[at(s)] = append(byPlace[at(s)], s)
	}
	solved := map[*subject]bool{}
	for _, p := range places {
		same := byPlace[p]
		if len(same) <= manyDocuments {
			continue
		}
		common := slices.Clone(same[0].first)
		for _, s := range same[1:] {
			common = slices.DeleteFunc(common, func(leaf int) bool { return !slices.Contains(s.first, leaf) })
		}
		for _, leaf := range common {
			if len(common) > fewCommon || !t.suffice(same[0], []int{leaf}, []string{same[0].document}) {
				continue
			}
			var together []string
			for _, s := range same[1:] {
				if t.cost(len(together)+1) <= t.left/4 && !slices.Contains(together, s.document) {
					together = append(together, s.document)
				}
			}
			for _, s := range same {
				tried := s == same[0] || slices.Contains(together, s.document)
				if !tried || t.suffice(s, []int{leaf}, together) {
					t.tell(s, []int{leaf}, tried)
					solved[s] = true
				}
			}
			break
		}
	}
	return slices.DeleteFunc(slices.Clone(subjects), func(s *subject) bool { return solved[s] })
}

// fewCommon is the maximum number of common leaves that are tried one by one.
const fewCommon = 8

// manyDocuments is in how many documents that differ for one cause it is tried.
const manyDocuments = 20

// group finds the causes of differences for which the record names the same ones.
func (t *trials) group(all []*subject) {
	var together []string
	for _, s := range all {
		if !slices.Contains(together, s.document) && len(together) < manyDocuments {
			together = append(together, s.document)
		}
	}
	for _, s := range all {
		causes, tried := s.first, false
		if slices.Contains(together, s.document) {
			causes, tried = t.find(s, together)
		}
		t.tell(s, causes, tried)
	}
}

// find returns the leaves that make a difference, and whether that was tried.
func (t *trials) find(s *subject, together []string) (causes []int, tried bool) {
	suffice := func(leaves []int) bool { return t.suffice(s, leaves, together) }
	causes = s.first
	if t.left <= 0 {
		return causes, false // nothing may be tried any more: what the record says stays
	}
	if !suffice(causes) {
		var rest []int
		for i := range t.all() {
			if !slices.Contains(causes, i) {
				rest = append(rest, i)
			}
		}
		if !suffice(slices.Concat(causes, rest)) {
			return s.first, false // what is tried cannot be evaluated, or it may not be tried any more
		}
		causes = slices.Concat(causes, needed(causes, rest, func(leaves []int) bool {
			return t.left <= 0 || suffice(leaves) // it comes to an end
		}))
		if t.left <= 0 || !suffice(causes) {
			return s.first, false
		}
	}
	// One that is needed beside another may not be when that is gone.
	for i, kept := 0, 0; kept < len(causes) && len(causes) > 1 && t.left > 0; kept++ {
		i %= len(causes)
		if without := slices.Delete(slices.Clone(causes), i, i+1); suffice(without) {
			causes, kept = without, -1
		} else {
			i++
		}
	}
	if t.left <= 0 {
		return s.first, false
	}
	slices.Sort(causes)
	return causes, true
}

// needed returns those of some leaves that are needed beside others, when all of them suffice. It halves them, so that
// few are found among many in few trials.
func needed(beside, leaves []int, suffice func([]int) bool) []int {
	if len(leaves) == 0 || suffice(beside) {
		return nil
	}
	if len(leaves) == 1 {
		return leaves
	}
	half := len(leaves) / 2
	second := needed(slices.Concat(beside, leaves[:half]), leaves[half:], suffice)
	first := needed(slices.Concat(beside, second), leaves[:half], suffice)
	return slices.Concat(first, second)
}

// suffice reports whether a difference is gone when some leaves are made equal.
func (t *trials) suffice(s *subject, leaves []int, together []string) bool {
	o := t.outcome(leaves, s.document, together)
	if o == nil {
		return false
	}
	for side := range 2 {
		v, is := o.documents[side][s.document]
		target, wanted := t.units[1-side][s.document]
		if is != wanted {
			return false
		}
		if is && s.row != nil && !s.row.isGone(&t.again, v, target.Value) {
			return false
		}
	}
	return true
}

// outcome renders both environments with some leaves made equal; nil when that costs too much.
func (t *trials) outcome(leaves []int, document string, together []string) *outcome {
	on := setOf(len(t.all()), leaves)
	key := on.key()
	o := t.outcomes[key]
	if o != nil && o.evaluated[document] {
		return o
	}
	if o == nil {
		o = &outcome{on: on, evaluated: map[string]bool{}, documents: [2]map[string]value.Value{{}, {}}}
		t.outcomes[key] = o
	}
	if !slices.Contains(together, document) {
		together = []string{document}
	}
	// To know which documents there are costs something for each of them, too.
	if t.left -= t.cost(len(together)); t.left < 0 || t.context.Err() != nil {
		return nil
	}
	for side := range 2 {
		for _, d := range t.render(side, o.on, func(path string) bool { return slices.Contains(together, path) }) {
			o.documents[side][d.Path] = t.options.filtered(d.Path, d.Value)
		}
	}
	for _, path := range together {
		o.evaluated[path] = true
	}
	return o
}

// cost is the cost of rendering so many documents on both sides.
func (t *trials) cost(documents int) int {
	return 2 * (documents + 1 + len(t.units[0])/20 + t.effort())
}

// tell puts leaves in the place of what the record says.
func (t *trials) tell(s *subject, causes []int, tried bool) {
	if len(causes) == 0 {
		return
	}
	before := s.cause.Because
	s.cause.Because, s.cause.Tried = nil, tried
	for _, i := range causes {
		r := t.all()[i]
		if r.Path == nil { // where it is read
			for _, known := range before {
				if known.Name == explain.EnvironmentName {
					r.Left, r.Right = known.Left, known.Right
				}
			}
		}
		s.cause.Because = append(s.cause.Because, r)
	}
	slices.SortFunc(s.cause.Because, func(a, b explain.Reason) int { return strings.Compare(a.Name, b.Name) })
}
