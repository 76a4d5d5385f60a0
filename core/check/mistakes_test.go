package check_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/expected"
	"knothole/core/source"
	"knothole/core/types"
)

var update = flag.Bool("update", false, "write what is found into the files of testdata")

// functions are some built-in functions, for calls of them.
var functions = check.NewBuiltins([]*check.Builtin{
	{Group: "text", Signature: "upper(s: string) -> string"},
	{Group: "text", Signature: "join(xs: [string], separator: string = \"\") -> string"},
	{Group: "list", Signature: "map(xs: [A], f: fn(A) -> B) -> [B]"},
	{Group: "list", Signature: "length(xs: [any]) -> int"},
	{Group: "list", Signature: "find(xs: [A], f: fn(A) -> bool) -> A?"},
})

// TestMistakes holds, for each part of the language, what the checker finds wrong and at which token. Each file of
// testdata is of the part for which a file of the package is named.
func TestMistakes(t *testing.T) {
	names, err := filepath.Glob("testdata/*.knot")
	require.NoError(t, err)
	require.Greater(t, len(names), 10)
	for _, name := range names {
		part := strings.TrimSuffix(filepath.Base(name), ".knot")
		t.Run(part, func(t *testing.T) {
			require.FileExists(t, part+".go", "the part of the language that the programs are of")
			program := &check.Program{Sources: source.NewSet(), Universe: types.NewUniverse(), Builtins: functions,
				Environments: []string{"bench", "north", "south"}}
			m := expected.Load(t, program, os.DirFS("testdata"), filepath.Base(name))
			marked := expected.Findings(t, program.Sources, m.Tree.File, check.Check(program).Tidy(program.Sources), *update)
			if *update {
				require.NoError(t, os.WriteFile(name, []byte(marked), 0o644))
			}
		})
	}
}
