package command

import (
	"os"
	"testing"
)

// memoryOf returns 0: what a process took is not known here once it has ended.
func memoryOf(*testing.T, *os.ProcessState) int64 { return 0 }
