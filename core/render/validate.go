package render

import (
	"fmt"

	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/value"
)

// Validation is how much of what an environment renders to was validated against schemas.
type Validation struct {
	Checked  int // documents that have a schema
	Without  int // documents of which nothing says what schema they have
	NotKnown int // values that are not known here, so that nothing was said of them
	// Transitions is how many rules compare with the object before a change, and were not judged.
	Transitions int
}

// Add adds what was validated elsewhere.
func (v *Validation) Add(other Validation) {
	v.Checked += other.Checked
	v.Without += other.Without
	v.NotKnown += other.NotKnown
	v.Transitions += other.Transitions
}

// addCommand is the help for a kind that the catalogue lacks.
const addCommand = "add its definition: knothole schema add FILE; or let such kinds pass with optional = true"

// validate validates the documents against the schemas that the project has for them.
func (r *Result) validate(p *project.Project) {
	schemas := p.Schemas()
	for i := range r.Documents {
		d := &r.Documents[i]
		checked := false
		for _, a := range schemas.Associations {
			if a.Matches(d.Path) && r.validateDocument(p, schemas, a, d) {
				checked = true
			}
		}
		if checked {
			r.Validation.Checked++
		} else {
			r.Validation.Without++
		}
	}
}

// validateDocument reports whether there was a schema for a document.
func (r *Result) validateDocument(p *project.Project, schemas *project.Schemas, a *project.Association,
	d *Document) (checked bool) {
	var all []value.Value
	if d.Stream {
		for _, v := range d.Value.Elements() {
			all = append(all, schema.Objects(v)...)
		}
	} else {
		all = schema.Objects(d.Value)
	}
	for _, v := range all {
		label := d.Path
		if title := place.Title(v); title != "" && len(all) > 1 {
			label += ": " + title
		}
		switch {
		case a.Schema != nil:
			r.tell(p, a.Schema.Validate(v, nil), v, label, d)
			checked = true
		case a.ByKind:
			checked = r.validateKind(p, schemas, a, v, label, d) || checked
		}
	}
	return checked
}

// validateKind validates an object against the definition of its kind, if there is one.
func (r *Result) validateKind(p *project.Project, schemas *project.Schemas, a *project.Association, v value.Value,
	label string, d *Document) (checked bool) {
	apiVersion, kind := schema.KindOf(v)
	at := r.World.Recorder().Pos(v.Origin())
	if apiVersion == "" || kind == "" {
		if !a.Optional {
			r.report(source.SchemaViolation, source.At(at), "give it both, or leave it out of the pattern in [[schemas]]",
				[]source.Related{{Span: a.Span, Text: "chosen by its kind here"}},
				"%s: it has no apiVersion and kind, by which its schema is chosen", label)
		}
		return false
	}
	k := schemas.Catalogue.Find(apiVersion, kind)
	at = r.World.Recorder().Pos(v.Get("kind").Origin())
	switch {
	case k == nil && a.Optional:
	case k == nil:
		f := schemas.Catalogue.Unknown(apiVersion, kind, at, addCommand)
		r.report(f.Code, f.Span, f.Help, nil, "%s", f.Message)
	default:
		if f, ok := k.Finding(source.At(r.World.Recorder().Pos(v.Get("apiVersion").Origin()))); ok {
			f.Message, f.Environments = label+": "+f.Message, []string{r.Run.Name}
			r.Findings.Add(f)
		}
		r.tell(p, k.Schema.ValidateObject(v, nil), v, label, d)
		return true
	}
	return false
}

// tell reports what is wrong with a document.
func (r *Result) tell(p *project.Project, result *schema.Result, v value.Value, label string, d *Document) {
	r.Validation.NotKnown += result.NotKnown
	r.Validation.Transitions += result.Transitions
	r.Findings = append(r.Findings, result.Schema...)
	at := r.World.Recorder().Pos
	places := schema.Places{At: at, Key: func(record value.Value, name string, under value.Value) source.Pos {
		return p.KeyOf(at(record.Origin()), at(under.Origin()), name)
	}}
	for _, problem := range result.Problems {
		f := problem.Finding("", v, places)
		if !f.Span.IsValid() { // a value that is computed nowhere in particular
			f.Span = d.Span
		}
		f.Related = append(append(f.Related, source.Related{Span: d.Span, Text: fmt.Sprintf("in %s", d.Path)}),
			d.Included()...)
		f.Environments, f.About = []string{r.Run.Name}, &source.About{Label: label}
		r.Violations.Add(f)
	}
}
