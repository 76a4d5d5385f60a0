package expression

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/schema"
)

// TestLanguage checks what a rule returns, as values of Go.
func TestLanguage(t *testing.T) {
	self := map[string]any{"low": int64(3), "names": []any{"tern", "heron"}}
	for text, want := range map[string]any{
		"self.low < 5":                                  true,
		"self.names.exists(n, n == 'stork')":            false,
		"quantity('1Ki').isGreaterThan(quantity('1k'))": true,
	} {
		rule, err := language{}.Compile(text, false)
		require.NoError(t, err, text)
		got, steps, err := rule.Evaluate(self)
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
		require.GreaterOrEqual(t, steps, 0)
	}
	message, err := language{}.Compile("'low is ' + string(self.low)", true)
	require.NoError(t, err)
	got, _, err := message.Evaluate(self)
	require.NoError(t, err)
	require.Equal(t, "low is 3", got)
}

// TestErrors checks the errors in rules, before and while they run.
func TestErrors(t *testing.T) {
	for text, want := range map[string]string{
		"self.low <":        "cannot be read: Syntax error",
		"self.low + 1":      "gives int, not bool",
		"lowest(self) == 1": "cannot be read: undeclared reference to 'lowest'",
	} {
		_, err := language{}.Compile(text, false)
		require.ErrorContains(t, err, want)
		require.Equal(t, strings.HasPrefix(text, "lowest"), errors.As(err, new(schema.UnknownName)), text)
	}
	_, err := language{}.Compile("true", true)
	require.EqualError(t, err, "gives bool, not string")

	rule, err := language{}.Compile("self.low < 5", false)
	require.NoError(t, err)
	_, _, err = rule.Evaluate(map[string]any{})
	require.ErrorContains(t, err, "no such key: low")

	many := make([]any, 400)
	for i := range many {
		many[i] = int64(i)
	}
	rule, err = language{}.Compile("self.all(a, self.all(b, self.all(c, a + b + c >= 0)))", false)
	require.NoError(t, err)
	_, steps, err := rule.Evaluate(many)
	require.ErrorIs(t, err, schema.ErrCost)
	require.Equal(t, costLimit/unitsOfStep, steps)
}
