package compare_test

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/value"
)

// cluster makes objects as they are rendered, and as a server has them.
type cluster struct {
	*rand.Rand
	names int
}

func (g *cluster) name(prefix string) string {
	g.names++
	return fmt.Sprintf("%s%d", prefix, g.names)
}

func recordOf(entries ...any) value.Value {
	var b value.Builder
	for i := 0; i < len(entries); i += 2 {
		b.Set(entries[i].(string), entries[i+1].(value.Value))
	}
	return b.Record(0)
}

func textOf(s string) value.Value { return value.StringOf(s, 0) }

// amounts are pairs that mean the same.
var amounts = [][2]value.Value{
	{textOf("500m"), textOf("0.5")}, {value.IntOf(1, 0), textOf("1000m")}, {textOf("1Gi"), textOf("1024Mi")},
	{textOf("2"), value.IntOf(2, 0)}, {textOf("128Mi"), textOf("134217728")}, {textOf("1e3"), textOf("1k")},
}

// nothings are what servers leave out.
var nothings = []value.Value{value.NullOf(0), recordOf(), value.ListOf(nil, 0), value.BoolOf(false, 0),
	value.IntOf(0, 0), textOf("")}

func (g *cluster) scalar() value.Value {
	return []value.Value{value.IntOf(1+g.Int64N(90), 0), textOf(g.name("text")), value.BoolOf(true, 0)}[g.IntN(3)]
}

// value makes what is rendered, and what a server makes of it: other order, additions, other words for one thing.
func (g *cluster) value(depth int) (rendered, running value.Value) {
	if depth == 0 {
		v := g.scalar()
		return v, v
	}
	switch g.IntN(7) {
	case 0:
		n := g.IntN(3)
		all := make([]value.Value, n)
		for i := range all {
			all[i] = g.scalar()
		}
		return value.ListOf(all, 0), value.ListOf(all, 0)
	case 1: // elements with names, in another order
		var left, right []value.Value
		for range 1 + g.IntN(3) {
			name := textOf(g.name("element"))
			x, y := g.record(depth - 1)
			left = append(left, value.Put(x, []string{"name"}, name))
			right = append(right, value.Put(y, []string{"name"}, name))
		}
		g.Shuffle(len(right), func(i, j int) { right[i], right[j] = right[j], right[i] })
		return value.ListOf(left, 0), value.ListOf(right, 0)
	case 2:
		of := amounts[g.IntN(len(amounts))]
		i := g.IntN(2)
		return recordOf("limits", recordOf("cpu", of[i])), recordOf("limits", recordOf("cpu", of[1-i]))
	case 3:
		v := g.scalar()
		return v, v
	}
	return g.record(depth - 1)
}

func (g *cluster) record(depth int) (rendered, running value.Value) {
	type pair struct {
		key         string
		left, right value.Value
	}
	var pairs []pair
	for range 1 + g.IntN(4) {
		x, y := g.value(depth)
		pairs = append(pairs, pair{g.name("field"), x, y})
	}
	if g.IntN(3) == 0 {
		v := nothings[g.IntN(len(nothings))]
		p := pair{g.name("nothing"), v, value.Value{}}
		if g.IntN(2) == 0 {
			p.right = v
		}
		pairs = append(pairs, p)
	}
	if g.IntN(3) == 0 {
		pairs = append(pairs, pair{g.name("added"), value.Value{}, recordOf("by", textOf("server"))})
	}
	var left, right value.Builder
	for _, p := range pairs {
		if !p.left.IsAbsent() {
			left.Set(p.key, p.left)
		}
	}
	g.Shuffle(len(pairs), func(i, j int) { pairs[i], pairs[j] = pairs[j], pairs[i] })
	for _, p := range pairs {
		if !p.right.IsAbsent() {
			right.Set(p.key, p.right)
		}
	}
	return left.Record(0), right.Record(0)
}

func (g *cluster) object() (rendered, running value.Value) {
	name := textOf(g.name("object"))
	kind := []string{"Deployment", "ConfigMap", "Gate", "Secret"}[g.IntN(4)]
	version := textOf("floodwatch.example/v1")
	left := recordOf("apiVersion", version, "kind", textOf(kind), "metadata", recordOf("name", name))
	right := recordOf("kind", textOf(kind), "apiVersion", version, "status", recordOf("ready", value.IntOf(1, 0)),
		"metadata", recordOf("uid", textOf(g.name("uid")), "name", name, "namespace", textOf("coast")))
	if kind == "Secret" {
		text := g.name("secret")
		encoded := base64.StdEncoding.EncodeToString([]byte(text))
		return value.Put(left, []string{"stringData"}, recordOf("pin", textOf(text))),
			value.Put(right, []string{"data"}, recordOf("pin", textOf(encoded)))
	}
	x, y := g.record(3)
	return value.Put(left, []string{"spec"}, x), value.Put(right, []string{"spec"}, y)
}

