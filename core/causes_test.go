package core_test

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/data"
	"knothole/core/explain"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// variant is an input, and values that one environment or the other may have; the empty one leaves it to its default.
type variant struct {
	name, of string
	shapes   []variable // what of it programs use
	values   []string
}

func texts(name string) variable {
	return variable{name, shape{kind: "list", of: []shape{{kind: "string"}}}}
}

// variants are inputs of many shapes.
var variants = [...]variant{
	{"qs", "string", []variable{{"qs", shape{kind: "string"}}}, []string{`a`, `b`, `"1"`}},
	{"qn", "int", []variable{{"qn", shape{kind: "int"}}}, []string{`1`, `2`, `7`}},
	{"qb", "bool", []variable{{"qb", shape{kind: "bool"}}}, []string{`true`, `false`}},
	{"qr", `{ a: string, b: int, c: { a: string } }`,
		[]variable{{"qr.a", shape{kind: "string"}}, {"qr.b", shape{kind: "int"}}, {"qr.c.a", shape{kind: "string"}}},
		[]string{`{ a: x, b: 1, c: { a: z } }`, `{ a: x, b: 2, c: { a: z } }`, `{ a: y, b: 1, c: { a: "" } }`}},
	{"ql", `[{ a: string, b: int }]`,
		[]variable{texts("(for l in ql -> l.a)"), texts("(for l in ql where l.b > 1 -> l.a)"),
			{"list.length(ql)", shape{kind: "int"}}, {"(ql?[0]?.a ?? \"none\")", shape{kind: "string"}}},
		[]string{`[]`, `[{ a: x, b: 1 }]`, `[{ a: x, b: 2 }, { a: y, b: 1 }]`, `[{ a: y, b: 1 }, { a: x, b: 2 }]`}},
	{"qm", `{ *: int }`,
		[]variable{texts("record.keys(qm)"), {"(qm.a ?? 0)", shape{kind: "int"}}, {"(\"b\" in qm)", shape{kind: "bool"}}},
		[]string{`{}`, `{ a: 1 }`, `{ a: 2, b: 1 }`, `{ b: 1 }`, `{ b: 1, a: 2 }`}},
	{"qd", `string = "${env.name}-${qs}"`, []variable{{"qd", shape{kind: "string"}}}, []string{``, ``, `a`, `west-a`}},
	{"qe", `{ a: int = 3, b?: string } = {}`,
		[]variable{{"qe.a", shape{kind: "int"}}, {"(qe?.b ?? \"no\")", shape{kind: "string"}}},
		[]string{``, `{}`, `{ a: 4 }`, `{ b: x }`, `{ a: 3, b: y }`}},
	{"qo", "int? = null", []variable{{"(qo ?? 8)", shape{kind: "int"}}, {"(qo == null)", shape{kind: "bool"}}},
		[]string{``, `null`, `3`, `8`}},
	{"qk", `[{ name: string, v: int, of?: [string] }] = []`,
		[]variable{texts("(for k in qk -> k.name)"), texts("(for k in qk -> ...(k?.of ?? []))"),
			{"list.sum(for k in qk -> k.v)", shape{kind: "int"}}},
		[]string{``, `[{ name: a, v: 1 }]`, `[{ name: a, v: 2, of: [x] }, { name: b, v: 1 }]`,
			`[{ name: b, v: 1 }, { name: a, v: 2, of: [x, y] }]`}},
	{"qu", "string | [int] = \"u\"", []variable{
		{"(match qu { is string -> qu, else -> \"list\" })", shape{kind: "string"}}},
		[]string{``, `a`, `[1]`, `[1, 2]`}},
	{"qx", `{string} = []`, []variable{texts("(for x in qx -> x)"), {"(\"a\" in qx)", shape{kind: "bool"}}},
		[]string{``, `[a]`, `[b, a]`, `[a, b]`}},
}

// around is what programs see of the environment.
var around = []variable{{"env.name", shape{kind: "string"}}, {"(\"live\" in env.tags)", shape{kind: "bool"}},
	{"(match env.name { \"west\" -> 1, else -> 2 })", shape{kind: "int"}},
	texts("[...if env.name == \"west\" then [\"w\"], \"e\"]")}

