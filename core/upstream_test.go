package core_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/value"
)

// telling is a random project in which two environments each read what another one tells by its outputs, or what a
// third one does, which only passes it on.
type telling struct {
	*rand.Rand
	types  []string // of the outputs
	values [2][]any // of the outputs of both tellers
	kept   []bool   // which of them the readers want
	passed bool     // by an environment between teller and reader
	secret bool     // one more, secret, output
	later  bool     // one more, that is known only later
}

// value returns a random value, another one of the same type, which may be equal, and the type.
func (g *telling) value(depth int) (a, b any, t string) {
	switch n := g.IntN(7); {
	case n < 2 || depth == 0 && n > 3:
		a = g.IntN(100)
		b = a
		if g.IntN(2) == 0 {
			b = g.IntN(100)
		}
		return a, b, "int"
	case n < 4:
		a, b = fmt.Sprintf("t%d", g.IntN(50)), fmt.Sprintf("t%d", g.IntN(3))
		return a, b, "string"
	case n == 4:
		x, y, t := g.value(depth - 1)
		return []any{x, x}, []any{y, x}, "[" + t + "]"
	case n == 5:
		x, y, t := g.value(depth - 1)
		return map[string]any{"k1": x, "k2": y}, map[string]any{"k1": y, "k2": y}, "{ *: " + t + " }"
	}
	x, y, t := g.value(depth - 1)
	v, w, u := g.value(depth - 1)
	return map[string]any{"f": x, "g": v}, map[string]any{"f": y, "g": w}, "{ f: " + t + ", g: " + u + " }"
}

func newTelling(seed uint64) *telling {
	g := &telling{Rand: rand.New(rand.NewPCG(seed, 77))}
	for range 1 + g.IntN(4) {
		a, b, t := g.value(2)
		g.types = append(g.types, t)
		g.values[0], g.values[1] = append(g.values[0], a), append(g.values[1], b)
		g.kept = append(g.kept, len(g.kept) == 0 || g.IntN(4) > 0)
	}
	g.passed, g.secret, g.later = g.IntN(3) == 0, g.IntN(2) == 0, g.IntN(2) == 0
	return g
}

// toldSecret is the secret of the first teller.
const toldSecret = "kanarienvogel"

// files returns the project. As is how the readers get what they read: from a teller, or from a file.
func (g *telling) files(t *testing.T, fromFile bool) fstest.MapFS {
	var teller, reader, fields strings.Builder
	files := fstest.MapFS{}
	told := [2]map[string]any{{}, {}}
	layers := [2]map[string]any{{}, {}}
	for i, of := range g.types {
		fmt.Fprintf(&teller, "input i%d: %s\noutput o%d = i%d\n", i, of, i, i)
		for side := range 2 {
			layers[side][fmt.Sprintf("i%d", i)] = g.values[side][i]
			if g.kept[i] {
				told[side][fmt.Sprintf("o%d", i)] = g.values[side][i]
			}
		}
		if g.kept[i] {
			fmt.Fprintf(&fields, "o%d: %s, ", i, of)
			fmt.Fprintf(&reader, "document \"d%d.json\" = told.o%d\n", i, i)
		}
	}
	if g.secret && !fromFile {
		teller.WriteString("secret input s: string\nsecret output so = s\n")
		fields.WriteString("secret so: string, ")
		reader.WriteString("secret document \"s.json\" = { s: told.so }\n")
	}
	if g.later && !fromFile {
		teller.WriteString("later input l: string as \"<l>\"\noutput lo = l\n")
		fields.WriteString("lo: string, ")
		reader.WriteString("document \"l.json\" = { l: told.lo }\n")
	}
	input := "input told: { " + strings.TrimSuffix(fields.String(), ", ") + " }\n"
	var middle strings.Builder
	middle.WriteString(input)
	for i := range g.types {
		if g.kept[i] {
			fmt.Fprintf(&middle, "output o%d = told.o%d\n", i, i)
		}
	}
	if g.secret && !fromFile {
		middle.WriteString("secret output so = told.so\n")
	}
	if g.later && !fromFile {
		middle.WriteString("output lo = told.lo\n")
	}
	files["teller.knot"], files["middle.knot"] = file(teller.String()), file(middle.String())
	files["main.knot"] = file(input + reader.String())
	var configuration strings.Builder
	for side := range 2 {
		text, err := json.Marshal(layers[side])
		require.NoError(t, err)
		files[fmt.Sprintf("teller%d.json", side)] = file(string(text))
		if text, err = json.Marshal(told[side]); fromFile {
			require.NoError(t, err)
			files[fmt.Sprintf("told%d.json", side)] = file(string(text))
			fmt.Fprintf(&configuration, "[environments.reader%d]\nlayers = [{ file = \"told%d.json\", into = "+
				"\"told\" }]\n",
				side, side)
			continue
		}
		from := "teller"
		fmt.Fprintf(&configuration, "[environments.teller%d]\nmain = \"teller.knot\"\nlayers = "+
			"[\"teller%d.json\"]\n", side, side)
		if g.secret {
			fmt.Fprintf(&configuration, "[environments.teller%d.secrets]\ns = { variable = \"KNOTHOLE_SECRET_%d\" "+
				"}\n", side, side)
		}
		if g.passed {
			from = "middle"
			fmt.Fprintf(&configuration,
				"[environments.middle%d]\nmain = \"middle.knot\"\nlayers = [{ environment = \"teller%d\", into = "+
					"\"told\" }]\n",
				side, side)
		}
		fmt.Fprintf(&configuration, "[environments.reader%d]\nlayers = [{ environment = \"%s%d\", into = \"told\" "+
			"}]\n", side,
			from, side)
	}
	files["knothole.toml"] = file(configuration.String())
	return files
}

