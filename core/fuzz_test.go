package core_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"

	"knothole/core/data"
	"knothole/core/place"
	"knothole/core/project"
	"knothole/core/render"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// addCorpus adds the files of the corpus with an ending as seeds.
func addCorpus(f *testing.F, ending string) {
	archives, _ := filepath.Glob("testdata/corpus/*.txtar")
	for _, name := range archives {
		if strings.Contains(name, "limits") {
			continue // they take long on purpose
		}
		archive, err := txtar.ParseFile(name)
		if err != nil {
			f.Fatal(err)
		}
		for _, file := range archive.Files {
			if strings.HasSuffix(file.Name, ending) {
				f.Add(string(file.Data))
			}
		}
	}
	demo, _ := filepath.Glob("../demo/project/*" + ending)
	for _, name := range demo {
		text, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(string(text))
	}
}

// FuzzParse: whatever the text, the parser ends, and every finding has a place in the file.
func FuzzParse(f *testing.F) {
	addCorpus(f, ".knot")
	f.Fuzz(func(t *testing.T, text string) {
		set := source.NewSet()
		file, err := set.Add("main.knot", []byte(text))
		if err != nil {
			t.Skip()
		}
		module := syntax.Parse(file)
		for _, finding := range module.Findings {
			start := file.Offset(finding.Span.Start)
			if start < 0 || start > len(text) || finding.Message == "" {
				t.Fatalf("finding without a place: %+v", finding)
			}
		}
	})
}

// component is a module that those of FuzzEvaluate can use.
const component = `
input name: string where it != "" else "a name is not empty"
input port: int = 80
input upstream: string = "none"
let Port = 8080
output url = "http://${name}:${port}/"
output route = "${name} -> ${upstream}"
fn greet(who: string) -> string = "${name} greets ${who}"
require port > 0
remark "${name} is there"
document "${name}.yaml" = { url: url, upstream: upstream }
for i in 1..2 {
  document "${name}-${i}.json" = { part: i * port }
}
`

// FuzzEvaluate: whatever the module, checking and evaluating it end without a panic, and a module that has no findings
// gives the same bytes twice.
func FuzzEvaluate(f *testing.F) {
	addCorpus(f, ".knot")
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "00") || strings.Count(text, "for") > 2 {
			t.Skip() // loops that only take long
		}
		files := fstest.MapFS{
			project.FileName: {Data: []byte("[environments.bench]\n")},
			"main.knot":      {Data: []byte(text)},
			"service.knot":   {Data: []byte(component)},
		}
		first, second := evaluate(t, files), evaluate(t, files)
		if first != second {
			t.Fatalf("two evaluations differ:\n%s\n%s", first, second)
		}
	})
}

// evaluate returns what a program renders, followed by what is found; recorded or not, it must be the same.
func evaluate(t *testing.T, files fstest.MapFS) string {
	p, err := project.Load(files)
	if err != nil {
		t.Fatal(err)
	}
	var texts [2]string
	for i, recording := range []bool{false, true} {
		var b strings.Builder
		results, findings := render.All(p, p.Concrete(), render.Options{Everything: true, Recording: recording})
		for _, r := range results {
			for _, d := range r.Documents {
				text, err := d.Text()
				if err != nil {
					t.Fatal(err)
				}
				b.Write(text)
			}
		}
		for _, finding := range findings {
			writeFinding(&b, p.Sources, finding)
		}
		texts[i] = b.String()
	}
	if texts[0] != texts[1] {
		t.Fatalf("recorded, it differs:\n%s\n%s", texts[0], texts[1])
	}
	return texts[0]
}

// fuzzReader: what can be read can be written and read again, and is then the same.
func fuzzReader(f *testing.F, format data.Format) {
	addCorpus(f, "."+string(format))
	f.Fuzz(func(t *testing.T, text string) {
		v, ok := readData(t, text, format)
		if !ok || len(data.Check(v, format)) > 0 {
			return
		}
		written, err := data.Write(v, format)
		if err != nil {
			t.Fatalf("cannot write %s: %s", v.Show(200), err)
		}
		again, ok := readData(t, string(written), format)
		if !ok {
			t.Fatalf("cannot read what was written: %q", written)
		}
		if !value.Identical(v, again) {
			t.Fatalf("%s became %s through %q", v.Show(300), again.Show(300), written)
		}
	})
}

