package rule

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"knothole/core/eval"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/standard"
)

// Notice is how long before its end an exemption is warned of.
const Notice = 14 * 24 * time.Hour

// exemption is an exemption, ready to be applied.
type exemption struct {
	*Exemption
	places *eval.Places // nil for all of the document
	// found are the places in documents, as JSON Pointers, of those that were looked at.
	found map[*Object]map[string]bool
	namer namer
	bad   bool // it has an error
}

func builtIn(m *project.RuleModule) bool { return standard.Is(m.Path) }

// readExemptions reads the exemptions of the project, and reports those that have errors.
func (c *Checking) readExemptions(options Options) (all []*exemption) {
	p, h := c.project, c.Result
	var names []string
	for _, r := range h.Rules {
		names = append(names, r.Object.Name)
	}
	complete := true // so that a rule that is not there cannot be one that could not be read
	for _, m := range p.Rules() {
		complete = complete && m.Module != nil && !m.Broken && !m.Module.Findings.HasErrors() &&
			!m.Module.Tree.Findings.HasErrors()
	}
	for _, e := range p.Exemptions() {
		one := &exemption{Exemption: &Exemption{Exemption: e, Ended: day(options.Today).After(e.Until)}}
		all, h.Exemptions = append(all, one), append(h.Exemptions, one.Exemption)
		if !slices.Contains(names, e.Rule) {
			one.bad = true
			otherwise := "the project has no rules"
			if len(names) > 0 {
				otherwise = "rules are " + source.FirstQuoted(names, 8)
			}
			if complete {
				c.report.Add(source.Finding{Code: source.UnknownName, Span: e.RuleSpan,
					Message: fmt.Sprintf("there is no rule %q to be exempt from", e.Rule),
					Help:    source.Suggest(e.Rule, names, otherwise)})
			}
		}
		if e.At == "" {
			continue
		}
		places, err := eval.ParsePlaces(e.At, options.Builtins)
		if err != nil {
			one.bad = true
			message, help, _ := strings.Cut(err.Error(), "\n  ")
			c.report.Add(source.Finding{Code: source.ImpossiblePath, Span: e.AtSpan, Message: message, Help: help})
		}
		one.places = places
	}
	return all
}

// day is the day of a time where it is, as exemptions count days.
func day(t time.Time) time.Time {
	year, month, date := t.Date()
	return time.Date(year, month, date, 0, 0, 0, 0, time.UTC)
}

// covering returns the exemptions that are for a violation.
func covering(all []*exemption, v violation, environment string) (covering []*exemption) {
	for _, e := range all {
		if !e.bad && e.covers(v, environment) {
			covering = append(covering, e)
		}
	}
	return covering
}

// covers reports whether an exemption is for a violation, whatever the day. One that several documents make together
// is covered when one of them is.
func (e *exemption) covers(v violation, environment string) bool {
	if e.Rule != v.rule.Object.Name ||
		len(e.Environments) > 0 && !slices.Contains(e.Environments, environment) {
		return false
	}
	if e.Documents == "" && e.places == nil {
		return true
	}
	return slices.ContainsFunc(v.places, func(one located) bool {
		return (e.Documents == "" || place.Match(e.Documents, one.object.Path)) && e.at(one.Offence, one.object)
	})
}

// at reports whether an exemption is for a place: that place or one around it.
func (e *exemption) at(one eval.Offence, o *Object) bool {
	if e.places == nil {
		return true
	}
	path := one.Path
	for _, name := range one.Missing {
		path = path.Field(name)
	}
	if e.At == path.String() || e.At == e.namer.shown(o.Data, one) {
		return true // which need not be there
	}
	places, known := e.found[o]
	if !known {
		places = map[string]bool{}
		all, _ := e.places.Find(o.Data)
		for _, f := range all {
			places[f.Path.Pointer()] = true
		}
		if e.found == nil {
			e.found = map[*Object]map[string]bool{}
		}
		e.found[o] = places
	}
	for pointer := path.Pointer(); ; pointer = pointer[:strings.LastIndexByte(pointer, '/')] {
		if places[pointer] {
			return true
		}
		if pointer == "" {
			return false
		}
	}
}

// judge reports exemptions that have ended or soon will, and those that exempt nothing, when nothing is missing of
// what they could be for.
func (c *Checking) judge(complete bool) {
	today := day(c.options.Today)
	for _, e := range c.exemptions {
		if e.bad {
			continue
		}
		days := int(e.Until.Sub(today) / (24 * time.Hour))
		until := e.Until.Format(time.DateOnly)
		reason := []source.Related{{Span: e.Span, Text: "its reason: " + e.Reason}}
		switch {
		case e.Ended && e.Exempt > 0:
			c.report.Add(source.Finding{Code: source.ExemptionEnds, Span: e.UntilSpan, Related: reason,
				Message: fmt.Sprintf("the exemption from %q ended on %s, %s ago: %s no longer exempt", e.Rule, until,
					source.Count(-days, "day"), countAre(e.Exempt, "violation")),
				Help: "fix the violation, or agree on a new day"})
		case e.Exempt == 0 && complete && !c.Result.anyFailed(e.Rule):
			message := fmt.Sprintf("nothing that it covers violates the rule %q", e.Rule)
			if e.Ended {
				message = fmt.Sprintf("the exemption from %q ended on %s, and nothing violates the rule", e.Rule, until)
			}
			c.report.Add(source.Finding{Code: source.Unused, Severity: source.Warning, Span: e.Span,
				Message: message, Help: "leave the exemption out"})
		case e.Exempt > 0 && e.Until.Sub(today) <= Notice:
			when := "in " + source.Count(days, "day")
			if days == 0 {
				when = "today"
			}
			c.report.Add(source.Finding{Code: source.ExemptionEnds, Severity: source.Warning, Span: e.UntilSpan,
				Related: reason, Help: "fix the violation, or agree on a new day",
				Message: fmt.Sprintf("the exemption from %q ends on %s, %s: %s", e.Rule, until, when,
					countAre(e.Exempt, "violation")+" exempt until then")})
		}
	}
}

// countAre is a number of things with the verb after it.
func countAre(n int, word string) string {
	if n == 1 {
		return "1 " + word + " is"
	}
	return source.Count(n, word) + " are"
}

func (h *Result) anyFailed(rule string) bool {
	r := h.Rule(rule)
	return r == nil || r.Failed
}
