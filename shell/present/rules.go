package present

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"knothole/core/project"
	"knothole/core/rule"
	"knothole/core/source"
)

// Rules shows the rules that are in force, by the modules that they are declared in: why each is there, where it
// looks, how many documents it saw and what it found; after them links and exemptions.
func (p *Presenter) Rules(checked *rule.Result) {
	last := ""
	for _, r := range checked.Rules {
		if in := r.DeclaredIn(); in != last {
			if last != "" {
				p.printf("\n")
			}
			p.printf("%s\n", p.bold(p.file(in)))
			last = in
		}
		p.rule(checked, r)
	}
	if len(checked.Links) > 0 {
		if last != "" {
			p.printf("\n")
		}
		p.printf("%s\n", p.bold("links"))
		for _, l := range checked.Links {
			p.printf("  %s\n", p.wrapped(LinkText(l), 2))
		}
		p.printf("  %s\n", p.faint(fmt.Sprintf("%d names and selectors", checked.References)+" followed"))
	}
	if len(checked.Exemptions) > 0 {
		p.printf("\n%s\n", p.bold("exemptions"))
		for _, e := range checked.Exemptions {
			p.exemption(e)
		}
	}
}

// LinkText says from where to where a link leads.
func LinkText(l *rule.Link) string {
	if l.Kinds {
		return "between the common kinds of the open object format"
	}
	texts := func(ends []project.LinkEnd) string {
		var all []string
		for _, e := range ends {
			all = append(all, e.Text)
		}
		return strings.Join(all, ", ")
	}
	by := ""
	if l.Labels {
		by = ", by labels"
	}
	return Clean(texts(l.From) + " → " + texts(l.To) + by)
}

func (p *Presenter) rule(checked *rule.Result, r *rule.Rule) {
	line := func(text string, paint func(string) string) {
		text = p.wrapped(Clean(text), 4)
		if paint != nil {
			text = paint(text)
		}
		p.printf("    %s\n", text)
	}
	p.printf("  %s\n", p.bold(r.Object.Name))
	if reason := rule.Reason(r.Object); reason != "" {
		line(reason, nil)
	}
	line("looks at "+r.Looks()+": "+seen(checked, r), p.faint)
	text, paint := FoundText(r), p.green
	switch {
	case r.Errors > 0 || r.Failed:
		paint = p.red
	case r.Warnings > 0:
		paint = p.yellow
	}
	line(text, paint)
}

// FoundText says what a rule found in all environments together.
func FoundText(r *rule.Rule) string {
	var parts []string
	if r.Failed {
		parts = append(parts, "it failed: check shows why")
	}
	if r.Errors > 0 {
		parts = append(parts, source.Count(r.Errors, "error"))
	}
	if r.Warnings > 0 {
		parts = append(parts, source.Count(r.Warnings, "warning"))
	}
	if len(parts) == 0 {
		parts = append(parts, "no violations")
	}
	if r.Exempt > 0 {
		parts = append(parts, fmt.Sprintf("%d exempt", r.Exempt))
	}
	return strings.Join(parts, ", ")
}

// seen says at how many documents a rule looked.
func seen(checked *rule.Result, r *rule.Rule) string {
	var names []string
	for _, name := range checked.Environments {
		if r.Holds(name) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return "in no environment"
	}
	same := !slices.ContainsFunc(names, func(name string) bool { return r.Looked[name] != r.Looked[names[0]] })
	switch {
	case same && len(names) == 1:
		return fmt.Sprintf("%d in %s", r.Looked[names[0]], names[0])
	case same && len(names) == len(checked.Environments):
		return fmt.Sprintf("%d in every environment", r.Looked[names[0]])
	}
	var parts []string
	for _, name := range names {
		parts = append(parts, fmt.Sprintf("%d in %s", r.Looked[name], name))
	}
	return strings.Join(parts, ", ")
}

// exemptionText says from what an exemption exempts.
func exemptionText(e *rule.Exemption) string {
	of := e.Rule
	if e.Documents != "" {
		of += " at " + e.Documents
	}
	if e.At != "" {
		of += ": " + e.At
	}
	if len(e.Environments) > 0 {
		of += " in " + joined(e.Environments)
	}
	return of
}

func (p *Presenter) exemption(e *rule.Exemption) {
	until := "until " + e.Until.Format(time.DateOnly)
	paint := p.faint
	if e.Ended {
		until, paint = "ended on "+e.Until.Format(time.DateOnly), p.red
	}
	p.printf("  %s\n    %s\n    %s\n", p.bold(Clean(exemptionText(e))), p.wrapped(Clean(e.Reason), 4),
		paint(until+", "+source.Count(e.Exempt, "violation")))
}