func file(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }

// known gives the same secret for every reference.
type known string

// Read returns the secret.
func (k known) Read(*project.Reference) ([]byte, error) { return []byte(k), nil }

// judgeTelling holds what one environment tells another to be what a file of the same would, wherever it passes; marks
// to be kept; and causes to lead to the layer of the one that told.
func judgeTelling(t *testing.T, seed uint64) (rows int) {
	g := newTelling(seed)
	readers := func(p *project.Project) []*project.Run {
		return []*project.Run{p.RunNamed("reader0"), p.RunNamed("reader1")}
	}
	p, err := project.Load(g.files(t, false))
	require.NoError(t, err)
	found, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true})
	require.Empty(t, findings, "%v\n%s", findings, g.show(t))
	plain, err := project.Load(g.files(t, true))
	require.NoError(t, err)
	other, findings, _ := render.All(plain, readers(plain), render.Options{})
	require.Empty(t, findings, "%v\n%s", findings, g.show(t))
	byName := map[string]*render.Result{}
	for _, r := range found {
		byName[r.Run.Name] = r
	}
	for _, r := range other {
		told := map[string]string{}
		for _, d := range byName[r.Run.Name].Documents {
			switch d.Path {
			case "s.json":
				require.True(t, value.Marks(d.Value)&value.Secret != 0 && value.Marks(d.Value)&value.Unknown != 0,
					g.show(t))
			case "l.json":
				require.True(t, d.Open, g.show(t))
			default:
				told[d.Path] = data.CompactJSON(d.Value)
			}
		}
		require.Len(t, told, len(r.Documents), g.show(t))
		for _, d := range r.Documents {
			require.Equal(t, data.CompactJSON(d.Value), told[d.Path], g.show(t))
		}
	}
	// What is given for one run to who tells is told: with the layer of the other it tells what that does.
	given := p.RunNamed("teller0").WithLayer("given.json", data.JSON, g.files(t, false)["teller1.json"].Data)
	with := render.Environment(p.RunNamed("reader0").WithUpstream(
		map[string]*project.Run{"teller0": given}), render.Options{})
	require.Empty(t, with.Findings, g.show(t))
	for i, d := range byName["reader1"].Documents {
		require.Equal(t, data.CompactJSON(value.Shown(d.Value)), data.CompactJSON(value.Shown(with.Documents[i].Value)),
			"%s\n%s", d.Path, g.show(t))
	}
	if g.secret {
		with, findings := p.RunNamed("reader0").WithSecrets(known(toldSecret))
		require.Empty(t, findings)
		r := render.Environment(with, render.Options{})
		require.Empty(t, r.Findings, g.show(t))
		at := slices.IndexFunc(r.Documents, func(d render.Document) bool { return d.Path == "s.json" })
		require.Equal(t, `{"s":"`+toldSecret+`"}`, data.CompactJSON(r.Documents[at].Value), g.show(t))
	}
	c, findings, _ := compare.Environments(p, readers(p), compare.Options{})
	require.Empty(t, findings)
	for _, d := range c.Documents {
		for _, row := range d.Rows {
			rows++
			require.NotEmpty(t, row.Cause.Because, "%s %s\n%s", d.Path, row.Path, g.show(t))
			for _, r := range row.Cause.Because {
				show := func() string { return fmt.Sprintf("%s %s: %v\n%s", d.Path, row.Path, r, g.show(t)) }
				leadsToTellers(t, p, r, show)
			}
		}
	}
	return rows
}

