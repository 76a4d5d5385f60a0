package core_test

import (
	"cmp"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/project"
	"knothole/core/source"
)

// occurrence is a name where it is declared or used, in a file of a project.
type occurrence struct {
	file     string
	from, to int
}

// occurrences returns the places of a name of a project: that of its declaration, and all of its uses.
func occurrences(p *project.Project, declared source.Span) []occurrence {
	var found []occurrence
	add := func(span source.Span) {
		file := p.Sources.File(span.Start)
		found = append(found, occurrence{file.Path, file.Offset(span.Start), file.Offset(span.End)})
	}
	add(declared)
	for _, m := range p.Modules() {
		for _, use := range m.Info.Uses {
			if use.Declared.Start == declared.Start {
				add(use.Span)
			}
		}
	}
	return found
}

// renamed returns a project in which a name is another one wherever it occurs.
func renamed(files fstest.MapFS, where []occurrence, to string) fstest.MapFS {
	changed := maps.Clone(files)
	slices.SortFunc(where, func(a, b occurrence) int { return cmp.Compare(b.from, a.from) })
	for _, o := range where {
		text := string(changed[o.file].Data)
		changed[o.file] = &fstest.MapFile{Data: []byte(text[:o.from] + to + text[o.to:])}
	}
	return changed
}

// spreadArguments finds a call into which a record is spread: its keys are the names of parameters.
var spreadArguments = regexp.MustCompile(`\w\([^)]*\.\.\.`)

// TestRenaming checks that the checker knows every use of every name: a value, a function, a type or a local value that
// is called otherwise wherever the checker says that it is used means the same. Names that are in data, such as those
// of inputs, outputs and fields, are left out.
func TestRenaming(t *testing.T) {
	archives, err := filepath.Glob("testdata/corpus/*.txtar")
	require.NoError(t, err)
	random := rand.New(rand.NewPCG(3, 5))
	renamings := map[check.ObjectKind]int{}
	for _, name := range archives {
		if strings.Contains(name, "limits") {
			continue // they take long on purpose
		}
		archive, err := txtar.ParseFile(name)
		require.NoError(t, err)
		programs := map[string]fstest.MapFS{}
		for _, f := range archive.Files {
			folder, file, _ := strings.Cut(f.Name, "/")
			if file == "want" {
				continue
			}
			if programs[folder] == nil {
				programs[folder] = fstest.MapFS{}
			}
			programs[folder][file] = &fstest.MapFile{Data: f.Data}
		}
		for _, folder := range slices.Sorted(maps.Keys(programs)) {
			files := programs[folder]
			before := withoutFindings(runProgram(t, files))
			if before == "" {
				continue
			}
			p, err := project.Load(files)
			require.NoError(t, err)
			spreads := slices.ContainsFunc(slices.Collect(maps.Values(files)),
				func(f *fstest.MapFile) bool { return spreadArguments.Match(f.Data) })
			for _, o := range renamable(p) {
				frequent := o.Kind == check.ObjectLet || o.Kind == check.ObjectLocal
				if frequent && random.IntN(6) > 0 || spreads && o.Kind == check.ObjectLocal {
					continue
				}
				where := occurrences(p, o.Span)
				after := withoutFindings(runProgram(t, renamed(files, where, o.Name+"_9")))
				require.Equal(t, before, after, "%s %s: %s %q in %v", name, folder, o.Kind, o.Name, where)
				renamings[o.Kind]++
			}
		}
	}
	for _, kind := range []check.ObjectKind{check.ObjectLet, check.ObjectFunction, check.ObjectType, check.ObjectLocal} {
		require.Greater(t, renamings[kind], 15, "%s", kind)
	}
}

// withoutFindings leaves the warnings out of what a program gives, since they tell names; it is empty when there are
// errors.
func withoutFindings(text string) string {
	if strings.Contains(text, ": error: ") {
		return ""
	}
	var kept []string
	for line := range strings.Lines(text) {
		if !strings.Contains(line, ": warning: ") && !strings.HasPrefix(line, "  help: ") &&
			!strings.HasPrefix(line, "  see ") {
			kept = append(kept, line)
		}
	}
	return strings.Join(kept, "")
}

// renamable returns the objects of a project whose names mean nothing outside of the language.
func renamable(p *project.Project) []*check.Object {
	var all []*check.Object
	for _, m := range p.Modules() {
		for _, o := range m.Order {
			if o.Kind == check.ObjectLet || o.Kind == check.ObjectFunction || o.Kind == check.ObjectType {
				all = append(all, o)
			}
		}
		for _, o := range m.Info.Locals {
			if o.Name != "it" && o.Name != "_" {
				all = append(all, o)
			}
		}
	}
	slices.SortFunc(all, func(a, b *check.Object) int {
		return cmp.Or(cmp.Compare(a.Span.Start, b.Span.Start), strings.Compare(fmt.Sprint(a.Kind), fmt.Sprint(b.Kind)))
	})
	return all
}

// TestScopes holds where local values can be used.
func TestScopes(t *testing.T) {
	text := `let xs = for a, b in { k: 1 } where b > 0 -> (let c = a then "${c}${b}")
fn f(p: int) -> [int] = list.map([1], fn(q) = p + q)
output ys = f(1)
output zs = xs
`
	p, err := project.Load(fstest.MapFS{"main.knot": {Data: []byte(text)},
		project.FileName: {Data: []byte("[environments.bench]\n")}})
	require.NoError(t, err)
	require.Empty(t, p.Findings)
	var scopes []string
	for _, s := range p.Unit().Module.Info.Scopes {
		scopes = append(scopes, s.Object.Name+p.Sources.File(s.Span.Start).Slice(s.Span))
	}
	slices.Sort(scopes)
	require.Equal(t, []string{
		`a, b in { k: 1 } where b > 0 -> (let c = a then "${c}${b}")`,
		`b in { k: 1 } where b > 0 -> (let c = a then "${c}${b}")`,
		`c = a then "${c}${b}"`,
		`p: int) -> [int] = list.map([1], fn(q) = p + q)`,
		`q) = p + q`,
	}, scopes)
}