// coast is one environment of a random project.
type coast struct {
	name   string
	live   bool
	values value.Value // of its layer
}

// coasts is a random project of two environments.
type coasts struct {
	program string
	sides   [2]coast
	written [2]coast // as the layers say it, without what is so by default
	tried   map[string][2]map[string]value.Value
}

var coastNames = [2]string{"west", "east"}

// A component and a data file that the projects use.
const (
	partOfCoasts = "input n: int\ninput s: string\noutput y = if n > 1 then { a: s, b: n } else { a: s }\n" +
		"document \"part.json\" = { n: n, l: for i in 1..n -> i }\n"
	piersOfCoasts = "west: { a: 1, of: [x] }\neast: { a: 1, of: [x, y] }\n"
)

// newCoasts writes a project.
func newCoasts(t *testing.T, seed uint64) *coasts {
	g := newGenerator(seed)
	var inputs strings.Builder
	var layers [2]strings.Builder
	for _, v := range variants {
		fmt.Fprintf(&inputs, "input %s: %s\n", v.name, v.of)
		west := v.values[g.IntN(len(v.values))]
		east := west
		if g.chance(50) {
			east = v.values[g.IntN(len(v.values))]
		}
		for i, text := range []string{west, east} {
			if text != "" {
				fmt.Fprintf(&layers[i], "%s: %s\n", v.name, text)
			}
		}
	}
	c := &coasts{tried: map[string][2]map[string]value.Value{}}
	for i := range c.sides {
		c.sides[i] = coast{coastNames[i], g.chance(50), parsed(t, layers[i].String())}
	}
	c.program = "use \"./part.knot\" as part\nuse \"./piers.yaml\" as piers: { *: { a: int, of: [string] } }\n" +
		inputs.String() + g.module(func(*strings.Builder) {
		for _, v := range variants {
			g.scope = append(g.scope, v.shapes...)
		}
		g.scope = append(g.scope, around...)
	})
	// What has errors and what cannot be evaluated is left out. Each declaration is a line.
	p := c.load(t, c.sides)
	for p.Findings.HasErrors() {
		lines := strings.Split(c.program, "\n")
		for _, f := range p.Findings {
			if at := p.Sources.Locate(f.Span.Start); f.Severity == source.Error && at.File.Path == p.Unit().Main {
				lines[at.Line-1] = ""
			}
		}
		c.program = strings.Join(lines, "\n")
		p = c.load(t, c.sides)
	}
	var outputs []string
	one, other := p.RunNamed("west").World(false), p.RunNamed("east").World(false)
	for _, o := range p.Unit().Module.Order {
		if _, is := o.Declaration.(*syntax.Output); is {
			_, left := one.Value(o)
			if _, right := other.Value(o); left && right {
				outputs = append(outputs, o.Name)
			}
		}
	}
	var both [2]string
	for i, s := range c.sides {
		both[i] = s.values.Get("qs").Text() + strconv.FormatInt(s.values.Get("qn").Int(), 10)
	}
	c.program += g.documents(outputs, fmt.Sprintf("(if \"${qs}${qn}\" in [%q, %q] then 1 else [1][qn + 7])", both[0],
		both[1]))
	c.fill(t)
	return c
}

// fill gives the inputs what they have by default, but where that depends on the environment; nothing changes by it.
func (c *coasts) fill(t *testing.T) {
	c.written = c.sides
	p := c.load(t, c.sides)
	before := c.try(t, nil)
	c.tried = map[string][2]map[string]value.Value{}
	for i := range c.sides {
		w := p.RunNamed(c.sides[i].name).World(false)
		var b value.Builder
		for _, o := range p.Unit().Inputs() {
			v, ok := w.Value(o)
			if o.Name == "qd" {
				v = c.sides[i].values.Get("qd")
			}
			if ok && !v.IsAbsent() && slices.ContainsFunc(variants[:], func(v variant) bool { return v.name == o.Name }) {
				b.Set(o.Name, v)
			}
		}
		c.sides[i].values = b.Record(c.sides[i].values.Origin())
	}
	after := c.try(t, nil)
	for i := range after {
		require.Len(t, after[i], len(before[i]))
		for path, v := range after[i] {
			require.True(t, value.Identical(before[i][path], v), path)
		}
	}
}

