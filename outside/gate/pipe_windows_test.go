package gate_test

import "testing"

// makePipe skips what needs a pipe: here none stands among files.
func makePipe(t *testing.T, _ string) { t.Skip("no pipe stands among files here") }
