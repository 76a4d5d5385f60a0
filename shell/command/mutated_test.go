package command

import (
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/demo"
)

// rounds returns how often a law is tried: more often with KNOTHOLE_LONG.
func rounds(short, long int) int {
	if os.Getenv("KNOTHOLE_LONG") != "" {
		return long
	}
	return short
}

// runIn runs a command in a directory, and returns its status and what it printed. It fails the test if the command
// takes too long, or finds an error in the program.
func runIn(t *testing.T, what, folder string, arguments ...string) (status int, said string) {
	t.Helper()
	var out bytes.Buffer
	done := make(chan int, 1)
	go func() {
		done <- Main(arguments, &system{in: strings.NewReader(""), out: &out, err: &out, folder: folder, width: 120})
	}()
	select {
	case status = <-done:
	case <-time.After(patience):
		require.Fail(t, "a command hangs", "%s: %q", what, arguments)
	}
	require.NotContains(t, out.String(), "a bug in knothole", "%s: %q", what, arguments)
	require.LessOrEqual(t, status, exitFailed, "%s: %q", what, arguments)
	return status, out.String()
}

// tokens are what mutations put into files: parts of all their formats, and bytes that none of them has.
var tokens = []string{"{", "}", "[", "]", "(", ")", "\"", "'", "$", "${", "\\", "\n", "\r\n", "\t", "\x00", "\xff",
	"\ufeff", "\u202e", ":", ",", ".", "..", "*", "**", "&a", "*a", "<<", "!!", "---\n", "...\n", "#", "|\n", ">-\n", "null",
	"~", "-1", "1e400", "0x10", "9223372036854775807", "true", "in", "where", "else", "->", "??", "?.", "=", "==", "- ",
	"[[", "]]", "input ", "let ", "fn ", "for ", "if ", "match ", "with ", "use ", "rule ", "patch ", "it", "env.name"}

// mutated returns a text with some random changes.
func mutated(random *rand.Rand, text []byte) []byte {
	text = bytes.Clone(text)
	for range []int{1, 1, 1, 2, 3, 6}[random.IntN(6)] {
		at := random.IntN(len(text) + 1)
		end := min(len(text), at+1+random.IntN(40))
		put := []byte(tokens[random.IntN(len(tokens))])
		switch random.IntN(5) {
		case 0: // taken out
			put = nil
		case 1: // put in
			end = at
		case 2: // written again elsewhere
			from := random.IntN(len(text) + 1)
			put, end = bytes.Clone(text[from:min(len(text), from+1+random.IntN(80))]), at
		case 3: // many times
			put, end = bytes.Repeat(put, 30), at
		}
		text = append(text[:at:at], append(put, text[end:]...)...)
	}
	return text
}

// TestMutatedProjects runs commands on projects in which files are changed at random: each ends with a finding or an
// answer, never with an error of the program.
func TestMutatedProjects(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	base := t.TempDir()
	require.NoError(t, demo.Write(filepath.Join(base, "demo")))
	sources := []string{filepath.Join(base, "demo")}
	for _, name := range []string{"mudflat", "network", "pipelines"} {
		sources = append(sources, filepath.Join("..", "..", "examples", name))
	}
	commands := []string{"check", "check --format json", "check --format sarif", "check --rendered", "render",
		"render --stdout ENV", "inputs", "inputs ENV --format json", "inputs --blank toml", "outputs ENV", "test", "rules",
		"look name", "diff ENV ENV", "diff --all", "fmt --check", "report --to page.html", "validate .",
		"new --environment other --like ENV", "set ENV --fill", "schema list", "completion words why ENV "}
	for seed := range rounds(40, 4000) {
		random := rand.New(rand.NewPCG(uint64(seed), 17))
		from, folder := sources[random.IntN(len(sources))], filepath.Join(t.TempDir(), "p")
		require.NoError(t, os.CopyFS(folder, os.DirFS(from)))
		var names []string
		require.NoError(t, fs.WalkDir(os.DirFS(folder), ".", func(name string, e fs.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				names = append(names, name)
			}
			return err
		}))
		what := fmt.Sprintf("seed %d of %s:", seed, filepath.Base(from))
		for range 1 + random.IntN(2) {
			name := filepath.Join(folder, names[random.IntN(len(names))])
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(name, mutated(random, text), 0o644))
			what += " " + filepath.Base(name)
		}
		environment := []string{"north", "south", "bench", "dev", "live"}[random.IntN(5)]
		for range 4 {
			line := strings.ReplaceAll(commands[random.IntN(len(commands))], "ENV", environment)
			runIn(t, what, folder, strings.Fields(line)...)
		}
		require.NoError(t, os.RemoveAll(folder))
	}
}

