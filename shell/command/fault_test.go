package command

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/outside/gate"
)

// faulty lets the nth change of the file system fail, as on a full disk, or all from there on: then the program is
// dead. It is asked by several goroutines.
type faulty struct {
	mu    sync.Mutex
	left  int
	dead  bool
	fired bool
}

func (f *faulty) fault(string, string) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.left--
	if f.left == 0 || f.dead && f.left < 0 {
		f.fired = true
		return syscall.ENOSPC
	}
	return nil
}

// contents are the files of a directory, by name.
func contents(t *testing.T, folder string) map[string]string {
	t.Helper()
	files := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(name string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || err == nil && entry.IsDir() {
			return nil
		}
		require.NoError(t, err)
		text, err := os.ReadFile(name)
		relative, _ := filepath.Rel(folder, name)
		files[filepath.ToSlash(relative)] = string(text)
		return err
	}))
	return files
}

// changing are the commands that change files.
var changing = []struct {
	name      string
	arguments []string
	files     map[string]string
}{
	{"set", []string{"set", "north", "n=2", "m.a=3"}, nil},
	{"fmt", []string{"fmt"}, map[string]string{"lib.knot": "let  b=2\n"}},
	{"new", []string{"new", "clock"}, nil},
	{"environment", []string{"new", "--environment", "east", "--like", "north"}, nil},
	{"render", []string{"render"}, nil},
	{"again", []string{"render", "--overwrite"}, map[string]string{"rendered/north/old.txt": "old",
		"rendered/north/a.yaml": "a: 0\n", "rendered/north/.knothole-record": "" +
			"b1fb3bec6fdb2ec1bd7c3d1bcf0c6a1e0fe3a5a5ffbeed2d3aa0d9b7b25d31b1 none.txt\n"}},
	{"secrets", []string{"render", "--secrets"}, nil},
}

// beforeChange makes the project that is changed, with more files.
func beforeChange(t *testing.T, more map[string]string) (folder string) {
	t.Helper()
	folder = t.TempDir()
	files := map[string]string{
		"knothole.toml": "[environments.north]\nlayers = [\"shared.yaml\", \"inputs/north.yaml\"]\n" +
			"[environments.south]\nlayers = [\"shared.yaml\"]\n[environments.north.secrets]\n" +
			"pin = { variable = \"KNOTHOLE_SECRET_PIN\" }\n[environments.south.secrets]\n" +
			"pin = { variable = \"KNOTHOLE_SECRET_PIN\" }\n",
		"main.knot": "input n:int\ninput m: { a: int, b: int }\nsecret input pin: string\n" +
			"document \"a.yaml\" = {n:n, m:m}\ndocument \"k8s/b.yaml\" = m\n" +
			"secret document \"s.env\" = { PIN: pin }\n",
		"shared.yaml":       "n: 1\nm: { a: 1, b: 2 }\n",
		"inputs/north.yaml": "# of the north\nn: 5\nm:\n  a: 7\n",
	}
	maps.Copy(files, more)
	for name, text := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	return folder
}

// oldOrNew checks that each file is as it was before a change or as it is after it; what is being written has not the
// name of a file yet.
func oldOrNew(t *testing.T, old, after, found map[string]string, what string) {
	t.Helper()
	for name, text := range found {
		if !strings.Contains(name, ".knothole-new-") && !strings.Contains(name, ".knothole-staging/") {
			require.Contains(t, []string{old[name], after[name]}, text, "%s %s", name, what)
		}
	}
	for name := range old {
		if _, stays := after[name]; stays {
			require.Contains(t, found, name, what)
		}
	}
}

