package compare_test

import (
	"fmt"
	"slices"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/value"
)

func read(t *testing.T, text string) value.Value {
	t.Helper()
	f, err := source.NewSet().Add("x.yaml", []byte(text))
	require.NoError(t, err)
	v, findings := data.Read(f, data.YAML, nil)
	require.Empty(t, findings)
	return v
}

func rows(t *testing.T, left, right string) []string {
	t.Helper()
	var lines []string
	for _, r := range compare.Values(read(t, left), read(t, right)) {
		kind := ""
		switch r.Kind {
		case compare.Order, compare.Moved, compare.Renamed, compare.Text, compare.Embedded:
			kind = string(r.Kind) + " "
		}
		lines = append(lines, fmt.Sprintf("%s%s: %s → %s (%s)", kind, r.Path, r.Left().Show(40), r.Right().Show(40),
			r.Path.Pointer()))
	}
	return lines
}

func TestRecords(t *testing.T) {
	require.Empty(t, rows(t, "{a: 1, b: 2}", "{b: 2, a: 1}"), "the order of keys means nothing")
	require.Equal(t, []string{"a: 1 → 2 (/a)", "b: true → nothing (/b)", "c: nothing → null (/c)"},
		rows(t, "{a: 1, b: true}", "{a: 2, c: null}"))
	require.Equal(t, []string{`a: 1 → "1" (/a)`}, rows(t, "{a: 1}", "{a: '1'}"))
	require.Equal(t, []string{"a: 1 → 1.0 (/a)"}, rows(t, "{a: 1}", "{a: 1.0}"))
	require.Equal(t, []string{"a: { b: 1 } → [1] (/a)"}, rows(t, "{a: {b: 1}}", "{a: [1]}"))
}

func TestListsAreMatchedByKey(t *testing.T) {
	require.Equal(t,
		[]string{`cs[new]: nothing → { name: "new", port: 1 } (/cs/0)`},
		rows(t, "cs: [{name: a, port: 1}, {name: b, port: 2}]",
			"cs: [{name: new, port: 1}, {name: a, port: 1}, {name: b, port: 2}]"))
	require.Equal(t, []string{"cs[b].port: 2 → 3 (/cs/1/port)"},
		rows(t, "cs: [{name: a, port: 1}, {name: b, port: 2}]", "cs: [{name: a, port: 1}, {name: b, port: 3}]"))
	require.Equal(t, []string{`moved cs[a]: { name: "a" } → { name: "a" } (/cs/1)`},
		rows(t, "cs: [{name: a}, {name: b}]", "cs: [{name: b}, {name: a}]"))
	require.Equal(t, []string{`order : ["a", "b", "c", "d", "e"] → ["e", "d", "c", "b", "a"] ()`},
		rows(t, "[{id: a}, {id: b}, {id: c}, {id: d}, {id: e}]", "[{id: e}, {id: d}, {id: c}, {id: b}, {id: a}]"))
	require.Equal(t, []string{`renamed [uno]: "one" → "uno" (/0)`},
		rows(t, "[{name: one, a: 1, b: 2, c: 3}, {name: two, a: 4}]", "[{name: uno, a: 1, b: 2, c: 3}, {name: two, a: 4}]"),
		"another key, and all else as before")
	require.Equal(t, []string{`[north].spec: 1 → 2 (/0/spec)`},
		rows(t, "[{kind: F, metadata: {name: north}, spec: 1}]", "[{kind: F, metadata: {name: north}, spec: 2}]"))
	require.Equal(t, []string{`["F north"].spec: 1 → 2 (/0/spec)`},
		rows(t, "[{kind: F, metadata: {name: north}, spec: 1}, {kind: G, metadata: {name: north}}]",
			"[{kind: F, metadata: {name: north}, spec: 2}, {kind: G, metadata: {name: north}}]"),
		"where the same name stands twice, the kind tells them apart")
	require.Equal(t, []string{`rules[0].host: "a" → "b" (/rules/0/host)`},
		rows(t, "rules: [{host: a, x: 1}]", "rules: [{host: b, x: 1}]"),
		"when all keys differ, it is the keys that differ")
	require.Equal(t, []string{`xs[1].n: 2 → 3 (/xs/1/n)`},
		rows(t, "xs: [{name: a, n: 1}, {name: a, n: 2}]", "xs: [{name: a, n: 1}, {name: a, n: 3}]"),
		"a key that stands twice is none")
}