// changed returns a value in which one scalar that is rendered is another, and the fields that lead to it, names of
// elements among them.
func (g *cluster) changed(rendered, running value.Value) (changed value.Value, path []string, ok bool) {
	switch {
	case rendered.Kind() == value.Record && running.Kind() == value.Record && rendered.Len() > 0:
		key := rendered.Shape().Keys()[g.IntN(rendered.Len())]
		inner, path, ok := g.changed(rendered.Get(key), running.Get(key))
		if key == "name" || !ok {
			return running, nil, false
		}
		return value.Put(running, []string{key}, inner), append([]string{key}, path...), true
	case rendered.Kind() == value.List && running.Kind() == value.List && rendered.Len() > 0:
		i := g.IntN(rendered.Len())
		at, name := i, fmt.Sprint(i)
		if of := rendered.Elements()[i]; of.Kind() == value.Record {
			name = of.Get("name").Text()
			at = slices.IndexFunc(running.Elements(), func(x value.Value) bool { return x.Get("name").Text() == name })
		}
		inner, path, ok := g.changed(rendered.Elements()[i], running.Elements()[at])
		if !ok {
			return running, nil, false
		}
		elements := slices.Clone(running.Elements())
		elements[at] = inner
		return value.ListOf(elements, 0), append([]string{name}, path...), true
	case rendered.Kind() == value.String || rendered.Kind() == value.Int:
		return textOf(g.name("other")), nil, true
	}
	return running, nil, false
}

// judgeDrift checks that what a server makes of objects is no drift, and that any scalar which is another there is
// told, and nothing else.
func judgeDrift(t *testing.T, seed uint64) {
	g := &cluster{Rand: rand.New(rand.NewPCG(seed, 11))}
	side := compare.Side{Name: "north", Contents: map[string]*compare.Content{}}
	var rendered, running []value.Value
	for i := range 1 + g.IntN(5) {
		x, y := g.object()
		rendered, running = append(rendered, x), append(running, y)
		side.Contents[fmt.Sprintf("d%d.yaml", i)] = &compare.Content{Value: x, Name: textOf("d")}
	}
	stray, _ := g.object()
	o := compare.DriftOptions{Namespace: "coast"}
	c, others := compare.Drift(side, append(slices.Clone(running), stray), o)
	show := func(c *compare.Comparison) string {
		var b strings.Builder
		for _, d := range c.Documents {
			fmt.Fprintf(&b, "%s %s %s\n", d.Path, d.Title, d.Status)
			for _, r := range d.Rows {
				fmt.Fprintf(&b, "  %s %s → %s\n", r.Path, r.Left().Show(200), r.Right().Show(200))
			}
		}
		for i := range rendered {
			fmt.Fprintf(&b, "%s\n%s\n", rendered[i].Show(1<<20), running[i].Show(1<<20))
		}
		return b.String()
	}
	require.Zero(t, others)
	require.True(t, c.Equal(), "seed %d: %s", seed, show(c))

	i := g.IntN(len(rendered))
	if spec := rendered[i].Get("spec"); !spec.IsAbsent() {
		changed, path, ok := g.changed(spec, running[i].Get("spec"))
		if !ok {
			return
		}
		running[i] = value.Put(running[i], []string{"spec"}, changed)
		c, _ = compare.Drift(side, running, o)
		require.Equal(t, 1, c.Count(compare.Differs), "seed %d: %v\n%s", seed, path, show(c))
		for _, d := range c.Documents {
			for _, r := range d.Rows {
				text := r.Path.String()
				for _, part := range path {
					if !strings.Contains(text, part) && !strings.HasPrefix(part, "element") {
						// In a list without keys, elements may be matched otherwise.
						require.Regexp(t, `^[0-9]+$`, part, "seed %d: %v is told as %s\n%s", seed, path, text, show(c))
					}
				}
			}
			require.LessOrEqual(t, len(d.Rows), 2)
		}
	}

	gone := g.IntN(len(running))
	c, _ = compare.Drift(side, slices.Delete(slices.Clone(running), gone, gone+1), o)
	require.Equal(t, 1, c.Count(compare.OnlyLeft))
}

// FuzzDrift tries judgeDrift on random objects.
func FuzzDrift(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(judgeDrift)
}

// TestDrift is a part of what FuzzDrift tries.
func TestDrift(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for seed := range uint64(2000) {
		judgeDrift(t, seed)
	}
}
