package project_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"knothole/core/data"
	"knothole/core/project"
	"knothole/core/value"
)

func load(t *testing.T, files map[string]string) *project.Project {
	t.Helper()
	fs := fstest.MapFS{}
	for name, text := range files {
		fs[name] = &fstest.MapFile{Data: []byte(text)}
	}
	p, err := project.Load(fs)
	require.NoError(t, err)
	require.Empty(t, p.Findings)
	return p
}

// with gives an input a value for one run.
func with(t *testing.T, r *project.Run, name, text string) *project.Run {
	t.Helper()
	with, err := r.WithInput(name, "--input "+name, text)
	require.NoError(t, err)
	return with
}

// output evaluates an output of a run, as JSON, or says what is wrong.
func output(r *project.Run, name string) string {
	w := r.World(false)
	v, ok := w.Value(r.Unit.Module.Objects[name])
	for _, f := range append(w.Findings(), r.Unit.Project.CheckLayers([]*project.Run{r})...) {
		return f.Message
	}
	if !ok {
		return "no value"
	}
	return data.CompactJSON(value.Shown(v))
}

// TestGivenIsNotKept checks that what is given for one run leaves the environment as it is, so that a project can be
// evaluated with several inputs side by side.
func TestGivenIsNotKept(t *testing.T) {
	p := load(t, map[string]string{project.FileName: "[environments.north]\n[environments.north.secrets]\n" +
		"pin = { variable = \"PIN\" }\n",
		"main.knot": "input x: int = 1\nsecret input pin: string\noutput y = x\nsecret output z = text.length(pin)\n"})
	e := p.RunNamed("north")
	one, two := with(t, e, "x", "2"), with(t, e, "x", "3")
	both := with(t, one, "x", "4")
	read, findings := one.WithSecrets(store{"PIN": "tide"})
	require.Empty(t, findings)
	for want, e := range map[string]*project.Run{"1": e, "2": one, "3": two, "4": both} {
		require.Equal(t, want, output(e, "y"))
		require.Equal(t, `"‹secret›"`, output(e, "z"))
	}
	v, _ := read.World(false).Value(p.Unit().Module.Objects["z"])
	require.Equal(t, int64(4), v.Int())
}

// TestPrecedence takes away what is strongest, step by step: each time the next holds.
func TestPrecedence(t *testing.T) {
	files := map[string]string{
		project.FileName: "[environments.live]\nabstract = true\nlayers = " +
			"[\"live.yaml\"]\n[environments.north]\nextends = \"live\"\nlayers = [\"first.toml\", { file = " +
			"\"into.json\", into = \"x\" }, \"second.json\"]\n",
		"main.knot": "input x: string = \"default\"\noutput y = x\n",
		"live.yaml": "x: extended\n", "first.toml": "x = 'first'\n", "into.json": `"into"`,
		"second.json": `{"x": "second"}`,
	}
	p := load(t, files)
	e := p.RunNamed("north")
	e = with(t, e.WithLayer("given.yaml", data.YAML, []byte("x: layer")), "x", "input")
	require.Equal(t, `"input"`, output(e, "y"))
	for _, c := range []struct{ file, text, want string }{
		{"second.json", "{}", `"second"`}, {"into.json", "null", `"into"`}, {"first.toml", "", `"first"`},
		{"live.yaml", "", `"extended"`}, {"", "", `"default"`},
	} {
		p := load(t, files)
		if c.want == `"second"` {
			e := p.RunNamed("north").WithLayer("given.yaml", data.YAML, []byte("x: layer"))
			require.Equal(t, `"layer"`, output(e, "y"))
		}
		require.Equal(t, c.want, output(p.RunNamed("north"), "y"))
		if c.file != "" {
			files[c.file] = c.text
		}
	}
}