func TestListsAreMatchedByAnotherField(t *testing.T) {
	require.Equal(t, []string{`[it.alert == "low"].for: 5 → 6 (/3/for)`,
		`[it.alert == "new"]: nothing → { alert: "new", for: 1 } (/0)`},
		sorted(rows(t, "[{alert: high, for: 1}, {alert: gone?, for: 2}, {alert: low, for: 5}]",
			"[{alert: new, for: 1}, {alert: high, for: 1}, {alert: gone?, for: 2}, {alert: low, for: 6}]")))
	require.Equal(t, []string{`[it.job == 7].v: 1 → 2 (/0/v)`},
		rows(t, "[{job: 7, v: 1}, {job: 8, v: 1}, {job: 9, v: 1}]",
			"[{job: 7, v: 2}, {job: 8, v: 1}, {job: 9, v: 1}]"))
}

func sorted(lines []string) []string {
	slices.Sort(lines)
	return lines
}

func TestListsAreAligned(t *testing.T) {
	require.Equal(t, []string{`[0]: nothing → { run: "lint", strict: true } (/0)`, `[1].go: "1.25" → "1.26" (/1/go)`},
		rows(t, "[{run: build, go: '1.25', x: 1}, {run: test, x: 2}]",
			"[{run: lint, strict: true}, {run: build, go: '1.26', x: 1}, {run: test, x: 2}]"), "what is alike stays itself")
	require.Equal(t, []string{`moved [0]: "d" → "d" (/0)`}, rows(t, "[a, b, c, d]", "[d, a, b, c]"))
	require.Equal(t, []string{`[0]: "new" → nothing (/0)`}, rows(t, "[new, a, b, c]", "[a, b, c]"))
	require.Equal(t, []string{`[2]: nothing → "x" (/2)`}, rows(t, "[a, b, c]", "[a, b, x, c]"))
	require.Equal(t, []string{`[1]: "b" → "x" (/1)`}, rows(t, "[a, b, c]", "[a, x, c]"))
	require.Equal(t, []string{`[0]: "a" → nothing (/0)`, `[3]: nothing → "e" (/3)`},
		rows(t, "[a, b, c, d]", "[b, c, d, e]"))
	require.Equal(t, []string{"[0]: 1 → 1.0 (/0)"}, rows(t, "[1]", "[1.0]"))
	require.Empty(t, rows(t, "[]", "[]"))
}

// compareProject compares the environments a and b of a small project and shows each row with its cause.
func compareProject(t *testing.T, files map[string]string) (*compare.Comparison, []string) {
	t.Helper()
	fs := fstest.MapFS{project.FileName: {Data: []byte("[environments.a]\nlayers = " +
		"[\"a.yaml\"]\n[environments.b]\nlayers = [\"b.yaml\"]\n")}}
	for name, text := range files {
		fs[name] = &fstest.MapFile{Data: []byte(text)}
	}
	p, err := project.Load(fs)
	require.NoError(t, err)
	c, findings, _ := compare.Environments(p, []*project.Run{p.RunNamed("a"), p.RunNamed("b")},
		compare.Options{})
	require.False(t, findings.HasErrors(), "%v", findings)
	var lines []string
	for _, d := range c.Documents {
		for _, r := range d.Rows {
			line := fmt.Sprintf("%s %s:", d.Path, r.Path)
			for _, reason := range r.Cause.Because {
				line += " " + reason.Name
			}
			lines = append(lines,
				line+fmt.Sprintf(" %s %s", p.Sources.Locate(r.Cause.Left), p.Sources.Locate(r.Cause.Right)))
		}
	}
	return c, lines
}

