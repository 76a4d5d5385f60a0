package core_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
)

// TestRulesShowNoSecrets checks that no finding of a rule shows a secret that it looked at, in whatever way it does,
// when the secret is known; and that of one that is not known nothing is told.
func TestRulesShowNoSecrets(t *testing.T) {
	const canary = "wading-bird-1987"
	expressions := []string{"doc.key", "encode.json(doc)", `"${doc.key as (string)}!"`,
		"text.upper(doc.key as (string))",
		`(doc.list[0] as (string))`, "doc.deep.key", "encode.base64(doc.key as (string))", "doc[.**.key][0]"}
	violations, invalid := map[bool]int{}, 0
	for _, e := range expressions {
		for _, form := range []string{
			`rule r on doc { require %[1]s == "x" else "it is ${encode.json(%[1]s)}" }`,
			`rule r on doc { let v = %[1]s
  require v == "x" }`,
			`rule r on doc { for v in [%[1]s] { advise v == "x" else "${v as (string)}" } }`,
			`rule r on all documents { for d in documents { let doc = d.data
  require %[1]s == "x" else "${%[1]s as (string)}" } }`,
			`rule r on doc {
  if %[1]s == "x" { require doc.plain == "x" } else { require doc.plain == "y" else "other ${%[1]s as (string)}" }
}`,
			`rule r on doc where %[1]s != "x" { require doc.plain == "y" else "where" }`,
			`rule r on doc { require doc.plain == "y" else "${doc.plain as (string)}: ${%[1]s as (string)}" }`,
			`rule r on doc { require fail("no ${%[1]s as (string)}") }`,
			`rule r on doc { require doc.plain[%[1]s as (string)] == 1 }`,
		} {
			text := fmt.Sprintf(form, e)
			for _, known := range []bool{false, true} {
				p, err := project.Load(fstest.MapFS{
					project.FileName: {Data: []byte("[environments.bench.secrets]\nkey = { variable = \"KEY\" }\n" +
						"[[rules]]\nmodule = \"rules.knot\"\n")},
					"main.knot": {Data: []byte("secret input key: string\nsecret document \"x.yaml\" = " +
						"{ key: key, list: [key], deep: { key: key }, plain: \"p\" }\n")},
					"rules.knot": {Data: []byte(text + "\n")},
				})
				require.NoError(t, err)
				runs := p.Runs(p.Concrete())
				if known {
					with, unread := runs[0].WithSecrets(secretTexts{"key": canary})
					require.Empty(t, unread)
					runs = []*project.Run{with}
				}
				findings := verified(p, runs, render.Options{Validate: true}, today, nil)
				var b strings.Builder
				for _, f := range findings {
					switch {
					case f.Code == source.RuleViolation:
						violations[known]++
					case f.Broken == nil && f.Severity == source.Error:
						invalid++
					}
					writeFinding(&b, p.Sources, f)
					fmt.Fprintln(&b, f.Broken)
				}
				for _, hidden := range []string{canary, strings.ToUpper(canary), "d2FkaW5nLWJpcmQ"} {
					require.NotContains(t, b.String(), hidden, text)
				}
			}
		}
	}
	require.Greater(t, violations[true], 20, "what is known is tested")
	require.Greater(t, violations[false], 5, "what is not known does not keep the rest from being tested")
	require.Less(t, invalid, 10, "most of the rules are right")
}
