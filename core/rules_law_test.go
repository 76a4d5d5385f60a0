package core_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
)

// ruleErrors returns the errors of a project, by what tells them apart. What a finding says of other places, and in
// which environments it is, may change with more rules.
func ruleErrors(t *testing.T, files fstest.MapFS) map[string]bool {
	t.Helper()
	p, err := project.Load(files)
	require.NoError(t, err)
	findings := verified(p, p.Runs(p.Concrete()), render.Options{Everything: true, Validate: true},
		time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC), nil)
	found := map[string]bool{}
	for _, f := range findings {
		if f.Severity == source.Error {
			at := p.Sources.Locate(f.Span.Start)
			name := ""
			if f.Broken != nil {
				name = f.Broken.Rule
			}
			found[fmt.Sprintf("%s:%d:%d %s %s %s", at.File.Path, at.Line, at.Column, f.Code, name, f.Message)] = true
		}
	}
	return found
}

// moreRules holds for random rules with few messages that a further rule or advice takes no error away.
func moreRules(t *testing.T, seed uint64) (errors int) {
	t.Helper()
	random := rand.New(rand.NewPCG(seed, 26))
	pick := func(from ...string) string { return from[random.IntN(len(from))] }
	assertion := func() string {
		return fmt.Sprintf("%s doc?.%s != %q else %q", pick("require", "advise"), pick("user", "owner"),
			pick("root", "nobody"), pick("runs as root", "not allowed", "${doc.user}"))
	}
	body := func(name string) string {
		var b strings.Builder
		fmt.Fprintf(&b, "rule %s on doc%s {\n", name, pick("", " at \"k/**\"", " where doc.user == \"root\""))
		for range 1 + random.IntN(3) {
			b.WriteString(pick("  "+assertion()+"\n", "  if doc.user == \"root\" { "+assertion()+" }\n",
				"  for u in doc.users { require u != \"root\" else \"runs as root\" }\n"))
		}
		b.WriteString("}\n")
		return b.String()
	}
	var main strings.Builder
	main.WriteString("input user: string = \"root\"\n")
	for i := range 1 + random.IntN(4) {
		value := pick(`"root"`, `user`, `"heron"`)
		fmt.Fprintf(&main, "document \"%s/%d.yaml\" = { user: %s, owner: %s, users: [\"root\", %s] }\n", pick("k", "l"), i,
			value, pick(value, `"nobody"`), value)
	}
	toml := "[environments.a]\n[environments.b]\n"
	files := fstest.MapFS{}
	add := func(i int) {
		if random.IntN(3) == 0 {
			fmt.Fprintf(&main, "%s", body(fmt.Sprintf("m%d", i)))
		} else {
			name := fmt.Sprintf("r%d.knot", i)
			files[name] = &fstest.MapFile{Data: []byte(body(pick("same", fmt.Sprintf("r%d", i))))}
			entry := fmt.Sprintf("[[rules]]\nmodule = %q\n", name)
			if random.IntN(2) == 0 {
				toml = entry + toml
			} else {
				toml += entry
			}
		}
		files["main.knot"] = &fstest.MapFile{Data: []byte(main.String())}
		files[project.FileName] = &fstest.MapFile{Data: []byte("[project]\nname = \"bay\"\n" + toml)}
	}
	add(0)
	before := ruleErrors(t, files)
	for i := 1; i < 5; i++ {
		add(i)
		after := ruleErrors(t, files)
		for name := range before {
			if !after[name] {
				require.Fail(t, "an error is gone", "seed %d: %s\n%s\n%s\n%s", seed, name, toml, main.String(),
					files[fmt.Sprintf("r%d.knot", i)])
			}
		}
		before = after
	}
	return len(before)
}

// FuzzMoreRules: whatever the rules, one more takes no error away.
func FuzzMoreRules(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { moreRules(t, seed) })
}

// TestMoreRulesTakeNoErrorAway is a part of what FuzzMoreRules tries.
func TestMoreRulesTakeNoErrorAway(t *testing.T) {
	errors := 0
	for seed := range uint64(150) {
		errors += moreRules(t, seed)
	}
	require.Greater(t, errors, 300, "most projects have errors")
}
