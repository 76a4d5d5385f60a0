package flow_test

import (
	"flag"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/expected"
	"knothole/core/flow"
	"knothole/core/source"
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
	write := os.WriteFile
	if !*update {
		write = nil
	}
	expected.Each(t, os.DirFS("testdata"), functions, write, func(t *testing.T, program *check.Program) source.Findings {
		for _, f := range check.Check(program) {
			require.Equal(t, source.Warning, f.Severity, f.Message)
		}
		found := flow.Secrets(program)
		for _, f := range found {
			require.True(t, program.Tracked[f.Span.Start] || f.Severity == source.Warning, f.Message)
		}
		return found
	})
}
