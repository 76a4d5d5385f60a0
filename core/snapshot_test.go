package core_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
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

// layered is a project of modules that use each other, with data, schemas, a module of rules, and layers.
type layered struct {
	*rand.Rand
	modules int
	version map[string]int // of each file: what is in it depends on it
	named   bool           // a module names the environments
}

func newLayered(seed uint64) *layered {
	r := rand.New(rand.NewPCG(seed, 27))
	return &layered{Rand: r, modules: 3 + r.IntN(5), version: map[string]int{}, named: seed%4 == 0}
}

// uses returns the modules that a module uses: some of those before it, the same ones for each version but every third.
func (l *layered) uses(i, version int) (all []int) {
	for k := range i {
		if (i*7+k*3)%3 != 0 && (version%3 != 2 || k%2 == 0) {
			all = append(all, k)
		}
	}
	return all
}

// files returns the files of the project.
func (l *layered) files() fstest.MapFS {
	fs := fstest.MapFS{}
	add := func(name string, text func(version int) string) {
		fs[name] = &fstest.MapFile{Data: []byte(text(l.version[name]))}
	}
	for i := range l.modules {
		add(fmt.Sprintf("m%d.knot", i), func(v int) string {
			var b strings.Builder
			total := fmt.Sprint(v)
			for _, k := range l.uses(i, v) {
				fmt.Fprintf(&b, "use \"./m%d.knot\" as m%d\n", k, k)
				total += fmt.Sprintf(" + m%d.total", k)
			}
			fmt.Fprintf(&b, "type Level = int where it in 0..%d\n", 100000+v)
			fmt.Fprintf(&b, "type Box = { size: Level = %d, name: string = \"b%d\" }\n", v, i)
			fmt.Fprintf(&b, "let total: Level = %s\nfn scale(x: int) -> int = x * %d + total\n", total, v+1)
			if i == 1 {
				fmt.Fprintf(&b, "type Pier = schema \"./pier.json\"\nlet pier: Pier = { level: %d }\n", v)
			}
			if i == 0 && l.named {
				b.WriteString("let here = match env.name { \"north\" -> 1 }\n")
			}
			if v%5 == 4 {
				fmt.Fprintf(&b, "let wrong%d: string = %d\nlet _unused = nothing\n", v, v)
			}
			return b.String()
		})
	}
	add("pier.json", func(v int) string {
		return fmt.Sprintf(`{"type": "object", "properties": {"level": {"type": "integer", "maximum": %d}}}`, 3+v)
	})
	add("piers.yaml", func(v int) string { return fmt.Sprintf("heron: %d\ncurlew: 2\n", v) })
	add("rules.knot", func(v int) string {
		return fmt.Sprintf("## Why.\nrule small on doc { require doc.total < %d else \"too large: ${doc.total}\" }\n", 3+v*5)
	})
	add("north.yaml", func(v int) string { return fmt.Sprintf("copies: %d\n", v) })
	add("main.knot", func(v int) string {
		var b strings.Builder
		b.WriteString("use \"./piers.yaml\" as piers\ninput copies: int where it in 0..20 = 1\n" +
			"secret input pin: string = \"x\"\n")
		total := "copies"
		for i := range l.modules {
			fmt.Fprintf(&b, "use \"./m%d.knot\" as m%d\n", i, i)
			total += fmt.Sprintf(" + m%d.scale(%d)", i, v)
		}
		fmt.Fprintf(&b, "let box: m0.Box = {}\n")
		fmt.Fprintf(&b, "document \"a.yaml\" = { total: %s, box: box, piers: piers, in: env.name }\n", total)
		return b.String()
	})
	add(project.FileName, func(v int) string {
		extra := ""
		if v%2 == 1 {
			extra = "[environments.south]\n"
		}
		return "[environments.north]\nlayers = [\"north.yaml\"]\n" + extra + "[[rules]]\nmodule = \"rules.knot\"\n"
	})
	return fs
}

// change changes one file, and returns its name.
func (l *layered) change() string {
	names := []string{"pier.json", "piers.yaml", "rules.knot", "north.yaml", "main.knot", project.FileName}
	for i := range l.modules {
		names = append(names, fmt.Sprintf("m%d.knot", i))
	}
	slices.Sort(names)
	name := names[l.IntN(len(names))]
	l.version[name]++
	return name
}

// outcome shows all that came out of a project.
func outcome(p *project.Project) string {
	var b strings.Builder
	findings := verified(p, p.Runs(p.Concrete()), render.Options{Everything: true, Validate: true}, today,
		func(r *render.Result) error {
			for _, d := range r.Documents {
				fmt.Fprintf(&b, "%s/%s: %s\n", r.Run.Name, d.Path, data.CompactJSON(value.Shown(d.Value)))
			}
			return nil
		})
	for _, f := range findings {
		fmt.Fprintf(&b, "%s: %s %s %s %v\n", p.Sources.Locate(f.Span.Start), f.Code, f.Message, f.Help, f.Environments)
		for _, r := range f.Related {
			fmt.Fprintf(&b, "  %s: %s\n", p.Sources.Locate(r.Span.Start), r.Text)
		}
	}
	return b.String()
}

