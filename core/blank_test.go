package core_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/value"
)

// blanks makes random inputs, and a value for each of those that must be decided.
type blanks struct {
	*rand.Rand
	types strings.Builder // declared ones
	names int
}

// a returns the text of a type, a value of it, and that value as the language writes it.
func (g *blanks) a(depth int) (t string, v any, written string) {
	switch n := g.IntN(11); {
	case n == 0:
		return "int", -5, "-5"
	case n == 1:
		return "int where it in 1..9", 7, "7"
	case n == 2:
		return "bool", true, "true"
	case n == 3:
		return "float", 1.5, "1.5"
	case n == 4:
		return `"low" | "high"`, "low", `"low"`
	case n == 5 || depth == 0:
		return "string", "a: #b", `"a: #b"`
	case n == 6:
		t, v, w := g.a(depth - 1)
		return "[" + g.named(t) + "]", []any{v, v}, "[" + w + ", " + w + "]"
	case n == 7:
		t, v, w := g.a(depth - 1)
		return "{ *: " + g.named(t) + " }", map[string]any{"k 1": v, "k2": v}, `{ "k 1": ` + w + ", k2: " + w + " }"
	case n == 8:
		t, v, w := g.a(depth - 1)
		if strings.Contains(t, "where") || strings.Contains(t, "|") || strings.HasSuffix(t, "?") {
			t = g.alias(t)
		}
		return t + "?", v, w
	}
	return g.record(depth)
}

// named returns a type, or the name of one that is declared as it.
func (g *blanks) named(t string) string {
	if g.IntN(2) == 0 || strings.Contains(t, "where") || strings.Contains(t, "|") {
		return g.alias(t)
	}
	return t
}

func (g *blanks) alias(t string) string {
	g.names++
	fmt.Fprintf(&g.types, "type T%d = %s\n", g.names, t)
	return fmt.Sprintf("T%d", g.names)
}

func (g *blanks) record(depth int) (t string, v any, written string) {
	values := map[string]any{}
	var fields, texts []string
	for i := range 1 + g.IntN(3) {
		t, v, w := g.a(depth - 1)
		name, key := fmt.Sprintf("f%d", i), fmt.Sprintf("f%d", i)
		values[key] = v
		switch g.IntN(5) {
		case 0:
			name += "?"
		case 1:
			if strings.Contains(t, " where ") {
				t = g.alias(t)
			}
			t = g.named(t) + " = " + w
		case 2:
			t = g.named(t) + " = " + computed(t, w)
		default:
			texts = append(texts, key+": "+w)
		}
		fields = append(fields, name+": "+t)
	}
	return "{ " + strings.Join(fields, ", ") + " }", values, "{ " + strings.Join(texts, ", ") + " }"
}

// computed returns an expression with a value that is no literal.
func computed(t, w string) string {
	if t == "string" {
		return `"${` + w + `}"`
	}
	return "[" + w + "][0]"
}

// uncommented takes one comment sign away from every line that has one.
func uncommented(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		rest, ok := strings.CutPrefix(strings.TrimLeft(line, " "), "#")
		if ok {
			lines[i] = line[:len(line)-len(rest)-1] + strings.TrimPrefix(rest, " ")
		}
	}
	return strings.Join(lines, "\n")
}

