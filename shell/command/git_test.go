package command_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/shell/command"
)

// gitAsked returns the subcommands of git that docs/security.md lists, by command.
func gitAsked(t *testing.T) map[string][]string {
	t.Helper()
	text, err := os.ReadFile("../../docs/security.md")
	require.NoError(t, err)
	asked := map[string][]string{}
	word := regexp.MustCompile("`([^`]+)`")
	_, table, ok := strings.Cut(string(text), "| command | subcommands of git | purpose |\n")
	require.True(t, ok)
	for _, line := range strings.Split(table, "\n") {
		cells := strings.Split(line, "|")
		if len(cells) < 4 {
			break
		}
		if name := word.FindStringSubmatch(cells[1]); name != nil {
			for _, match := range word.FindAllStringSubmatch(cells[2], -1) {
				asked[name[1]] = append(asked[name[1]], match[1])
			}
		}
	}
	return asked
}

// TestWhatGitIsAsked runs commands with a git that logs its subcommands, and compares them with the table in the
// manual.
func TestWhatGitIsAsked(t *testing.T) {
	asked := gitAsked(t)
	require.Len(t, asked, 6)
	program := command.AsUsed(t)
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	bin, home := t.TempDir(), t.TempDir()
	log := filepath.Join(bin, "log")
	require.NoError(t, os.WriteFile(filepath.Join(bin, "git"), []byte("#!/bin/sh\necho \"$@\" >>'"+log+"'\nexec "+real+
		" \"$@\"\n"), 0o755))
	folder := t.TempDir()
	for name, text := range map[string]string{
		"knothole.toml": "[environments.a]\n[environments.b]\n[environments.a.secrets]\npin = { file = \"pin.txt\" }\n" +
			"[environments.b.secrets]\npin = { file = \"pin.txt\" }\n",
		"main.knot": "secret input pin: string\nsecret document \"s.yaml\" = { p: pin }\ndocument \"d.yaml\" = " +
			"{ n: env.name }\n",
		"pin.txt": "0412\n", ".gitignore": ".knothole/\n",
		"rendered/gone/x.yaml": "1\n", "rendered/gone/.knothole-record": "4355a46b19d348dc2f57c046f8ef63d4538ebb9360" +
			"00f3c9ee954a27460dd865 x.yaml\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	for _, line := range []string{"init -q", "add .", "-c user.name=heron -c user.email=heron@floodwatch.example commit " +
		"-q -m one"} {
		c := exec.Command(real, strings.Fields(line)...)
		c.Dir = folder
		said, err := c.CombinedOutput()
		require.NoError(t, err, "%s", said)
	}
	subcommand := regexp.MustCompile(`(?m)^(?:-c \S+ |-c \S+=$|--\S+ )*([a-z]+[a-z-]*)`)
	run := func(line string) (verbs []string) {
		_ = os.Remove(log)
		c := exec.Command(program, strings.Fields(line)...)
		c.Dir = folder
		c.Env = append(os.Environ(), "PATH="+bin+string(filepath.ListSeparator)+os.Getenv("PATH"), "HOME="+home,
			"XDG_CACHE_HOME="+home)
		_, _ = c.CombinedOutput() // differences are no failure here
		text, _ := os.ReadFile(log)
		for _, match := range subcommand.FindAllStringSubmatch(string(text), -1) {
			if !slices.Contains(verbs, match[1]) {
				verbs = append(verbs, match[1])
			}
		}
		slices.Sort(verbs)
		return verbs
	}
	lines := map[string]string{"check": "check", "render --secrets": "render --secrets", "render --prune": "render --prune",
		"impact": "impact", "impact --base": "impact --base HEAD", "diff ENV@REVISION": "diff a a@HEAD"}
	for name, want := range asked {
		require.Contains(t, lines, name)
		slices.Sort(want)
		require.Equal(t, want, run(lines[name]), name)
	}
	for _, line := range []string{"render", "render --stdout", "inputs", "outputs a", "why a d.yaml n", "look n", "diff a b",
		"test", "rules", "report --to page.html", "fmt", "schema list", "validate rendered", "help", "version",
		"set a --fill", "impact --input pin=x", "drift a rendered", "completion words why a ", "new other"} {
		require.Empty(t, run(line), line)
	}
}
