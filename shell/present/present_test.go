package present_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/shell/present"
)

func presenter(set *source.Set) (*present.Presenter, *strings.Builder) {
	var b strings.Builder
	return &present.Presenter{Out: &b, Sources: set, Width: 120}, &b
}

func add(t *testing.T, set *source.Set, name, text string) *source.File {
	t.Helper()
	f, err := set.Add(name, []byte(text))
	require.NoError(t, err)
	return f
}

func TestFindings(t *testing.T) {
	set := source.NewSet()
	main := add(t, set, "main.knot", "## Number of map servers.\ninput replicas: int\n")
	layer := add(t, set, "inputs/north.toml", "a = 1\nreplcias = 6\n")
	p, b := presenter(set)
	p.Findings(source.Findings{
		{Code: source.UnknownInput, Span: source.At(layer.Pos(6)), Message: `main.knot has no input "replcias"`,
			Help:    `did you mean "replicas"?`,
			Related: []source.Related{{Span: source.At(main.Pos(32)), Text: `"Number of map servers."`}}},
		{Code: source.Unused, Severity: source.Warning, Span: main.Span(32, 40), Message: "nothing uses it",
			Environments: []string{"north", "south"}},
		{Code: source.UnknownEnvironment, Message: "no place", Help: "do this"},
	})
	require.Equal(t, `knothole: error: no place [unknown-environment]
  do this

inputs/north.toml:2:1: error: main.knot has no input "replcias" [unknown-input]
    2 | replcias = 6
      | ^^^^^^^^ did you mean "replicas"?
  see main.knot:2:7: "Number of map servers."

main.knot:2:7: warning: nothing uses it (in north, south) [unused]
    2 | input replicas: int
      |       ^^^^^^^^
`, b.String())
}

func TestFindingsFromAnotherFolder(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "lib/x.knot", "let a = b\n")
	p, b := presenter(set)
	p.Prefix = "../services"
	p.Findings(source.Findings{{Code: source.UnknownName, Span: source.At(f.Pos(8)), Message: "m"}})
	require.Contains(t, b.String(), "../services/lib/x.knot:1:9: error")
}

func TestExcerptsAreHarmlessAndShort(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "x.yaml", "\ta:\u00a0\x1b[31m é: b\n"+strings.Repeat("x", 5000)+" here "+strings.Repeat("y", 5000))
	p, b := presenter(set)
	p.Findings(source.Findings{
		{Code: source.BadData, Span: source.At(f.Pos(0)), Message: "tab and \x1b[2J escape"},
		{Code: source.BadData, Span: f.Span(strings.Index(f.Text, "here"), strings.Index(f.Text, "here")+4),
			Message: "far"},
	})
	lines := strings.Split(b.String(), "\n")
	require.Equal(t, "x.yaml:1:1: error: tab and ·[2J escape [bad-data]", lines[0])
	require.Equal(t, "    1 | →a:␣·[31m é: b", lines[1])
	require.Equal(t, "      | ^", lines[2])
	require.NotContains(t, b.String(), "\x1b")
	excerpt, mark := lines[5], lines[6]
	require.LessOrEqual(t, len([]rune(excerpt)), 125)
	at := strings.Index(mark, "^^^^")
	require.Equal(t, "here", string([]rune(excerpt)[at:at+4]), "the mark stands below the word")
}

func TestMarkOfSeveralLinesEndsWithTheFirst(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "x.knot", "let a = {\n  b: 1\n}\n")
	p, b := presenter(set)
	p.Findings(source.Findings{{Code: source.WrongType, Span: f.Span(8, len(f.Text)-1), Message: "m"}})
	require.Contains(t, b.String(), "    1 | let a = {\n      |         ^\n")
}

func TestColourOnlyWhereAskedFor(t *testing.T) {
	set := source.NewSet()
	f := add(t, set, "x.knot", "let a = b\n")
	findings := source.Findings{{Code: source.UnknownName, Span: source.At(f.Pos(8)), Message: "m"}}
	p, b := presenter(set)
	p.Color = true
	p.Findings(findings)
	require.Contains(t, b.String(), "\x1b[38;5;131m\x1b[1merror\x1b[")
	p, b = presenter(set)
	p.Findings(findings)
	require.NotContains(t, b.String(), "\x1b")
}

func TestLongMessagesAreWrappedOnATerminal(t *testing.T) {
	message := "replace in Deployment \"mudflat-cache\": no element of spec.template.spec.containers satisfies it.name"
	var b strings.Builder
	p := &present.Presenter{Out: &b, Sources: source.NewSet(), Width: 60}
	p.Findings(source.Findings{{Code: source.NoPath, Message: message}})
	require.Contains(t, b.String(), message+" [no-path]\n", "one line for programs")
	b.Reset()
	p.Color, p.Fit = true, true
	p.Findings(source.Findings{{Code: source.NoPath, Message: message}})
	lines := strings.Split(regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(b.String(), ""), "\n")
	require.Greater(t, len(lines), 2)
	for _, line := range lines {
		require.LessOrEqual(t, len([]rune(line)), 60)
	}
	require.Contains(t, strings.Join(strings.Fields(strings.Join(lines, " ")), " "), message+" [no-path]")
}

