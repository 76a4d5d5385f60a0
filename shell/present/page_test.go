package present

import (
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestPageContrast checks that what is written on a page can be read on everything that it is written on, in light and
// in dark and printed: a contrast of 4.5 (WCAG 2.2, 1.4.3).
func TestPageContrast(t *testing.T) {
	blocks := regexp.MustCompile(`(?s):root \{(.*?)\}`).FindAllStringSubmatch(pageStyle, -1)
	require.Len(t, blocks, 3, "light, dark and print")
	variable := regexp.MustCompile(`--([a-z0-9-]+): #([0-9a-f]{6})`)
	for _, block := range blocks {
		colours := map[string][3]int{}
		for _, m := range variable.FindAllStringSubmatch(block[1], -1) {
			number, err := strconv.ParseUint(m[2], 16, 24)
			require.NoError(t, err)
			colours[m[1]] = [3]int{int(number >> 16), int(number >> 8 & 0xFF), int(number & 0xFF)}
		}
		require.Len(t, colours, 14)
		for _, ink := range []string{"ink", "quiet", "link", "error", "warning"} {
			for ground := range colours {
				if !strings.HasPrefix(ground, "tint-") && ground != "paper" && ground != "panel" {
					continue
				}
				assert.GreaterOrEqual(t, contrast(colours[ink], colours[ground]), 4.5, "%s on %s", ink, ground)
			}
		}
	}
	assert.NotRegexp(t, `(color|background|border[a-z-]*): [^;]*#`, pageStyle, "colours are variables")
}