// leadsToTellers checks that a reason leads to the layers of the two that told.
func leadsToTellers(t *testing.T, p *project.Project, r explain.Reason, show func() string) {
	require.NotNil(t, r.Upstream, show())
	require.NotEmpty(t, r.Upstream.Cause.Because, show())
	for _, why := range r.Upstream.Cause.Because {
		if strings.HasPrefix(r.Upstream.By[0], "middle") {
			leadsToTellers(t, p, why, show)
			continue
		}
		if why.Left.IsValid() {
			require.Equal(t, "teller0.json", p.Sources.Locate(why.Left).File.Path, show())
		}
		if why.Right.IsValid() {
			require.Equal(t, "teller1.json", p.Sources.Locate(why.Right).File.Path, show())
		}
	}
}

func (g *telling) show(t *testing.T) string {
	var b strings.Builder
	for name, f := range g.files(t, false) {
		fmt.Fprintf(&b, "-- %s --\n%s\n", name, f.Data)
	}
	return b.String()
}

// FuzzTelling: what one environment tells another is what a file of the same would tell, with its marks and causes.
func FuzzTelling(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { judgeTelling(t, seed) })
}

// TestTelling is a part of what FuzzTelling tries.
func TestTelling(t *testing.T) {
	rows := 0
	for seed := range uint64(150) {
		rows += judgeTelling(t, seed)
	}
	require.Greater(t, rows, 100)
}

// TestAnyChoiceIsRefusedOrRead checks that no entry of layers, whatever it says of which environments, stops the
// program: it is read, or refused with a finding.
func TestAnyChoiceIsRefusedOrRead(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	r := rand.New(rand.NewPCG(4, 9))
	values := []string{`"a"`, `"b"`, `"c"`, `"*"`, `"a*"`, `""`, `5`, `true`, `["a", "b"]`, `["*"]`, `[]`, `["a", 5]`,
		`{}`, `"wet"`, `"abstract"`, `"told"`, `"nothing"`, `"every one"`, `[["a"]]`, `1979-05-27`}
	keys := []string{"environment", "environments", "tagged", "into", "file", "other"}
	refused, read := 0, 0
	for range 3000 {
		var configuration strings.Builder
		for _, name := range []string{"a", "b", "c", "abstract"} {
			fmt.Fprintf(&configuration, "[environments.%s]\n", name)
			if name == "abstract" {
				configuration.WriteString("abstract = true\n")
			} else if r.IntN(3) == 0 {
				configuration.WriteString("extends = \"abstract\"\n")
			}
			if r.IntN(3) == 0 {
				fmt.Fprintf(&configuration, "tags = [\"wet\"]\n")
			}
			if r.IntN(9) == 0 {
				mains := []string{`"other.knot"`, `"other.knot"`, `"nowhere.knot"`, `5`, `"../x.knot"`}
				fmt.Fprintf(&configuration, "main = %s\n", mains[r.IntN(len(mains))])
			}
			var entries []string
			for range r.IntN(3) {
				if r.IntN(3) > 0 {
					right := []string{`environment = "a"`, `environment = "b"`, `environment = "c"`, `environments = ["*"]`,
						`environments = ["a", "b"]`, `tagged = "wet"`}
					entries = append(entries, "{ "+right[r.IntN(len(right))]+`, into = "told" }`)
					continue
				}
				var parts []string
				for _, key := range keys {
					if key == "into" && r.IntN(5) > 0 {
						parts = append(parts, `into = "told"`)
					} else if r.IntN(5) == 0 {
						parts = append(parts, key+" = "+values[r.IntN(len(values))])
					}
				}
				entries = append(entries, "{ "+strings.Join(parts, ", ")+" }")
			}
			fmt.Fprintf(&configuration, "layers = [%s]\n", strings.Join(entries, ", "))
		}
		module := "input told: any = {}\noutput o = told\ndocument \"a.json\" = { told: told }\n"
		p, err := project.Load(fstest.MapFS{"knothole.toml": file(configuration.String()), "main.knot": file(module),
			"other.knot": file("input told: { *: any } = {}\noutput p = 1\ndocument \"b.json\" = { told: told }\n")})
		require.NoError(t, err)
		results, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true})
		if findings.HasErrors() {
			refused++
			continue
		}
		read++
		for _, result := range results {
			require.Len(t, result.Documents, 1, configuration.String())
		}
	}
	require.Greater(t, refused, 500)
	require.Greater(t, read, 100)
}
