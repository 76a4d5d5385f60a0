package check_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/source"
	"knothole/core/syntax"
)

// TestHelp holds what is suggested, for errors in one line behind these declarations.
func TestHelp(t *testing.T) {
	const declarations = `
type Level = "debug" | "info"
type Site = { name: string, port: int = 80, tags?: [string] }
input level: Level = "info"
input n: int = 1
input site: Site = { name: "a" }
input o: string? = null
fn twice(x: int, times: int = 2) -> int = x * times
`
	for line, want := range map[string]string{
		`let v = level == "inf"`:                  `did you mean "info"?`,
		`let v = level == "other"`:                `possible values: "debug", "info"`,
		`let v = n == "x"`:                        "",
		`let v = match n { "x" -> 1, else -> 2 }`: "",
		`let v: Level = "inf"`:                    `did you mean "info"?`,
		`let v: Level = "x"`:                      `possible values: "debug", "info"`,
		`let v: int = "41"`:                       "a number is written without quotes: 41",
		`let v: int = "x"`:                        "a number is written without quotes",
		`let v: string = 41`:                      `write it as a string: "41"`,
		`let v: string = o`:                       "it may be null: give a value for that case with ??",
		`let v = o + "x"`:                         "it may be null: give a value for that case with ??",
		`let v = site.tags`:                       "write site?.tags for null, or … ?? and a value for that case",
		`let v = site.nam`:                        `did you mean "name"?`,
		`let v = site.zzzzz`:                      "its fields are name, port, tags",
		`let v: Site = { name: "a", prt: 1 }`:     `did you mean "port"?`,
		`let v = twice(1, tims: 2)`:               `did you mean "times"?`,
		`let v = twice(1, zzz: 2)`:                "its parameters are x, times",
		`let v = leve`:                            `did you mean "level"?`,
		`let v = list.map(fn(x) = x, [1])`:        `write list.map(xs, f)`,
		`let v = text.join(",", ["a"])`:           `write text.join(xs, separator)`,
		`let v = text.format("%s", "a")`:          `values are inserted into a string: "${name}"`,
		`let v = list.append([1], 2)`:             `+ joins lists: xs + [x], or [...xs, x]`,
		`let v = range(3)`:                        `a range is written 0..2`,
		`let v = error("bad")`:                    `a failure is written: fail("message")`,
		`let v = zzzzz`:                           "declare it with let, input or use",
		`let v = string`:                          "this is a type, not a value",
		`let v = None`:                            "write null",
		`let v = { a: True }`:                     "write true",
		`let v: str = "a"`:                        "this type is written string",
		`let v: Array = [1]`:                      "this type is written [T]",
		`let v: Lvl = "info"`:                     `declare it: type Lvl = …`,
		`let v: n = 1`:                            `"n" is an input`,
		`let v = text.uper("a")`:                  "did you mean text.upper?",
		`let v = upper("a")`:                      "did you mean text.upper?",
		`let v = env.nam`:                         `did you mean "name"?`,
		`let v = { a: 1, ...{ a: 2 } }`:           "put the spread before the key, so that the key wins, or leave one out",
		`let v = "${site}"`:                       "encode it, for example with encode.json",
		`let v = "${o}"`:                          "it may be null: give a string for that case with ??",
		`document "a.jsn" = 1`: "end it with .yaml, .yml, .json, .toml, .env, .txt, " +
			`or write "as" and a format, such as txt`,
		`document "a" as jsn = 1`:              `did you mean "json"?`,
		`test "a" in "nort" { expect n == 1 }`: `did you mean "north"?`,
		`let v = match level { "info" -> 1 }`:  `add "debug" -> …, or else -> …`,
		`let v = [for x in o -> x]`:            "it may be null: write (… ?? [])",
		`let v = 1 matches "x"`:                `write it as a string: "1"`,
		`let v = "a" . "b"`:                    "+ joins strings",
		`input x: int = 3 where x > 1`:         "in a condition the value is called it",
		`let v = "x" matches "["`:              "patterns are RE2; '…' keeps backslashes as they are",
	} {
		set := source.NewSet()
		file, err := set.Add("main.knot", []byte(declarations+line+"\n"))
		require.NoError(t, err)
		m := &check.Module{Path: file.Path, Tree: syntax.Parse(file), Main: true,
			Environments: []string{"bench", "north"}}
		require.Empty(t, m.Tree.Findings, line)
		found := check.Check(&check.Program{Sources: set, Store: check.NewStore(), Modules: []*check.Module{m},
			Builtins: functions, Environments: []string{"bench", "north"}})
		require.True(t, found.HasErrors(), line)
		for _, f := range found {
			if f.Severity == source.Error {
				if want != f.Help {
					t.Errorf("%s: %s\n  expected %q\n  found    %q", line, f.Message, want, f.Help)
				}
				break
			}
		}
	}
}

// TestHelpForUnused holds what is suggested for names that nothing uses, when strings seem to insert them.
func TestHelpForUnused(t *testing.T) {
	for text, want := range map[string]string{
		"let host = 1\noutput o = \"to $host\"":           "a string inserts it as ${host}",
		"let host = 1\noutput o = \"to {host}\"":          "a string inserts it as ${host}",
		"output o = (let host = 1 then \"to $host\")":     "a string inserts it as ${host}",
		"let host = 1\noutput o = \"to $hosts {a host}\"": "remove it, or use it; an output is for what others read",
	} {
		set := source.NewSet()
		file, err := set.Add("main.knot", []byte(text+"\n"))
		require.NoError(t, err)
		m := &check.Module{Path: file.Path, Tree: syntax.Parse(file), Main: true}
		found := check.Check(&check.Program{Sources: set, Store: check.NewStore(), Modules: []*check.Module{m},
			Builtins: functions})
		require.Len(t, found, 1, text)
		require.Equal(t, source.Unused, found[0].Code)
		require.Equal(t, want, found[0].Help, text)
	}
}