func TestSummary(t *testing.T) {
	require.Equal(t, "1 error, 2 warnings in 4 environments",
		present.Summary(source.Findings{{}, {Severity: source.Warning}, {Severity: source.Warning}}, 4, "environment"))
	require.Equal(t, "0 errors, 0 warnings in 1 module", present.Summary(nil, 1, "module"))
}

// comparison compares the environments a and b of a project.
func comparison(t *testing.T, main, a, b string) (*compare.Comparison, *present.Presenter, *strings.Builder) {
	t.Helper()
	files, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.a]\nlayers = [\"a.yaml\"]\n[environments.b]\nlayers = " +
			"[\"b.yaml\"]\n")},
		"main.knot": {Data: []byte(main)}, "a.yaml": {Data: []byte(a)}, "b.yaml": {Data: []byte(b)},
	})
	require.NoError(t, err)
	c, findings, _ := compare.Environments(files, []*project.Run{files.RunNamed("a"), files.RunNamed("b")},
		compare.Options{})
	require.NotNil(t, c, "%v", findings)
	p, out := presenter(files.Sources)
	return c, p, out
}

func TestComparison(t *testing.T) {
	c, p, b := comparison(t, `
input n: int
input text: string
input names: [string] = []
document "k/x.yaml" = { kind: "Deployment", metadata: { name: "x" }, spec: { n: n, text: "prefix ${text} suffix", level: match env.name { "a" -> 1, "b" -> 2 } } }
document "k/y.yaml" = { label: n, list: for name in names -> { name: name } }
document "k/z.yaml" = { label: n }
document "only-${env.name}.json" = {}
document "same.json" = {}
`, "n: 1\ntext: heron on the pier\n", "n: 2\ntext: heron on the lock\nnames: [new]\n")
	p.Comparison(c, present.ComparisonOptions{})
	want := `a → b   6 documents: 1 same, 3 differ, 1 only in a, 1 only in b

because of
  env.name  3 paths
  n         3 paths
  names     1 path
  text      1 path

k/*.yaml, 2 documents: y, z
  label        1 → 2
      n, a.yaml:1 → b.yaml:1

k/x.yaml · Deployment x
  spec.n       1 → 2
      n, a.yaml:1 → b.yaml:1
  spec.text    "prefix heron on the pier suffix" → "prefix heron on the lock suffix"
      text, a.yaml:2 → b.yaml:2
  spec.level   1 → 2
      env.name, main.knot:5

k/y.yaml
  list[new]    new → { name: "new" }
      names, main.knot:4 → b.yaml:3

only-a.json   only in a
      env.name, main.knot:8
only-b.json   only in b
      env.name, main.knot:8
`
	require.Equal(t, want, b.String())
	for _, width := range []int{60, 80, 100, 120, 160} {
		for _, by := range []bool{false, true} {
			p, b := presenter(p.Sources)
			p.Width, p.Fit = width, true
			p.Comparison(c, present.ComparisonOptions{GroupOptions: compare.GroupOptions{ByCause: by}})
			for line := range strings.Lines(b.String()) {
				require.LessOrEqual(t, len([]rune(line)), width+1, "%d: %s", width, line)
			}
		}
	}
}

