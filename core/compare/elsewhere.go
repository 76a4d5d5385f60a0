package compare

import (
	"slices"

	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/value"
)

// Elsewhere is what is at a place of a document in another environment.
type Elsewhere struct {
	Environment string
	// Differs says that it is not the same there; Value is then what is there, Absent when nothing is or it is not the
	// value alone that differs, and Cause why.
	Differs bool
	Value   value.Value
	Cause   explain.Cause
	// Unread says that there are secrets at the place that are not read, so that it is not known whether they differ.
	Unread bool
}

// Others returns what is at a place of a document in other environments; with a line, whether that of the text at the
// place is there too. All are evaluated once; those in which something is wrong are left out. The error is that of the
// context of the project.
func Others(p *project.Project, run *project.Run, others []*project.Run, document string, at *place.Path,
	line int) ([]Elsewhere, error) {
	only := Options{Only: func(path string) bool { return path == document }}
	results, _, err := render.All(p, append([]*project.Run{run}, others...),
		render.Options{Only: only.Only, Recording: true})
	if err != nil {
		return nil, err
	}
	var all []Elsewhere
	for _, r := range results[1:] {
		other := r.Run
		if r.Findings.HasErrors() || r.Violations.HasErrors() || p.CheckLayers([]*project.Run{other}).HasErrors() {
			continue // what is wrong there is for check to tell
		}
		c, err := between(p.Context(), []*render.Result{results[0], r}, only)
		if err != nil {
			return nil, err
		}
		if run.Unit != other.Unit && len(c.Documents) == 1 && c.Documents[0].Status == OnlyLeft {
			continue // it has documents of its own
		}
		one := Elsewhere{Environment: other.Name}
		for _, d := range c.Documents {
			if d.Status == OnlyLeft {
				one.Differs, one.Cause = true, d.Cause
			}
			for _, u := range d.Unread {
				one.Unread = one.Unread || pointersMeet(u.Path.Pointer(), at.Pointer())
			}
			for _, r := range d.Rows {
				if r.Cells[0].IsAbsent() || !pointersMeet(r.Paths[0].Pointer(), at.Pointer()) {
					continue
				}
				if line > 0 && r.Kind == Text && r.has(line) {
					continue
				}
				if !one.Differs || r.Paths[0].Pointer() == at.Pointer() {
					one.Cause, one.Value = r.Cause, value.Value{}
				}
				if one.Differs = true; r.Paths[0].Pointer() == at.Pointer() && line == 0 {
					one.Value = r.Right()
				}
			}
		}
		all = append(all, one)
	}
	return all, nil
}

// has reports whether a line of the text on the first side is on the second too.
func (r *Row) has(line int) bool {
	return slices.ContainsFunc(Lines(r.Left().Text(), r.Right().Text()),
		func(l Line) bool { return l.Left == line && l.Right > 0 })
}
