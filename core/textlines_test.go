package core_test

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/render"
)

// liner writes programs whose strings of several lines are put together in all the ways that there are. What it writes
// and what inputs hold are words that are met once, so that a line tells where it comes from.
type liner struct {
	*rand.Rand
	main    strings.Builder
	written int
	names   int
}

func (l *liner) word() string {
	l.written++
	return fmt.Sprintf("W%dw", l.written)
}

func (l *liner) name() string {
	l.names++
	return fmt.Sprintf("n%d", l.names)
}

// single is a string of one line.
func (l *liner) single() string {
	switch l.IntN(4) {
	case 0:
		return fmt.Sprintf("%q", l.word())
	case 1:
		return fmt.Sprintf("\"%s ${v%d}\"", l.word(), l.IntN(4))
	case 2:
		return fmt.Sprintf("(if b%d then v%d else v%d)", l.IntN(2), l.IntN(4), l.IntN(4))
	}
	return fmt.Sprintf("v%d", l.IntN(4))
}

// several is a string that may have several lines.
func (l *liner) several(depth int) string {
	if depth == 0 {
		return []string{l.single(), fmt.Sprintf("m%d", l.IntN(2)),
			fmt.Sprintf("\"%s\\n%s ${v1}\"", l.word(), l.word())}[l.IntN(3)]
	}
	switch l.IntN(9) {
	case 8:
		return fmt.Sprintf("text.join(text.lines(%s), \"\\n\")", l.several(depth-1))
	case 0:
		return fmt.Sprintf("(%s + \"\\n\" + %s)", l.several(depth-1), l.several(depth-1))
	case 1:
		return fmt.Sprintf("text.join([%s, %s, ...if b%d then [%s]], \"\\n\")", l.several(depth-1), l.several(depth-1),
			l.IntN(2), l.single())
	case 2:
		return fmt.Sprintf("(if b%d then %s else %s)", l.IntN(2), l.several(depth-1), l.several(depth-1))
	case 3:
		return fmt.Sprintf("text.replace(%s, \"nothing of it\", r0)", l.several(depth-1))
	case 4:
		return fmt.Sprintf("around(%s)", l.several(depth-1))
	}
	name, body := l.name(), l.block(depth-1)
	fmt.Fprintf(&l.main, "let %s = %s\n", name, body)
	return name
}

// block is a string of several lines.
func (l *liner) block(depth int) string {
	var b strings.Builder
	b.WriteString("\"\"\"\n")
	for range 1 + l.IntN(5) {
		b.WriteString("  " + strings.Repeat(" ", 2*l.IntN(2)))
		switch l.IntN(9) {
		case 7:
			fmt.Fprintf(&b, "${for line in text.lines(%s) -> \"%s ${line}\"}", l.several(depth), l.word())
		case 8:
			fmt.Fprintf(&b, "${[v%d, \"%s\", ...if b%d then [v%d], \"\", \"%s ${v%d}\"]}", l.IntN(4), l.word(),
				l.IntN(2),
				l.IntN(4), l.word(), l.IntN(4))
		case 0:
			b.WriteString(l.word())
		case 1:
			fmt.Fprintf(&b, "%s ${%s} %s", l.word(), l.single(), l.word())
		case 2:
			fmt.Fprintf(&b, "%s ${%s}", l.word(), l.several(depth))
		case 3:
			fmt.Fprintf(&b, "${%s}", l.several(depth))
		case 4:
			fmt.Fprintf(&b, "${if b%d then %s}", l.IntN(2), l.several(depth))
		case 5:
			fmt.Fprintf(&b, "${for x in [v%d, v%d] -> \"%s ${x}\"}", l.IntN(4), l.IntN(4), l.word())
		case 6:
			fmt.Fprintf(&b, "%s\\n%s ${v%d}", l.word(), l.word(), l.IntN(4))
		}
		b.WriteString("\n")
	}
	b.WriteString("  \"\"\"")
	return b.String()
}

var words = regexp.MustCompile(`[WV][0-9]+[a-z]`)

