package compare

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
)

// Two revisions of a project differ in lines of its files. What made a difference is found by trying, as for two
// environments: the project is loaded with some of the changed lines as they are in the other revision.

// revisions is how two projects differ that are one at two revisions.
type revisions struct {
	environment string
	tree        func(files map[string][]byte) fs.FS
	context     context.Context
	after       *project.Snapshot // with which trials share what is the same
	files       [2]map[string]string
	leaves      []explain.Reason
	hunks       []hunk
	sources     [2]*source.Set
	cost        int // see effort
}

// hunk is some lines of a file that were changed.
type hunk struct {
	file  string
	lines [2][2]int // on each side, from and to, counted from 0
}

// newRevisions finds the lines in which two projects differ, of the files that they read.
func newRevisions(left, right *project.Project, environment string, tree func(map[string][]byte) fs.FS) *revisions {
	r := &revisions{environment: environment, tree: tree, after: right.Snapshot, context: right.Context(),
		sources: [2]*source.Set{left.Sources, right.Sources}}
	for side, p := range []*project.Project{left, right} {
		r.files[side] = map[string]string{}
		for _, f := range p.Files() {
			if !strings.Contains(f.Path, ":") { // else it is built in, or given
				r.files[side][f.Path] = f.Text
			}
		}
	}
	names := slices.Collect(maps.Keys(r.files[0]))
	names = slices.AppendSeq(names, maps.Keys(r.files[1]))
	slices.Sort(names)
	for _, name := range slices.Compact(names) {
		if a, b := r.files[0][name], r.files[1][name]; a != b {
			r.file(name, a, b)
		}
	}
	return r
}

// file finds the changed lines of a file: one by one where as many came as went, else those that stand together.
func (r *revisions) file(name, left, right string) {
	var at, lines [2]int // how far it is, and how many lines stand together that were changed
	flush := func() {
		n := 1
		if lines[0] == lines[1] {
			n = lines[0]
		}
		for i := range n {
			h := hunk{file: name}
			for side := range 2 {
				h.lines[side] = [2]int{at[side] - lines[side], at[side]}
				if n > 1 {
					h.lines[side] = [2]int{at[side] - lines[side] + i, at[side] - lines[side] + i + 1}
				}
			}
			r.add(h)
		}
		lines = [2]int{}
	}
	for _, line := range Lines(left, right) {
		both := line.Left > 0 && line.Right > 0
		if both && lines != [2]int{} {
			flush()
		}
		for side, there := range []bool{line.Left > 0, line.Right > 0} {
			if there {
				at[side]++
				if !both {
					lines[side]++
				}
			}
		}
	}
	if lines != [2]int{} {
		flush()
	}
}

// add adds changed lines, which are called by the first of them on the right, or on the left where there are none.
func (r *revisions) add(h hunk) {
	var l explain.Reason
	for side, s := range r.sources {
		if h.lines[side][0] == h.lines[side][1] {
			continue
		}
		at := lineStart(s.Named(h.file), h.lines[side][0])
		l.Name = fmt.Sprintf("%s:%d", h.file, h.lines[side][0]+1)
		if side == 0 {
			l.Left = at
			l.Name += " before"
		} else {
			l.Right = at
		}
	}
	r.hunks, r.leaves = append(r.hunks, h), append(r.leaves, l)
}

func lineStart(f *source.File, line int) source.Pos {
	offset := 0
	for range line {
		offset += strings.IndexByte(f.Text[offset:], '\n') + 1
	}
	return f.Pos(offset)
}

func (r *revisions) all() []explain.Reason { return r.leaves }

// effort is the cost of loading a project whose unchanged files have already been read.
func (r *revisions) effort() int {
	if r.cost == 0 {
		r.cost = 40
		changed := map[string]bool{}
		for _, h := range r.hunks {
			if !changed[h.file] {
				changed[h.file] = true
				r.cost += len(r.files[0][h.file]) / bytesOfDocument
			}
		}
	}
	return r.cost
}

// bytesOfDocument is the number of bytes that cost as much to load as a document costs to evaluate.
const bytesOfDocument = 400

// named returns the changed lines that decided the values.
func (r *revisions) named(c *explain.Cause) (leaves []int) {
	for i, h := range r.hunks {
		for side, pos := range []source.Pos{c.Left, c.Right} {
			l := r.sources[side].Locate(pos)
			if l.File != nil && l.File.Path == h.file && l.Line > h.lines[side][0] && l.Line <= h.lines[side][1] &&
				!slices.Contains(leaves, i) {
				leaves = append(leaves, i)
			}
		}
	}
	return leaves
}

