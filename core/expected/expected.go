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
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
)

// Each runs a check on each program of files, which is the directory testdata, and holds what it finds against the
// marks. The programs are named for the files of the package that they are of; the directory used has modules that they
// use. When write is given, what is found is written into the programs, for a person to read and approve.
func Each(t *testing.T, files fs.FS, functions *check.Builtins,
	write func(name string, text []byte, mode fs.FileMode) error,
	run func(t *testing.T, program *check.Program) source.Findings) {
	names, err := fs.Glob(files, "*.knot")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	for _, name := range names {
		part := strings.TrimSuffix(name, ".knot")
		t.Run(part, func(t *testing.T) {
			require.FileExists(t, part+".go", "the part that the programs are of")
			program := &check.Program{Sources: source.NewSet(), Store: check.NewStore(), Builtins: functions,
				Environments: []string{"bench", "north", "south"}}
			m := load(t, program, files, name)
			m.Main, m.Environments = true, program.Environments
			found := source.ReportOf(run(t, program)...).Findings(program.Sources)
			if marked := hold(t, program.Sources, m.Tree.File, found, write != nil); write != nil {
				require.NoError(t, write("testdata/"+name, []byte(marked), 0o644))
			}
		})
	}
}

// load reads a module and those that it uses into a program, each after those.
func load(t testing.TB, program *check.Program, files fs.FS, name string) *check.Module {
	t.Helper()
	for _, m := range program.Modules {
		if m.Path == name {
			return m
		}
	}
	text, err := fs.ReadFile(files, name)
	require.NoError(t, err)
	file, err := program.Sources.Add(name, text)
	require.NoError(t, err)
	m := &check.Module{Path: file.Path, Tree: syntax.Parse(file), Imports: map[*syntax.Use]*check.Import{}}
	require.Empty(t, m.Tree.Findings, name)
	for _, d := range m.Tree.Declarations {
		if use, ok := d.(*syntax.Use); ok {
			m.Imports[use] = &check.Import{Module: load(t, program, files, path.Join(path.Dir(name), use.Path))}
		}
	}
	program.Modules = append(program.Modules, m)
	return m
}

var mark = regexp.MustCompile("# (error|warning) at `([^`]+)`([0-9]*): ")

// hold holds the findings in a file against the marks in it, or with update returns the file with the marks that it
// would have.
func hold(t testing.TB, set *source.Set, file *source.File, found source.Findings, update bool) (marked string) {
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
			t.Errorf("%s: unexpected in %s: %s", file.Path, where, f.Message)
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
				t.Errorf("%s:%d: not found: %s", file.Path, n+1, m)
				continue
			}
			if at >= 0 {
				left = slices.Delete(left, at, at+1)
			}
		}
		for _, w := range left {
			if !update {
				t.Errorf("%s:%d: not expected: %s", file.Path, n+1, w)
			}
		}
	}
	for n := range lines {
		for _, w := range wanted[n] {
			lines[n] += "  " + w
		}
	}
	return strings.Join(lines, "\n")
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
