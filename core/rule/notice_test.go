package rule_test

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
)

// held holds the rules of a project on a day and returns the codes of the findings.
func held(t *testing.T, files map[string]string, day string) (codes []source.Code) {
	t.Helper()
	fs := fstest.MapFS{}
	for name, text := range files {
		fs[name] = &fstest.MapFile{Data: []byte(text)}
	}
	p, err := project.Load(fs)
	require.NoError(t, err)
	today, err := time.Parse(time.DateOnly, day)
	require.NoError(t, err)
	results, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true, Validate: true})
	findings = append(findings, check(p, results, today).Findings...)
	for _, f := range findings {
		codes = append(codes, f.Code)
	}
	return codes
}

// TestNotice holds on which days an exemption says that it ends: from fourteen days before, to the day of its end.
func TestNotice(t *testing.T) {
	files := map[string]string{
		project.FileName: "[environments.a]\n[[exemptions]]\nrule = \"copies\"\ndocuments = \"*\"\n" +
			"until = 2027-03-31\nreason = \"until spring\"\n",
		"main.knot": "rule copies on doc { require doc.n > 1 else \"one copy\" }\ndocument \"d.yaml\" = { n: 1 }\n",
	}
	for day, want := range map[string][]source.Code{
		"2027-03-16": nil, "2027-03-17": {source.ExemptionEnds}, "2027-03-18": {source.ExemptionEnds},
		"2027-03-31": {source.ExemptionEnds}, "2027-04-01": {source.ExemptionEnds, source.RuleViolation},
	} {
		require.ElementsMatch(t, want, held(t, files, day), day)
	}
}

// TestScopeOfLinks checks that a link leads to nothing outside of its scope.
func TestScopeOfLinks(t *testing.T) {
	files := map[string]string{
		project.FileName: "[environments.a]\n[[links]]\nfrom = \"*: ref\"\nto = \"*: name\"\nscope = \"space\"\n",
		"main.knot": "document \"a.yaml\" = { space: \"one\", ref: \"pier\" }\n" +
			"document \"b.yaml\" = { space: \"two\", name: \"pier\" }\n",
	}
	require.Equal(t, []source.Code{source.DanglingReference}, held(t, files, "2027-01-01"))
	files["main.knot"] = "document \"a.yaml\" = { space: \"one\", ref: \"pier\" }\n" +
		"document \"b.yaml\" = { space: \"one\", name: \"pier\" }\n"
	require.Empty(t, held(t, files, "2027-01-01"))
}
