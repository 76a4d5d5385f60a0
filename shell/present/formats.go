package present

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"net/url"
	"strings"

	"knothole/core/project"
	"knothole/core/source"
)

type jsonFinding struct {
	Code         source.Code   `json:"code"`
	Severity     string        `json:"severity"`
	Message      string        `json:"message"`
	Help         string        `json:"help,omitempty"`
	Place        *jsonPlace    `json:"location,omitempty"`
	End          *jsonPlace    `json:"end,omitempty"`
	Related      []jsonRelated `json:"related,omitempty"`
	Environments []string      `json:"environments,omitempty"`
	Broken       *jsonBroken   `json:"violation,omitempty"`
}

// jsonBroken is the rule that is broken.
type jsonBroken struct {
	Rule      string   `json:"rule"`
	Reason    string   `json:"reason,omitempty"`
	Advice    bool     `json:"advice,omitempty"`
	Documents []string `json:"documents,omitempty"`
	Path      string   `json:"path,omitempty"` // in the first of the documents

	declared *jsonPlace // where the rule is
}

type jsonRelated struct {
	Place *jsonPlace `json:"location"`
	Text  string     `json:"text"`

	end *jsonPlace
}

type jsonFindings struct {
	Version      int           `json:"version"`
	Errors       int           `json:"errors"`
	Warnings     int           `json:"warnings"`
	Environments int           `json:"environments"`
	Findings     []jsonFinding `json:"findings"`
	Unchecked    []*jsonPlace  `json:"unchecked,omitempty"` // conditions on secrets and later values
}

// end returns the place after a span.
func (p *Presenter) end(span source.Span) source.Pos {
	l := p.Sources.Locate(span.Start)
	if l.File == nil {
		return source.NoPos
	}
	if span.End.IsValid() {
		return span.End
	}
	return l.File.Pos(l.File.TokenEnd(l.File.Offset(span.Start)))
}

// JSON writes a form for programs.
func JSON(out io.Writer, x any) error { return writeJSON(out, x) }

func writeJSON(out io.Writer, x any) error {
	encoder := json.NewEncoder(out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(x)
}

// model returns findings as JSON has them, and the other forms for programs show them. Lines and columns count from 1,
// columns in code points; `end` is after the finding.
func (p *Presenter) model(c *Checked) *jsonFindings {
	out := &jsonFindings{Version: 2, Environments: c.Environments, Findings: []jsonFinding{}}
	out.Errors, out.Warnings = c.Findings.Count()
	for _, f := range c.Findings {
		out.Findings = append(out.Findings, p.jsonFinding(f))
	}
	for _, at := range c.Unchecked {
		out.Unchecked = append(out.Unchecked, p.jsonPlace(at))
	}
	return out
}

func (p *Presenter) jsonFinding(f source.Finding) jsonFinding {
	j := jsonFinding{Code: f.Code, Severity: f.Severity.String(), Message: f.Message, Help: f.Help,
		Environments: f.Environments,
		Place:        p.jsonPlace(f.Span.Start), End: p.jsonPlace(p.end(f.Span))}
	if b := f.Broken; b != nil {
		j.Broken = &jsonBroken{b.Rule, b.Reason, b.Advice, b.Documents, b.Place, p.jsonPlace(b.Span.Start)}
	}
	for _, r := range f.Related {
		j.Related = append(j.Related, jsonRelated{p.jsonPlace(r.Span.Start), r.Text, p.jsonPlace(p.end(r.Span))})
	}
	return j
}

// The parts of SARIF 2.1.0 that findings need. Columns count in code points (section 3.14.17).
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID            string              `json:"id"`
		Short         *sarifText          `json:"shortDescription,omitempty"`
		Full          sarifText           `json:"fullDescription"`
		Help          *sarifText          `json:"help,omitempty"`
		Configuration *sarifConfiguration `json:"defaultConfiguration,omitempty"`
	}
	sarifConfiguration struct {
		Level string `json:"level"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID    string          `json:"ruleId"`
		RuleIndex int             `json:"ruleIndex"`
		Level     string          `json:"level"`
		Message   sarifText       `json:"message"`
		Locations []sarifLocation `json:"locations,omitempty"`
		Related   []sarifLocation `json:"relatedLocations,omitempty"`
	}
	sarifLocation struct {
		ID       int           `json:"id,omitempty"`
		Physical sarifPhysical `json:"physicalLocation"`
		Message  *sarifText    `json:"message,omitempty"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   sarifRegion   `json:"region"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn"`
		EndLine     int `json:"endLine,omitempty"`
		EndColumn   int `json:"endColumn,omitempty"`
	}
)