func TestComparisonJSON(t *testing.T) {
	c, p, b := comparison(t, "input n: int\ndocument \"x.yaml\" = { \"a/b\": [{ name: \"k\", n: n }], s: \"<&>\" }\n"+
		"document \"y.yaml\" = { \"a/b\": [{ name: \"k\", n: n }] }\n", "n: 1\n", "n: 2\n")
	require.NoError(t, present.Comparisons.Show(p, "json", &present.Compared{Comparison: c}))
	var decoded struct {
		Equal     bool
		Documents []struct {
			Path, Status string
			Rows         []struct {
				Path     string
				Pointers []string
				Cells    []int
				Cause    int
			}
		}
		Causes []struct {
			Tried   bool
			Lines   []struct{ File string }
			Because []struct {
				Name      string
				Locations []struct{ Line, Column int }
			}
		}
		Groups []struct {
			Documents []struct{ Path string }
			Rows      []struct {
				Path          string
				Paths, Values int
				Cells         []int
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(b.String()), &decoded))
	row := decoded.Documents[0].Rows[0]
	require.Equal(t, []string{"/a~1b/0/n", "/a~1b/0/n"}, row.Pointers)
	require.Equal(t, `"a/b"[k].n`, row.Path)
	require.Equal(t, []int{1, 2}, row.Cells)
	require.Len(t, decoded.Causes, 1, "what is the same is told once")
	cause := decoded.Causes[row.Cause]
	require.Equal(t, row.Cause, decoded.Documents[1].Rows[0].Cause)
	require.True(t, cause.Tried)
	require.Equal(t, "a.yaml", cause.Lines[0].File)
	require.Equal(t, "n", cause.Because[0].Name)
	require.Equal(t, 4, cause.Because[0].Locations[1].Column)
	require.Len(t, decoded.Groups, 1)
	require.Len(t, decoded.Groups[0].Documents, 2)
	folded := decoded.Groups[0].Rows[0]
	require.Equal(t, []any{`"a/b"[k].n`, 2, 1, []int{1, 2}},
		[]any{folded.Path, folded.Paths, folded.Values, folded.Cells})
}

func TestNothingDiffers(t *testing.T) {
	c, p, b := comparison(t, "document \"x.yaml\" = {}\n", "{}", "{}")
	p.Comparison(c, present.ComparisonOptions{})
	require.Equal(t, "a → b   1 document: 1 same\n", b.String())
	require.True(t, c.Equal())
}

// inputsTable returns the table of the inputs of a project, in all its environments.
func inputsTable(t *testing.T, files fstest.MapFS, width int, fits bool) string {
	t.Helper()
	p, err := project.Load(files)
	require.NoError(t, err)
	in := &present.Inputs{Inputs: p.InputsOf(p.Unit().Module), Runs: p.Runs(p.Concrete())}
	for _, input := range in.Inputs {
		var all []project.Settings
		for _, e := range in.Runs {
			all = append(all, e.Settings(e.World(false), input))
		}
		in.Settings = append(in.Settings, all)
	}
	shown, b := presenter(p.Sources)
	shown.Width, shown.Fit = width, fits
	shown.InputsTable(in)
	return b.String()
}

// TestInputsOfManyEnvironments checks that environments which do not fit beside each other are below each other, by
// their whole names, and that no line is wider than the terminal.
func TestInputsOfManyEnvironments(t *testing.T) {
	var names []string
	for i := range 12 {
		names = append(names, fmt.Sprintf("coast-number-%d", i))
	}
	table := func(width int, fits bool, environments ...string) string {
		files := fstest.MapFS{"main.knot": {Data: []byte("input host: string\ninput level: string = " +
			"\"info\"\ndocument \"a.yaml\" = [host, level]\n")}}
		text := ""
		for _, name := range environments {
			text += fmt.Sprintf("[environments.%s]\nlayers = [%q]\n", name, name+".yaml")
			files[name+".yaml"] = &fstest.MapFile{Data: []byte("host: map." + name + ".floodwatch.example\n")}
		}
		files[project.FileName] = &fstest.MapFile{Data: []byte(text)}
		return inputsTable(t, files, width, fits)
	}
	for _, width := range []int{80, 120, 200} {
		text := table(width, true, names...)
		for _, name := range names {
			require.Regexp(t, `(?m)^input .*`+name+`( |$)`, text)
		}
		for line := range strings.Lines(text) {
			require.LessOrEqual(t, len([]rune(line)), width+1, "%s", line)
		}
		require.Greater(t, strings.Count(text, "\nhost "), 1)
	}
	require.Equal(t, 1, strings.Count(table(120, true, "bench", "rehearsal", "north", "south"), "\nhost "))
	require.Equal(t, 1, strings.Count(table(120, false, names...), "\nhost "), "a program that reads it gets one table")
	// Of more environments than have columns each input is one line, however many there are.
	for i := range 200 {
		names = append(names, fmt.Sprintf("coast-%d", i))
	}
	text := table(120, true, names...)
	require.Contains(t, text, "in 212 environments")
	require.Contains(t, text, "map.coast-number-0.floodwatch.example, and another in each")
	require.Less(t, len(text), 600)
}

// TestViews: whatever a view shows of a finding, it shows the finding: what is wrong, where, and how to find out more.
func TestViews(t *testing.T) {
	set := source.NewSet()
	f, err := set.Add("main.knot", []byte("let a = b\n"))
	require.NoError(t, err)
	for _, name := range present.Findings.Names() {
		var out strings.Builder
		p := &present.Presenter{Out: &out, Sources: set}
		require.NoError(t, present.Findings.Show(p, name, &present.Checked{Findings: source.Findings{{
			Code: source.UnknownName, Span: f.Span(8, 9), Message: "there is nothing called b", Help: "declare it"}}}))
		for _, part := range []string{"there is nothing called b", "declare it", "main.knot",
			string(source.UnknownName)} {
			require.Contains(t, out.String(), part, name)
		}
		out.Reset()
		require.NoError(t, present.Findings.Show(p, name, &present.Checked{}))
		require.NotContains(t, out.String(), "main.knot", "%s: nothing is left of the answer before", name)
	}
}