// judgeBlank checks that a layer to fill in is a layer: with its comment signs taken away, and what must be decided
// filled in, nothing is wrong, in YAML and in TOML.
func judgeBlank(t *testing.T, seed uint64) {
	g := &blanks{Rand: rand.New(rand.NewPCG(seed, 5))}
	var inputs strings.Builder
	required, all, document := map[string]any{}, map[string]any{}, []string{}
	for i := range 1 + g.IntN(5) {
		of, v, written := g.a(3)
		name := fmt.Sprintf("i%d", i)
		if g.IntN(3) == 0 {
			inputs.WriteString("## What it is.\n")
		}
		all[name] = v
		if strings.Contains(of, " where ") {
			of = g.alias(of)
		}
		switch g.IntN(4) {
		case 0:
			fmt.Fprintf(&inputs, "input %s: %s = %s\n", name, of, written)
		case 1:
			fmt.Fprintf(&inputs, "input %s: %s = %s\n", name, g.named(of), computed(of, written))
		default:
			fmt.Fprintf(&inputs, "input %s: %s\n", name, of)
			required[name] = v
		}
		document = append(document, name+": "+name+"?")
	}
	program := g.types.String() + inputs.String() + "document \"a.yaml\" = { " + strings.Join(document, ", ") + " }\n"
	filled, err := json.Marshal(required)
	require.NoError(t, err)
	files := fstest.MapFS{"main.knot": file(program), "filled.json": file(string(filled)),
		"knothole.toml": file("[environments.a]\nlayers = [\"filled.json\"]\n")}
	p, err := project.Load(files)
	require.NoError(t, err)
	_, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true})
	require.False(t, findings.HasErrors(), "%v\n%s\n%s", findings, program, filled)
	for _, format := range []string{"yaml", "toml"} {
		blank := project.Blank(p.InputsOf(p.Unit().Module), format, func(*project.Input) bool { return false })
		text := uncommented(blank)
		fill := map[string]any{}
		if format == "toml" {
			var kept []string
			for _, line := range strings.Split(text, "\n") {
				name, empty := strings.CutSuffix(line, " =")
				if !empty {
					kept = append(kept, line)
					continue
				}
				way, err := project.SplitName(name)
				require.NoError(t, err)
				fillIn(fill, all, way)
			}
			text = strings.Join(kept, "\n")
		} else {
			read, err := source.NewSet().Add("blank.yaml", []byte(text))
			require.NoError(t, err)
			root, findings := data.Read(read, data.YAML, nil)
			require.Empty(t, findings, "%v\n%s", findings, blank)
			var walk func(v value.Value, way []string)
			walk = func(v value.Value, way []string) {
				if v.IsNull() {
					fillIn(fill, all, way)
				}
				if v.Kind() == value.Record {
					for i, key := range v.Shape().Keys() {
						walk(v.Values()[i], append(slices.Clip(way), key))
					}
				}
			}
			walk(root, nil)
		}
		filled, err := json.Marshal(fill)
		require.NoError(t, err)
		files["filled.json"] = file(string(filled))
		files["blank."+format] = file(text)
		files["knothole.toml"] = file("[environments.a]\nlayers = [\"blank." + format + "\", \"filled.json\"]\n")
		with, err := project.Load(files)
		require.NoError(t, err)
		_, findings, _ := render.All(with, with.Runs(with.Concrete()), render.Options{Everything: true})
		require.False(t, findings.HasErrors(), "%v\n%s\n---\n%s\n---\n%s", told(with, findings), program, blank, filled)
	}
}

