package present

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
)

// contrast returns the contrast of two colours (Web Content Accessibility Guidelines 2.2, section 1.4.3).
func contrast(a, b [3]int) float64 {
	luminance := func(c [3]int) float64 {
		var parts [3]float64
		for i, x := range c {
			if v := float64(x) / 255; v <= 0.04045 {
				parts[i] = v / 12.92
			} else {
				parts[i] = math.Pow((v+0.055)/1.055, 2.4)
			}
		}
		return 0.2126*parts[0] + 0.7152*parts[1] + 0.0722*parts[2]
	}
	x, y := luminance(a), luminance(b)
	return (max(x, y) + 0.05) / (min(x, y) + 0.05)
}

// entry returns a colour of the table of 256: a cube of 6 by 6 by 6 from 16 on, and greys from 232 on.
func entry(number int) [3]int {
	if number >= 232 {
		grey := 8 + 10*(number-232)
		return [3]int{grey, grey, grey}
	}
	level := [6]int{0, 95, 135, 175, 215, 255}
	number -= 16
	return [3]int{level[number/36], level[number/6%6], level[number%6]}
}

// TestColoursCanBeRead holds the contrast of each colour on black and on white.
func TestColoursCanBeRead(t *testing.T) {
	for style, number := range colours {
		for _, ground := range [][3]int{{0, 0, 0}, {255, 255, 255}} {
			require.GreaterOrEqual(t, contrast(entry(number), ground), 4.5, "%c on %v", style, ground)
		}
	}
}