// TestEveryFaultOfEveryChange lets each change of the file system that a command makes fail, once as on a full disk and
// once as the end of the program. Each file is then as it was, or as it should be; nothing that is half written has the
// name of a file; and the next run does the rest and leaves nothing behind.
func TestEveryFaultOfEveryChange(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("KNOTHOLE_SECRET_PIN", "0412")
	faults := 0
	for _, c := range changing {
		t.Run(c.name, func(t *testing.T) {
			none := func(string, string) error { return nil }
			prepare := func() (folder string, run func(fault func(operation, name string) error) (int, string)) {
				folder = beforeChange(t, c.files)
				return folder, func(fault func(operation, name string) error) (int, string) {
					var out bytes.Buffer
					status := Main(c.arguments, &system{in: strings.NewReader(""), out: &out, err: &out, folder: folder,
						width: 120, disk: &gate.Disk{Fault: fault}})
					return status, out.String()
				}
			}
			folder, run := prepare()
			old := contents(t, folder)
			status, said := run(none)
			require.Equal(t, exitClean, status, said)
			after := contents(t, folder)
			require.NotEqual(t, old, after)
			for _, dead := range []bool{false, true} {
				for n := 1; ; n++ {
					folder, run := prepare()
					f := &faulty{left: n, dead: dead}
					status, said := run(f.fault)
					if !f.fired {
						break
					}
					faults++
					what := fmt.Sprintf("%s, fault %d, dead %v: %s", c.name, n, dead, said)
					require.NotContains(t, said, "mistake in knothole", what)
					found := contents(t, folder)
					oldOrNew(t, old, after, found, what)
					for name := range found {
						if strings.Contains(name, ".knothole-new-") || strings.Contains(name, ".knothole-staging/") {
							require.True(t, dead || status != exitClean, what+name)
						}
					}
					if status == exitClean {
						continue // what failed was of no weight
					}
					status, said = run(none)
					require.Contains(t, []int{exitClean, exitFailed}, status, "%s\nthen: %s", what, said)
					if status == exitFailed { // it is done already, and says so
						require.Contains(t, said, "there is an environment", "%s\nthen: %s", what, said)
					}
					now := contents(t, folder)
					require.Equal(t, slices.Sorted(maps.Keys(after)), slices.Sorted(maps.Keys(now)), what)
					require.Equal(t, after, now, what)
				}
			}
		})
	}
	require.Greater(t, faults, 100)
	t.Logf("%d faults", faults)
}

// systemCalls are those that open, make, write, rename, remove, lock and close files.
var systemCalls = strings.Fields("openat mkdirat renameat renameat2 linkat unlinkat write pwrite64 fsync fdatasync " +
	"syncfs fchmod fchmodat ftruncate flock close")

// TestKillAtEverySystemCall kills each command that changes files at each of its system calls, by a real signal. It
// takes a minute and needs strace, so that it runs only when it is asked for.
func TestKillAtEverySystemCall(t *testing.T) {
	if os.Getenv("KNOTHOLE_TEST_KILLS") == "" {
		t.Skip("set KNOTHOLE_TEST_KILLS to run it")
	}
	program := AsUsed(t)
	t.Setenv("XDG_CACHE_HOME", t.TempDir())
	t.Setenv("KNOTHOLE_SECRET_PIN", "0412")
	kills := 0
	for _, c := range changing {
		run := func(folder string, before ...string) *os.ProcessState {
			line := slices.Concat(before, []string{program}, c.arguments)
			command := exec.Command(line[0], line[1:]...)
			command.Dir = folder
			_ = command.Run()
			return command.ProcessState
		}
		folder := beforeChange(t, c.files)
		old := contents(t, folder)
		require.Equal(t, exitClean, run(folder).ExitCode(), c.name)
		after := contents(t, folder)
		for _, call := range systemCalls {
			for n := 1; ; n++ {
				folder := beforeChange(t, c.files)
				state := run(folder, "strace", "-f", "-o", os.DevNull, "-e", "trace="+call, "-e",
					fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n))
				require.NotNil(t, state, "strace is there")
				if state.Exited() {
					require.Equal(t, exitClean, state.ExitCode(), "%s, %s %d", c.name, call, n)
					break // there are fewer of this call
				}
				kills++
				what := fmt.Sprintf("%s, killed at %s %d", c.name, call, n)
				oldOrNew(t, old, after, contents(t, folder), what)
				run(folder)
				require.Equal(t, after, contents(t, folder), what)
			}
		}
	}
	require.Greater(t, kills, 200)
	t.Logf("%d kills", kills)
}
