//go:build unix

package command

import (
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// memoryOf returns how much memory a process took at most, in bytes.
func memoryOf(t *testing.T, p *os.ProcessState) int64 {
	usage, ok := p.SysUsage().(*syscall.Rusage)
	require.True(t, ok)
	return int64(usage.Maxrss) * 1024
}