// documents writes documents of some values. What needs says can be evaluated on both sides, and not on each that is
// made of both.
func (g *generator) documents(outputs []string, needs string) string {
	var b strings.Builder
	one := func() string { return outputs[g.IntN(len(outputs))] }
	for i, o := range outputs {
		condition := []string{"qb", `env.name == "west"`, "qn > 1", `"a" in qm`}[g.IntN(4)]
		switch g.IntN(16) {
		case 15:
			fmt.Fprintf(&b, "document \"%d.json\" = { v: %s, n: qn * 2, l: [qn, %s, qs], w: %s }\n", i, o, needs, needs)
		case 12:
			fmt.Fprintf(&b, "document \"%d.json\" = { k: for x in qk -> { ...x, w: %s } }\n", i, o)
		case 13:
			fmt.Fprintf(&b, "let c%d = part(n: qn, s: qs)\n"+
				"document \"%d.json\" = { y: c%d.y, v: %s }\ninclude c%d under \"%d/\"\n",
				i, i, i, o, i, i)
		case 14:
			fmt.Fprintf(&b, "document \"%d.json\" = { here: piers[env.name], v: %s, "+
				"n: list.length(piers[env.name].of) }\n",
				i, o)
		case 0:
			fmt.Fprintf(&b, "if %s { document \"%d.json\" = { v: %s } }\n", condition, i, o)
		case 1:
			fmt.Fprintf(&b, "for i, l in ql { document \"%d-${i}.json\" = { ...l, v: %s } }\n", i, o)
		case 2:
			fmt.Fprintf(&b, "stream \"%d.yaml\" = for l in ql -> { kind: \"K\", metadata: { name: l.a }, v: %s }\n", i, o)
		case 3:
			fmt.Fprintf(&b, "document \"%d.json\" = { v: %s, ...if %s then { w: %s, x: 1 }, "+
				"z: (if %s then 3 else null)? }\n",
				i, o,
				condition, one(), condition)
		case 4:
			fmt.Fprintf(&b, "document \"%d.json\" = if %s then { v: %s, a: { b: 1 } } else { v: %s, a: { b: 2, c: 3 } }\n", i,
				condition, o, one())
		case 5:
			fmt.Fprintf(&b, "document \"%d.json\" = { l: for l in ql where l.b >= qn -> "+
				"{ name: l.a, at: l.b, v: %s } }\n",
				i, o)
		case 6:
			fmt.Fprintf(&b, "let d%d = patch { l: [{ name: \"x\", v: 1 }, { name: \"y\" }], v: %s } "+
				"{ if %s { put .l[it.name == \"x\"].v: qn\n"+
				"remove .l[it.name == \"y\"] } }\ndocument \"%d.json\" = d%d\n", i, o, condition, i, i)
		case 7:
			fmt.Fprintf(&b, "document \"%d.json\" = { \"${if env.name == \"west\" then \"w\" else \"e\"}\": %s, "+
				"v: %s }\n",
				i, o,
				one())
		case 8:
			fmt.Fprintf(&b, "document \"%d.txt\" = \"a ${qs}\\n${if %s then \"b\" else \"c\"}\\n${qn}\\n\"\n", i, condition)
		default:
			fmt.Fprintf(&b, "document \"%d.json\" = { v: %s }\n", i, o)
		}
	}
	return b.String()
}

func parsed(t *testing.T, text string) value.Value {
	sources := source.NewSet()
	file, err := sources.Add("layer.yaml", []byte(text))
	require.NoError(t, err)
	v, findings := data.Read(file, data.YAML, nil)
	require.Empty(t, findings, text)
	if v.Kind() != value.Record {
		v = value.RecordOf(value.NewShape(nil), nil, 0)
	}
	return v
}