// whole is a finding's message with the environments and the help, for forms that have nothing else for them.
func (f *jsonFinding) whole() string {
	text := f.Message
	if len(f.Environments) > 0 {
		text += fmt.Sprintf(" (in %s)", joined(f.Environments))
	}
	if f.Help != "" {
		text += "; " + f.Help
	}
	return text
}

// sarif shows findings as SARIF 2.1.0; version is that of the program.
func (p *Presenter) sarif(m *jsonFindings, version string) error {
	driver := sarifDriver{Name: "knothole", Version: version, Rules: []sarifRule{}}
	index := map[string]int{}
	add := func(rule sarifRule) {
		index[rule.ID] = len(driver.Rules)
		driver.Rules = append(driver.Rules, rule)
	}
	for _, code := range source.Codes() {
		page, _ := source.PageOf(code)
		add(sarifRule{ID: string(code), Full: sarifText{page.Text}})
	}
	results := []sarifResult{}
	for i := range m.Findings {
		f := &m.Findings[i]
		r := sarifResult{RuleID: string(f.Code), Level: f.Severity, Message: sarifText{f.whole()}}
		if f.Broken != nil {
			r.RuleID = "rule/" + f.Broken.Rule
			if _, known := index[r.RuleID]; !known {
				add(m.sarifRule(f.Broken))
			}
		}
		r.RuleIndex = index[r.RuleID]
		if f.Place != nil {
			r.Locations = []sarifLocation{sarifAt(f.Place, f.End)}
		}
		for i, related := range f.Related {
			if related.Place != nil {
				l := sarifAt(related.Place, related.end)
				l.ID, l.Message = i+1, &sarifText{related.Text}
				r.Related = append(r.Related, l)
			}
		}
		results = append(results, r)
	}
	return writeJSON(p.Out, sarifLog{
		Schema:  "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
		Version: "2.1.0",
		Runs:    []sarifRun{{Tool: sarifTool{driver}, ColumnKind: "unicodeCodePoints", Results: results}},
	})
}

// sarifRule describes a rule of the project (section 3.49): its reason, and where it is written.
func (m *jsonFindings) sarifRule(b *jsonBroken) sarifRule {
	level := source.Warning
	for _, other := range m.Findings {
		if other.Broken != nil && other.Broken.Rule == b.Rule && other.Severity == source.Error.String() {
			level = source.Error
		}
	}
	reason := b.Reason
	if reason == "" {
		reason = "The rule " + b.Rule + " of the project."
	}
	return sarifRule{ID: "rule/" + b.Rule, Short: &sarifText{"rule " + b.Rule}, Full: sarifText{reason},
		Help:          &sarifText{fmt.Sprintf("%s Declared at %s.", reason, b.declared)},
		Configuration: &sarifConfiguration{level.String()}}
}

func sarifAt(start, end *jsonPlace) sarifLocation {
	uri := (&url.URL{Path: start.File}).String()
	return sarifLocation{Physical: sarifPhysical{sarifArtifact{uri},
		sarifRegion{start.Line, start.Column, end.Line, end.Column}}}
}

