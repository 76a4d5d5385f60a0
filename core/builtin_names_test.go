package core_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"knothole/core/builtin"
	"knothole/core/check"
)

// TestOtherNames checks that every word for a function that is called otherwise here leads to one, and is none itself.
func TestOtherNames(t *testing.T) {
	for other, name := range check.OtherNames {
		require.NotEmpty(t, builtin.Table.Named(other), other)
		require.NotContains(t, check.OtherNames, name, "%s: one word leads to another", other)
	}
}
