package core_test

import (
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/source"
)

// TestFailuresNameTheArgument makes calls fail and looks which argument the finding marks.
func TestFailuresNameTheArgument(t *testing.T) {
	for call, want := range map[string]string{
		`text.split("a", "")`:                          `""`,
		`text.replace("abc", "", new: "")`:             `""`,
		`text.repeat("x", -1)`:                         `-1`,
		`text.repeat("xyz", 9_000_000_000)`:            ``,
		`text.pad_left("a", 3, "")`:                    `""`,
		`text.find("a", "(" + "")`:                     `"(" + ""`,
		`convert.int("x")`:                             `"x"`,
		`convert.float("0x1p4")`:                       `"0x1p4"`,
		`convert.bool("yes")`:                          `"yes"`,
		`math.max(1, "x" as any)`:                      `"x" as any`,
		`math.pow(10, 19)`:                             `10`,
		`math.pow(2, -1)`:                              `-1`,
		`math.abs(-9223372036854775808)`:               `-9223372036854775808`,
		`math.clamp(1, 5, 2)`:                          `5`,
		`math.floor(1e300)`:                            `1e300`,
		`list.sort([1, "a"])`:                          `[1, "a"]`,
		`list.index(["a", "a"], fn(x) = x)`:            `fn(x) = x`,
		`list.chunks([1], 0)`:                          `0`,
		`list.min([])`:                                 `[]`,
		`list.sort([[1], [1, 2]])`:                     `[[1], [1, 2]]`,
		`text.replace_once("aa", "a", "b")`:            `"a"`,
		`text.replace_found("a", "x", "b")`:            `"x"`,
		`text.replace_pattern("a", "(a)", "$2")`:       `"$2"`,
		`record.map_keys({ a: 1, b: 2 }, fn(k) = "c")`: `fn(k) = "c"`,
		`record.flatten({ a: { b: 1 }, "a.b": 2 })`:    `{ a: { b: 1 }, "a.b": 2 }`,
		`convert.decimal(1, -1)`:                       `-1`,
		`net.sort(["x"])`:                              `["x"]`,
		`list.sum([9223372036854775807, 1])`:           `[9223372036854775807, 1]`,
		`record.of_entries([{ key: "a", value: 1 }, { key: "a", value: 2 }])`: `[{ key: "a", value: 1 }, { key: "a", value: 2 }]`,
		`encode.toml({ a: null })`:                 `{ a: null }`,
		`encode.env({ "a-b": 1 })`:                 `{ "a-b": 1 }`,
		`encode.json(1, 99)`:                       `99`,
		`decode.json("{")`:                         `"{"`,
		`decode.yaml("a: b: c")`:                   `"a: b: c"`,
		`decode.base64("x")`:                       `"x"`,
		`decode.hex("ff")`:                         `"ff"`,
		`hash.short("x", 99)`:                      `99`,
		`net.parse("192.0.2.0")`:                   `"192.0.2.0"`,
		`net.subnet("192.0.2.0/24", 8, 0)`:         `8`,
		`net.subnet("192.0.2.0/24", 25, 2)`:        `2`,
		`net.address("192.0.2.0/30", 4)`:           `4`,
		`version.parse("1.2")`:                     `"1.2"`,
		`version.satisfies("1.2.3", "soon")`:       `"soon"`,
		`version.satisfies("1.2.3", "")`:           `""`,
		`version.satisfies("1.2.3", "1.2.3")`:      `"1.2.3"`,
		`version.satisfies("1.2.3", "^1.2")`:       `"^1.2"`,
		`version.satisfies("1.2.3", ">=1.2, <2")`:  `">=1.2, <2"`,
		`version.satisfies("1.2.3", ">= 1.2")`:     `">= 1.2"`,
		`version.satisfies("1.2.3", "=>1.2")`:      `"=>1.2"`,
		`version.satisfies("1.2.3", ">1.2.3.4")`:   `">1.2.3.4"`,
		`version.satisfies("1.2.3", ">1.x")`:       `">1.x"`,
		`version.satisfies("1.2.3", ">1.2-rc.1")`:  `">1.2-rc.1"`,
		`time.seconds("1s1h")`:                     `"1s1h"`,
		`time.seconds("")`:                         `""`,
		`time.seconds("1h1h")`:                     `"1h1h"`,
		`time.seconds("--1h")`:                     `"--1h"`,
		`time.seconds("+1h")`:                      `"+1h"`,
		`decode.json("[\"a\", \"\\ud800\"]")`:      `"[\"a\", \"\\ud800\"]"`,
		`decode.json("\"\\udc00\\udc00\"")`:        `"\"\\udc00\\udc00\""`,
		`quantity.bytes("1.5")`:                    `"1.5"`,
		`quantity.bytes("12 Mi")`:                  `"12 Mi"`,
		`quantity.bytes("99999E")`:                 `"99999E"`,
		`quantity.millicores("0.0005")`:            `"0.0005"`,
		`time.parse("2027-03-31T1:00:00Z")`:        `"2027-03-31T1:00:00Z"`,
		`time.parse("2027-03-31T00:00:00,5Z")`:     `"2027-03-31T00:00:00,5Z"`,
		`version.parse("9223372036854775808.0.0")`: `"9223372036854775808.0.0"`,
		`time.parse("2027-02-30T00:00:00Z")`:       `"2027-02-30T00:00:00Z"`,
		`time.seconds("1.5s")`:                     `"1.5s"`,
		`time.format(99999999999999)`:              `99999999999999`,
	} {
		group, rest, _ := strings.Cut(call, ".")
		name, _, _ := strings.Cut(rest, "(")
		at := slices.IndexFunc(builtin.All(), func(f *builtin.Function) bool { return f.Group == group && f.Name() == name })
		if f := builtin.All()[at]; want != "" && f.Pattern == "" {
			require.NotEmpty(t, f.Errors, "%s fails, but its description does not say when", call)
		}
		p, findings := failing(t, call)
		if want == "" {
			require.Equal(t, source.TooMuchWork, findings[0].Code, call)
			continue
		}
		require.Contains(t, []source.Code{source.CallFailed, source.BadPattern}, findings[0].Code, call)
		span := findings[0].Span
		require.Equal(t, want, p.Sources.File(span.Start).Slice(span), call)
	}
}