// load loads the project with some environments.
func (c *coasts) load(t *testing.T, sides [2]coast) *project.Project {
	p, err := project.Load(c.files(t, sides))
	require.NoError(t, err)
	return p
}

// files are those of the project with some environments.
func (c *coasts) files(t *testing.T, sides [2]coast) fstest.MapFS {
	files := fstest.MapFS{"main.knot": {Data: []byte(c.program)}, "part.knot": {Data: []byte(partOfCoasts)},
		"piers.yaml": {Data: []byte(piersOfCoasts)}}
	var b strings.Builder
	for _, s := range sides {
		tags := ""
		if s.live {
			tags = `"live"`
		}
		fmt.Fprintf(&b, "[environments.%s]\nlayers = [\"%s.yaml\"]\ntags = [%s]\n", s.name, s.name, tags)
		text, err := data.Write(s.values, data.YAML)
		require.NoError(t, err)
		files[s.name+".yaml"] = &fstest.MapFile{Data: text}
	}
	files[project.FileName] = &fstest.MapFile{Data: []byte(b.String())}
	return files
}

// texts are the files of the project as it was written.
func (c *coasts) texts(t *testing.T) map[string]string {
	files := map[string]string{"main.knot": c.program, "part.knot": partOfCoasts, "piers.yaml": piersOfCoasts}
	toml := ""
	for _, s := range c.written {
		toml += fmt.Sprintf("[environments.%s]\nlayers = [\"%s.yaml\"]\n", s.name, s.name)
		text, err := data.Write(s.values, data.YAML)
		require.NoError(t, err)
		files[s.name+".yaml"] = string(text)
	}
	files[project.FileName] = toml
	return files
}

// rendered returns the documents of one environment, as far as they can be evaluated.
func (c *coasts) rendered(t *testing.T, sides [2]coast, name string) map[string]value.Value {
	p := c.load(t, sides)
	return renderedParts(p, name)
}

// renderedParts returns the documents of an environment of a project, with the parts that can be evaluated.
func renderedParts(p *project.Project, name string) map[string]value.Value {
	run, all := p.RunNamed(name), map[string]value.Value{}
	if p.Findings.HasErrors() {
		return all
	}
	w := run.World(false)
	w.LoseParts()
	for _, d := range render.World(run, w, render.Options{}).Documents {
		all[d.Path] = d.Value
	}
	return all
}

// with returns one side with some causes as on the other.
func (c *coasts) with(side int, causes []string) coast {
	s, other := c.sides[side], c.sides[1-side]
	for _, name := range causes {
		switch name {
		case explain.EnvironmentName:
			s.name = other.name
		case "env.tags":
			s.live = other.live
		default:
			steps := stepsOf(name)
			s.values = put(s.values, other.values, steps)
		}
	}
	return s
}

// try renders both sides with some causes as on the other.
func (c *coasts) try(t *testing.T, causes []string) [2]map[string]value.Value {
	key := strings.Join(causes, " ")
	if known, ok := c.tried[key]; ok {
		return known
	}
	var all [2]map[string]value.Value
	for side := range 2 {
		s := c.with(side, causes)
		beside := c.sides[0]
		if s.name == beside.name {
			beside = c.sides[1]
		}
		all[side] = c.rendered(t, [2]coast{s, beside}, s.name)
	}
	c.tried[key] = all
	return all
}

var stepForm = regexp.MustCompile(`\.?("(?:[^"\\]|\\.)*"|[A-Za-z_][A-Za-z0-9_-]*)|\[([0-9]+)\]`)

func stepsOf(name string) (steps []string) {
	for _, m := range stepForm.FindAllStringSubmatch(name, -1) {
		if text, err := strconv.Unquote(m[1]); err == nil {
			m[1] = text
		}
		steps = append(steps, m[1]+m[2])
	}
	return steps
}

