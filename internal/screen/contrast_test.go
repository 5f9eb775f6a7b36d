package screen_test

import (
	"image/color"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/screen/ink"
)

// luminance is the relative luminance of a colour (WCAG 2.1).
func luminance(c color.Color) float64 {
	r, g, b, _ := c.RGBA()
	lin := func(v uint32) float64 {
		x := float64(v) / 0xffff
		if x <= 0.03928 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*lin(r) + 0.7152*lin(g) + 0.0722*lin(b)
}

// Text on its ground has a contrast of at least 4.5 to 1 (WCAG 2.1, 1.4.3).
func TestContrast(t *testing.T) {
	for _, theme := range []*ink.Theme{&ink.Dark, &ink.Light} {
		for _, i := range []ink.Ink{ink.Foam, ink.Dim, ink.Lamp, ink.Buoy, ink.Port, ink.Tide, ink.Heather} {
			for _, ground := range []struct {
				name string
				l    float64
			}{{"ground", luminance(theme.Ground)}, {"cursor", luminance(theme.Marked())}} {
				a, b := luminance(theme.Color(i)), ground.l
				if a < b {
					a, b = b, a
				}
				assert.GreaterOrEqual(t, (a+0.05)/(b+0.05), 4.5, "%s: ink %d on the %s", theme.Name, i, ground.name)
			}
		}
	}
}
