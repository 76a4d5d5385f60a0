package command

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTopics checks that every word that help knows leads to a section of the manual, and that it knows the words of
// the language.
func TestTopics(t *testing.T) {
	for topic := range topics {
		require.NotEmpty(t, manual(topic), topic)
	}
	text, err := os.ReadFile("../../core/syntax/parser.go")
	require.NoError(t, err)
	reserved := regexp.MustCompile(`(?s)var reserved = map\[string\]bool\{(.*?)\n\}`).FindSubmatch(text)
	require.NotNil(t, reserved)
	words := regexp.MustCompile(`"([a-z]+)"`).FindAllStringSubmatch(string(reserved[1]), -1)
	require.Greater(t, len(words), 20)
	for _, word := range words {
		require.NotEmpty(t, manual(word[1]), word[1])
	}
}