func readData(t *testing.T, text string, format data.Format) (value.Value, bool) {
	set := source.NewSet()
	file, err := set.Add("data", []byte(text))
	if err != nil {
		t.Skip()
	}
	v, findings := data.Read(file, format, data.Keys{})
	for _, finding := range findings {
		if start := file.Offset(finding.Span.Start); start < 0 || start > len(text) {
			t.Fatalf("finding without a place: %+v", finding)
		}
	}
	return v, len(findings) == 0 && !v.IsAbsent()
}

func FuzzYAML(f *testing.F) { fuzzReader(f, data.YAML) }
func FuzzJSON(f *testing.F) { fuzzReader(f, data.JSON) }
func FuzzTOML(f *testing.F) { fuzzReader(f, data.TOML) }

// FuzzMatch: a path matches itself as a pattern when it has no signs, and ** matches everything.
func FuzzMatch(f *testing.F) {
	f.Add("k8s/*.yaml", "k8s/bay-map.yaml")
	f.Add("**/a?", "x/y/ab")
	f.Fuzz(func(t *testing.T, pattern, path string) {
		place.Match(pattern, path)
		if !strings.ContainsAny(path, "*?") && strings.ToValidUTF8(path, "") == path && !place.Match(path, path) {
			t.Fatalf("%q does not match itself", path)
		}
		if !place.Match("**", path) {
			t.Fatalf("** does not match %q", path)
		}
	})
}

// FuzzPlaces: whatever the path of an operation, a patch ends; what add puts can be replaced, cannot be added again where it
// has a key, and removing it gives what was there before.
func FuzzPlaces(f *testing.F) {
	f.Add(".a.b", `{"a": {"c": [1, {"b": 2}]}}`)
	f.Add(`[it.name == "x"].new`, `[{"name": "x"}, {"name": "y", "z": null}]`)
	f.Add(`.**.{b, c}[* where it > 1]`, `{"a": {"b": [1, 2, 3]}, "c": []}`)
	f.Add(`."odd key".*[end]`, `{"odd key": {"a": [], "b": [1]}}`)
	f.Add(`.a[-1]."k-${1 + 1}"`, `{"a": [{"k": 1}]}`)
	f.Fuzz(func(t *testing.T, path, text string) {
		if strings.ContainsAny(path, "\n#") || strings.Contains(path, "00") || strings.Contains(path, "for") {
			t.Skip()
		}
		run := func(operations string) (value.Value, string) {
			p, err := project.Load(fstest.MapFS{
				project.FileName: {Data: []byte("[environments.bench]\n")},
				"main.knot":      {Data: []byte("use \"./v.json\" as v\noutput x = patch v {\n" + operations + "\n}\noutput old = v\n")},
				"v.json":         {Data: []byte(text)},
			})
			if err != nil {
				t.Fatal(err)
			}
			_, findings := render.All(p, p.Concrete(), render.Options{})
			w := p.World(p.Concrete()[0], false)
			o := p.Module.Objects["x"]
			if o == nil || findings.HasErrors() {
				return value.Value{}, ""
			}
			v, ok := w.Value(o)
			if findings = append(findings, append(p.Program.Constants(), w.Findings()...)...); !ok {
				if len(findings) == 0 {
					t.Fatal("it failed without a finding")
				}
				return value.Value{}, string(findings[0].Code)
			}
			return v, ""
		}
		for _, verb := range []string{"put", "replace", "merge", "put?"} {
			run(verb + " " + path + ": { fuzzed: true }")
		}
		run("remove " + path)
		added, _ := run("add " + path + ": 1")
		if added.IsAbsent() || strings.HasSuffix(path, "]") {
			return
		}
		if _, code := run("add " + path + ": 1\nadd " + path + ": 2"); code != string(source.PlaceTaken) {
			t.Fatalf("%s: added twice: %q", path, code)
		}
		if replaced, code := run("add " + path + ": 1\nreplace " + path + ": 2"); replaced.IsAbsent() {
			t.Fatalf("%s: cannot be replaced: %s", path, code)
		}
		removed, code := run("add " + path + ": 1\nremove " + path)
		old, _ := run("")
		if removed.IsAbsent() || !value.Identical(removed, old) {
			t.Fatalf("%s: removed, it is not what it was: %s %s", path, removed.Show(200), code)
		}
	})
}
