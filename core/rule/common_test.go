package rule_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/rule"
	"knothole/core/schema"
	"knothole/core/source"
	"knothole/core/standard"
)

var update = flag.Bool("update", false, "write what is found into the files that say what is expected")

// library reads all modules of rules that come with the program.
func library(t testing.TB) *project.Project {
	var modules []string
	for _, name := range standard.Names() {
		if name != "standard/pods" && name != "standard/labels" {
			modules = append(modules, name)
		}
	}
	p := project.LoadRules(fstest.MapFS{}, modules, nil, nil)
	require.Empty(t, p.Findings, told(p, p.Findings))
	return p
}

// objectsIn reads the documents of a YAML file.
func objectsIn(t testing.TB, p *project.Project, name string, text []byte) ([]rule.Object, data.Keys) {
	file, err := p.Sources.Add(name, text)
	require.NoError(t, err)
	keys := data.Keys{}
	documents, findings := data.ReadEach(file, keys, data.Numbers{})
	require.Empty(t, findings, told(p, findings))
	var objects []rule.Object
	for _, d := range documents {
		for _, v := range schema.Objects(d) {
			objects = append(objects, rule.Object{Path: name, Data: v, Label: name,
				Span: source.At(v.Origin().Pos())})
		}
	}
	return objects, keys
}

// TestCommon holds the library over manifests as they are commonly shipped. What is found in each was read line by
// line and is true; what is not found must not be found either.
func TestCommon(t *testing.T) {
	files, err := filepath.Glob("testdata/common/*.yaml")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(files), 5)
	for _, name := range files {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".yaml"), func(t *testing.T) {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			p := library(t)
			objects, keys := objectsIn(t, p, filepath.Base(name), text)
			found := checkFiles(p, objects, keys, rule.Options{Builtins: builtin.Table,
				Today: time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)})
			var b strings.Builder
			for _, f := range found.Findings {
				if f.Code == source.LooksAtNothing {
					continue
				}
				l := p.Sources.Locate(f.Span.Start)
				name := string(f.Code)
				if f.Broken != nil {
					name = f.Broken.Rule
				}
				fmt.Fprintf(&b, "%d:%d %s: %s\n", l.Line, l.Column, name,
					strings.TrimPrefix(f.Message, l.File.Path+": "))
			}
			want := strings.TrimSuffix(name, ".yaml") + ".txt"
			if *update {
				require.NoError(t, os.WriteFile(want, []byte(b.String()), 0o644))
			}
			expected, err := os.ReadFile(want)
			require.NoError(t, err)
			require.Equal(t, string(expected), b.String())
		})
	}
}