// judgeLike checks that the layer of an environment that is like another, with its comment signs taken away, gives it
// what the other has, in YAML and in TOML: whether a layer that both have gives an input, one of the two that only the
// other has, or each a part of it.
func judgeLike(t *testing.T, seed uint64) {
	g := &blanks{Rand: rand.New(rand.NewPCG(seed, 6))}
	var inputs, document strings.Builder
	shared, own, last := map[string]any{}, map[string]any{}, map[string]any{}
	removed := map[string]any{} // by input, what one layer gives an entry that the next takes away
	for i := range 1 + g.IntN(5) {
		of, v, written := g.a(3)
		name := fmt.Sprintf("i%d", i)
		if strings.Contains(of, " where ") {
			of = g.alias(of)
		}
		fmt.Fprintf(&inputs, "input %s: %s", name, of)
		switch g.IntN(5) {
		case 0:
			inputs.WriteString(" = " + written)
		case 1:
			shared[name] = v
		case 2:
			if fields, ok := v.(map[string]any); ok && strings.HasPrefix(of, "{") { // some here, some there
				parts := [3]map[string]any{{}, {}, {}}
				for _, key := range slices.Sorted(maps.Keys(fields)) {
					parts[g.IntN(3)][key] = fields[key]
				}
				own[name], last[name], shared[name] = parts[0], parts[1], parts[2]
				if strings.HasPrefix(of, "{ *") {
					removed[name] = fields["k2"]
				}
				break
			}
			own[name] = v
		default:
			own[name] = v
		}
		inputs.WriteByte('\n')
		fmt.Fprintf(&document, " %s: %s?,", name, name)
	}
	program := g.types.String() + inputs.String() + "document \"a.yaml\" = {" + document.String() + " }\n"
	for _, format := range []data.Format{data.TOML, data.YAML} {
		files := fstest.MapFS{"main.knot": file(program)}
		for name, v := range removed {
			if format == data.YAML { // TOML has no null
				shared[name].(map[string]any)["gone"] = v
				own[name].(map[string]any)["gone"] = nil
			}
		}
		for name, values := range map[string]map[string]any{"shared": shared, "own": own, "last": last} {
			marshaled, err := json.Marshal(values)
			require.NoError(t, err)
			read, err := source.NewSet().Add(name, marshaled)
			require.NoError(t, err)
			root, findings := data.Read(read, data.JSON, nil)
			require.Empty(t, findings)
			text, err := data.Write(root, format)
			require.NoError(t, err)
			files[name+"."+string(format)] = file(string(text))
		}
		entries := fmt.Sprintf("[environments.a]\nlayers = [\"shared.%[1]s\", \"own.%[1]s\", \"last.%[1]s\"]\n"+
			"[environments.c]\nlayers = [\"shared.%[1]s\"]\n", format)
		files["knothole.toml"] = file(entries)
		p, err := project.Load(files)
		require.NoError(t, err)
		entry, layerPath, layer, err := p.NewEnvironment("b", p.Environment("a"))
		require.NoError(t, err)
		require.Equal(t, "b."+string(format), layerPath)
		files["knothole.toml"], files[layerPath] = file(entries+entry), file(uncommented(layer))
		p, err = project.Load(files)
		require.NoError(t, err)
		results, findings, _ := render.All(p, []*project.Run{p.RunNamed("a"), p.RunNamed("b")},
			render.Options{Everything: true})
		require.False(t, findings.HasErrors(), "%v\n%s\n---\n%s\n---\n%s", told(p, findings), program,
			files["own."+string(format)].Data, layer)
		want, err := results[0].Documents[0].Text()
		require.NoError(t, err)
		got, err := results[1].Documents[0].Text()
		require.NoError(t, err)
		require.Equal(t, string(want), string(got), "%s\n---\n%s", program, layer)
	}
}

// fillIn puts the value that is at a way among all into another record.
func fillIn(into, all map[string]any, way []string) {
	var v any = all
	for _, key := range way {
		of, ok := v.(map[string]any)
		if !ok {
			return
		}
		if v, ok = of[key]; !ok {
			return
		}
	}
	for _, key := range way[:len(way)-1] {
		next, ok := into[key].(map[string]any)
		if !ok {
			next = map[string]any{}
			into[key] = next
		}
		into = next
	}
	into[way[len(way)-1]] = v
}

func told(p *project.Project, findings source.Findings) (all []string) {
	for _, f := range findings {
		l := p.Sources.Locate(f.Span.Start)
		name := ""
		if l.File != nil {
			name = l.File.Path
		}
		all = append(all, fmt.Sprintf("%s:%d: %s\n", name, l.Line, f.Message))
	}
	return all
}

// FuzzBlank: a layer to fill in is a layer.
func FuzzBlank(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { judgeBlank(t, seed) })
}

// TestBlank is a part of what FuzzBlank tries.
func TestBlank(t *testing.T) {
	for seed := range uint64(300) {
		judgeBlank(t, seed)
	}
}

// FuzzLike: an environment that is like another, with nothing decided otherwise, is the same.
func FuzzLike(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { judgeLike(t, seed) })
}

// TestLike is a part of what FuzzLike tries.
func TestLike(t *testing.T) {
	for seed := range uint64(200) {
		judgeLike(t, seed)
	}
}
