//go:build !unix

package gate

// dontWait is for pipes, which are no files here.
const dontWait = 0
