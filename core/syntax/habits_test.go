package syntax_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/source"
	"knothole/core/syntax"
)

// TestHabits holds how what people write from habit is written here: one finding, with that as its help.
func TestHabits(t *testing.T) {
	for text, want := range map[string]string{
		`let v = match 1 { 1 -> 2, _ -> 3 }`:      "the branch for everything else is written: else -> …",
		`let v = match 1 { 1 -> 2 default -> 3 }`: "the branch for everything else is written: else -> …",
		`let v = match 1 { case 1: 2 }`:           "a branch has no word before it: 1 -> a",
		`let v = { a: 1 } | { b: 2 }`: "records are laid over each other: a with b; or their entries are spread: " +
			"{ ...a, ...b }",
		`let v: map[string]string = {}`:              "a map is written { *: T }, where T is the type of its values",
		`let v: string[] = []`:                       "a list of a type is written [string]",
		`let v: Optional[int] = null`:                "a type that takes null, too, is written T?",
		`let v = (x) => x`:                           "an anonymous function is written: fn(x) = …",
		`let v = x -> x`:                             "an anonymous function is written: fn(x) = …",
		`let v = |x| x`:                              "an anonymous function is written: fn(x) = …",
		`let v = 7 // 2`:                             "a comment begins with #; / between ints leaves out the remainder",
		`let v = 7 mod 2`:                            "the remainder is written with %",
		`let v = 2 ** 3`:                             "a power is written math.pow(base, exponent)",
		`let v = throw "bad"`:                        `a failure is written: fail("message")`,
		`rule r "Why" on d { require true else "" }`: "a description is written above the rule: ## …",
		"let v = `bay map`":                          `a string is written in double quotes: "…"`,
		`struct V { a: int }`:                        "a record type is written: type T = { name: string, port: int }",
		`enum V { A, B }`:                            `a type of a few values is written: type T = "a" | "b"`,
		`export let v = 1`: "other modules can use every declaration; a name that begins with _ is private: leave this " +
			"word out",
		`input v?: int`:                  "an input that may be missing is written: input x: T? = null",
		`input v: int default 3`:         "a default is written after =: input x: int = 3",
		`fn v(x: int): int = x`:          "the type of the result is written with an arrow: fn f(x: T) -> R = …",
		`let v = if (true) 1 else 2`:     "a choice is written: if c then a else b",
		`let (v, w) = [1, 2]`:            "each let names one value: let a = xs[0], or a = r.a",
		`let v = for (x in [1]) x`:       "a loop is written: for x in xs where c -> x",
		`document "a.yaml" { a: 1 }`:     "the data follows =: write = before it",
		`let v = patch d { set .a: 2 }`:  `did you mean "put"?`,
		`let v = patch d { put .a = 2 }`: "a change is written with a colon: replace .a: 2",
		`/* bay */`:                      "a comment begins with #",
		`let v = new Service(name: "a")`: "a module is called like a function: service(name: …)",
		`print("x")`:                     `a sentence for the person who renders is written: remark "…"`,
		`let v = for x in [1] { x }`:     "a loop is written: for x in xs where c -> x",
		`type V<X> = [X]`:                "types have no parameters of their own",
		`let v = 1 === 1`:                "== compares values, and never converts them",
		`let v = .5`:                     "write 0 before the point: 0.5",
		`let v = while true { }`:         "a loop is written: for x in xs where c -> x",
		`let v = switch 1 { 1 -> 2 }`:    "a choice among several is written: match x { 1 -> a, 2 -> b, else -> c }",
	} {
		file, err := source.NewSet().Add("main.knot", []byte(text+"\n"))
		require.NoError(t, err)
		findings := syntax.Parse(file).Findings
		require.Len(t, findings, 1, text)
		require.Equal(t, want, findings[0].Help, text)
	}
}
