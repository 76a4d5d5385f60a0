package compare

import (
	"crypto/sha256"
	"fmt"
	"slices"
	"strings"

	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/value"
)

// allowed is a place at which environments may differ.
type allowed struct {
	project.Allowed
	places *eval.Places
}

// Allowance takes out of documents what environments may have different.
type Allowance []allowed

// NewAllowance reads the places at which environments may differ; what is no path is among the findings.
func NewAllowance(places []project.Allowed, builtins *eval.Builtins) (a Allowance, findings source.Findings) {
	for _, p := range places {
		read, err := eval.ParsePlaces(p.Place, builtins)
		if err != nil {
			findings.Add(source.Finding{Code: source.Syntax, Span: p.Span, Message: err.Error()})
			continue
		}
		a = append(a, allowed{p, read})
	}
	return a, findings
}

// Filtered returns a document without the allowed paths.
func (a Allowance) Filtered(path string, v value.Value) value.Value {
	for _, one := range a {
		if place.Match(one.Documents, path) {
			found, _ := one.places.Find(v)
			for _, f := range slices.Backward(found) {
				v = place.Without(v, f.Path)
			}
		}
	}
	return v
}

// allows reports whether one of the places is that of a row, holds it or is in it.
func (one allowed) allows(document string, r *Row) bool {
	if !place.Match(one.Documents, document) {
		return false
	}
	for side, v := range r.whole() {
		if v.IsAbsent() {
			continue
		}
		found, _ := one.places.Find(v)
		if slices.ContainsFunc(found, func(f place.Found) bool {
			return r.Paths[side] != nil && pointersMeet(f.Path.Pointer(), r.Paths[side].Pointer())
		}) {
			return true
		}
	}
	return false
}

func pointersMeet(a, b string) bool {
	return strings.HasPrefix(a+"/", b+"/") || strings.HasPrefix(b+"/", a+"/")
}

// whole returns the documents in which a row is.
func (r *Row) whole() []value.Value {
	if len(r.around) == 0 {
		return r.Cells
	}
	return r.around[len(r.around)-1].Cells
}

// Digests are digests of documents, by environment and path. Documents with the same digest are the same.
type Digests map[string]map[string][sha256.Size]byte

// differing returns whether a document differs between environments, or is not in all of them, and whether any does.
func (d Digests) differing(environments []string) (differs func(path string) bool, some bool) {
	differs = func(path string) bool {
		first, there := d[environments[0]][path]
		return slices.ContainsFunc(environments, func(name string) bool {
			other, is := d[name][path]
			return is != there || other != first
		})
	}
	for _, name := range environments {
		for path := range d[name] {
			some = some || differs(path)
		}
	}
	return differs, some
}

// CheckParity finds unexpected differences between environments that must be the same, and allowed ones that do not
// exist. Only documents whose digests differ are evaluated again. The error is that of the context of the project.
func CheckParity(p *project.Project, digests Digests, builtins *eval.Builtins) (source.Findings, error) {
	var findings source.Findings
	for _, group := range p.Parity() {
		allowance, found := NewAllowance(group.MayDiffer, builtins)
		findings = append(findings, found...)
		all := &Comparison{}
		if differs, some := digests.differing(group.Environments); some {
			var runs []*project.Run
			for _, name := range group.Environments {
				runs = append(runs, p.RunNamed(name))
			}
			unlike, stopped, err := Environments(p, runs, Options{Only: differs, Ignore: allowance.Filtered})
			if err == nil {
				all, _, err = Environments(p, runs, Options{Only: differs})
			}
			if err != nil || unlike == nil || all == nil {
				return append(findings, stopped...), err
			}
			for i := range unlike.Documents {
				findings = append(findings, unlike.unlike(&unlike.Documents[i], group)...)
			}
		}
		for _, one := range allowance {
			if !slices.ContainsFunc(all.Documents, func(d Document) bool {
				return slices.ContainsFunc(d.Rows, func(r Row) bool { return one.allows(d.Path, &r) })
			}) {
				findings.Add(source.Finding{Code: source.NoDifference, Severity: source.Warning, Span: one.Span,
					Message: fmt.Sprintf("nothing differs at %q between %s", one.Text,
						strings.Join(group.Environments, " and ")),
					Help: "leave it out"})
			}
		}
	}
	return findings, nil
}

// unlike returns the findings of a document that is to be alike.
func (c *Comparison) unlike(d *Document, group project.Parity) (findings source.Findings) {
	related := []source.Related{{Span: group.Span,
		Text: strings.Join(group.Environments, " and ") + " must be the same"}}
	if d.Against > 0 {
		var on []string
		for i, is := range d.On {
			if is {
				on = append(on, c.Sides[i])
			}
		}
		findings.Add(source.Finding{Code: source.Parity, Span: group.Span,
			Help:    "render it for all of them, or for none",
			Message: fmt.Sprintf("%s is only in %s%s", d.Path, strings.Join(on, " and "), because(namesOf(d.Cause)))})
	}
	for _, r := range d.Rows {
		var says []string
		for i, v := range r.Cells {
			text := "not there"
			if !v.IsAbsent() {
				text = value.Shown(v).Show(40)
			}
			says = append(says, text+" in "+c.Sides[i])
		}
		at := r.Cause.Right
		if !at.IsValid() {
			at = r.Cause.Left
		}
		findings.Add(source.Finding{Code: source.Parity, Span: source.At(at), Related: related,
			Help: fmt.Sprintf("make the values the same, or allow the difference: may_differ = [%q]",
				d.Path+": "+r.Path.String()),
			Message: fmt.Sprintf("%s: %s is %s%s", d.Path, r.Path, strings.Join(says, ", "),
				because(namesOf(r.Cause)))})
	}
	return findings
}

func because(names []string) string {
	if len(names) == 0 {
		return ""
	}
	return ", because of " + strings.Join(names, ", ")
}