// TestTexts checks that the text of an input is read as its type.
func TestTexts(t *testing.T) {
	for _, c := range []struct{ declared, text, want string }{
		{"string", "5", `"5"`}, {"string", "null", `"null"`}, {"string", "", `""`}, {"string", " a\n", `" a\n"`},
		{"string", "[1]", `"[1]"`},
		{"string?", "null", `null`}, {"string?", "5", `"5"`}, {"int", " 5 ", `5`}, {"int", "-5", `-5`},
		{"int", "5.0", `input "x": expected an int, found the float 5.0`},
		{"int", "five", `input "x": expected an int, found the string "five"`},
		{"int", "9223372036854775808", `input "x": expected an int, found the string "9223372036854775808"`},
		{"int?", "null", `null`}, {"int", "null", `input "x": expected an int, found the string "null"`},
		{"float", "5", `5.0`}, {"float", "1e3", `1000.0`},
		{"float", "NaN", `input "x": expected a float, found the string "NaN"`},
		{"float", "0x10", `input "x": expected a float, found the string "0x10"`}, {"bool", "true", `true`},
		{"bool", "yes", `input "x": expected a bool, found the string "yes"`},
		{`"a" | "b"`, "b", `"b"`}, {`"a" | "b"`, "c", `input "x": expected "a" | "b", found the string "c"`},
		{"1 | 2", "2", `2`}, {"int | string", "5", `5`}, {"int | string", "five", `"five"`},
		{"bool | string", "true", `true`}, {"[int]", "[1, 2]", `[1,2]`}, {"[string]", "- a\n- b", `["a","b"]`},
		{"[int]", "1", `input "x": expected a list [int], found the int 1`},
		{"{string}", "[b, a]", `["a","b"]`}, {"[int, string]", "[1, a]", `[1,"a"]`},
		{"{ a: int, b?: string }", "{a: 1}", `{"a":1}`}, {"{ *: int }", `{"a": 1}`, `{"a":1}`},
		{"{ a: int }?", "null", `null`}, {"{ a: int }", "{a: [", ``}, {"any", "5", `5`}, {"any", "a", `"a"`},
		{"any", "{a: 1}", `{"a":1}`}, {"any", "null", `null`},
		{"(int where it > 3)?", "5", `5`}, {"int where it > 3", "2", `input "x": must satisfy it > 3, found 2`},
	} {
		t.Run(c.declared+" "+c.text, func(t *testing.T) {
			p := load(t, map[string]string{project.FileName: "[environments.north]\n",
				"main.knot": "input x: " + c.declared + "\noutput y = x\n"})
			e := p.RunNamed("north")
			e = with(t, e, "x", c.text)
			if got := output(e, "y"); c.want != "" {
				require.Equal(t, c.want, got)
			} else {
				require.Contains(t, got, "YAML")
			}
		})
	}
}

// store is a source of secrets in memory.
type store map[string]string

func (s store) Read(r *project.Reference) ([]byte, error) {
	text, ok := s[r.Target]
	if !ok {
		return nil, errors.New("it is not there")
	}
	return []byte(text), nil
}

// TestSecretsAreRead checks that what references name becomes the values of secret inputs, of their types.
func TestSecretsAreRead(t *testing.T) {
	p := load(t, map[string]string{
		project.FileName: `
[environments.live]
abstract = true
[environments.live.secrets]
text = { file = "live" }
number = { file = "number" }
[environments.north]
extends = "live"
[environments.north.secrets]
text = { file = "text" }
part = { file = "json", at = "/a/1/b~1c" }
login = { url = "https://store.floodwatch.example/r", at = "/r" }
mail.password = { file = "text" }
`,
		"main.knot": `
secret input text: string
secret input number: int
secret input part: float
secret input login: { user: string, on: bool }
input mail: { secret password: string }
let lengths = [text.length(text), text.length(mail.password), text.length(login.user)]
secret output sum = [lengths, number + 1, part * 2, not login.on]
`,
	})
	e := p.RunNamed("north")
	require.Equal(t, `[["‹secret›","‹secret›","‹secret›"],"‹secret›","‹secret›","‹secret›"]`, output(e, "sum"))
	unread := e
	e, findings := unread.WithSecrets(store{"text": "tide\n", "number": "41\n", "json": `{"a": [0, {"b/c": 1.5}]}`,
		"https://store.floodwatch.example/r": `{"r": {"user": "duty-officer", "on": true}}`})
	require.Empty(t, findings)
	v, ok := e.World(false).Value(p.Unit().Module.Objects["sum"])
	require.True(t, ok)
	require.Equal(t, `[[4,4,12],42,3.0,false]`, data.CompactJSON(v))
	require.NotZero(t, value.Marks(v)&value.Secret)
	require.Equal(t, `[["‹secret›","‹secret›","‹secret›"],"‹secret›","‹secret›","‹secret›"]`,
		data.CompactJSON(value.Shown(v)), "read, but shown to nobody")

	e, findings = unread.WithSecrets(store{"text": "tide", "number": "many", "json": `{"a": "x"}`,
		"https://store.floodwatch.example/r": `not JSON`})
	var messages []string
	for _, f := range findings {
		messages = append(messages, f.Message)
	}
	require.Equal(t, []string{
		`the secret "login" cannot be read from url: it is not JSON, which "at" and url need`,
		`the secret "part" cannot be read from file: there is nothing at "/a/1"`,
	}, messages)
	require.Equal(t, `input "number": expected an int, found the string ‹secret›`, output(e, "sum"))
}

