package core_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/rule"
	"knothole/core/source"
)

// checkPage compares a page of the manual with what it is made from; -update writes it.
func checkPage(t *testing.T, name, want string) {
	t.Helper()
	if *update {
		require.NoError(t, os.WriteFile(name, []byte(want), 0o644))
		return
	}
	got, err := os.ReadFile(name)
	require.NoError(t, err)
	require.Equal(t, want, string(got), "run: go test ./core -run Reference -update")
}

// TestReferenceOfFunctions makes the manual's page of built-in functions from their table.
func TestReferenceOfFunctions(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Built-in functions\n\nThey are always in scope, by group and name. Text counts in Unicode code " +
		"points. The examples are run by the tests.\n" +
		"`knothole help` followed by a name or a group shows the same.\n")
	group := ""
	for _, f := range builtin.All() {
		if f.Group != group {
			group = f.Group
			fmt.Fprintf(&b, "\n## %s\n", group)
		}
		fmt.Fprintf(&b, "\n`%s.%s`\n\n%s", group, f.Signature, f.Description)
		if f.Errors != "" {
			fmt.Fprintf(&b, " Fails when: %s%s", strings.ToLower(f.Errors[:1]), f.Errors[1:])
		}
		fmt.Fprintf(&b, "\n\n    %s\n    %s\n", f.Example, f.Result)
	}
	checkPage(t, "../docs/functions.md", b.String())
}

// TestReferenceOfCodes makes the manual's page of findings from their pages.
func TestReferenceOfCodes(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Codes of findings\n\nEach finding ends with its code in brackets. `knothole help` followed by " +
		"a code shows its entry of this page. The examples are\nrun by the tests: the first has the error, the second " +
		"has not.\n")
	for _, code := range source.Codes() {
		page, ok := source.PageOf(code)
		require.True(t, ok)
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", code, page.Text)
		for _, files := range [][]source.PageFile{page.Wrong, page.Right} {
			if len(files) == 0 {
				continue
			}
			b.WriteString("\n```\n")
			for _, f := range files {
				if len(files) > 1 {
					fmt.Fprintf(&b, "# %s\n", f.Name)
				}
				for line := range strings.Lines(f.Text) {
					if len(line) > 140 {
						line = line[:137] + "…\n"
					}
					b.WriteString(line)
				}
			}
			b.WriteString("```\n")
		}
	}
	checkPage(t, "../docs/codes.md", b.String())
}

// TestReferenceOfRules makes the manual's page of the rules that come with the program from their modules.
func TestReferenceOfRules(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Rules that come with the program\n\nA project puts a module in force in `knothole.toml`, with " +
		"values for its inputs; `only` and `without` choose among its rules:\n\n```toml\n[[rules]]\n" +
		"module = \"standard/images\"\n" +
		"inputs = { registries = [\"registry.floodwatch.example\"] }\nwithout = [\"images_pinned\"]\n```\n\n" +
		"`knothole rules NAME` shows a rule that is in force, with what its tests allow and refuse; `knothole help " +
		"standard/images`\nshows a module. Over plain files: `knothole validate FILE… --rules standard/images`. " +
		"[Hold the line](hold-the-line.md) says how\nto begin.\n")
	for _, m := range rule.Library() {
		fmt.Fprintf(&b, "\n## %s\n\n%s\n", m.Path, m.About)
		for _, list := range []struct {
			title string
			parts []rule.LibraryPart
		}{{"input", m.Inputs}, {"rule", m.Rules}, {"for other modules", m.Functions}} {
			if len(list.parts) == 0 {
				continue
			}
			column := map[string]string{"input": "type and default", "rule": "looks at"}[list.title]
			if column == "" {
				fmt.Fprintf(&b, "\n| %s | |\n|---|---|\n", list.title)
			} else {
				fmt.Fprintf(&b, "\n| %s | %s | |\n|---|---|---|\n", list.title, column)
			}
			for _, p := range list.parts {
				text := strings.ReplaceAll(p.Text, "|", "\\|")
				if column == "" {
					fmt.Fprintf(&b, "| `%s` | %s |\n", text, p.About)
				} else {
					fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", p.Name, text, p.About)
				}
			}
		}
	}
	checkPage(t, "../docs/standard.md", b.String())
}
