package command_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestKill kills the program at random moments while it renders, again and again. Each document is then whole, the
// old one or the new one; and the next run, whatever it renders, finds nothing that it takes for the work of somebody
// else, and leaves what it should.
func TestKill(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	const documents, rounds = 80, 12
	project := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(project, name), []byte(text), 0o644))
	}
	write("knothole.toml", "[environments.north]\nlayers = [\"v.yaml\"]\n[environments.south]\nlayers = [\"v.yaml\"]\n")
	write("main.knot", fmt.Sprintf(`input v: int
for i in 1..%d { document "k8s/d${i}.yaml" = { version: v, text: text.repeat("tide ", 200) } }
if v == 1 { document "only/one.yaml" = v } else { document "only" as yaml = v }
`, documents))
	run := func(v int) *exec.Cmd {
		write("v.yaml", fmt.Sprintf("v: %d\n", v))
		c := exec.Command("knothole", "render", "--project", project)
		c.Dir = t.TempDir()
		return c
	}
	complete := func(v int) {
		out, err := run(v).CombinedOutput()
		require.NoError(t, err, "%s", out)
		files := 0
		require.NoError(t, filepath.WalkDir(filepath.Join(project, "rendered"),
			func(name string, entry os.DirEntry, err error) error {
				require.NoError(t, err)
				require.NotContains(t, name, "staging")
				if entry.IsDir() || strings.HasPrefix(entry.Name(), ".") {
					return nil
				}
				files++
				text, err := os.ReadFile(name)
				require.NoError(t, err)
				if strings.Contains(name, "k8s") {
					require.True(t, strings.HasPrefix(string(text), fmt.Sprintf("version: %d\n", v)), "%s", name)
				}
				return nil
			}))
		require.Equal(t, 2*(documents+1), files)
	}
	start := time.Now()
	complete(1)
	usual := time.Since(start)
	random := rand.New(rand.NewPCG(1, 2))
	killed := 0
	for round := range rounds {
		c := run(1 + round%2)
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(random.Int64N(int64(usual))))
		_ = c.Process.Kill()
		if c.Wait() != nil {
			killed++
		}
		// Every document is whole.
		require.NoError(t, filepath.WalkDir(filepath.Join(project, "rendered"),
			func(name string, entry os.DirEntry, err error) error {
				if err != nil || entry.IsDir() || strings.Contains(name, ".knothole-staging") ||
					!strings.Contains(name, "k8s") {
					return err
				}
				text, err := os.ReadFile(name)
				require.NoError(t, err)
				require.Len(t, text, len("version: 1\ntext: \"\"\n")+5*200, "%s", name)
				return nil
			}))
		complete(1 + random.IntN(2))
	}
	require.Positive(t, killed, "some were killed")
	t.Logf("%d of %d runs were killed", killed, rounds)
}

// TestTwoRunsAtOnce checks that runs that write to one directory wait for each other.
func TestTwoRunsAtOnce(t *testing.T) {
	project := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(project, "knothole.toml"), []byte("[environments.north]\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(project, "main.knot"),
		[]byte(`for i in 1..200 { document "d${i}.yaml" = { i: i } }`), 0o644))
	var runs []*exec.Cmd
	var outputs []*strings.Builder
	for range 6 {
		c := exec.Command("knothole", "render", "--project", project)
		out := &strings.Builder{}
		c.Stderr = out
		require.NoError(t, c.Start())
		runs, outputs = append(runs, c), append(outputs, out)
	}
	written := 0
	for i, c := range runs {
		require.NoError(t, c.Wait(), "%s", outputs[i])
		if strings.Contains(outputs[i].String(), "200 written") {
			written++
		}
	}
	require.Equal(t, 1, written, "the first writes, the others find it done")
	entries, err := os.ReadDir(filepath.Join(project, "rendered", "north"))
	require.NoError(t, err)
	require.Len(t, entries, 201)
}

// TestChangesAtOnce checks that none of several changes that are made at the same time is lost.
func TestChangesAtOnce(t *testing.T) {
	const inputs = 8
	project := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(project, name), []byte(text), 0o644))
	}
	module := ""
	for i := range inputs {
		module += fmt.Sprintf("input v%d: int = 0\n", i)
	}
	write("main.knot", module+"document \"a.yaml\" = [v0, v1, v2, v3, v4, v5, v6, v7]\n")
	write("knothole.toml", "[environments.north]\nlayers = [\"v.yaml\"]\n")
	write("v.yaml", "# all of them\n")
	var runs []*exec.Cmd
	for i := range inputs {
		value, environment := fmt.Sprintf("v%d=7", i), fmt.Sprintf("e%d", i)
		runs = append(runs, exec.Command("knothole", "set", "north", value, "--project", project),
			exec.Command("knothole", "new", "--environment", environment, "--like", "north", "--project", project))
	}
	for _, c := range runs {
		require.NoError(t, c.Start())
	}
	for _, c := range runs {
		require.NoError(t, c.Wait())
	}
	layer, err := os.ReadFile(filepath.Join(project, "v.yaml"))
	require.NoError(t, err)
	require.Equal(t, inputs, strings.Count(string(layer), ": 7\n"), "%s", layer)
	entries, err := os.ReadFile(filepath.Join(project, "knothole.toml"))
	require.NoError(t, err)
	require.Equal(t, 1+inputs, strings.Count(string(entries), "[environments."), "%s", entries)
	left, err := filepath.Glob(filepath.Join(project, ".knothole*"))
	require.NoError(t, err)
	require.Empty(t, left)
}
