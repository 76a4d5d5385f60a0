package command_test

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/shell/command"
)

var updatePages = flag.Bool("update", false, "write what commands say into the pages of the manual")

// fence is a block of code on a page: its language, what follows that, and its text.
var fence = regexp.MustCompile("(?ms)^```([a-z]+)(?: ([^\n]+))?\n(.*?)^```$")

// seconds are how long something took, which is another on every run.
var seconds = regexp.MustCompile(`\(\d+\.\d+ s\)`)

// TestSessions runs the sessions on the pages of the manual: what is typed after a dollar must give what the page shows
// below it. Blocks with the name of a file write that file first. With -update, what the commands say is written into
// the page.
func TestSessions(t *testing.T) {
	program := command.AsUsed(t)
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	pages = append(pages, "../../README.md")
	sessions := 0
	for _, name := range pages {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		if !bytes.Contains(text, []byte("\n```console\n")) {
			continue
		}
		sessions++
		t.Run(filepath.Base(name), func(t *testing.T) { runSessions(t, program, name, string(text)) })
	}
	require.Greater(t, sessions, 5)
}

func runSessions(t *testing.T, program, page, text string) {
	folder := t.TempDir()
	s := &session{folder: filepath.Join(folder, "work"), at: filepath.Join(folder, "work"), home: folder,
		program: program}
	require.NoError(t, os.Mkdir(s.folder, 0o755))
	after := fence.ReplaceAllStringFunc(text, func(block string) string {
		parts := fence.FindStringSubmatch(block)
		switch language, name, body := parts[1], parts[2], parts[3]; {
		case language == "console":
			said := s.run(t, body)
			if !*updatePages {
				require.Equal(t, body, said, page)
			}
			return "```console\n" + said + "```"
		case name != "" && language != "result":
			at := filepath.Join(s.at, filepath.FromSlash(name))
			require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
			require.NoError(t, os.WriteFile(at, []byte(body), 0o644))
		}
		return block
	})
	if *updatePages && after != text {
		require.NoError(t, os.WriteFile(page, []byte(after), 0o644))
	}
}

// session is a shell in a directory of its own. It stays in the directory that a command goes to.
type session struct {
	folder, at, home, program string
}

// run runs the lines of a session that begin with a dollar, and returns it with what they say.
func (s *session) run(t *testing.T, body string) string {
	var b strings.Builder
	lines := strings.Split(body, "\n")
	for i := 0; i < len(lines); i++ {
		typed, ok := strings.CutPrefix(lines[i], "$ ")
		if !ok {
			continue
		}
		fmt.Fprintf(&b, "$ %s\n", typed)
		for strings.HasSuffix(typed, "\\") { // the line goes on
			i++
			typed += "\n" + lines[i]
			fmt.Fprintln(&b, lines[i])
		}
		where := filepath.Join(s.home, "where")
		c := exec.Command("bash", "-c", typed+"\nstatus=$?\npwd > "+where+"\nexit $status")
		c.Dir = s.at
		c.Env = append(os.Environ(), "PATH="+filepath.Dir(s.program)+string(filepath.ListSeparator)+os.Getenv("PATH"),
			"HOME="+s.home, "XDG_CACHE_HOME="+filepath.Join(s.home, "cache"), "GIT_CONFIG_GLOBAL="+filepath.Join(s.home,
				"git"),
			"GIT_AUTHOR_NAME=a", "GIT_AUTHOR_EMAIL=a@floodwatch.example", "GIT_COMMITTER_NAME=a",
			"GIT_COMMITTER_EMAIL=a@floodwatch.example", "GIT_AUTHOR_DATE=2026-01-01T00:00:00Z",
			"GIT_COMMITTER_DATE=2026-01-01T00:00:00Z", "GIT_CONFIG_NOSYSTEM=1")
		said, _ := c.CombinedOutput() // its status is shown where the page asks for it
		text := seconds.ReplaceAllString(string(said), "(0.01 s)")
		b.WriteString(strings.ReplaceAll(text, s.folder, "~"))
		if text != "" && !strings.HasSuffix(text, "\n") {
			b.WriteByte('\n')
		}
		if at, err := os.ReadFile(where); err == nil {
			s.at = strings.TrimSpace(string(at))
		}
	}
	return b.String()
}
