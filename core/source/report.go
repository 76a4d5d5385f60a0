package source

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Report collects findings. The same finding is in it once: the same code at the same place with the same cause. What
// it was found in, environments and documents, is counted, with examples. The zero Report is ready for use.
type Report struct {
	entries []*entry
	byKey   map[findingKey]*entry
	// messages counts the different messages about documents at one place, where their number is limited.
	messages map[Pos]int
	helped   int // how many findings have a help that took long
}

// ReportOf returns a report on findings.
func ReportOf(findings ...Finding) *Report {
	r := &Report{}
	r.Add(findings...)
	return r
}

// About says which document a finding is about, and what is in its way to the source. Findings that differ only in it
// are folded into one.
type About struct {
	Label    string    // what messages call the document; empty when no single one is to blame
	Path     string    // of the value in it, as it is shown; empty for all of it
	Pointer  string    // the same as a JSON Pointer (RFC 6901)
	In       Related   // names the document and the path, where examples are to be shown; no text otherwise
	Included []Related // how the document came from there
	// Help finds out the help of the finding, where that takes long; nil where the finding has it.
	Help func() string
	// Messages is how many different messages are told of one place, since a loop may make very many; 0 for all.
	Messages int
}

// examples is how many examples a folded finding has.
const examples = 3

// findingKey is by what findings are the same. The message does not count for those of a rule that are about documents:
// what one condition finds at one line is the same, in however many documents, whatever it says of each.
type findingKey struct {
	at        Pos
	code      Code
	message   string
	rule      string
	declared  Pos
	condition Pos
	about     bool
}

// helped is how many findings get a help that takes long to find out. Nobody reads more of them.
const helped = 200

// entry is one finding of a report.
type entry struct {
	key       findingKey
	finding   Finding
	documents []string // the labels of the documents, each once
	labels    map[string]bool
	places    map[[2]string]bool // the labels and pointers of values
	first     About
	shown     []About
	otherwise []string // what is said of the first place in other environments, with their names
}

// Add adds findings. The environments of the same ones are united, and of two that differ only in severity the graver
// one stays.
func (r *Report) Add(findings ...Finding) {
	for _, f := range findings {
		r.add(f)
	}
}

func (r *Report) add(f Finding) {
	key := findingKey{at: f.Span.Start, code: f.Code, message: f.Message, about: f.About != nil}
	if b := f.Broken; b != nil {
		key.rule, key.declared, key.condition = b.Rule, b.Span.Start, b.Condition
		if f.About != nil {
			key.message = ""
		}
	}
	known := r.byKey[key]
	if known == nil && f.About != nil && f.About.Messages > 0 {
		if r.messages == nil {
			r.messages = map[Pos]int{}
		}
		if r.messages[key.at]++; r.messages[key.at] > f.About.Messages {
			key.message = ""
			known = r.byKey[key]
		}
	}
	about := f.About
	f.About = nil
	switch {
	case known == nil:
		if about != nil && about.Help != nil && r.helped < helped {
			r.helped++
			f.Help = about.Help()
		}
		known = &entry{key: key, finding: f}
		r.enter(known)
	case f.Severity > known.finding.Severity:
		return
	case f.Severity < known.finding.Severity:
		*known = entry{key: key, finding: f}
	default:
		known.unite(f)
	}
	if about != nil {
		known.see(f, *about)
	}
}

func (r *Report) enter(e *entry) {
	if r.byKey == nil {
		r.byKey = map[findingKey]*entry{}
	}
	r.byKey[e.key] = e
	r.entries = append(r.entries, e)
}

// unite adds the environments of a finding that is the same, and what it knows besides.
func (e *entry) unite(f Finding) {
	if e.finding.Related == nil && !e.key.about { // which one of them may know, such as what a requirement read
		e.finding.Related = f.Related
	}
	if len(e.finding.Environments) == 0 || len(f.Environments) == 0 {
		e.finding.Environments = nil
		return
	}
	for _, name := range f.Environments {
		if !slices.Contains(e.finding.Environments, name) {
			e.finding.Environments = append(slices.Clip(e.finding.Environments), name)
		}
	}
}

