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
		results, findings := held(p, render.Options{Everything: true, Recording: recording})
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

// FuzzPlaces: whatever the path of an operation, a patch ends; what add puts can be replaced, cannot be added again
// where it has a key, and removing it gives what was there before.
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
				"main.knot": {Data: []byte("use \"./v.json\" as v\noutput x = patch v " +
					"{\n" + operations + "\n}\noutput old = v\n")},
				"v.json": {Data: []byte(text)},
			})
			if err != nil {
				t.Fatal(err)
			}
			_, findings, _ := render.All(p, p.Runs(p.Concrete()), render.Options{})
			w := p.Run(p.Concrete()[0]).World(false)
			o := p.Unit().Module.Objects["x"]
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
		if _, code := run("add " + path + ": 1\nadd " + path + ": 2"); code != string(source.PathTaken) {
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

// secretStore gives every secret the same text.
type secretStore string

func (s secretStore) Read(*project.Reference) ([]byte, error) { return []byte(s), nil }

// FuzzSecrets evaluates a program with two different secrets. What is not secret must be the same: documents, paths,
// remarks and outputs. Where a condition on a secret does not hold, which it may test, there is nothing to compare.
func FuzzSecrets(f *testing.F) {
	addCorpus(f, ".knot")
	for _, text := range []string{
		"secret input pin: string\nsecret document \"a.yaml\" = { x: [pin, \"${pin}\"], y: { ...{ z: pin } } " +
			"}\ndocument \"b.yaml\" = { n: record.length({ a: pin }), k: record.keys({ a: pin }) }\n",
		"secret input pin: string\nlet all = list.map([1, 2], fn(x) = { a: pin, b: x })\ndocument \"b.yaml\" = " +
			"list.map(list.filter(all, fn(r) = r.b > 1), fn(r) = r.b)\n",
		"secret input pin: string\ndocument \"b.yaml\" = if pin == \"x\" then 1 else 2\n",
		"secret input pin: string\nlet r = { a: pin, b: [pin, 2] } with { b: 5 }\ndocument \"b.yaml\" = patch r { " +
			"remove .a }\noutput n = r.b\nremark \"n ${r.b}\"\n",
		"secret input pin: string\nlet t = text.split(pin, \"-\")\ndocument \"b.yaml\" = list.length(t)\n",
		"secret input pin: string\nlet t = decode.yaml(pin)\ndocument \"b.yaml\" = record.keys(t)\n",
		"secret input pin: string\ntype A = { secret x: int } | { secret x: string, y?: int }\nlet a: A = { x: pin " +
			"}\ndocument \"b.yaml\" = { keys: record.keys(a), is: a is { x: int } }\n",
		"secret input pin: string\ndocument \"b.yaml\" = { x: [pin] == [\"a\"], y: { a: pin } != { a: \"b\" }, z: " +
			"pin < \"m\" } with { x: 1, y: 2, z: 3 }\n",
		"secret input pin: string\nfn f(s: string) = [s, text.upper(s)]\ndocument \"b.yaml\" = " +
			"list.length(f(pin))\nrequire list.length(f(pin)) == 2\n",
		"secret input pin: string\ndocument \"b.yaml\" = list.index([{ k: \"a\", v: pin }], fn(r) = r.k).a.k\n",
		"secret input pin: string\ndocument \"b.yaml\" = { a: record.filter({ a: pin, b: 1 }, fn(k, v) = k == " +
			"\"b\"), n: list.count([pin], fn(x) = true) }\n",
		"secret input pin: string\ndocument \"b.yaml\" = list.group([{ a: pin, b: \"x\" }], fn(r) = r.b)\n",
		"secret input pin: string\ndocument \"b.yaml\" = let x = decode.json(encode.json({ a: pin, b: 1 })) then x.b\n",
		"secret input pin: string\ndocument \"b.yaml\" = { is: pin is string, null: pin == null, in: pin in " +
			"[\"a\"], has: record.has({ a: 1 }, pin) }\n",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, "00") || strings.Count(text, "for") > 2 {
			t.Skip() // loops that only take long
		}
		var seen [2]string
		for i, secret := range []secretStore{"7", "tide-table"} {
			p, err := project.Load(fstest.MapFS{
				project.FileName: {Data: []byte("[environments.bench.secrets]\npin = { variable = " +
					"\"KNOTHOLE_SECRET_PIN\" }\n")},
				"main.knot":    {Data: []byte(text)},
				"service.knot": {Data: []byte(component)},
			})
			if err != nil {
				t.Fatal(err)
			}
			run, findings := p.Run(p.Concrete()[0]).WithSecrets(secret)
			if findings.HasErrors() {
				return
			}
			results, findings, _ := render.All(p, []*project.Run{run}, render.Options{Everything: true})
			if findings.HasErrors() {
				return
			}
			var b strings.Builder
			for _, d := range results[0].Documents {
				b.WriteString(d.Path + "\n")
				if d.Secret {
					continue
				}
				text, err := d.Text()
				if err != nil {
					t.Fatal(err)
				}
				b.Write(text)
			}
			w := run.World(false)
			for _, o := range p.Unit().Module.Order {
				if d, ok := o.Declaration.(*syntax.Output); ok && !d.Secret {
					if v, ok := w.Value(o); ok {
						b.WriteString(data.CompactJSON(v) + "\n")
					}
				}
			}
			seen[i] = b.String() + strings.Join(results[0].Remarks, "\n")
		}
		if seen[0] != seen[1] {
			t.Fatalf("a secret shows in what is not secret:\n%s\n%s", seen[0], seen[1])
		}
	})
}
