package core_test

import (
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/compare"
	"knothole/core/explain"
	"knothole/core/project"
	"knothole/core/value"
)

// memory makes a file system of files.
func memory(files map[string][]byte) fs.FS {
	m := fstest.MapFS{}
	for name, text := range files {
		m[name] = &fstest.MapFile{Data: text}
	}
	return m
}

// numberForm are numbers that may be changed without another line meaning something else.
var numberForm = regexp.MustCompile(`\b[0-9]\b`)

// edited changes numbers in some lines of a text.
func (g *generator) edited(text string) string {
	lines := strings.SplitAfter(text, "\n")
	for i, line := range lines {
		if g.chance(25) && !strings.HasPrefix(line, "type ") && !strings.HasPrefix(line, "input ") {
			lines[i] = numberForm.ReplaceAllStringFunc(line, func(digit string) string {
				if g.chance(50) {
					return strconv.Itoa(g.IntN(9))
				}
				return digit
			})
		}
	}
	return strings.Join(lines, "")
}

// balanced reports whether wherever lines were changed as many came as went, so that each has one that it was.
func balanced(before, after string) bool {
	left, right := 0, 0
	for _, line := range compare.Lines(before, after) {
		switch {
		case line.Right == 0:
			left++
		case line.Left == 0:
			right++
		case left != right:
			return false
		}
	}
	return left == right
}

// revised holds for a random project, of which some lines were changed, that of each difference lines are named with
// which as before it is gone, and that it takes each of them.
func revised(t *testing.T, seed uint64) (places int) {
	c := newCoasts(t, seed)
	g := newGenerator(seed + 1)
	files := [2]map[string]string{c.texts(t), {}}
	for _, name := range slices.Sorted(maps.Keys(files[0])) {
		if files[1][name] = g.edited(files[0][name]); !balanced(files[0][name], files[1][name]) {
			return 0
		}
	}
	load := func(files map[string]string) *project.Project {
		all := map[string][]byte{}
		for name, text := range files {
			all[name] = []byte(text)
		}
		p, err := project.Load(memory(all))
		require.NoError(t, err)
		return p
	}
	documents := func(files map[string]string) map[string]value.Value { return renderedParts(load(files), "west") }
	before, after := load(files[0]), load(files[1])
	found, _, _ := compare.Revisions([2]compare.Revision{{Name: "before", Project: before, Environment: "west"},
		{Name: "after", Project: after, Environment: "west"}}, compare.Options{}, memory)
	if found == nil {
		return 0
	}
	sides := [2]map[string]value.Value{documents(files[0]), documents(files[1])}
	tried := map[string][2]map[string]value.Value{}
	// with makes lines of both sides as on the other.
	with := func(names []string) [2]map[string]value.Value {
		key := strings.Join(names, " ")
		if known, ok := tried[key]; ok {
			return known
		}
		var all [2]map[string]value.Value
		for side := range 2 {
			changed := map[string]string{}
			for name, text := range files[side] {
				lines, others := strings.SplitAfter(text, "\n"), strings.SplitAfter(files[1-side][name], "\n")
				for i := range lines {
					if slices.Contains(names, fmt.Sprintf("%s:%d", name, i+1)) {
						lines[i] = others[i]
					}
				}
				changed[name] = strings.Join(lines, "")
			}
			all[side] = documents(changed)
		}
		tried[key] = all
		return all
	}
	one := func(document string, row *compare.Row, cause explain.Cause) {
		if !cause.Tried {
			return
		}
		places++
		var names []string
		for _, r := range cause.Because {
			names = append(names, r.Name)
		}
		require.NotEmpty(t, names, document)
		is := gone(with(names), sides, document, row)
		require.True(t, is[0] && is[1], "%s: %v\n%s\n---\n%s", document, names, files[0]["main.knot"],
			files[1]["main.knot"])
		for i := range names {
			if len(names) > 1 {
				is := gone(with(slices.Delete(slices.Clone(names), i, i+1)), sides, document, row)
				require.False(t, is[0] && is[1], "%s: %s of %v", document, names[i], names)
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
	return places
}

// FuzzRevisions: whatever was changed, the changed lines that are named make the difference, all of them.
func FuzzRevisions(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { revised(t, seed) })
}

// TestRevisions is a part of what FuzzRevisions tries.
func TestRevisions(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	places := 0
	for seed := range uint64(28) {
		places += revised(t, seed)
	}
	require.Greater(t, places, 50)
}
