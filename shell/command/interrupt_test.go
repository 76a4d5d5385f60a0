package command_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestInterrupt interrupts render at many moments. Either nothing is there and the run says so, or everything is.
func TestInterrupt(t *testing.T) {
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	if runtime.GOOS == "windows" {
		t.Skip("a process cannot interrupt another one there")
	}
	project := t.TempDir()
	var environments strings.Builder
	const count, documents = 6, 200
	for i := range count {
		fmt.Fprintf(&environments, "[environments.e%d]\n", i)
	}
	for name, text := range map[string]string{
		"knothole.toml": environments.String(),
		"main.knot":     fmt.Sprintf("for i in 0..%d { document \"d${i}.yaml\" = { i: i, in: env.name } }\n", documents),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(project, name), []byte(text), 0o644))
	}
	stopped, told, interrupts := 0, 0, 12
	if os.Getenv("KNOTHOLE_LONG") != "" {
		interrupts = 60
	}
	for moment := range interrupts {
		to := filepath.Join(t.TempDir(), "out")
		cmd := exec.Command("knothole", "render", "--to", to)
		cmd.Dir = project
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+t.TempDir())
		var said bytes.Buffer
		cmd.Stderr = &said
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(moment*moment) * 2 * time.Millisecond / 3)
		_ = cmd.Process.Signal(os.Interrupt) // it may have ended
		err := cmd.Wait()
		files := 0
		_ = filepath.WalkDir(to, func(_ string, entry os.DirEntry, err error) error {
			if err == nil && !entry.IsDir() {
				files++
			}
			return nil
		})
		if err == nil {
			require.Equal(t, count*(documents+1+1)+1, files, said.String()) // with the records
			continue
		}
		if stopped++; said.Len() > 0 { // else the process had not begun to listen
			require.Equal(t, 130, cmd.ProcessState.ExitCode(), said.String())
			require.Contains(t, said.String(), "knothole render: interrupted")
			told++
		}
		require.NoDirExists(t, to, said.String())
	}
	require.Positive(t, told)
	t.Logf("%d of %d runs were stopped", stopped, interrupts)
}
