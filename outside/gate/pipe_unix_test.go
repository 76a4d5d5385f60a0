//go:build unix

package gate_test

import (
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// makePipe makes a pipe that stands among files.
func makePipe(t *testing.T, name string) { require.NoError(t, syscall.Mkfifo(name, 0o644)) }
