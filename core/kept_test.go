package core_test

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/types"
	"knothole/core/value"
)

// misfit says why a value is not of a type as it is; it is empty when it is. It is written from the manual alone,
// and knows nothing of how values pass into types. The conditions of limited types are for the language to test.
func misfit(v value.Value, t types.Type, depth int) string {
	if v.Unknown() || depth > 40 {
		return ""
	}
	wrong := func() string { return fmt.Sprintf("%s is not %s", v.Show(60), t) }
	kind := func(k value.Kind) string {
		if v.Kind() != k {
			return wrong()
		}
		return ""
	}
	switch t := t.(type) {
	case *types.Basic:
		switch types.Type(t) {
		case types.Never:
			return wrong()
		case types.Any:
			if v.Kind() == value.Function || v.Kind() == value.Instance || v.Kind() == value.Absent {
				return wrong()
			}
		case types.Null:
			return kind(value.Null)
		case types.Bool:
			return kind(value.Bool)
		case types.Int:
			return kind(value.Int)
		case types.Float:
			return kind(value.Float)
		case types.String:
			return kind(value.String)
		}
		return ""
	case *types.Variable:
		return ""
	case *types.Function:
		return kind(value.Function)
	case *types.Instance:
		return kind(value.Instance)
	case *types.Literal:
		text, _ := v.Scalar()
		is := false
		switch l := t.Value.(type) {
		case string:
			is = v.Kind() == value.String && text == l
		case bool:
			is = v.Kind() == value.Bool && v.Bool() == l
		case int64:
			is = v.Kind() == value.Int && v.Int() == l
		case float64:
			is = v.Kind() == value.Float && v.Float() == l
		}
		if !is {
			return wrong()
		}
		return ""
	case *types.Named:
		return misfit(v, t.Base(), depth+1)
	case *types.Limited:
		return misfit(v, t.Base, depth+1)
	case *types.Union:
		for _, m := range t.Members {
			if misfit(v, m, depth+1) == "" {
				return ""
			}
		}
		return wrong()
	case *types.List:
		if v.Kind() != value.List {
			return wrong()
		}
		return misfitElements(v, t.Element, depth)
	case *types.Tuple:
		if v.Kind() != value.List || v.Len() != len(t.Elements) {
			return wrong()
		}
		for i, x := range v.Elements() {
			if m := misfit(x, t.Elements[i], depth+1); m != "" {
				return m
			}
		}
		return ""
	case *types.Set:
		if v.Kind() != value.List {
			return wrong()
		}
		for i := 1; i < v.Len(); i++ {
			a, b := v.Elements()[i-1], v.Elements()[i]
			if a.Kind() == b.Kind() && (a.Kind() == value.String || a.Kind() == value.Int) && value.Compare(a, b) >= 0 {
				return wrong()
			}
		}
		return misfitElements(v, t.Element, depth)
	case *types.Record:
		return misfitRecord(v, t, depth)
	}
	return "there is no such kind of type"
}

func misfitElements(v value.Value, of types.Type, depth int) string {
	for _, x := range v.Elements() {
		if m := misfit(x, of, depth+1); m != "" {
			return m
		}
	}
	return ""
}

func misfitRecord(v value.Value, t *types.Record, depth int) string {
	if v.Kind() != value.Record {
		return fmt.Sprintf("%s is not %s", v.Show(60), t)
	}
	for _, f := range t.Fields {
		x := v.Get(f.Name)
		if x.IsAbsent() {
			if !f.Optional {
				return fmt.Sprintf("%s has no %q of %s", v.Show(60), f.Name, t)
			}
			continue
		}
		if m := misfit(x, f.Type, depth+1); m != "" {
			return m
		}
	}
	place := 0
	for i, key := range v.Shape().Keys() {
		at := slices.IndexFunc(t.Fields, func(f types.Field) bool { return f.Name == key })
		switch {
		case at < 0 && t.Rest == nil:
			return fmt.Sprintf("%s has a field %q that %s has not", v.Show(60), key, t)
		case at < 0:
			if m := misfit(v.Values()[i], t.Rest, depth+1); m != "" {
				return m
			}
		}
		if t.Rest == nil && !t.Loose {
			if at < place {
				return fmt.Sprintf("the fields of %s do not stand in the order of %s", v.Show(60), t)
			}
			place = at
		}
	}
	return ""
}

