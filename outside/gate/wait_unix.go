//go:build unix

package gate

import "syscall"

// dontWait opens a pipe without waiting for who writes to it.
const dontWait = syscall.O_NONBLOCK