func follow(v value.Value, steps []string) value.Value {
	for _, step := range steps {
		inner, ok := place.Child(v, step)
		if !ok {
			return value.Value{}
		}
		v = inner
	}
	return v
}

// put returns a value with what is at a place of another; nothing there is taken away. A key that comes in stands
// behind the one that it stands behind in the other.
func put(v, other value.Value, steps []string) value.Value {
	if len(steps) == 0 {
		return other
	}
	inner, _ := place.Child(other, steps[0])
	if v.Kind() == value.List {
		at, _ := strconv.Atoi(steps[0])
		return value.MapParts(v, func(i int, y value.Value) value.Value {
			if i == at {
				return put(y, inner, steps[1:])
			}
			return y
		})
	}
	keys := v.Shape().Keys()
	if v.Get(steps[0]).IsAbsent() {
		before := 0
		for _, key := range other.Shape().Keys() {
			if key == steps[0] {
				break
			}
			if at := slices.Index(keys, key); at >= 0 {
				before = at + 1
			}
		}
		keys = slices.Insert(slices.Clone(keys), before, steps[0])
	}
	var b value.Builder
	for _, key := range keys {
		x := v.Get(key)
		if key == steps[0] {
			x = put(x, inner, steps[1:])
		}
		if !x.IsAbsent() {
			b.Set(key, x)
		}
	}
	return b.Record(v.Origin())
}

// gone reports whether a difference at a place of a document is not there any more, when sides are as in a trial.
func gone(tried, documents [2]map[string]value.Value, document string, row *compare.Row) (sides [2]bool) {
	for side := range 2 {
		v, is := tried[side][document]
		target, wanted := documents[1-side][document]
		if is != wanted {
			continue
		}
		sides[side] = row == nil || row.IsGone(v, target)
	}
	return sides
}

// judged counts what holds for differences.
type judged struct{ places, unnamed, incomplete, oneWay, equal, superfluous, untried int }

func (j *judged) right() int {
	return j.places - j.unnamed - j.incomplete - j.oneWay - j.equal - j.superfluous
}

// judge tries the causes that are named for the differences of a project.
func (j *judged) judge(t *testing.T, c *coasts, told func(what, where string)) {
	p := c.load(t, c.written)
	found, findings, _ := compare.Environments(p, []*project.Run{p.RunNamed("west"), p.RunNamed("east")},
		compare.Options{})
	if findings.HasErrors() {
		return
	}
	documents := c.try(t, nil)
	one := func(document string, row *compare.Row, cause explain.Cause) {
		where := document
		if row != nil {
			where += " " + row.Path.String()
		}
		var names []string
		for _, r := range cause.Because {
			names = append(names, r.Name)
		}
		if j.places++; !cause.Tried {
			j.untried++
		}
		if len(names) == 0 {
			j.unnamed++
			told("no cause", where)
			return
		}
		for _, name := range names {
			if name == explain.EnvironmentName || name == "env.tags" {
				continue
			}
			a, b := follow(c.sides[0].values, stepsOf(name)), follow(c.sides[1].values, stepsOf(name))
			if a.IsAbsent() == b.IsAbsent() && a.Show(1<<20) == b.Show(1<<20) {
				j.equal++
				told("equal: "+name, where)
				return
			}
		}
		switch sides := gone(c.try(t, names), documents, document, row); {
		case !sides[0] && !sides[1]:
			j.incomplete++
			told("incomplete: "+strings.Join(names, ", "), where)
			return
		case !sides[0] || !sides[1]:
			j.oneWay++
			told("incomplete one way: "+strings.Join(names, ", "), where)
			return
		}
		for i := range names {
			if len(names) == 1 {
				break
			}
			sides := gone(c.try(t, slices.Delete(slices.Clone(names), i, i+1)), documents, document, row)
			if sides[0] && sides[1] {
				j.superfluous++
				told(fmt.Sprintf("superfluous (tried %v): %s of %s", cause.Tried, names[i], strings.Join(names, ", ")), where)
				return
			}
		}
	}
	for _, d := range found.Documents {
		if d.Status == compare.OnlyLeft || d.Status == compare.OnlyRight {
			one(d.Path, nil, d.Cause)
		}
		for _, row := range d.Rows {
			one(d.Path, &row, row.Cause)
		}
	}
}