// importers returns a module and all that use it, also by way of others.
func (l *layered) importers(p *project.Project, name string) (all []string) {
	reached := map[string]bool{name: true}
	for _, m := range p.Modules() { // each comes after those that it uses
		for _, imported := range m.Imports {
			if imported.Module != nil && reached[imported.Module.Path] {
				reached[m.Path] = true
			}
		}
		if reached[m.Path] {
			all = append(all, m.Path)
		}
	}
	return all
}

// TestSnapshotsShare changes one file after the other: what is loaded after a snapshot is what is loaded anew, no more
// is parsed than the file that changed, no more is checked than what depends on it, and snapshots before stay as they
// were. A loading that was cancelled leaves nothing else.
func TestSnapshotsShare(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	checked, modules := 0, 0
	for seed := range uint64(rounds(25, 1000)) {
		l := newLayered(seed)
		before, err := project.Load(l.files())
		require.NoError(t, err)
		first, then := before, outcome(before)
		for step := range 8 {
			name := l.change()
			files := l.files()
			_, err := project.LoadWith(files, project.Loading{Rules: true, After: before.Snapshot,
				Context: newCountdown(1 + l.IntN(5))})
			require.ErrorIs(t, err, context.Canceled, "seed %d", seed) // of which nothing is seen below
			p, err := project.LoadWith(files, project.Loading{Rules: true, After: before.Snapshot})
			require.NoError(t, err)
			fresh, err := project.Load(files)
			require.NoError(t, err)
			require.Equal(t, outcome(fresh), outcome(p), "seed %d, step %d: %s changed", seed, step, name)
			made := p.Made()
			require.LessOrEqual(t, made.Parsed, 1, "seed %d: %s changed", seed, name)
			switch {
			case strings.HasSuffix(name, ".knot"):
				require.Equal(t, len(l.importers(p, name)), made.Checked, "seed %d: %s changed", seed, name)
			case name == "pier.json":
				require.Equal(t, len(l.importers(p, "m1.knot")), made.Checked, "seed %d: %s changed", seed, name)
			case name != project.FileName:
				require.Zero(t, made.Checked, "seed %d: %s changed", seed, name)
			}
			checked, modules = checked+made.Checked, modules+len(p.Modules())
			before = p
		}
		require.Equal(t, then, outcome(first), "seed %d: the first snapshot", seed)
	}
	require.Less(t, 2*checked, modules)
	t.Logf("%d of %d modules were checked again", checked, modules)
}

// TestSnapshotCounts shows what a change of one module costs in a chain of them.
func TestSnapshotCounts(t *testing.T) {
	files := fstest.MapFS{project.FileName: {Data: []byte("[environments.north]\n")},
		"m0.knot": {Data: []byte("let x = 1\n")}}
	for i := 1; i < 20; i++ {
		files[fmt.Sprintf("m%d.knot", i)] = &fstest.MapFile{Data: fmt.Appendf(nil,
			"use \"./m%d.knot\" as m\nlet x = m.x + 1\n",
			i-1)}
	}
	files["main.knot"] = &fstest.MapFile{Data: []byte("use \"./m19.knot\" as m\noutput x = m.x\n")}
	p, err := project.Load(files)
	require.NoError(t, err)
	require.Equal(t, project.Made{Parsed: 22, Checked: 21}, p.Made())
	for _, row := range []struct {
		name string
		made project.Made
	}{{"main.knot", project.Made{Parsed: 1, Checked: 1}}, {"m19.knot", project.Made{Parsed: 1, Checked: 2}},
		{"m10.knot", project.Made{Parsed: 1, Checked: 11}}, {"", project.Made{}}} {
		if f := files[row.name]; f != nil {
			files[row.name] = &fstest.MapFile{Data: append(slices.Clone(f.Data), "# a remark\n"...)}
		}
		next, err := project.LoadWith(files, project.Loading{Rules: true, After: p.Snapshot})
		require.NoError(t, err)
		require.Equal(t, row.made, next.Made(), row.name)
		require.Empty(t, slices.DeleteFunc(slices.Clone(next.Findings),
			func(f source.Finding) bool { return f.Severity == source.Warning }))
		p = next
	}
}

// rounds is how many rounds a law runs: more with KNOTHOLE_LONG.
func rounds(short, long int) int {
	if os.Getenv("KNOTHOLE_LONG") != "" {
		return long
	}
	return short
}
