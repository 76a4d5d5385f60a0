package flow_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/expected"
	"knothole/core/flow"
	"knothole/core/source"
	"knothole/core/types"
)

var update = flag.Bool("update", false, "write what is found into the files of testdata")

// functions are some built-in functions of each kind.
var functions = check.NewBuiltins([]*check.Builtin{
	{Group: "text", Signature: "upper(s: string) -> string"},
	{Group: "text", Signature: "length(s: string) -> int"},
	{Group: "list", Handling: check.Passes, Signature: "map(xs: [A], f: fn(A) -> B) -> [B]"},
	{Group: "list", Handling: check.Passes, Gives: check.FirstArgument,
		Signature: "filter(xs: [T], f: fn(T) -> bool) -> [T]"},
	{Group: "list", Handling: check.Passes, Signature: "length(xs: [any]) -> int"},
	{Group: "record", Handling: check.Passes, Gives: check.ListedEntries,
		Signature: "pick(r: { *: any }, keys: [string]) -> { *: any }"},
	{Group: "record", Handling: check.Passes, Gives: check.OtherEntries,
		Signature: "omit(r: { *: any }, keys: [string]) -> { *: any }"},
	{Group: "record", Handling: check.Passes, Gives: check.MergedArguments,
		Signature: "merge(a: { *: any }, b: { *: any }) -> { *: any }"},
	{Group: "record", Handling: check.Passes, Gives: check.OneEntry,
		Signature: "get(r: { *: T }, key: string, default: T) -> T"},
	{Group: "encode", Signature: "json(v: any) -> string"},
})

// TestSecrets holds where secrets are found on their way to where they must not be, for each construct through which
// they are followed. Each file of testdata is of the part for which a file of the package is named.
func TestSecrets(t *testing.T) {
	names, err := filepath.Glob("testdata/*.knot")
	require.NoError(t, err)
	require.Greater(t, len(names), 4)
	for _, name := range names {
		part := strings.TrimSuffix(filepath.Base(name), ".knot")
		t.Run(part, func(t *testing.T) {
			require.FileExists(t, part+".go", "the part that the programs are of")
			program := &check.Program{Sources: source.NewSet(), Universe: types.NewUniverse(), Builtins: functions,
				Environments: []string{"bench", "north"}}
			m := expected.Load(t, program, os.DirFS("testdata"), filepath.Base(name))
			for _, f := range check.Check(program) {
				require.Equal(t, source.Warning, f.Severity, f.Message)
			}
			found := flow.Secrets(program).Tidy(program.Sources)
			marked := expected.Findings(t, program.Sources, m.Tree.File, found, *update)
			if *update {
				require.NoError(t, os.WriteFile(name, []byte(marked), 0o644))
			}
			for _, f := range found {
				require.True(t, program.Tracked[f.Span.Start] || f.Severity == source.Warning, f.Message)
			}
		})
	}
}
