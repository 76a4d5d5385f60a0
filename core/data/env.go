package data

import (
	"strings"

	"knothole/core/value"
)

// envName reports whether a key may be the name of an environment variable (POSIX.1-2017, section 8.1).
func envName(key string) bool {
	for i := 0; i < len(key); i++ {
		c := key[i]
		letter := c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return key != ""
}

// writeEnv writes NAME=value lines.
func writeEnv(v value.Value) []byte {
	var b []byte
	for i, key := range v.Shape().Keys() {
		text, _ := v.Values()[i].Scalar()
		b = append(append(append(b, key...), '='), quoteShell(text)...)
		b = append(b, '\n')
	}
	return b
}

// quoteShell puts a text in single quotes where a POSIX shell would not take it as it is (POSIX.1-2017, Shell Command
// Language, section 2.2).
func quoteShell(s string) string {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		c := s[i]
		plain = c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' ||
			strings.IndexByte("_-./:,+@%=", c) >= 0
	}
	if plain {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
