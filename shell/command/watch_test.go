package command_test

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestWatch changes a source while the program watches: it renders again, says what is wrong, and goes on when it is
// mended.
func TestWatch(t *testing.T) {
	project := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(project, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(project, name), []byte(text), 0o644))
	}
	write("knothole.toml", "[environments.north]\nlayers = [\"inputs/north.yaml\"]\n")
	write("main.knot", "input n: int\ndocument \"a.yaml\" = n\n")
	write("inputs/north.yaml", "n: 1\n")
	c := exec.Command("knothole", "render", "--watch", "--project", project)
	out, err := c.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	// It is stopped in the end whatever happens, so that the test cannot hang.
	stop := time.AfterFunc(2*time.Minute, func() { _ = c.Process.Kill() })
	defer stop.Stop()
	lines := bufio.NewScanner(out)
	// A slow machine may see a change in two parts, and so render more than once.
	until := func(want string) {
		var text strings.Builder
		for round := ""; lines.Scan(); {
			text.WriteString(lines.Text() + "\n")
			round += lines.Text() + "\n"
			if strings.HasPrefix(lines.Text(), "waiting for changes") {
				if strings.Contains(round, want) {
					return
				}
				round = ""
			}
		}
		t.Fatalf("it ended: %s", text.String())
	}
	rendered := func() string {
		text, err := os.ReadFile(filepath.Join(project, "rendered", "north", "a.yaml"))
		require.NoError(t, err)
		return string(text)
	}
	until("1 written")
	require.Equal(t, "1\n", rendered())
	write("inputs/north.yaml", "n: two\n")
	until(`expected an int, found the string "two"`)
	require.Equal(t, "1\n", rendered())
	write("inputs/north.yaml", "n: 2\n")
	until("1 written")
	require.Equal(t, "2\n", rendered())
	require.NoError(t, c.Process.Signal(os.Interrupt))
	for lines.Scan() {
	}
	require.NoError(t, c.Wait())
}