func TestCauses(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	_, lines := compareProject(t, map[string]string{
		"a.yaml": "n: 1\nlimits: {cpu: 1, memory: 2}\nmode: x\n",
		"b.yaml": "n: 2\nlimits: {cpu: 1, memory: 3}\nmode: x\n",
		"main.knot": `
input n: int
input limits: { cpu: int, memory: int }
input mode: string
let level = match env.name { "a" -> "low", "b" -> "high" }
fn label(x: string) -> string = "${x}-${mode}"
document "d.yaml" = {
  passed: n
  part: limits.memory
  computed: n * 10
  chosen: level
  called: label(level)
  joined: text.join(["n", "${n}"], "-")
  list: [1, ...if n > 1 then [2]]
  filtered: for x in [1, 2] where x <= n -> x
  defaulted: (if n > 1 then null else 5) ?? 7
}
`})
	require.Equal(t, []string{
		"d.yaml passed: n a.yaml:1:4 b.yaml:1:4",
		"d.yaml part: limits.memory a.yaml:2:26 b.yaml:2:26",
		"d.yaml computed: n main.knot:10:13 main.knot:10:13",
		"d.yaml chosen: env.name main.knot:5:37 main.knot:5:51",
		"d.yaml called: env.name main.knot:6:33 main.knot:6:33",
		"d.yaml joined: n main.knot:13:11 main.knot:13:11",
		"d.yaml list[1]: n - main.knot:14:31",
		"d.yaml filtered[1]: n - main.knot:15:26",
		"d.yaml defaulted: n main.knot:16:39 main.knot:16:45",
	}, lines)
}

func TestDocumentsOnOneSide(t *testing.T) {
	c, _ := compareProject(t, map[string]string{
		"a.yaml": "coast: north\n", "b.yaml": "coast: south\n",
		"main.knot": "input coast: string\ndocument \"${coast}.yaml\" = { a: 1 }\ndocument \"same.yaml\" = { a: 1 }\n",
	})
	require.Equal(t, []compare.Status{compare.OnlyLeft, compare.Same, compare.OnlyRight},
		[]compare.Status{c.Documents[0].Status, c.Documents[1].Status, c.Documents[2].Status})
	require.Equal(t, "coast", c.Documents[0].Cause.Because[0].Name)
	require.Equal(t, []compare.ReasonCount{{Name: "coast", Places: 2}}, c.Reasons())
	require.False(t, c.Equal())
}

func TestEqualDifferencesAreFolded(t *testing.T) {
	c, _ := compareProject(t, map[string]string{
		"a.yaml": "n: 1\n", "b.yaml": "n: 2\n",
		"main.knot": "input n: int\ndocument \"k/a.yaml\" = { n: n }\ndocument \"k/b.yaml\" = { n: n, other: n + 1 " +
			"}\ndocument \"k/c.yaml\" = { n: n }\n",
	})
	groups := c.Groups(compare.GroupOptions{})
	require.Len(t, groups, 2)
	require.Len(t, groups[0].Documents, 3)
	require.Equal(t, "n", groups[0].Rows[0].Path.String())
	require.Equal(t, 3, groups[0].Rows[0].Places)
	require.Len(t, groups[1].Documents, 1)
	require.Equal(t, "other", groups[1].Rows[0].Path.String())
}

func TestDifferencesOfOtherCausesAreNotFolded(t *testing.T) {
	c, _ := compareProject(t, map[string]string{
		"a.yaml": "n: 1\nm: 1\n", "b.yaml": "n: 2\nm: 2\n",
		"main.knot": "input n: int\ninput m: int\ndocument \"k/a.yaml\" = { x: n }\ndocument \"k/b.yaml\" = { x: m }\n",
	})
	require.Len(t, c.Groups(compare.GroupOptions{}), 2)
}

// TestWhatIsEqualIsNoCause checks that a part of an input that is the same on both sides is not named, though another
// part differs.
func TestWhatIsEqualIsNoCause(t *testing.T) {
	c, _ := compareProject(t, map[string]string{
		"a.yaml": "limits: { cpu: 1, memory: 2 }\nlevel: low\n",
		"b.yaml": "limits: { cpu: 1, memory: 3 }\nlevel: high\n",
		"main.knot": "input limits: { cpu: int, memory: int }\ninput level: string\ndocument \"a.yaml\" = { x: " +
			"\"${limits.cpu}-${level}\", m: limits.memory }\n",
	})
	var names [][]string
	for _, row := range c.Groups(compare.GroupOptions{})[0].Rows {
		var because []string
		for _, r := range row.Cause.Because {
			because = append(because, r.Name)
		}
		names = append(names, because)
	}
	require.Equal(t, [][]string{{"level"}, {"limits.memory"}}, names)
}