// TestReferencesStayInside writes references of schemas and data that lead out of a project in every way: no line of a
// file outside is shown, and none of them is waited for.
func TestReferencesStayInside(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	base := t.TempDir()
	folder, outside := filepath.Join(base, "p"), filepath.Join(base, "outside")
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
	}
	write(filepath.Join(outside, "s.json"), `{"type": "CANARYtype", "enum": ["CANARYenum"], "a": {"auth": "CANARYauth"}}`)
	write(filepath.Join(outside, "s.yaml"), "CANARYkey: x: CANARYvalue\n")
	write(filepath.Join(outside, "plain"), "CANARYplain\n")
	targets := []string{"s.json", "s.json#/enum", "s.json#/a/auth", "s.json#/none", "s.yaml", "plain", "none", ".", "pipe"}
	_ = exec.Command("mkfifo", filepath.Join(outside, "pipe")).Run() // without it the file is missing, on some systems
	for seed := range rounds(120, 5000) {
		random := rand.New(rand.NewPCG(uint64(seed), 2))
		require.NoError(t, os.RemoveAll(folder))
		require.NoError(t, os.MkdirAll(filepath.Join(folder, "inner"), 0o755))
		target := targets[random.IntN(len(targets))]
		file, fragment, _ := strings.Cut(target, "#")
		reference := []string{"../outside/" + target, "inner/../../outside/" + target, filepath.Join(outside, file) + "#" +
			fragment, "file://" + filepath.Join(outside, file) + "#" + fragment, "link#" + fragment, "inner/link#" + fragment,
			"..\\outside\\" + target, "%2e%2e/outside/" + target}[random.IntN(8)]
		require.NoError(t, os.Symlink(filepath.Join(outside, file), filepath.Join(folder, "link")))
		require.NoError(t, os.Symlink("../../outside/"+file, filepath.Join(folder, "inner", "link")))
		write(filepath.Join(folder, "s.json"), fmt.Sprintf(`{"$ref": %q}`, reference))
		write(filepath.Join(folder, "s2.json"), fmt.Sprintf(`{"properties": {"a": {"$ref": %q}}}`, reference))
		write(filepath.Join(folder, "d.json"), `{"a": "x"}`)
		write(filepath.Join(folder, "e.json"), fmt.Sprintf(`{"$schema": %q}`, reference))
		write(filepath.Join(folder, "f.yaml"), "# schema: "+reference+"\na: x\n")
		lines := []string{"validate d.json --schema s.json", "validate d.json --schema s2.json", "validate e.json",
			"validate f.yaml", "validate ."}
		if random.IntN(2) == 0 {
			write(filepath.Join(folder, "knothole.toml"), "[environments.north]\nlayers = [\"l.yaml\"]\n[[schemas]]\n"+
				"documents = \"d.json\"\nschema = \"s2.json\"\n")
			write(filepath.Join(folder, "main.knot"), "input n: int = 1\ndocument \"d.json\" = { a: n }\n")
			write(filepath.Join(folder, "l.yaml"), "# schema: "+reference+"\nn: 2\n")
			lines = append(lines, "check", "check --format json", "render --stdout", "report --to page.html", "schema list")
		}
		for _, line := range lines {
			_, said := runIn(t, fmt.Sprintf("seed %d, %s", seed, reference), folder, strings.Fields(line)...)
			require.NotContains(t, said, "CANARY", "seed %d, %s: %s", seed, reference, line)
		}
		if page, err := os.ReadFile(filepath.Join(folder, "page.html")); err == nil {
			require.NotContains(t, string(page), "CANARY", "seed %d, %s", seed, reference)
		}
	}
}
