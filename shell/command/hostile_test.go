package command

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// patience is how long a command may take before it is taken to hang: much more than it needs.
const patience = 2 * time.Minute

// hostileMemory is how much memory a command may take, in bytes.
const hostileMemory = 1 << 30

// repeated joins the texts that a format makes of each number below n and of the one after it.
func repeated(n int, format string) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, format, i, i+1)
	}
	return b.String()
}

// long is a module with two long texts and something that is done with them for each of many elements.
func long(condition string) string {
	return "let b = text.repeat(\"x\", 40000000)\nlet c = text.repeat(\"x\", 40000000)\n" +
		"output a = list.count(list.repeat(1, 2000), fn(i) = " + condition + ")\n"
}

// hostile are modules that would take very long, or very much memory, if not all work were counted; with the code of
// what is found, or none when it is little work after all.
var hostile = map[string][2]string{
	"equal":   {long("b == c"), "too-much-work"},
	"less":    {long("b < c"), "too-much-work"},
	"short":   {long("hash.short(b, 8) == \"x\""), "too-much-work"},
	"address": {long("net.is_address(b)"), "too-much-work"},
	"sort by text": {"let b = text.repeat(\"x\", 4000000)\n" +
		"output a = list.sort(for i in 1..2000 -> { k: b }, fn(r) = r.k)\n", "too-much-work"},
	"pattern": {"output a = text.repeat(\"a\", 10000000) matches \"(a?){500}a{500}b\"\n", "too-much-work"},
	"groups": {"output a = text.repeat(\"a\", 10000000) matches \"" + strings.Repeat("(.*)", 100) + "x\"\n",
		"too-much-work"},
	"find all":   {"output a = text.find_all(text.repeat(\"a\", 500000), \"(a?){500}a{500}b\")\n", "too-much-work"},
	"yaml":       {"output a = decode.yaml(\"[\" + text.repeat(\"[],\", 5000000) + \"[]]\")\n", "too-much-work"},
	"deep toml":  {"output a = decode.toml(\"a\" + text.repeat(\".a\", 2000000) + \" = 1\")\n", "call-failed"},
	"many lists": {repeated(14, "output a%[1]d = for i in 1..9000000 -> i\n"), "too-much-work"},
	"doubled": {"let a0: any = { x: 1 }\n" + repeated(39, "let a%[2]d: any = { l: a%[1]d, r: a%[1]d }\n") +
		"output o = a39\n", ""},
	"nested union": {"type T = [T] | [int] | int\nlet x: T = " + strings.Repeat("[", 900) + "1" +
		strings.Repeat("]", 900) + "\noutput o = x\n", "too-deep"},
	"spreads": {"output o = " + strings.Repeat("{...", 300) + "{a: 1}" + strings.Repeat("}", 300) + "\n", ""},
	"tracked": {"secret input s: string\nlet a0 = { x: s }\n" +
		repeated(24, "let a%[2]d = { l: a%[1]d, r: a%[1]d }\n") + "secret output o = a24.l.l.r\n", ""},
	"type text": {"let a0 = [1]\n" + repeated(26, "let a%[2]d = [a%[1]d, [a%[1]d]]\n") + "output o = a26 + 1\n",
		"wrong-type"},
	"wrong names": {repeated(20000, "let a%[1]d = nope%[1]d\n"), "unknown-name"},
	"one line":    {"output o = [" + repeated(20000, "nope%[1]d, ") + "]\n", "unknown-name"},
	"conditions":  {"type T = int" + repeated(5000, " where it > -%[2]d") + "\noutput o: T = 3\n", ""},
}

// ProgramFolder is where AsUsed builds the program.
var ProgramFolder string

var built = sync.OnceValues(func() (string, error) {
	program := filepath.Join(ProgramFolder, "knothole")
	build := exec.Command("go", "build", "-o", program, "knothole/cmd/knothole")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if said, err := build.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, said)
	}
	return program, nil
})

// AsUsed returns the program as people have it, built once. The test program, when it looks for races, takes several
// times the memory.
func AsUsed(t *testing.T) string {
	t.Helper()
	program, err := built()
	require.NoError(t, err)
	return program
}