func (r *revisions) render(side int, on set, wanted func(path string) bool) []render.Document {
	files := make(map[string][]byte, len(r.files[side]))
	for name, text := range r.files[side] {
		files[name] = []byte(text)
	}
	changed := map[string][]hunk{}
	for i, h := range r.hunks {
		if on.has(i) {
			changed[h.file] = append(changed[h.file], h)
		}
	}
	for name, hunks := range changed {
		text := patched(r.files[side][name], r.files[1-side][name], hunks, side)
		if _, there := r.files[1-side][name]; text == "" && !there {
			delete(files, name)
		} else {
			files[name] = []byte(text)
		}
	}
	p, err := project.LoadWith(r.tree(files), project.Loading{After: r.after, Context: r.context})
	if err != nil || p.Findings.HasErrors() {
		return nil
	}
	r.after = p.Snapshot
	run := p.RunNamed(r.environment)
	if run == nil || run.Abstract {
		return nil
	}
	w := run.World(false)
	w.LoseParts()
	return render.World(run, w, render.Options{Only: wanted}).Documents
}

// patched returns a text with some lines as in another.
func patched(own, other string, hunks []hunk, side int) string {
	lines, others := linesOf(own), linesOf(other)
	var b strings.Builder
	at := 0
	for _, h := range hunks {
		b.WriteString(strings.Join(lines[at:h.lines[side][0]], ""))
		b.WriteString(strings.Join(others[h.lines[1-side][0]:h.lines[1-side][1]], ""))
		at = h.lines[side][1]
	}
	b.WriteString(strings.Join(lines[at:], ""))
	return b.String()
}

// Revision is a project at a revision, and the environment of it that is compared.
type Revision struct {
	Name        string // of the side
	Project     *project.Project
	Environment string
}

// Revisions compares the documents of an environment at two revisions. Tree makes a file system from files. The
// comparison is nil if either revision has errors. The error is that of the context of a project.
func Revisions(sides [2]Revision, o Options, tree func(map[string][]byte) fs.FS) (*Comparison, [2]source.Findings,
	error) {
	ctx := sides[1].Project.Context()
	var findings [2]source.Findings
	rendered := make([]Side, 2)
	c := &Comparison{}
	for i, s := range sides {
		c.Sources = append(c.Sources, s.Project.Sources)
		run := s.Project.RunNamed(s.Environment)
		if run == nil { // there were no documents of it
			rendered[i] = Side{Name: s.Name, Contents: map[string]*Content{}}
			continue
		}
		results, found, err := render.All(s.Project, []*project.Run{run},
			render.Options{Only: o.only, Recording: true})
		if err != nil {
			return nil, findings, err
		}
		findings[i] = found
		rendered[i] = Rendered(results[0], o)
		rendered[i].Name = s.Name
	}
	if findings[0].HasErrors() || findings[1].HasErrors() {
		return nil, findings, nil
	}
	sources := c.Sources
	c, err := Compared(ctx, rendered)
	if err != nil {
		return nil, findings, err
	}
	if c.Sources = sources; c.Equal() {
		return c, findings, nil
	}
	if err := c.Explain(ctx, rendered, o); err != nil {
		return nil, findings, err
	}
	if sides[0].Environment != sides[1].Environment || sides[0].Project == sides[1].Project {
		return c, findings, nil
	}
	for i := range c.Documents { // what differs between revisions is their lines, not the inputs
		d := &c.Documents[i]
		d.Cause.Because = nil
		for j := range d.Rows {
			d.Rows[j].Cause.Because = nil
		}
	}
	t := &trials{variation: newRevisions(sides[0].Project, sides[1].Project, sides[0].Environment, tree), options: o,
		against: 1, units: [2]map[string]*Content{rendered[0].Contents, rendered[1].Contents},
		outcomes: map[string]*outcome{},
		left:     budgetOfRevisions + len(c.Documents)}
	if err := t.confirm(ctx, c.Documents); err != nil {
		return nil, findings, err
	}
	c.Tried = true
	c.addLines(rendered, 1)
	return c, findings, nil
}

// budgetOfRevisions is how much may be tried: to load a project is much.
const budgetOfRevisions = 12000