type (
	junitSuites struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Output  string        `xml:"system-out,omitempty"`
	}
	junitFailure struct {
		Type    string `xml:"type,attr"`
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// findingsJUnit shows findings as JUnit XML: a test case for each finding, which fails when it is an error, or one case
// that passes when there is none.
func (p *Presenter) findingsJUnit(m *jsonFindings) error {
	suite := junitSuite{Name: "knothole check"}
	for i := range m.Findings {
		f := &m.Findings[i]
		class := string(f.Code)
		if f.Broken != nil {
			class = "rule." + f.Broken.Rule
		}
		c := junitCase{Class: class, Name: Clean(f.Place.String() + ": " + f.Message)}
		if f.Severity == source.Error.String() {
			suite.Failures++
			c.Failure = &junitFailure{Type: class, Message: Clean(f.Message),
				Text: Clean(f.Place.String() + ": " + f.whole())}
		} else {
			c.Output = Clean("warning: " + f.whole())
		}
		suite.Cases = append(suite.Cases, c)
	}
	if len(m.Findings) == 0 {
		suite.Cases = []junitCase{{Class: "check", Name: "nothing to report"}}
	}
	suite.Tests = len(suite.Cases)
	return p.junit(suite)
}

func (p *Presenter) junit(suite junitSuite) error {
	fmt.Fprint(p.Out, xml.Header)
	encoder := xml.NewEncoder(p.Out)
	encoder.Indent("", "  ")
	if err := encoder.Encode(junitSuites{Suites: []junitSuite{suite}}); err != nil {
		return err
	}
	p.printf("\n")
	return nil
}

// shownPlaces is how many places are named of what a test could not check.
const shownPlaces = 3

// tests shows what became of tests: a line for each, with what was found below those that failed.
func (p *Presenter) tests(results []project.TestResult) {
	for _, r := range results {
		word := p.green("pass")
		if len(r.Findings) > 0 {
			word = p.red("fail")
		}
		where := ""
		switch n := len(r.Environments); {
		case n > 3 || r.Every && n > 1:
			where = fmt.Sprintf(" (in %s)", source.Count(n, "environment"))
		case n > 0:
			where = " (in " + strings.Join(r.Environments, ", ") + ")"
		}
		note := ""
		if r.Unchecked > 0 {
			var places []string
			for _, at := range r.UncheckedAt[:min(len(r.UncheckedAt), shownPlaces)] {
				places = append(places, p.line(at))
			}
			if n := len(r.UncheckedAt) - len(places); n > 0 {
				places = append(places, fmt.Sprintf("%d more", n))
			}
			note = "   " + p.faint(source.Count(r.Unchecked, "condition")+" not checked because values are unknown: "+
				strings.Join(places, ", "))
		}
		p.printf("%s  %s%s%s\n", word, Clean(r.Title), where, note)
		for _, f := range r.Findings {
			if len(r.Environments) < 2 {
				f.Environments = nil // the line above says so
			}
			p.finding(f)
		}
	}
}

// The form of tests in JSON, version 2.
type (
	jsonTests struct {
		Version int        `json:"version"`
		Passed  int        `json:"passed"`
		Failed  int        `json:"failed"`
		Tests   []jsonTest `json:"tests"`
	}
	jsonTest struct {
		Title        string        `json:"title"`
		Place        *jsonPlace    `json:"location"`
		Environments []string      `json:"environments"` // none for a test that runs without one
		Passed       bool          `json:"passed"`
		Unchecked    []*jsonPlace  `json:"unchecked"` // expectations on what is not known
		Findings     []jsonFinding `json:"findings"`
	}
)

// testModel returns tests as JSON has them.
func (p *Presenter) testModel(results []project.TestResult) *jsonTests {
	out := &jsonTests{Version: 2, Tests: []jsonTest{}}
	for _, r := range results {
		found := p.model(&Checked{Findings: r.Findings, Unchecked: r.UncheckedAt})
		one := jsonTest{Title: r.Title, Place: p.jsonPlace(r.Span.Start), Environments: append([]string{},
			r.Environments...), Passed: len(r.Findings) == 0, Unchecked: append([]*jsonPlace{}, found.Unchecked...),
			Findings: found.Findings}
		if one.Passed {
			out.Passed++
		} else {
			out.Failed++
		}
		out.Tests = append(out.Tests, one)
	}
	return out
}

func (p *Presenter) testsJSON(results []project.TestResult) error {
	return writeJSON(p.Out, p.testModel(results))
}

// testsJUnit shows tests as JUnit XML.
func (p *Presenter) testsJUnit(results []project.TestResult) error {
	m := p.testModel(results)
	suite := junitSuite{Name: "knothole test", Tests: len(m.Tests), Failures: m.Failed}
	for _, t := range m.Tests {
		c := junitCase{Class: t.Place.String(), Name: Clean(t.Title)}
		if !t.Passed {
			var texts []string
			for i := range t.Findings {
				texts = append(texts, Clean(t.Findings[i].Place.String()+": "+t.Findings[i].whole()))
			}
			c.Failure = &junitFailure{Type: string(t.Findings[0].Code), Message: Clean(t.Findings[0].Message),
				Text: strings.Join(texts, "\n")}
		}
		suite.Cases = append(suite.Cases, c)
	}
	return p.junit(suite)
}
