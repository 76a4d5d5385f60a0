package eval_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/check"
	"knothole/core/data"
	"knothole/core/eval"
	"knothole/core/source"
	"knothole/core/syntax"
	"knothole/core/value"
)

// checked checks a module and makes a program of it.
func checked(t *testing.T, text string) (*eval.Program, *check.Module, source.Findings) {
	t.Helper()
	set := source.NewSet()
	file, err := set.Add("main.knot", []byte(text))
	require.NoError(t, err)
	m := &check.Module{Path: "main.knot", Tree: syntax.Parse(file), Main: true}
	require.Empty(t, m.Tree.Findings, text)
	program := &check.Program{Sources: set, Store: check.NewStore(),
		Modules: []*check.Module{m}}
	findings := check.Check(program)
	return eval.New(program, eval.NewBuiltins(nil, nil), nil, nil), m, findings
}

// evaluated checks a module and evaluates its value `v`, without a project and without rendering.
func evaluated(t *testing.T, text string) (v value.Value, findings source.Findings) {
	t.Helper()
	p, m, findings := checked(t, text)
	if findings.HasErrors() {
		return value.Value{}, findings
	}
	w := p.World(eval.Environment{Name: "bench", Tags: []string{"live"}})
	for _, o := range m.Order {
		if o.Kind == check.ObjectInput {
			given := value.Value{}
			if o.Declaration.(*syntax.Input).Secret {
				given = value.StringOf("a", 0)
			}
			w.SetInput(o, given)
		}
	}
	v, ok := w.Value(m.Objects["v"])
	findings = append(w.Findings(), p.Constants()...)
	require.Equal(t, ok, !findings.HasErrors(), "%s: %v", text, findings)
	return v, findings
}

const declarations = `
type Port = int where it in 1..100 else "bad ${it}"
type Site = { name: string, port: Port = 80, tags?: {string} }
type Shape = { kind: "dot" } | { kind: "box", size: int = 1 }
input n: any = { p: { q: 1 }, list: [3, 1, 2] }
input o: int? = null
fn twice(x: float) -> float = x * 2
fn port(p: Port) -> int = p
fn apply(f: fn(int) -> float, x: int) -> float = f(x)
`

// TestExpressions holds what expressions come to, one mechanism for each row.
func TestExpressions(t *testing.T) {
	for expression, want := range map[string]string{
		`1 + 2 * 3`:                        `7`,
		`-7 / 2`:                           `-3`,
		`-7 % 4`:                           `-3`,
		`1.5 + 1`:                          `2.5`,
		`"a" + "${1}${2.0}${true}"`:        `"a12.0true"`,
		`[1] + [2]`:                        `[1,2]`,
		`-1..1`:                            `[-1,0,1]`,
		`3..1`:                             `[]`,
		`1 == 1.0`:                         `true`,
		`[1, 2] == [2, 1]`:                 `false`,
		`([2, 1] as ({int})) == [2, 1]`:    `true`,
		`{ a: 1, b: 2 } == { b: 2, a: 1 }`: `true`,
		`"p" in n`:                         `true`,
		`"x" in { a: 1 }`:                  `false`,
		`2 in 1..3`:                        `true`,
		`2.5 in 1..3`:                      `false`,
		`"abc" matches 'b'`:                `true`,
		`o ?? 3`:                           `3`,
		`n?.x.y.z ?? "none"`:               `"none"`,
		`n.list?[7] ?? "none"`:             `"none"`,
		`n.list[7] ?? "none"`:              `"none"`,
		`n.list[-1]`:                       `2`,
		`if o == null then 1 else o`:       `1`,
		`match n.p.q { 1 -> "one", else -> "other" }`:   `"one"`,
		`match n.p { is (string) -> 1, else -> 2 }`:     `2`,
		`for x in [1, 2, 3] where x > 1 -> x * 10`:      `[20,30]`,
		`for i, x in ["a", "b"] -> "${i}${x}"`:          `["0a","1b"]`,
		`for k, x in { a: 1 } -> "${k}x": x`:            `{"ax":1}`,
		`[1, ...[2], ...if o != null then [3], o?]`:     `[1,2]`,
		`{ ...{ a: 1, b: 2 }, b: 3, c: o? }`:            `{"a":1,"b":3}`,
		`{ x: { p: { q: 1 } } } with { x: { p: 7 } }`:   `{"x":{"p":7}}`,
		`{ x: { p: { q: 1 } } } with { x.p: { r: 2 } }`: `{"x":{"p":{"q":1,"r":2}}}`,
		`{ a: 1 } with (n as ({ *: any }))`:             `{"a":1,"p":{"q":1},"list":[3,1,2]}`,
		`({ name: "x" } as Site)`:                       `{"name":"x","port":80}`,
		`({ tags: ["b", "a"], name: "x" } as Site)`:     `{"name":"x","port":80,"tags":["a","b"]}`,
		`({ kind: "box" } as Shape)`:                    `{"kind":"box","size":1}`,
		`({ kind: "dot" } as Shape)`:                    `{"kind":"dot"}`,
		`n.list is ({int})`:                             `true`,
		`[1, 1] is ({int})`:                             `false`,
		`1 is (float)`:                                  `false`,
		`(1 as (float)) is (float)`:                     `true`,
		`apply(twice, 2)`:                               `4.0`,
		`let f: fn(int) -> float = twice then f(3)`:     `6.0`,
		`let a = 1, b = a + 1 then [a, b]`:              `[1,2]`,
		`env.name`:                                      `"bench"`,
		`env.tags == ["live"]`:                          `true`,
		`n[.p.q]`:                                       `[1]`,
		`n?[.x.q]`:                                      `[]`,
		`patch n { replace .p.q: it + 1 }`:              `{"p":{"q":2},"list":[3,1,2]}`,
	} {
		v, findings := evaluated(t, declarations+"let v = "+expression+"\n")
		require.False(t, findings.HasErrors(), "%s: %v", expression, findings)
		require.Equal(t, want, data.CompactJSON(v), expression)
	}
}

