package explain

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCommonPath holds that paths have whole fields in common: no half names, and no half of a key in quotes.
func TestCommonPath(t *testing.T) {
	for _, c := range [][3]string{
		{"limits.cpu", "limits.memory", "limits"},
		{"limits.cpu", "limits.cpus", "limits"},
		{"limits.cpu", "limits.cpu", "limits.cpu"},
		{"limits.cpu", "limits.cpu.quota", "limits.cpu"},
		{"limits", "levels", ""},
		{`ports."a.b".x`, `ports."a.c".x`, "ports"},
		{`ports."a.b".x`, `ports."a.b".y`, `ports."a.b"`},
		{`ports."a\".b".x`, `ports."a\".c".x`, "ports"},
	} {
		require.Equal(t, c[2], commonPath(c[0], c[1]), "%s, %s", c[0], c[1])
		require.Equal(t, c[2], commonPath(c[1], c[0]), "%s, %s", c[1], c[0])
	}
}