// see counts the document that a finding is about.
func (e *entry) see(f Finding, a About) {
	a.Help = nil // which may hold documents
	if e.places == nil {
		e.labels, e.places, e.first = map[string]bool{}, map[[2]string]bool{}, a
	}
	if said := f.Message; f.Broken != nil && said != e.finding.Message && len(e.finding.Environments) > 1 &&
		len(e.otherwise) < examples && a.Pointer == e.first.Pointer && (a.Label == "" || a.Label == e.documents[0]) &&
		!slices.ContainsFunc(e.otherwise, func(other string) bool { return strings.HasSuffix(other, ": "+said) }) {
		e.otherwise = append(e.otherwise, "in "+f.Environments[0]+": "+said)
	}
	if a.Label == "" {
		return
	}
	if !e.labels[a.Label] {
		e.labels[a.Label] = true
		e.documents = append(e.documents, a.Label)
	}
	if at := [2]string{a.Label, a.Pointer}; !e.places[at] {
		e.places[at] = true
		if len(e.shown) < examples && a.In.Text != "" {
			e.shown = append(e.shown, a)
		}
	}
}

// HasErrors reports whether one of the findings is an error.
func (r *Report) HasErrors() bool {
	return slices.ContainsFunc(r.entries, func(e *entry) bool { return e.finding.Severity == Error })
}

// Merge adds all that another report holds, which is not used any more.
func (r *Report) Merge(other *Report) {
	for _, e := range other.entries {
		known := r.byKey[e.key]
		switch {
		case known == nil:
			r.enter(e)
		case e.finding.Severity > known.finding.Severity:
		case e.finding.Severity < known.finding.Severity:
			*known = *e
		default:
			known.join(e)
		}
	}
}

// join adds what an entry for the same finding has seen.
func (e *entry) join(other *entry) {
	e.unite(other.finding)
	for _, label := range other.documents {
		if !e.labels[label] {
			e.labels[label] = true
			e.documents = append(e.documents, label)
		}
	}
	for at := range other.places {
		e.places[at] = true
	}
	e.shown = append(e.shown, other.shown...)
	e.shown = e.shown[:min(len(e.shown), examples)]
	e.otherwise = append(e.otherwise, other.otherwise...)
	e.otherwise = e.otherwise[:min(len(e.otherwise), examples)]
}

// Findings returns the findings in the order in which they are shown: by file, then place, code, text and rule.
func (r *Report) Findings(set *Set) Findings {
	if len(r.entries) == 0 {
		return nil
	}
	sorted := make(Findings, len(r.entries))
	for i, e := range r.entries {
		sorted[i] = e.result()
	}
	path := func(f *Finding) string {
		if file := set.File(f.Span.Start); file != nil {
			return file.Path
		}
		return ""
	}
	slices.SortStableFunc(sorted, func(a, b Finding) int {
		return cmp.Or(
			strings.Compare(path(&a), path(&b)),
			cmp.Compare(a.Span.Start, b.Span.Start),
			cmp.Compare(a.Code, b.Code),
			strings.Compare(a.Message, b.Message),
			orderOfRules(&a, &b),
			cmp.Compare(a.Severity, b.Severity),
		)
	})
	return sorted
}

// result makes one finding of all that are the same.
func (e *entry) result() Finding {
	f := e.finding
	if e.places == nil {
		return f
	}
	related := f.Related
	f.Related = nil
	if b := f.Broken; b != nil {
		own := *b
		own.Documents, own.Place = e.documents, e.first.Path
		f.Broken = &own
		f.Related = append(f.Related, Related{Span: b.Span, Text: cmp.Or(own.Reason, fmt.Sprintf("rule %q", b.Rule))})
	}
	if len(e.documents) > 0 {
		label := e.documents[0]
		if n := len(e.documents) - 1; n > 0 {
			label = fmt.Sprintf("%s and %s more", label, Count(n, "document"))
		}
		f.Message = label + ": " + f.Message
	}
	for i, a := range e.shown {
		f.Related = append(f.Related, a.In)
		if i == 0 {
			f.Related = append(f.Related, a.Included...)
		}
	}
	if n := len(e.places) - len(e.shown); n > 0 && len(e.shown) > 0 {
		f.Related = append(f.Related, Related{Text: "and in " + Count(n, "path") + " more"})
	}
	for _, said := range e.otherwise {
		f.Related = append(f.Related, Related{Text: said})
	}
	f.Related = append(f.Related, related...)
	return f
}

func orderOfRules(a, b *Finding) int {
	rule, declared, condition := a.broken()
	other, declaredThere, conditionThere := b.broken()
	return cmp.Or(strings.Compare(rule, other), cmp.Compare(declared, declaredThere),
		cmp.Compare(condition, conditionThere))
}