// FuzzCauses: whatever the project, the causes that are named for a difference differ, and with all of them made equal
// it is gone; each is needed.
func FuzzCauses(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) {
		c := newCoasts(t, seed)
		new(judged).judge(t, c, func(what, where string) {
			t.Errorf("%s: %s\n%s\n%s---\n%s", where, what, c.program, c.sides[0].values.Show(1<<20),
				c.sides[1].values.Show(1<<20))
		})
	})
}

// TestCauses is a part of what FuzzCauses tries.
func TestCauses(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	var all judged
	for seed := range uint64(20) {
		all.judge(t, newCoasts(t, seed), func(what, where string) { t.Logf("seed %d, %s: %s", seed, where, what) })
	}
	t.Logf("%+v, right: %d", all, all.right())
	require.Greater(t, all.places, 700)
	require.Equal(t, all.places, all.right())
}

// rowsOf are the rows of a comparison, by document, path and kind.
func rowsOf(c *compare.Comparison) map[string]*compare.Row {
	rows := map[string]*compare.Row{}
	for _, d := range c.Documents {
		for i := range d.Rows {
			row := &d.Rows[i]
			key := fmt.Sprintf("%s %s %s", d.Path, row.Path, row.Kind)
			for _, v := range row.Cells {
				key += " " + v.Show(1<<10)
			}
			rows[key] = row
		}
	}
	return rows
}

// TestTrialsThatEndEarly compares two and three sides with a budget that ends anywhere: there are the same rows, rows
// that were tried have a cause that explains them, and the others name at most what evaluation recorded.
func TestTrialsThatEndEarly(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	untried, tried, rounds := 0, 0, uint64(15)
	if os.Getenv("KNOTHOLE_LONG") != "" {
		rounds = 300
	}
	for seed := range rounds {
		c := newCoasts(t, seed)
		p := c.load(t, c.written)
		west, east := p.RunNamed("west"), p.RunNamed("east")
		sides := [][]*project.Run{{west, east}, {west, east, west}, {west, west, east}}[seed%3]
		run := func(budget *int) *compare.Comparison {
			found, findings, _ := compare.Environments(p, sides, compare.Options{Budget: budget})
			if findings.HasErrors() {
				return nil
			}
			return found
		}
		recorded, full := run(new(int)), run(nil)
		if recorded == nil {
			continue
		}
		all, most := rowsOf(full), rowsOf(recorded)
		require.Equal(t, slices.Sorted(maps.Keys(all)), slices.Sorted(maps.Keys(most)), "seed %d", seed)
		documents := c.try(t, nil)
		for _, limit := range []int{1, 3, 10, 40, 150} {
			found := run(&limit)
			rows := rowsOf(found)
			require.Equal(t, slices.Sorted(maps.Keys(all)), slices.Sorted(maps.Keys(rows)), "seed %d", seed)
			for key, row := range rows {
				what := fmt.Sprintf("seed %d, budget %d: %s", seed, limit, key)
				var names []string
				for _, r := range row.Cause.Because {
					names = append(names, r.Name)
				}
				if !row.Cause.Tried {
					untried++
					for _, r := range row.Cause.Because {
						require.True(t, slices.ContainsFunc(most[key].Cause.Because, func(o explain.Reason) bool {
							return o.Name == r.Name || strings.HasPrefix(r.Name, o.Name+".") || strings.HasPrefix(r.Name, o.Name+"[")
						}), "%s names %s, recorded are %v", what, r.Name, most[key].Cause.Because)
					}
					continue
				}
				tried++
				if len(sides) == 2 {
					document, _, _ := strings.Cut(key, " ")
					require.Equal(t, [2]bool{true, true}, gone(c.try(t, names), documents, document, row), "%s: %v", what, names)
				}
			}
		}
	}
	require.Greater(t, untried, 300)
	require.Greater(t, tried, 300)
}
