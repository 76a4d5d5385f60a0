// Package expected is for tests: it holds what is found in a source against what comments in the source expect, beside
// the token where it is expected.
//
//	let port: int = "80"  # error at `"80"`: expected an int
//
// A line may expect several findings, each with its own mark. Of a token that is in the line more than once the first
// is meant; `x`2 is the second. The text is the beginning of the message. Each finding must be expected, and each that
// is expected must be found.
package expected

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
)

// Load reads a module and those that it uses into a program, each behind those. The first is the main module.
func Load(t testing.TB, program *check.Program, name string) *check.Module {
	m := load(t, program, name)
	m.Main = true
	return m
}

func load(t testing.TB, program *check.Program, name string) *check.Module {
	t.Helper()
	for _, m := range program.Modules {
		if m.Path == filepath.Base(name) {
			return m
		}
	}
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	file, err := program.Sources.Add(filepath.Base(name), text)
	require.NoError(t, err)
	m := &check.Module{Path: file.Path, Tree: syntax.Parse(file), Imports: map[*syntax.Use]*check.Import{}}
	require.Empty(t, m.Tree.Findings, name)
	for _, d := range m.Tree.Declarations {
		if use, ok := d.(*syntax.Use); ok {
			m.Imports[use] = &check.Import{Module: load(t, program, filepath.Join(filepath.Dir(name), use.Path))}
		}
	}
	program.Modules = append(program.Modules, m)
	return m
}

var mark = regexp.MustCompile("# (error|warning) at `([^`]+)`([0-9]*): ")

// Findings holds the findings in a file against the marks in it. With update it writes the marks anew into the file of
// this name, for a person to read and approve.
func Findings(t testing.TB, set *source.Set, file *source.File, found source.Findings, name string, update bool) {
	t.Helper()
	lines := strings.Split(file.Text, "\n")
	marks := make([][]string, len(lines))
	for i, line := range lines {
		at := mark.FindAllStringIndex(line, -1)
		for j, from := range at {
			to := len(line)
			if j+1 < len(at) {
				to = at[j+1][0]
			}
			marks[i] = append(marks[i], strings.TrimSpace(line[from[0]:to]))
		}
		if len(at) > 0 {
			lines[i] = strings.TrimRight(line[:at[0][0]], " ")
		}
	}
	wanted := make([][]string, len(lines))
	for _, f := range found {
		where := set.Locate(f.Span.Start)
		if where.File != file {
			t.Errorf("%s: unexpected in %s: %s", name, where, f.Message)
			continue
		}
		n := where.Line - 1
		wanted[n] = append(wanted[n], describe(f, set, lines[n]))
	}
	for n := range lines {
		// A message may be longer than what a mark has of it.
		left := slices.Clone(wanted[n])
		for _, m := range marks[n] {
			at := slices.IndexFunc(left, func(w string) bool { return strings.HasPrefix(w, m) })
			if at < 0 && !update {
				t.Errorf("%s:%d: not found: %s", name, n+1, m)
				continue
			}
			if at >= 0 {
				left = slices.Delete(left, at, at+1)
			}
		}
		for _, w := range left {
			if !update {
				t.Errorf("%s:%d: not expected: %s", name, n+1, w)
			}
		}
	}
	if update {
		var b bytes.Buffer
		for n, line := range lines {
			b.WriteString(line)
			for _, w := range wanted[n] {
				b.WriteString("  " + w)
			}
			if n+1 < len(lines) {
				b.WriteByte('\n')
			}
		}
		require.NoError(t, os.WriteFile(name, b.Bytes(), 0o644))
	}
}

var token = regexp.MustCompile("^(\"[^\"]*\"|'[^']*'|[\\pL_][\\pL\\pN_-]*|[0-9][0-9.]*|[^`\\s])")

// describe is the mark of a finding in a line.
func describe(f source.Finding, set *source.Set, line string) string {
	severity := "error"
	if f.Severity == source.Warning {
		severity = "warning"
	}
	column := min(set.Locate(f.Span.Start).Column-1, len([]rune(line)))
	rest := string([]rune(line)[column:])
	before := string([]rune(line)[:column])
	word := token.FindString(rest)
	if word == "" {
		word = "end"
	}
	count := ""
	if n := strings.Count(before, word); n > 0 {
		count = fmt.Sprint(n + 1)
	}
	return fmt.Sprintf("# %s at `%s`%s: %s", severity, word, count, f.Message)
}
