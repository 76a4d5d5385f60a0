package command

import (
	"flag"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFlags asks of each flag of each command what help, usage and completion need: a text, a name of its value, words
// to choose from or a kind of value, and its place in the usage line when the line has it.
func TestFlags(t *testing.T) {
	used := map[string]bool{}
	seen := 0
	for _, cmd := range commands {
		flags := cmd.flags()
		new(call).defineCommon(flags)
		flags.VisitAll(func(f *flag.Flag) {
			seen++
			name, text := flag.UnquoteUsage(f)
			require.NotEmpty(t, text, "%s --%s", cmd.name, f.Name)
			if isSwitch(f) {
				return
			}
			require.NotEmpty(t, name, "%s --%s: the text names the value in back quotes", cmd.name, f.Name)
			words := choicesOf(f)
			used[f.Name] = used[f.Name] || words == nil
			if words == nil {
				assert.NotZero(t, valueKinds[f.Name], "%s --%s has no kind of value", cmd.name, f.Name)
				return
			}
			require.Greater(t, len(words), 1, "%s --%s", cmd.name, f.Name)
			for _, word := range words {
				require.Contains(t, text, word, "%s --%s", cmd.name, f.Name)
				require.NoError(t, f.Value.Set(word))
			}
			require.Error(t, f.Value.Set("no such word"))
			require.NotContains(t, cmd.arguments, "[--"+f.Name+" ", "the words are put in")
			if strings.Contains(cmd.arguments, "[--"+f.Name+"]") {
				require.Contains(t, cmd.usage(), "[--"+f.Name+" "+strings.Join(words, "|")+"]")
			}
		})
	}
	require.Greater(t, seen, 120)
	for name := range valueKinds {
		assert.True(t, used[name], "no command has a flag --%s", name)
	}
}
