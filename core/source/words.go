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
func Quoted(texts []string) string { return FirstQuoted(texts, len(texts)) }

// FirstQuoted lists the first texts in quotes, no more than most of them.
func FirstQuoted(texts []string, most int) string {
	var quoted []string
	for i, t := range texts {
		if i == most {
			quoted = append(quoted, "…")
			break
		}
		quoted = append(quoted, strconv.Quote(t))
	}
	return strings.Join(quoted, ", ")
}

// Either lists texts of which one is meant: a, b or c.
func Either(texts []string) string {
	if len(texts) < 2 {
		return strings.Join(texts, "")
	}
	last := len(texts) - 1
	return strings.Join(texts[:last], ", ") + " or " + texts[last]
}

// Article puts "a" or "an" before a word.
func Article(word string) string {
	if word != "" && strings.ContainsRune("aeio", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}
