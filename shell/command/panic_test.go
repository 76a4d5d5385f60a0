package command

import (
	"bytes"
	"flag"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/parallel"
)

// panics fails as an error in the program would, in another goroutine.
func panics(secret string) {
	var group parallel.Group
	group.Go(func() error { panic("it has " + secret) })
	_ = group.Wait()
}

// TestPanicIsReported shows that a bug in the program can be reported: with where it is when that is asked for, and
// with nothing that the program had in hand.
func TestPanicIsReported(t *testing.T) {
	broken := &command{name: "broken", define: func(*flag.FlagSet) func(c *call) int {
		return func(*call) int { panics("canary"); return exitClean }
	}}
	commands = append(commands, broken)
	defer func() { commands = commands[:len(commands)-1] }()
	run := func() string {
		var out, err bytes.Buffer
		status := Main([]string{"broken", "north"}, &system{in: strings.NewReader(""), out: &out, err: &err})
		require.Equal(t, exitFailed, status)
		require.Empty(t, out.String())
		return err.String()
	}
	require.Equal(t, "knothole: this is a bug in knothole, not an error in your files: string\n"+
		"  please report it with: knothole broken north\n"+
		"  and with what KNOTHOLE_TRACE=1 adds: where in knothole it happened\n", run())
	t.Setenv(traceVariable, "1")
	said := run()
	require.NotContains(t, said, "canary")
	require.Contains(t, said, "    knothole/shell/command.panics.func1 panic_test.go:")
}
