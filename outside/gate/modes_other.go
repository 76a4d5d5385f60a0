//go:build !windows

package gate

// HasModes says whether the mode of a file says who may read it.
const HasModes = true
