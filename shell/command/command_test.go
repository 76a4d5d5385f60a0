package command_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"

	"knothole/demo"
	"knothole/shell/command"
)

// withCache is a run of tests in which the program has directories of its own: one that it is in, and one for what
// it remembers.
type withCache struct{ *testing.M }

func (m withCache) Run() int {
	folder, err := os.MkdirTemp("", "command-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(folder)
	// What builds the program remembers in its own directory; in an empty one it would build the standard library too.
	if caches, err := os.UserCacheDir(); err == nil && os.Getenv("GOCACHE") == "" {
		os.Setenv("GOCACHE", filepath.Join(caches, "go-build"))
	}
	command.ProgramFolder = filepath.Join(folder, "program")
	os.Setenv("XDG_CACHE_HOME", filepath.Join(folder, "cache"))
	return m.M.Run()
}

func TestMain(m *testing.M) {
	if err := os.Setenv("GORACE", hasty); err != nil {
		panic(err)
	}
	testscript.Main(withCache{m}, map[string]func(){
		"knothole": func() { os.Exit(command.Main(os.Args[1:], command.System())) },
	})
}

// hasty keeps programs that look for races from waiting a second at their end, for races that nothing is left to make.
const hasty = "atexit_sleep_ms=10"

// forRaces are the scripts that run most of what the program does at the same time. They run the program of the tests,
// which finds races where these are looked for; the others run it as people have it, which starts many times faster.
var forRaces = []string{"demo", "render", "diff", "impact", "rules", "again", "test"}

// TestScripts runs the program as a process of its own on files in a temporary directory. The demo project is in
// `demo`; `edit FILE OLD NEW` replaces the one occurrence of a text.
func TestScripts(t *testing.T) {
	program := command.AsUsed(t)
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(e *testscript.Env) error {
			// The stand-in secret store, and what is said about it outside of the project.
			e.Setenv("XDG_CACHE_HOME", filepath.Join(e.WorkDir, ".cache"))
			said := filepath.Join(e.WorkDir, "said")
			if err := os.Mkdir(said, 0o755); err != nil {
				return err
			}
			store, err := demo.StartStore(said)
			if err != nil {
				return err
			}
			e.Defer(store.Close)
			if name := strings.TrimPrefix(filepath.Base(e.WorkDir), "script-"); !slices.Contains(forRaces, name) {
				e.Setenv("PATH", filepath.Dir(program)+string(filepath.ListSeparator)+e.Getenv("PATH"))
			}
			e.Setenv("POLICY", store.Policy)
			e.Setenv("GORACE", hasty)
			e.Setenv("XDG_CACHE_HOME", filepath.Join(e.WorkDir, ".cache"))
			return demo.Write(filepath.Join(e.WorkDir, "demo"))
		},
		Cmds: map[string]func(ts *testscript.TestScript, neg bool, args []string){
			"edit": func(ts *testscript.TestScript, neg bool, args []string) {
				if neg || len(args) != 3 {
					ts.Fatalf("usage: edit FILE OLD NEW")
				}
				text := ts.ReadFile(args[0])
				old, replacement := strings.ReplaceAll(args[1], `\n`, "\n"), strings.ReplaceAll(args[2], `\n`, "\n")
				if strings.Count(text, old) != 1 {
					ts.Fatalf("%s has %q %d times, not once", args[0], old, strings.Count(text, old))
				}
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.Replace(text, old, replacement, 1)), 0o644))
			},
			// bytes FILE N TEXT writes a text N times.
			"repeat": func(ts *testscript.TestScript, neg bool, args []string) {
				n := 0
				for _, c := range args[1] {
					n = 10*n + int(c-'0')
				}
				ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(strings.Repeat(args[2], n)), 0o644))
			},
		},
		UpdateScripts: os.Getenv("UPDATE_SCRIPTS") != "",
	})
}
