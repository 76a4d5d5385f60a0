package command_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
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
			"HOME="+folder, "TERM=dumb", "LC_ALL=C.UTF-8", "XDG_CACHE_HOME="+folder, "XDG_CONFIG_HOME="+folder,
			"XDG_DATA_HOME="+folder)
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
	t.Parallel()
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

// nasty are names of documents and layers that a shell would run a part of, if it took them for more than a word.
var nasty = []string{"zz$(touch PWNED).yaml", "zz;touch PWNED;.yaml", "zz`touch PWNED`.yaml", "zz && touch PWNED.yaml",
	"zz' touch PWNED '.yaml", "zz$PWD ${HOME}.yaml", "zz!x #y ~z.yaml", "zz{a,b}[c].yaml", "zzä é.yaml"}

// nastyProject writes a project with a document and a layer of each such name.
func nastyProject(t *testing.T, name string) string {
	folder := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o600))
	}
	write("knothole.toml", "[environments.north]\nlayers = ["+strconv.Quote(name)+"]\n")
	write(name, "n: 1\n")
	write("main.knot", "input n: int\ndocument "+strings.ReplaceAll(strconv.Quote(name), "$", `\$`)+" = n\n")
	return folder
}

// TestCompletionRunsNothing checks that what Tab puts on the line is one word, which is the name, and that nothing of
// it runs: in the shells as they evaluate the line afterwards.
func TestCompletionRunsNothing(t *testing.T) {
	t.Parallel()
	scripts := map[string]string{
		"bash": `source <(knothole completion bash)
COMP_WORDS=(knothole why north zz); COMP_LINE='knothole why north zz'; COMP_POINT=${#COMP_LINE}; COMP_CWORD=3
_knothole 2>/dev/null; eval "set -- ${COMPREPLY[0]}"; printf '<%s>' "$#" "$1"
COMP_WORDS=(knothole set north n=2 --in zz); COMP_LINE='knothole set north n=2 --in zz'; COMP_POINT=${#COMP_LINE}
COMP_CWORD=5; _knothole 2>/dev/null; eval "set -- ${COMPREPLY[0]}"; printf '<%s>' "$#" "$1"`,
		"zsh": `zmodload zsh/zpty
zpty z zsh -f -i
zpty -w z "PS1=; KEYTIMEOUT=1; autoload -Uz compinit; compinit -u -D; source <(command knothole completion zsh)"
zpty -w z 'show() { local -a w; w=("${(@Q)${(z)BUFFER}}"); print -r -- "<$#w><$w[4]>e""nd"; }; zle -N show'
zpty -w z 'bindkey "^X" show; print rea""dy'
zpty -r z out '*ready*'
zpty -w -n z 'knothole why north zz'$'\t\x18'
zpty -r z out '*end*'
print -r -- $out
zpty -d z`,
		"fish": `knothole completion fish | source
for word in (complete -C 'knothole why north zz')
    set -l name (string split \t -- $word)[1]
    eval "set -l words "(string escape -- $name)
    printf '<%s>' (count $words) $words[1]
end`,
	}
	for shell, script := range scripts {
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			run, names := shellWith(t, shell), nasty
			if shell != "bash" && os.Getenv("KNOTHOLE_LONG") == "" {
				names = nasty[:3] // these shells quote by themselves
			}
			for _, name := range names {
				folder := nastyProject(t, name)
				said := run("cd '" + folder + "'\n" + script)
				require.NoFileExists(t, filepath.Join(folder, "PWNED"), "%s: %s", name, said)
				require.Contains(t, said, "<"+name+">", said)
			}
		})
	}
}

// TestCompletionInFish asks fish what lines may become.
func TestCompletionInFish(t *testing.T) {
	t.Parallel()
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
	if testing.Short() {
		t.Skip("takes long, and CI runs it")
	}
	t.Parallel()
	zsh := shellWith(t, "zsh")
	script := `zmodload zsh/zpty
zpty z zsh -f -i
zpty -w z "PS1=; KEYTIMEOUT=1; autoload -Uz compinit; compinit -u -D; source <(knothole completion zsh)"
zpty -w z 'show() { print -r -- "<$BUFFER>"; BUFFER=; }; zle -N show; bindkey "^X" show; print rea""dy'
zpty -r z out '*ready*'
`
	wants := map[string]string{}
	for _, c := range completions {
		if len(c.want) > 1 {
			continue
		}
		words := strings.Split(c.line, " ")
		wants[c.line] = strings.Join(append(words[:len(words)-1:len(words)-1], c.want[0]), " ")
		script += "zpty -w -n z '" + c.line + "'$'\\t\\x18'\nzpty -r z out '*<*>*'\nprint -r -- $out\n"
	}
	said := zsh(script + "zpty -d z")
	for line, want := range wants {
		require.Contains(t, said, "<"+want, line)
	}
}