// failing evaluates a call that fails in one place and returns what was found.
func failing(t *testing.T, call string) (*project.Project, source.Findings) {
	t.Helper()
	p, err := project.Load(fstest.MapFS{
		project.FileName: {Data: []byte("[environments.bench]\n")},
		"main.knot":      {Data: []byte("output a = " + call)},
	})
	require.NoError(t, err)
	require.Empty(t, p.Findings, call)
	_, ok := p.Run(p.Concrete()[0]).World(false).Value(p.Unit().Module.Objects["a"])
	require.False(t, ok, call)
	findings := p.Program.Constants()
	require.Len(t, findings, 1, call)
	return p, findings
}

// TestValues holds what the examples do not show: borders, signs, other scripts.
func TestValues(t *testing.T) {
	for expression, want := range map[string]string{
		`text.length("é🌊")`:                `2`,
		`text.slice("é🌊x", -2)`:            `"🌊x"`,
		`text.slice("abc", 2, 1)`:          `""`,
		`text.slice("abc", -9, 9)`:         `"abc"`,
		`text.lines("")`:                   `[]`,
		`text.lines("a\r\n\nb")`:           `["a","","b"]`,
		`text.find("x", "y")`:              `null`,
		`text.kebab("HTTPServer2 name_x")`: `"http-server2-name-x"`,
		`text.camel("")`:                   `""`,
		`text.quote_shell("it's")`:         `"'it'\\''s'"`,
		`text.quote_shell("")`:             `"''"`,
		`text.quote_shell("a=b")`:          `"'a=b'"`,
		`text.dedent("\n  a\n\n\tb")`:      `"\n  a\n\n\tb"`,
		`list.sort([3, 1.5, 2])`:           `[1.5,2,3]`,
		`list.sort([{ n: 2, t: "x" }, { n: 1, t: "y" }, { n: 2, t: "z" }], fn(r) = r.n)`:        `[{"n":1,"t":"y"},{"n":2,"t":"x"},{"n":2,"t":"z"}]`,
		`list.distinct(["b", "a", "b"])`:                                                        `["b","a"]`,
		`list.distinct([1, 1.0, 2])`:                                                            `[1,2]`,
		`list.distinct([{ a: 1, b: 1 }, { a: 1, b: 2 }], fn(r) = r.a)`:                          `[{"a":1,"b":1}]`,
		`list.sort([{ a: 2, b: "x" }, { a: 1, b: "z" }, { a: 1, b: "y" }], fn(r) = [r.a, r.b])`: `[{"a":1,"b":"y"},{"a":1,"b":"z"},{"a":2,"b":"x"}]`,
		`list.max([[1, "b"], [1, "c"]])`:                                                        `[1,"c"]`,
		`list.distinct([1, 1.0, 2.5, 2.5, true, null, "1", [1], [1.0]])`:                        `[1,2.5,true,null,"1",[1]]`,
		`list.union([1, 1], [2, 1.0])`:                                                          `[1,2]`,
		`list.difference([], ["x"])`:                                                            `[]`,
		`list.intersect([{ a: 1 }, { a: 2 }], [{ a: 2 }])`:                                      `[{"a":2}]`,
		`record.flatten({ a: {}, b: { c: [1] }, d: 1 }, "/")`:                                   `{"a":{},"b/c":[1],"d":1}`,
		`text.replace_pattern("tide-4", '([a-z]+)-([0-9]+)', '$1_$2')`:                          `"tide_4"`,
		`text.replace_pattern("tide-4", '(?P<name>[a-z]+)-(\d)', '${name}x$2$$ $')`:             `"tidex4$ $"`,
		`text.replace_found("aa", "a", "$")`:                                                    `"$$"`,
		`convert.decimal(5368709120.0)`:                                                         `"5368709120"`,
		`convert.decimal(0.1)`:                                                                  `"0.1"`,
		`convert.decimal(2.675, 2)`:                                                             `"2.68"`,
		`convert.decimal(-7, 1)`:                                                                `"-7.0"`,
		`convert.decimal(9007199254740993)`:                                                     `"9007199254740993"`,
		`math.floor(9007199254740993)`:                                                          `9007199254740993`,
		`time.format_duration(-3661)`:                                                           `"-1h1m1s"`,
		`time.format_duration(0)`:                                                               `"0s"`,
		`net.sort(["2001:db8::/32", "198.51.100.0/24", "198.51.100.0/25", "9.0.0.1"])`:          `["9.0.0.1","198.51.100.0/24","198.51.100.0/25","2001:db8::/32"]`,
		`net.merge(["192.0.2.3", "192.0.2.2", "192.0.2.1", "192.0.2.0", "2001:db8::/33", "2001:db8:8000::/33"])`: `["192.0.2.0/30","2001:db8::/32"]`,
		`list.max(["a", "c", "b"])`:                       `"c"`,
		`list.max([{ n: 1 }, { n: 3 }], by: fn(r) = r.n)`: `{"n":3}`,
		`list.all([], fn(x) = false)`:                     `true`,
		`list.sum([])`:                                    `0`,
		`list.sum([1, 0.5])`:                              `1.5`,
		`list.slice([1, 2, 3], -2)`:                       `[2,3]`,
		`list.last([])`:                                   `null`,
		`list.flatten([])`:                                `[]`,
		`record.get({ a: 1 }, "b")`:                       `null`,
		`record.pick({ b: 1, a: 2 }, ["a", "b", "c"])`:    `{"b":1,"a":2}`,
		`record.merge({ a: [1] }, { a: [2], b: null })`:   `{"a":[2],"b":null}`,
		`math.round(-2.5)`:                                `-3`,
		`math.pow(2, 62)`:                                 `4611686018427387904`,
		`math.pow(-2, 63)`:                                `-9223372036854775808`,
		`math.pow(0, 0)`:                                  `1`,
		`math.pow(0, 9)`:                                  `0`,
		`math.pow(-1, 9223372036854775807)`:               `-1`,
		`math.pow(2.0, -1)`:                               `0.5`,
		`math.min(1, 1.0)`:                                `1`,
		`encode.json({ a: [1] }, indent: 2)`:              `"{\n  \"a\": [\n    1\n  ]\n}"`,
		`decode.yaml("")`:                                 `null`,
		`encode.url("~-._")`:                              `"~-._"`,
		`hash.short("bay-map", 3)`:                        `"rt4"`,
		`hash.short("5", 4)`:                              `"j4wr"`,
		`net.contains("192.0.2.0/25", "192.0.2.0/24")`:    `false`,
		`net.contains("192.0.2.0/24", "2001:db8::1")`:     `false`,
		`net.address("2001:db8::/64", -1)`:                `"2001:db8::ffff:ffff:ffff:ffff"`,
		`net.subnet("2001:db8::/32", 48, 65535)`:          `"2001:db8:ffff::/48"`,
		`net.subnet("192.0.2.0/24", 24, 0)`:               `"192.0.2.0/24"`,
		`net.is_address("192.0.2.256")`:                   `false`,
		`net.is_address("fe80::1%eth0")`:                  `false`,
		`net.is_hostname("-a.example")`:                   `false`,
		`net.is_hostname("a..b")`:                         `false`,
		`version.compare("1.0.0-rc.1", "1.0.0")`:          `-1`,
		`version.compare("1.0.0", "1.0.0-rc.1")`:          `1`,
		`version.compare("1.0.0-9", "1.0.0-10")`:          `-1`,
		`version.compare("1.0.0-a.1", "1.0.0-a")`:         `1`,
		`version.compare("1.0.0-1", "1.0.0-a")`:           `-1`,
		`version.compare("1.0.0-B", "1.0.0-a")`:           `-1`,
		`version.compare("1.0.0-9223372036854775809", "1.0.0-9223372036854775808")`:    `1`,
		`version.compare("1.0.0-99999999999999999999", "1.0.0-100000000000000000000")`: `-1`,
		`version.satisfies("1.5.0-rc.1", ">=1.2 <2")`:                                  `true`,
		`version.satisfies("1.5.0-rc.1", "<1.5.0")`:                                    `true`,
		`version.satisfies("1.4.2", ">1.4")`:                                           `true`,
		`version.satisfies("1.4.2", "=1.4")`:                                           `false`,
		`version.satisfies("1.4.2", "!=1.4 <=1.4.2")`:                                  `true`,
		`version.satisfies("1.4.2", ">=1.4.2-rc.1")`:                                   `true`,
		`time.seconds("-1h")`:                                                          `-3600`,
		`time.seconds("90m")`:                                                          `5400`,
		`version.compare("1.0.0+a", "1.0.0+b")`:                                        `0`,
		`version.satisfies("2.0.0", ">=1.2 <2")`:                                       `false`,
		`quantity.bytes("1.5Gi")`:                                                      `1610612736`,
		`quantity.bytes("5k")`:                                                         `5000`,
		`quantity.format_bytes(0)`:                                                     `"0"`,
		`quantity.format_bytes(1536)`:                                                  `"1536"`,
		`quantity.format_millicores(2000)`:                                             `"2"`,
		`time.parse("2026-01-01T01:00:00.9+01:00")`:                                    `1767225600`,
		`time.parse("2026-12-31t23:59:60z")`:                                           `1798761600`,
		`net.parse("2001:db8::/64").count`:                                             `null`,
		`time.seconds("-1m")`:                                                          `-60`,
		`path.ext(".env")`:                                                             `""`,
		`path.dir("a")`:                                                                `""`,
		`path.join(["/a/", "/b"])`:                                                     `"/a/b"`,
	} {
		p, err := project.Load(fstest.MapFS{
			project.FileName: {Data: []byte("[environments.bench]\n")},
			"main.knot":      {Data: []byte("output a = " + expression)},
		})
		require.NoError(t, err)
		require.False(t, p.Findings.HasErrors(), "%s: %v", expression, p.Findings)
		v, ok := p.Run(p.Concrete()[0]).World(false).Value(p.Unit().Module.Objects["a"])
		require.True(t, ok, "%s: %v", expression, p.Program.Constants())
		require.Equal(t, want, data.CompactJSON(v), expression)
	}
}