// TestHidden checks that what is computed from a secret, here "a", is what it would be, and is secret.
func TestHidden(t *testing.T) {
	for expression, want := range map[string]string{
		`pin`:                  `a`,
		`pin + "b"`:            `ab`,
		`"${pin}!"`:            `a!`,
		`pin == "a"`:           `true`,
		`pin != "a"`:           `false`,
		`"a" == pin`:           `true`,
		`"b" > pin`:            `true`,
		`"a" in [pin]`:         `true`,
		`pin in { a: 1 }`:      `true`,
		`pin not in { a: 1 }`:  `false`,
		`pin in { b: 1 }`:      `false`,
		`pin in ["b", "a"]`:    `true`,
		`pin not in ["b"]`:     `true`,
		`pin matches "^[a-c]"`: `true`,
		`pin < "b"`:            `true`,
		`not (pin == "a")`:     `false`,
		`pin ?? "b"`:           `a`,
		`[pin, "b"][0]`:        `a`,
		`{ k: pin }.k`:         `a`,
		`let p = pin then p`:   `a`,
	} {
		v, findings := evaluated(t, "secret input pin: string\nlet v = "+expression+"\n")
		require.Empty(t, findings, expression)
		require.True(t, v.Secret(), expression)
		text, ok := v.Scalar()
		require.True(t, ok, expression)
		require.Equal(t, want, text, expression)
	}
}

// TestHelp holds what is suggested for values of another kind that are written nearly like one of the type.
func TestHelp(t *testing.T) {
	const values = `input n: any = { truth: "true", yes: "yes", number: "41", float: "1.5", int: 41, level: "inf" }` + "\n"
	for expression, want := range map[string]string{
		`n.truth as (bool)`:               "write it without quotes",
		`n.yes as (bool)`:                 "",
		`n.number as (int)`:               "write it without quotes: 41",
		`n.number as (float)`:             "write it without quotes: 41",
		`n.yes as (int)`:                  "",
		`n.int as (string)`:               `put it in quotes: "41"`,
		`n.level as ("info" | "debug")`:   `did you mean "info"?`,
		`n.nmber`:                         `did you mean "number"?`,
		`n.yes-no`:                        "a subtraction is written with spaces: yes - no",
		`n.other`:                         "?. or ?[…] gives null for what is not there",
		`{ level: 1, "${"a"}": 1, ...n }`: "put the spread before the key, so that the key wins, or leave one out",
	} {
		_, findings := evaluated(t, values+"let v = "+expression+"\n")
		require.NotEmpty(t, findings, expression)
		require.Equal(t, want, findings[0].Help, "%s: %s", expression, findings[0].Message)
	}
}

// TestFailures holds what expressions that the checker cannot refuse fail with.
func TestFailures(t *testing.T) {
	for expression, want := range map[string]source.Code{
		`1 / (n.p.q - 1)`:                        source.DivisionByZero,
		`9223372036854775807 + n.p.q`:            source.BadNumber,
		`n.nothing`:                              source.UnknownField,
		`n.list[3]`:                              source.NoElement,
		`n.p + 1`:                                source.WrongType,
		`n.p.q.r`:                                source.WrongType,
		`n as ([int])`:                           source.WrongType,
		`n as ({ p: any })`:                      source.UnknownField,
		`[n.p.q, 1] as ({int})`:                  source.Repetition,
		`(n.p with { q: 500 }) as ({ q: Port })`: source.Limit,
		`let f: fn(int) -> int = port then f(n.p.q * 500)`: source.Limit,
		`{ a: 1, "${"a"}": n.p.q }`:                        source.DuplicateKey,
		`(9007199254740992 + n.p.q) as (float)`:            source.BadNumber,
		`fail("no ${n.p.q}")`:                              source.Failed,
		`n[.p.x]`:                                          source.NoPath,
		`for x in n.p.q -> x`:                              source.WrongType,
		`n.p matches "x"`:                                  source.WrongType,
		`n.list with { a: 1 }`:                             source.WrongType,
	} {
		_, findings := evaluated(t, declarations+"let v = "+expression+"\n")
		require.NotEmpty(t, findings, expression)
		require.Equal(t, want, findings[0].Code, "%s: %s", expression, findings[0].Message)
	}
}

// TestAllFailures: what is wrong with one part of a declaration does not hide what is wrong with another.
func TestAllFailures(t *testing.T) {
	for expression, want := range map[string]int{
		`[n.nothing, n.p + 1, 1]`:                                    2,
		`{ a: n.nothing, b: [1, n.p + 1], c: { d: n.list[3] } }`:     3,
		`{ a: n.nothing, b: (n.p + 1)?, ...n.list[3], "${n.p}": 1 }`: 4,
		`{ a: twice(n.p.x), b: twice(n.p.x), c: port(n.p.q * 500)}`:  3,
		`{ a: (n.p + 1) + n.nothing }`:                               1, // the second needs the first
		`for i in 3..5 -> n.list[i]`:                                 1, // the same is wrong each time
	} {
		_, findings := evaluated(t, declarations+"let v = "+expression+"\n")
		require.Len(t, findings, want, "%s: %v", expression, findings)
	}
}
