package builtin_test

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/source"
	"knothole/core/types"
)

// TestExamples runs the example of every function in a program of its own and compares what it gives.
func TestExamples(t *testing.T) {
	for _, f := range (builtin.Table{}).All() {
		t.Run(f.Group+"."+f.Name(), func(t *testing.T) {
			require.NotEmpty(t, f.Description)
			require.Contains(t, f.Example, f.Group+"."+f.Name()+"(", "the example must call the function")
			p, err := project.Load(fstest.MapFS{
				project.FileName: {Data: []byte("[environments.bench]\n")},
				"main.knot":      {Data: []byte("output example = " + f.Example)},
			})
			require.NoError(t, err)
			require.Empty(t, p.Findings)
			v, ok := p.World(p.Concrete()[0], false).Value(p.Module.Objects["example"])
			require.True(t, ok, "%v", p.Program.Constants())
			require.Equal(t, f.Result, data.CompactJSON(v))
		})
	}
}

// TestSignatures reads every signature, and holds that a function that can fail says when.
func TestSignatures(t *testing.T) {
	u := types.NewUniverse()
	for _, f := range (builtin.Table{}).All() {
		o := types.Signature(u, f.Signature)
		require.NotNil(t, o.Type, f.Signature)
		require.Equal(t, strings.Count(f.Signature, ":")-strings.Count(f.Signature, "*:"), len(o.Parameters), f.Signature)
	}
}

// TestFailuresNameTheArgument makes calls fail and looks where the finding points.
func TestFailuresNameTheArgument(t *testing.T) {
	for call, want := range map[string]string{
		`text.split("a", "")`:              "1:28",
		`convert.int("x")`:                 "1:24",
		`math.max(1, "x")`:                 "1:24",
		`list.sort([{ a: 1 }, { a: 2 }])`:  "1:22",
		`text.replace("abc", "", new: "")`: "1:32",
	} {
		p, err := project.Load(fstest.MapFS{
			project.FileName: {Data: []byte("[environments.bench]\n")},
			"main.knot":      {Data: []byte("output a = " + call)},
		})
		require.NoError(t, err)
		require.Empty(t, p.Findings, call)
		_, ok := p.World(p.Concrete()[0], false).Value(p.Module.Objects["a"])
		require.False(t, ok, call)
		findings := p.Program.Constants()
		require.Len(t, findings, 1, call)
		require.Equal(t, source.CallFailed, findings[0].Code)
		l := p.Sources.Locate(findings[0].Span.Start)
		require.Equal(t, want, fmt.Sprintf("%d:%d", l.Line, l.Column), call)
	}
}