// TestFields checks that fields of inputs are given by their names, secret ones too, which then need no source.
func TestFields(t *testing.T) {
	p := load(t, map[string]string{
		project.FileName: "[environments.north]\nlayers = [\"a.yaml\"]\n[environments.north.secrets]\nmail.password " +
			"= { file = \"gone\" }\n",
		"a.yaml": "mail: { host: a.example }\nlevels: { high: 3 }\nfree: { a: { b: 1 } }\n",
		"main.knot": "input mail: { host: string, secret password: string }\ninput levels: { *: int }\ninput " +
			"free: any\noutput plain = [mail.host, levels, free]\nsecret output word = mail.password\n",
	})
	e := p.RunNamed("north")
	for name, text := range map[string]string{"mail.host": "b.example", "levels.low": "1", `levels."very high"`: "5",
		"free.a.c": "[true]"} {
		e = with(t, e, name, text)
	}
	e = with(t, e, "mail.password", "tide")
	got := output(e, "plain")
	for _, part := range []string{`"b.example"`, `"high":3`, `"low":1`, `"very high":5`, `"b":1`, `"c":[true]`} {
		require.Contains(t, got, part)
	}
	e, findings := e.WithSecrets(store{})
	require.Empty(t, findings, "what is given is not read")
	require.Equal(t, `"‹secret›"`, output(e, "word"))
	v, ok := e.World(false).Value(p.Unit().Module.Objects["word"])
	require.True(t, ok)
	require.Equal(t, "tide", v.Text())
	require.Empty(t, p.CheckLayers([]*project.Run{e}))

	for name, want := range map[string]string{
		"mial.host": `main.knot has no input "mial"`, "mail.hots": "did you mean \"host\"?",
		"mail.host.x": `the input "mail.host" is not a record, so it has no field "x"`,
		"mail..x":     "is not the name of an input", "levels.low": "",
	} {
		_, err := e.WithInput(name, "--input "+name, "1")
		if want == "" {
			require.NoError(t, err)
		} else {
			require.ErrorContains(t, err, want)
		}
	}
	e = with(t, e, "levels.low", "tide")
	require.Equal(t, `input "levels.low": expected an int, found the string "tide"`, output(e, "plain"))
}

// TestLayersOfAnySize checks that a layer may be large.
func TestLayersOfAnySize(t *testing.T) {
	large := strings.Repeat("tide ", 2<<20)
	p := load(t, map[string]string{project.FileName: "[environments.north]\nlayers = [\"a.yaml\"]\n",
		"main.knot": "input x: string where text.length(it) < 5\noutput y = x\n", "a.yaml": "x: " + large + "\n"})
	got := output(p.RunNamed("north"), "y")
	require.Contains(t, got, `input "x": must satisfy text.length(it) < 5`)
	require.Less(t, len(got), 300)
}

// TestOneInputTwoTypes checks that what layers say is checked as a whole, at the line of the strongest.
func TestOneInputTwoTypes(t *testing.T) {
	files := map[string]string{project.FileName: "[environments.north]\nlayers = [\"a.yaml\", \"b.toml\"]\n",
		"main.knot": "input x: { a: int }\noutput y = x\n", "a.yaml": "x: { a: 1 }\n", "b.toml": "x = 5\n"}
	p := load(t, files)
	require.Equal(t, `input "x": expected a record { a: int }, found the int 5`, output(p.RunNamed("north"), "y"))
	files["a.yaml"], files["b.toml"] = "x: 5\n", "x = { a = 2 }\n"
	p = load(t, files)
	require.Equal(t, `{"a":2}`, output(p.RunNamed("north"), "y"))
}

func ExampleReference_String() {
	fmt.Println(&project.Reference{Path: []string{"mail", "pass word"}, Kind: "age", Target: "a.age", At: "/x"})
	fmt.Println((&project.Reference{Path: []string{"mail", "pass word"}}).Name())
	// Output:
	// { age = "a.age", at = "/x" }
	// mail."pass word"
}

// TestAnswersAreTried holds what is said of an answer to the question for an input, and only of that input.
func TestAnswersAreTried(t *testing.T) {
	p := load(t, map[string]string{project.FileName: "[environments.north]\n",
		"main.knot": "input copies: int where it in 1..20\ninput site: { name: string, port: int }\n" +
			"input copiesOf: string\n" +
			"secret input pin: string where text.length(it) > 3\noutput all = [copies, site, copiesOf]\n" +
			"secret output p = pin\n"})
	e := p.RunNamed("north")
	for _, row := range []struct{ name, answer, want string }{
		{"copies", "5", ""},
		{"copies", "50", `input "copies": must satisfy it in 1..20, found 50`},
		{"copies", "many", `input "copies": expected an int, found the string "many"`},
		{"site", "{ name: a, port: 80 }", ""},
		{"site", "{ name: a, port: x }", `input "site.port": expected an int, found the string "x"`},
		{"site", "{ name: a", "this is not YAML: did not find expected ',' or '}'"},
		{"copiesOf", "50", ""},
		{"pin", "tide", ""},
		{"pin", "t", `input "pin": must satisfy text.length(it) > 3, found ‹secret›`},
	} {
		require.Equal(t, row.want, e.TryInput(row.name, row.answer), row)
	}
}