// Rule shows one rule: what Rules shows, the values of its inputs, its text, and what its tests allow and refuse.
func (p *Presenter) Rule(checked *rule.Result, r *rule.Rule, of *project.Project) {
	p.printf("%s %s\n", p.bold(p.location(r.Object.Span.Start)+":"), p.faint("rule"))
	p.rule(checked, r)
	if inputs := r.Inputs(); len(inputs) > 0 {
		p.printf("\n%s\n", p.bold("inputs"))
		for _, g := range inputs {
			note := ""
			if g.Default {
				note = p.faint("   default")
			}
			p.printf("  %s = %s%s\n", g.Object.Name, Clean(g.Text), note)
			if text := g.Object.Description(); text != "" {
				p.printf("    %s\n", p.faint(Clean(text)))
			}
		}
	}
	p.printf("\n%s\n%s\n", p.bold("the rule"), indented(r.Text()))
	for _, refused := range []bool{false, true} {
		title := "allowed"
		if refused {
			title = "refused"
		}
		told := false
		for _, e := range r.Examples(of) {
			if (e.Refused != "") != refused {
				continue
			}
			if !told {
				p.printf("\n%s\n", p.bold(title))
				told = true
			}
			says := ""
			if refused {
				says = p.faint("   " + Clean(e.Refused))
			}
			p.printf("  %s%s\n%s\n", p.faint(p.location(e.At.Start)), says, indented(e.Text))
		}
	}
	first := true
	for _, e := range checked.Exemptions {
		if e.Rule != r.Object.Name {
			continue
		}
		if first {
			p.printf("\n%s\n", p.bold("exemptions"))
			first = false
		}
		p.exemption(e)
	}
}

// indented puts two spaces before each line of a source.
func indented(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	for i, line := range lines {
		if line != "" {
			lines[i] = "  " + visible(line)
		}
	}
	return strings.Join(lines, "\n")
}

// The form of rules in JSON, version 2.
type (
	jsonRules struct {
		Version      int             `json:"version"`
		Environments []string        `json:"environments"`
		Rules        []jsonRule      `json:"rules"`
		Links        []jsonLink      `json:"links"`
		References   int             `json:"references"`
		Exemptions   []jsonExemption `json:"exemptions"`
	}
	jsonRule struct {
		Name      string         `json:"name"`
		Reason    string         `json:"reason,omitempty"`
		Module    string         `json:"module"`
		Place     *jsonPlace     `json:"location"`
		Looks     string         `json:"looks"`
		Documents map[string]int `json:"documents"` // at which it looked, by environment
		Errors    int            `json:"errors"`
		Warnings  int            `json:"warnings"`
		Exempt    int            `json:"exempt"`
		Failed    bool           `json:"failed,omitempty"`
		Inputs    []jsonGiven    `json:"inputs,omitempty"`
		Examples  []jsonExample  `json:"examples,omitempty"` // of one rule that is asked for
	}
	jsonGiven struct {
		Name    string `json:"name"`
		Value   string `json:"value"`
		Default bool   `json:"default"`
	}
	jsonExample struct {
		Place   *jsonPlace `json:"location"`
		Test    string     `json:"test"`
		Call    string     `json:"call"`
		Refused string     `json:"refused,omitempty"`
	}
	jsonLink struct {
		Text string `json:"text"`
	}
	jsonExemption struct {
		Rule         string   `json:"rule"`
		Documents    string   `json:"documents,omitempty"`
		At           string   `json:"at,omitempty"`
		Environments []string `json:"environments,omitempty"`
		Until        string   `json:"until"`
		Reason       string   `json:"reason"`
		Violations   int      `json:"violations"`
		Ended        bool     `json:"ended"`
	}
)

// RulesJSON shows rules as JSON; only is the one that is asked for, with its examples, or nil for all.
func (p *Presenter) RulesJSON(checked *rule.Result, only *rule.Rule, of *project.Project) error {
	out := jsonRules{Version: 2, Environments: checked.Environments, References: checked.References, Rules: []jsonRule{},
		Links: []jsonLink{}, Exemptions: []jsonExemption{}}
	for _, r := range checked.Rules {
		if only != nil && r != only {
			continue
		}
		j := jsonRule{Name: r.Object.Name, Reason: rule.Reason(r.Object), Module: r.DeclaredIn(),
			Place: p.jsonPlace(r.Object.Span.Start), Looks: r.Looks(), Documents: r.Looked, Errors: r.Errors,
			Warnings: r.Warnings, Exempt: r.Exempt, Failed: r.Failed}
		for _, g := range r.Inputs() {
			j.Inputs = append(j.Inputs, jsonGiven{g.Object.Name, g.Text, g.Default})
		}
		if only != nil {
			for _, e := range r.Examples(of) {
				j.Examples = append(j.Examples, jsonExample{p.jsonPlace(e.At.Start), e.Test, e.Text, e.Refused})
			}
		}
		out.Rules = append(out.Rules, j)
	}
	for _, l := range checked.Links {
		out.Links = append(out.Links, jsonLink{LinkText(l)})
	}
	for _, e := range checked.Exemptions {
		if only == nil || e.Rule == only.Object.Name {
			out.Exemptions = append(out.Exemptions, jsonExemption{e.Rule, e.Documents, e.At, e.Environments,
				e.Until.Format(time.DateOnly), e.Reason, e.Exempt, e.Ended})
		}
	}
	return writeJSON(p.Out, out)
}
