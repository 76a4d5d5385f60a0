package command_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"knothole/demo"
	"knothole/shell/command"
)

// shellWith returns a shell on a machine that has it, in the demo project, with the program on its path.
func shellWith(t *testing.T, shell string) func(script string) string {
	t.Helper()
	if _, err := exec.LookPath(shell); err != nil {
		if os.Getenv("KNOTHOLE_SHELLS") == "needed" {
			t.Fatalf("there is no %s", shell)
		}
		t.Skipf("there is no %s", shell)
	}
	folder := t.TempDir()
	require.NoError(t, demo.Write(filepath.Join(folder, "demo")))
	program := command.AsUsed(t)
	return func(script string) string {
		c := exec.Command(shell, "-c", script)
		c.Dir = filepath.Join(folder, "demo")
		c.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+string(filepath.ListSeparator)+os.Getenv("PATH"),
			"HOME="+folder, "TERM=dumb", "XDG_CACHE_HOME="+folder, "XDG_CONFIG_HOME="+folder, "XDG_DATA_HOME="+folder)
		c.WaitDelay = 20 * time.Second
		said, err := c.CombinedOutput()
		require.NoError(t, err, "%s", said)
		return string(said)
	}
}

// completions are lines that are typed, and words that they may become, among others.
var completions = []struct {
	line string
	want []string
}{
	{"knothole ren", []string{"render"}},
	{"knothole render --str", []string{"--stream"}},
	{"knothole render nor", []string{"north"}},
	{"knothole check --format ", []string{"text", "json", "sarif", "junit"}},
	{"knothole why north k8s/bay-map.y", []string{"k8s/bay-map.yaml"}},
	{"knothole why north k8s/bay-map.yaml spec.rep", []string{"spec.replicas"}},
	{"knothole set north replicas.bay", []string{"replicas.bay_map="}},
	{"knothole outputs north map_u", []string{"map_url"}},
	{"knothole new --environment east --like so", []string{"south"}},
	{"knothole help text.spl", []string{"text.split"}},
	{"knothole validate main.k", []string{"main.knot"}},
	{"knothole completion ", []string{"bash", "zsh", "fish"}},
}

// TestCompletionInBash asks bash what lines may become.
func TestCompletionInBash(t *testing.T) {
	bash := shellWith(t, "bash")
	for _, c := range completions {
		words := strings.Split(c.line, " ")
		var quoted []string
		for _, word := range words {
			quoted = append(quoted, "'"+word+"'")
		}
		said := bash("source <(knothole completion bash); COMP_WORDS=(" + strings.Join(quoted,
			" ") + "); COMP_LINE='" + c.line +
			"'; COMP_POINT=${#COMP_LINE}; COMP_CWORD=$((${#COMP_WORDS[@]} - 1)); _knothole 2>/dev/null; " +
			`printf '%s\n' "${COMPREPLY[@]}"`)
		require.Subset(t, strings.Split(said, "\n"), c.want, c.line)
	}
}

// TestCompletionInFish asks fish what lines may become.
func TestCompletionInFish(t *testing.T) {
	fish := shellWith(t, "fish")
	for _, c := range completions {
		said := fish("knothole completion fish | source; complete -C '" + c.line + "'")
		var words []string
		for _, line := range strings.Split(said, "\n") {
			word, _, _ := strings.Cut(line, "\t")
			words = append(words, word)
		}
		require.Subset(t, words, c.want, c.line)
	}
}

// TestCompletionInZsh types lines into zsh, which completes them when there is one word that they may become.
func TestCompletionInZsh(t *testing.T) {
	zsh := shellWith(t, "zsh")
	for _, c := range completions {
		if len(c.want) > 1 {
			continue
		}
		said := zsh(`zmodload zsh/zpty
zpty z zsh -f -i
zpty -w z "PS1=; autoload -Uz compinit; compinit -u -D; source <(knothole completion zsh)"
zpty -w z 'show() { print -r -- "<$BUFFER>"; }; zle -N show; bindkey "^X" show; print rea""dy'
zpty -r z out '*ready*'
zpty -w -n z '` + c.line + `'$'\t\x18'
zpty -r z out '*<*>*'
print -r -- $out
zpty -d z`)
		words := strings.Split(c.line, " ")
		want := strings.Join(append(words[:len(words)-1:len(words)-1], c.want[0]), " ")
		require.Contains(t, said, "<"+want, c.line)
	}
}
