package rule_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/rule"
	"knothole/core/source"
	"knothole/core/standard"
)

// told returns findings as lines that a person can read.
func told(p *project.Project, findings source.Findings) string {
	var b strings.Builder
	for _, f := range findings {
		l := p.Sources.Locate(f.Span.Start)
		if l.File != nil {
			b.WriteString(l.File.Path + ":" + strings.TrimSpace(l.File.Line(l.Line)) + "\n")
		}
		b.WriteString(string(f.Code) + ": " + f.Message + " (" + f.Help + ")\n")
	}
	return b.String()
}

// TestStandard holds of the modules that come with the program that they have no error, that their tests pass, and
// that every rule says why it is there, and has a document that it allows and one that it refuses.
func TestStandard(t *testing.T) {
	require.Greater(t, len(standard.Names()), 8)
	rules := 0
	for _, name := range standard.Names() {
		t.Run(strings.TrimPrefix(name, "standard/"), func(t *testing.T) {
			var given []project.GivenText
			if name == "standard/labels" { // which labels is for each team to say
				given = append(given, project.GivenText{Name: "required", Text: `{ coast: "" }`})
			}
			p := project.LoadRules(fstest.MapFS{}, []string{name}, given, nil)
			findings := source.ReportOf(p.Findings...).Findings(p.Sources)
			if name == "standard/pods" { // which has no rules, for others to use
				require.Len(t, findings, 1)
				require.Equal(t, source.Unused, findings[0].Code)
				findings = nil
			}
			require.Empty(t, findings, told(p, findings))
			results, _ := p.Tests([]string{name}, func(string) bool { return true })
			require.NotEmpty(t, results)
			for _, r := range results {
				require.Empty(t, r.Findings, r.Title+"\n"+told(p, r.Findings))
			}
			held := checkFiles(p, nil, nil, rule.Options{})
			for _, r := range held.Rules {
				rules++
				require.NotEmpty(t, rule.Reason(r.Object), "%s needs a line above it that says why it is there",
					r.Object.Name)
				allowed, refused := 0, 0
				for _, e := range r.Examples(p) {
					if e.Refused == "" {
						allowed++
					} else {
						refused++
					}
				}
				require.Positive(t, allowed, "%s needs a test of something that it allows", r.Object.Name)
				require.Positive(t, refused, "%s needs a test of something that violates it", r.Object.Name)
			}
		})
	}
	require.Greater(t, rules, 20)
}