// observed is how many values were looked at.
var observed atomic.Int64

// observe evaluates a project, recorded or not, and returns each expression whose value is not of its type.
func observe(t *testing.T, files fstest.MapFS, recording bool) []string {
	t.Helper()
	p, err := project.Load(files)
	require.NoError(t, err)
	if p.Program == nil {
		return nil
	}
	var mu sync.Mutex
	var wrong []string
	p.Program.Observe(func(at source.Span, of types.Type, v value.Value) {
		observed.Add(1)
		if v.IsAbsent() {
			return // behind `...` and on a line of a text: nothing
		}
		if m := misfit(v, of, 0); m != "" {
			mu.Lock()
			defer mu.Unlock()
			l := p.Sources.Locate(at.Start)
			if m = fmt.Sprintf("%s: %s", l, m); !slices.Contains(wrong, m) {
				wrong = append(wrong, m)
			}
		}
	})
	render.All(p, p.Runs(p.Concrete()), render.Options{Everything: true, Outputs: true, Recording: recording})
	p.Tests(nil, func(string) bool { return true })
	return wrong
}

// TestTypesAreKept holds for every expression of every program of the corpus that its value is of its type.
func TestTypesAreKept(t *testing.T) {
	archives, err := filepath.Glob("testdata/corpus/*.txtar")
	require.NoError(t, err)
	for _, name := range archives {
		if strings.Contains(name, "limits") {
			continue // values of so many parts take long to look at
		}
		archive, err := txtar.ParseFile(name)
		require.NoError(t, err)
		cases := map[string]fstest.MapFS{}
		for _, f := range archive.Files {
			folder, file, _ := strings.Cut(f.Name, "/")
			if cases[folder] == nil {
				cases[folder] = fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n")}}
			}
			cases[folder][file] = &fstest.MapFile{Data: f.Data}
		}
		for folder, files := range cases {
			require.Empty(t, observe(t, files, false), "%s %s", name, folder)
			require.Empty(t, observe(t, files, true), "%s %s, recorded", name, folder)
		}
	}
	for _, folder := range []string{"../demo/project", "../examples/network", "../examples/pipelines",
		"../examples/mudflat"} {
		files := fstest.MapFS{}
		require.NoError(t, filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			text, err := os.ReadFile(path)
			relative, _ := filepath.Rel(folder, path)
			files[filepath.ToSlash(relative)] = &fstest.MapFile{Data: text}
			return err
		}))
		require.Empty(t, observe(t, files, false), folder)
	}
	require.Greater(t, observed.Load(), int64(10_000))
}

// keptIn holds for one random program that every value is of its type.
func keptIn(t *testing.T, seed uint64) {
	t.Helper()
	sources := map[string]string{}
	if seed%4 == 0 {
		sources["main.knot"] = newGenerator(seed).program()
	} else {
		sources = newGenerator(seed).project()
	}
	files, all := fstest.MapFS{project.FileName: {Data: []byte("[environments.bench]\n")}}, ""
	for _, name := range slices.Sorted(maps.Keys(sources)) {
		files[name] = &fstest.MapFile{Data: []byte(sources[name])}
		all += "# " + name + "\n" + sources[name]
	}
	require.Empty(t, observe(t, files, seed/4%2 == 0), "seed %d:\n%s", seed, all)
}

// FuzzTypesAreKept: whatever the program, what is accepted is of its type.
func FuzzTypesAreKept(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { keptIn(t, seed) })
}

// TestTypesAreKeptInRandomPrograms is a part of what FuzzTypesAreKept tries.
func TestTypesAreKeptInRandomPrograms(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	for seed := range uint64(450) {
		keptIn(t, seed)
	}
}
