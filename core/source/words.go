package source

import (
	"fmt"
	"strconv"
	"strings"
)

// Count says how many there are of something; the word takes an s for all numbers but one.
func Count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Quoted lists texts in quotes.
func Quoted(texts []string) string {
	quoted := make([]string, len(texts))
	for i, t := range texts {
		quoted[i] = strconv.Quote(t)
	}
	return strings.Join(quoted, ", ")
}