// inBounds runs a command on a project and checks that it ends by itself, without a crash, in the memory that it may
// take. It returns what it said.
func inBounds(t *testing.T, what, program, folder string, arguments ...string) string {
	t.Helper()
	c := exec.Command(program, arguments...)
	c.Dir = folder
	c.Env = append(os.Environ(), "KNOTHOLE_SECRET_S=x")
	out := &strings.Builder{}
	c.Stdout, c.Stderr = out, out
	require.NoError(t, c.Start())
	watch := time.AfterFunc(patience, func() { _ = c.Process.Kill() })
	err := c.Wait()
	require.True(t, watch.Stop(), "%s hangs", what)
	said := out.String()
	if len(said) > 2000 {
		said = said[:2000]
	}
	if err != nil {
		require.Equal(t, 1, c.ProcessState.ExitCode(), "%s: %s", what, said)
	}
	require.NotContains(t, said, "goroutine ", what)
	require.NotContains(t, said, "mistake in knothole", what)
	require.Less(t, memoryOf(t, c.ProcessState), int64(hostileMemory), "%s takes too much memory", what)
	return out.String()
}

func hostileProject(t *testing.T, module string) string {
	t.Helper()
	folder := t.TempDir()
	secrets := ""
	if strings.Contains(module, "secret input s") {
		secrets = "[environments.north.secrets]\ns = { variable = \"KNOTHOLE_SECRET_S\" }\n"
	}
	configuration := []byte("[environments.north]\n" + secrets)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "knothole.toml"), configuration, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "main.knot"), []byte(module), 0o644))
	return folder
}

// TestHostilePrograms checks that programs which ask for too much work end with a finding, in bounded memory.
func TestHostilePrograms(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	t.Parallel()
	program := AsUsed(t)
	for name, c := range hostile {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			said := inBounds(t, name, program, hostileProject(t, c[0]), "check")
			if c[1] == "" {
				require.Contains(t, said, "0 errors", name)
			} else {
				require.Contains(t, said, "["+c[1]+"]", name)
			}
		})
	}
}

// doubling makes random modules that double, nest, repeat and share what they have made before.
func doubling(r *rand.Rand) string {
	var b strings.Builder
	b.WriteString("secret input s: string\nlet v0: any = { a: [1, \"x\"], b: { c: 2.5 } }\nlet t0 = \"tide\"\n")
	steps := 20 + r.IntN(40)
	for i := range steps {
		recent := func() string { return fmt.Sprintf("v%d", max(0, i-r.IntN(3))) }
		fill := strings.NewReplacer("A", recent(), "B", recent(), "T", fmt.Sprintf("t%d", i))
		values := []string{
			"{ l: A, r: B }", "[A, B, A]", "record.merge({ x: A }, { x: B })", "{ ...{ x: A }, y: { ...{ z: B } } }",
			"decode.json(encode.json(A))", "{ x: A } with { x: B }", "list.flatten([[A], [B]])", "for i in 1..200 -> A",
			"list.repeat(A, 3000)", "{ s: s, v: A }", "(patch { x: A } { put .y: B })", "[A == B, A]",
			"list.distinct([A, B])", "for k, e in { a: A, b: B } -> \"${k}x\": e", "list.sort([T, T + \"a\"])",
			"encode.yaml({ x: A })", "record.flatten({ x: A })",
		}
		texts := []string{
			"T + T", "text.repeat(T, 50)", "text.replace(T, \"t\", \"tt\")", "text.upper(T)", "\"${T}-${T}\"",
		}
		fmt.Fprintf(&b, "let v%d: any = %s\nlet t%d = %s\n", i+1, fill.Replace(values[r.IntN(len(values))]), i+1,
			fill.Replace(texts[r.IntN(len(texts))]))
	}
	fmt.Fprintf(&b, "secret document \"v.json\" = { v: v%d, n: text.length(t%d) }\n", steps, steps)
	return b.String()
}

// TestDoublingPrograms is TestHostilePrograms for random ones.
func TestDoublingPrograms(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	t.Parallel()
	program := AsUsed(t)
	for seed := range rounds(8, 300) {
		module := doubling(rand.New(rand.NewPCG(uint64(seed), 3)))
		folder := hostileProject(t, module)
		inBounds(t, fmt.Sprintf("seed %d\n%s", seed, module), program, folder, "check")
	}
}
