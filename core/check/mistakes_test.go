package check_test

import (
	"flag"
	"os"
	"testing"

	"knothole/core/check"
	"knothole/core/expected"
	"knothole/core/source"
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
	write := os.WriteFile
	if !*update {
		write = nil
	}
	expected.Each(t, os.DirFS("testdata"), functions, write, func(t *testing.T, program *check.Program) source.Findings {
		return check.Check(program)
	})
}
