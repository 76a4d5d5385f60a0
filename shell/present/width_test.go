package present_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/rivo/uniseg"
	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/source"
	"knothole/shell/present"
)

// someWords are words of all sorts, none of which is wider than so many columns.
func someWords(r *rand.Rand, most int) string {
	kinds := []string{"a", "value", "k8s/bay-map.yaml", "\"north\"", "界界界", "naïve", "👩‍🚒", "é", "‹secret›", "x == 1,"}
	words := make([]string, 1+r.IntN(most))
	for i := range words {
		words[i] = kinds[r.IntN(len(kinds))]
	}
	return strings.Join(words, " ")
}

// TestFindingsFit checks that on a terminal no line of a finding is wider than that, whatever it says and whatever the
// line of its source is, and that the mark is below what is marked.
func TestFindingsFit(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 4000 {
		width := []int{60, 80, 100, 120}[r.IntN(4)]
		set := source.NewSet()
		before, marked := someWords(r, 30), []string{"nope", "界", "e\u0301x"}[r.IntN(3)]
		file := add(t, set, "main.knot", before+" "+marked+" "+someWords(r, 20)+"\n")
		span := file.Span(len(before)+1, len(before)+1+len(marked))
		p, b := presenter(set)
		p.Width, p.Fit = width, true
		p.Findings(source.Findings{{Code: source.UnknownName, Span: span, Message: someWords(r, 40),
			Help:    someWords(r, 40),
			Related: []source.Related{{Span: span, Text: someWords(r, 30)}}}})
		lines := strings.Split(b.String(), "\n")
		for i, line := range lines {
			require.LessOrEqual(t, uniseg.StringWidth(line), width, "%q of %s", line, b)
			at := strings.Index(line, "^")
			if at < 0 || !strings.HasPrefix(line, "      | ") {
				continue
			}
			above := lines[i-1]
			found := strings.Index(above, " "+marked)
			for found >= 0 && uniseg.StringWidth(above[:found+1]) < uniseg.StringWidth(line[:at]) {
				next := strings.Index(above[found+1:], " "+marked)
				if next < 0 {
					break
				}
				found += 1 + next
			}
			require.Equal(t, uniseg.StringWidth(line[:at]), uniseg.StringWidth(above[:found+1]), "%s", b)
		}
	}
}

// TestFillFits checks that words that are put after each other stay within a width, and that none is lost.
func TestFillFits(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 4000 {
		text := someWords(r, 60)
		filled := present.Fill(strings.Fields(text), 4, 60, "    ")
		for line := range strings.Lines(filled) {
			require.LessOrEqual(t, uniseg.StringWidth(strings.TrimRight(line, "\n")), 60)
		}
		require.Equal(t, strings.Fields(text), strings.Fields(filled))
	}
}

// TestTablesFit checks that the table of inputs is no wider than the terminal, whatever the names and values are.
func TestTablesFit(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	for range 150 {
		width := []int{60, 80, 100, 120}[r.IntN(4)]
		files, configuration, inputs := fstest.MapFS{}, "", ""
		for i := range 1 + r.IntN(6) {
			inputs += fmt.Sprintf("## %s\ninput name_%d: string = %q\n", someWords(r, 5), i,
				strings.ReplaceAll(someWords(r, 9), `"`, ""))
		}
		for i := range 1 + r.IntN(8) {
			name := fmt.Sprintf("coast-%d%s", i, strings.Repeat("x", r.IntN(20)))
			configuration += fmt.Sprintf("[environments.%s]\nlayers = [\"%d.yaml\"]\n", name, i)
			files[fmt.Sprintf("%d.yaml", i)] = &fstest.MapFile{Data: []byte(fmt.Sprintf("name_0: %q\n",
				strings.ReplaceAll(someWords(r, 6), `"`, "")))}
		}
		files[project.FileName] = &fstest.MapFile{Data: []byte(configuration)}
		files["main.knot"] = &fstest.MapFile{Data: []byte(inputs + "document \"a.yaml\" = [name_0]\n")}
		shown := inputsTable(t, files, width, true)
		for line := range strings.Lines(shown) {
			require.LessOrEqual(t, uniseg.StringWidth(strings.TrimRight(line, "\n")), width, "%s", shown)
		}
	}
}
