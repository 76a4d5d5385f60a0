package source_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
)

// about returns a finding about a document: of a rule when it has a name, else of a schema.
func about(f *source.File, rule, message, label, path, environment string) source.Finding {
	finding := source.Finding{Code: source.SchemaViolation, Span: source.At(f.Pos(1)), Message: message,
		Environments: []string{environment},
		About:        &source.About{Label: label, Path: path, Pointer: "/" + path, In: source.Related{Text: "in " + label}}}
	if rule != "" {
		finding.Code, finding.Broken = source.RuleViolation, &source.Broken{Rule: rule, Reason: "why"}
	}
	return finding
}

// texts returns what findings say.
func texts(findings source.Findings) (all []string) {
	for _, f := range findings {
		text := f.Message + " " + strings.Join(f.Environments, ",")
		for _, r := range f.Related {
			text += "; " + r.Text
		}
		all = append(all, text)
	}
	return all
}

// TestReportFolds folds what is the same in several documents and environments, with examples.
func TestReportFolds(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "a.knot", "xyz")
	for name, row := range map[string]struct {
		findings []source.Finding
		want     []string
	}{
		"a schema says the same of two documents": {[]source.Finding{about(f, "", "no name", "a.yaml", "x", "north"),
			about(f, "", "no name", "b.yaml", "x", "north"), about(f, "", "no name", "a.yaml", "x", "south")},
			[]string{"a.yaml and 1 document more: no name north,south; in a.yaml; in b.yaml"}},
		"different messages of a schema are different": {[]source.Finding{about(f, "", "no name", "a.yaml", "x", "north"),
			about(f, "", "no size", "a.yaml", "x", "north")},
			[]string{"a.yaml: no name north; in a.yaml", "a.yaml: no size north; in a.yaml"}},
		"different messages of a rule are the same": {[]source.Finding{about(f, "r", "2 copies", "a.yaml", "x", "north"),
			about(f, "r", "3 copies", "a.yaml", "x", "south")},
			[]string{"a.yaml: 2 copies north,south; why; in a.yaml; in south: 3 copies"}},
		"other rules are others": {[]source.Finding{about(f, "r", "no", "a.yaml", "x", "north"),
			about(f, "s", "no", "a.yaml", "x", "north")},
			[]string{"a.yaml: no north; why; in a.yaml", "a.yaml: no north; why; in a.yaml"}},
		"further places are counted": {[]source.Finding{about(f, "r", "no", "a.yaml", "x", "north"),
			about(f, "r", "no", "a.yaml", "y", "north"), about(f, "r", "no", "b.yaml", "x", "north"),
			about(f, "r", "no", "c.yaml", "x", "north"), about(f, "r", "no", "c.yaml", "z", "north")},
			[]string{"a.yaml and 2 documents more: no north; why; in a.yaml; in a.yaml; in b.yaml; and in 2 paths more"}},
	} {
		require.Equal(t, row.want, texts(source.ReportOf(row.findings...).Findings(set)), name)
	}
	warning := source.Finding{Severity: source.Warning, Code: source.Limit, Span: source.At(f.Pos(0)), Message: "m",
		Environments: []string{"north"}}
	failure := warning
	failure.Severity, failure.Environments = source.Error, []string{"south"}
	for _, all := range [][]source.Finding{{warning, failure}, {failure, warning}} {
		found := source.ReportOf(all...).Findings(set)
		require.Len(t, found, 1)
		require.Equal(t, source.Error, found[0].Severity)
		require.Equal(t, []string{"south"}, found[0].Environments, "the graver one stays as it is")
	}
}

// TestReportMerges adds findings to one report, and to two that are merged: the findings are the same. What examples a
// finding has, and their order, depends on which came first; they are as many.
func TestReportMerges(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "a.knot", "xyz")
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 3))
		var all []source.Finding
		for range r.IntN(30) {
			rule := []string{"", "", "r", "s"}[r.IntN(4)]
			one := about(f, rule, fmt.Sprintf("message %d", r.IntN(3)), fmt.Sprintf("%c.yaml", 'a'+r.IntN(4)),
				fmt.Sprintf("p%d", r.IntN(3)), []string{"north", "south"}[r.IntN(2)])
			if r.IntN(3) == 0 {
				one.About, one.Severity = nil, source.Severity(r.IntN(2))
			}
			all = append(all, one)
		}
		cut := r.IntN(len(all) + 1)
		merged := source.ReportOf(all[:cut]...)
		merged.Merge(source.ReportOf(all[cut:]...))
		one := source.ReportOf(all...)
		require.Equal(t, one.HasErrors(), merged.HasErrors())
		want, got := one.Findings(set), merged.Findings(set)
		require.Len(t, got, len(want), "seed %d", seed)
		for i := range want {
			require.Equal(t, want[i].Message, got[i].Message, "seed %d", seed)
			require.ElementsMatch(t, want[i].Environments, got[i].Environments, "seed %d", seed)
		}
		again := source.ReportOf(want...).Findings(set)
		require.True(t, slices.Equal(texts(want), texts(again)), "what is shown does not change when it is shown again")
	}
}
