package core_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
)

// TestEveryEnvironmentIsEach checks that a test in several environments is that test in each of them: it fails where
// that fails, and says so of these environments and no others; what is hidden, or known only later, fails nowhere.
func TestEveryEnvironmentIsEach(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 3))
	failing, passing, unchecked := 0, 0, 0
	for range 150 {
		var configuration, tests strings.Builder
		files := fstest.MapFS{}
		var names []string
		for i := range 2 + r.IntN(5) {
			name := fmt.Sprintf("e%d", i)
			tag := []string{"wet", "dry"}[r.IntN(2)]
			names = append(names, name)
			fmt.Fprintf(&configuration, "[environments.%s]\ntags = [%q]\nlayers = "+
				"[\"%s.yaml\"]\n[environments.%s.secrets]\n"+
				"pin = { variable = \"KNOTHOLE_SECRET_P\" }\n", name, tag, name, name)
			files[name+".yaml"] = file(fmt.Sprintf("n: %d\nm: [%d, %d]\n", r.IntN(4), r.IntN(4), r.IntN(4)))
		}
		conditions := []string{"n > 1", "n < 3", "list.contains(m, n)", "n + m[0] != 3", `"wet" in env.tags`,
			`pin != "x"`,
			`list.length(text.split(pin, ",")) == 1`, `later_one != ""`,
			`environment(env.name).documents["a.yaml"].data.n <= 2`}
		var body strings.Builder
		for range 1 + r.IntN(3) {
			condition := conditions[r.IntN(len(conditions))]
			if r.IntN(3) == 0 {
				condition = "list.all(m, fn(x) = x < 3)"
			}
			fmt.Fprintf(&body, "  expect %s\n", condition)
		}
		where := []string{"every environment", `every environment tagged "wet"`, `"e0", "e1"`}[r.IntN(3)]
		fmt.Fprintf(&tests, "test \"together\" in %s {\n%s}\n", where, body.String())
		for _, name := range names {
			fmt.Fprintf(&tests, "test \"%s\" in \"%s\" {\n%s}\n", name, name, body.String())
		}
		files["knothole.toml"] = file(configuration.String())
		files["main.knot"] = file("input n: int\ninput m: [int]\nsecret input pin: string\nlater input later_one: " +
			"string as \"<l>\"\n" +
			"document \"a.yaml\" = { n: n, m: m }\n" + tests.String())
		p, err := project.Load(files)
		require.NoError(t, err)
		isWet := func(e *project.Environment) bool { return slices.Contains(e.Tags, "wet") }
		if slices.ContainsFunc(p.Concrete(), isWet) ||
			!strings.Contains(where, "tagged") {
			require.False(t, p.Findings.HasErrors(), "%v\n%s", p.Findings, files["main.knot"].Data)
		} else {
			continue // a tag that no environment has is an error
		}
		results, _ := p.Tests(nil, func(string) bool { return true })
		together, each := results[0], map[string]project.TestResult{}
		for _, one := range results[1:] {
			each[one.Title] = one
		}
		var failed []string
		for _, f := range together.Findings {
			in := f.Environments
			if len(together.Environments) == 1 {
				in = together.Environments
			}
			for _, name := range in {
				if !slices.Contains(failed, name) {
					failed = append(failed, name)
				}
			}
		}
		sum := 0
		for _, name := range together.Environments {
			require.Equal(t, len(each[name].Findings) > 0, slices.Contains(failed, name), "%s\n%v",
				files["main.knot"].Data,
				together.Findings)
			if sum += each[name].Unchecked; len(each[name].Findings) > 0 {
				failing++
			} else {
				passing++
			}
		}
		require.Equal(t, sum, together.Unchecked, "%s", files["main.knot"].Data)
		unchecked += sum
	}
	require.Greater(t, failing, 50)
	require.Greater(t, passing, 50)
	require.Greater(t, unchecked, 50)
}