// judgeLines checks that each line of a text comes from where a word on it is written, that it depends on each input
// that a word on it is of, and on no other but what chooses.
func judgeLines(t *testing.T, seed uint64) (judged int) {
	l := &liner{Rand: rand.New(rand.NewPCG(seed, 7))}
	layer := "b0: true\nb1: false\nr0: new\n"
	for i := range 4 {
		fmt.Fprintf(&l.main, "input v%d: string\n", i)
		layer += fmt.Sprintf("v%d: V%dv\n", i, i)
	}
	l.main.WriteString("input m0: string\ninput m1: string\ninput b0: bool\ninput b1: bool\ninput r0: string\n")
	layer += "m0: |\n  V10m\n  V11m and\n\n  V12m\nm1: |-\n  V13m\n    V14m\n"
	l.main.WriteString("fn around(s: string) -> string = \"\"\"\n  Wfirst ${v0}\n    ${s}\n  \"\"\"\n")
	for i := range 3 {
		body := l.block(2)
		if l.IntN(2) == 0 {
			body = l.several(3)
		}
		fmt.Fprintf(&l.main, "document \"d%d.txt\" = %s\n", i, body)
	}
	files := map[string][]byte{"main.knot": []byte(l.main.String()), "a.yaml": []byte(layer),
		"knothole.toml": []byte("[environments.a]\nlayers = [\"a.yaml\"]\n")}
	p, err := project.Load(memory(files))
	require.NoError(t, err)
	results, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{Recording: true})
	if findings.HasErrors() {
		for _, f := range findings {
			require.Contains(t, []string{"unused"}, string(f.Code), "%s\n%s", f.Message, l.main.String())
		}
		return 0
	}
	r := results[0].Recorder()
	of := map[string]string{} // input by word
	lines := map[string][]int{}
	for name, text := range map[string]string{"main.knot": l.main.String(), "a.yaml": layer} {
		for i, line := range strings.Split(text, "\n") {
			for _, word := range words.FindAllString(line, -1) {
				lines[word] = append(lines[word], i+1)
				if name == "a.yaml" {
					of[word], _, _ = strings.Cut(line, ":")
					if strings.HasPrefix(line, " ") {
						of[word] = "m0"
						if word >= "V13" {
							of[word] = "m1"
						}
					}
				}
			}
		}
	}
	for _, d := range results[0].Documents {
		text := d.Value.Text()
		all := render.TextLines(r, p.Sources, d.Value)
		want := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
		require.Len(t, all, len(want), "%s\n%q", l.main.String(), text)
		for i, line := range all {
			require.Equal(t, want[i], line.Text)
			at := p.Sources.Locate(line.At)
			require.NotNil(t, at.File)
			if strings.TrimSpace(line.Text) == "" {
				continue // nobody asks
			}
			var leaves []string
			for _, leaf := range explain.Leaves(r, line.Origin) {
				leaves = append(leaves, leaf.Name)
			}
			known := map[string]bool{"b0": true, "b1": true, "r0": true}
			placed, own := false, false
			for _, word := range words.FindAllString(line.Text, -1) {
				where := lines[word]
				if of[word] == "" || at.File.Path == "a.yaml" {
					own = true
					placed = placed || slices.Contains(where, at.Line)
				}
				if of[word] != "" {
					known[of[word]] = true
					require.Contains(t, leaves, of[word], "line %d %q of\n%s\n%s", i+1, line.Text, text,
						l.main.String())
				}
			}
			// What a function makes of one line is computed where it is called.
			placed = placed || regexp.MustCompile(`text\.(join|replace)\(`).MatchString(at.File.Line(at.Line))
			// What is taken apart of a layer, and put together again, is where its string begins.
			placed = placed || at.File.Path == "a.yaml" && strings.Contains(l.main.String(), "text.lines")
			there := strings.Contains(l.main.String(), strings.TrimSpace(at.File.Line(at.Line)))
			require.True(t, placed || !own && there,
				"line %d %q is said to be from %s:%d of\n%s\n%s", i+1, line.Text, at.File.Path, at.Line, text,
				l.main.String())
			for _, leaf := range leaves {
				// How many lines a text is taken apart into depends on all of it.
				require.True(t, known[leaf] || strings.Contains(l.main.String(), "text.lines"),
					"line %d %q depends on %s in\n%s\n%s", i+1, line.Text, leaf, text,
					l.main.String())
			}
			judged++
		}
	}
	return judged
}

// FuzzTextLines checks that each line of a computed text is known by where it comes from.
func FuzzTextLines(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { judgeLines(t, seed) })
}

// TestTextLines is a part of what FuzzTextLines tries.
func TestTextLines(t *testing.T) {
	judged := 0
	for seed := range uint64(100) {
		judged += judgeLines(t, seed)
	}
	require.Greater(t, judged, 1000)
}
