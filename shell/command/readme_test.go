package command_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/shell/command"
)

// TestFiveCommands pastes the first block of commands in the README into a shell, unchanged: none may fail,
// and only the comparison has something to report.
func TestFiveCommands(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	_, after, ok := strings.Cut(string(text), "\n## Five commands\n\n")
	require.True(t, ok)
	block, _, ok := strings.Cut(after, "\n\n")
	require.True(t, ok)
	lines := strings.Split(block, "\n")
	require.Len(t, lines, 5)
	program := command.AsUsed(t)
	shell := exec.Command("bash", "-i")
	shell.Dir = t.TempDir()
	shell.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+string(filepath.ListSeparator)+os.Getenv("PATH"),
		"HOME="+shell.Dir, "PS1=", "PS2=")
	shell.Stdin = strings.NewReader(strings.ReplaceAll(block, "\n", "\necho \"status $?\"\n") + "\necho \"status $?\"\n")
	said, err := shell.CombinedOutput()
	require.NoError(t, err, "%s", said)
	statuses := regexp.MustCompile(`(?m)^status \d+$`).FindAllString(string(said), -1)
	require.Equal(t, []string{"status 0", "status 0", "status 0", "status 1", "status 0"}, statuses, "%s", said)
}
