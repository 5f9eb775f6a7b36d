package page

import (
	"fmt"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/screentest"
)

func lines(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf("01:30:00.000 < line %d", i))
	}
	return out
}

func draw(l string, _ int) ink.Row { return ink.T(ink.Foam, l) }

// growing shows a text that grows.
func growing(t *testing.T, text *[]string) *screentest.Screen {
	return screentest.Open(t, 100, 20, Growing("Transcript of a", func() []string { return *text }, draw))
}

func TestItFollowsTheEndUntilScrolledAway(t *testing.T) {
	text := lines(100)
	s := growing(t, &text)
	assert.Contains(t, s.Text(), "line 99")
	text = lines(120)
	assert.Contains(t, s.Text(), "line 119")
	s.Press("up")
	text = lines(140)
	assert.NotContains(t, s.Text(), "line 139")
	s.Press("G")
	text = lines(150)
	assert.Contains(t, s.Text(), "line 149")
	s.Press("g")
	assert.Contains(t, s.Text(), "lines 1 to 18 of 150")
	s.Press("space")
	assert.Contains(t, s.Text(), "lines 19 to 36 of 150")
	s.Press("b", "ctrl+d")
	assert.Contains(t, s.Text(), "lines 10 to 27 of 150")
	s.Wheel(false)
	assert.Contains(t, s.Text(), "lines 13 to 30 of 150")
	s.Press("end")
	text = lines(200)
	assert.Contains(t, s.Text(), "line 199")
}

func TestSearch(t *testing.T) {
	text := append(lines(50), "01:30:00.000 < a Restart here", "01:30:00.000 < another restart")
	s := growing(t, &text)
	s.Press("home", "/", "resx", "backspace", "t", "enter")
	assert.Contains(t, s.Text(), "2 lines with rest")
	assert.Contains(t, s.Text(), "▌01:30:00.000 < a Restart")
	s.Press("n")
	assert.Contains(t, s.Text(), "▌01:30:00.000 < another")
	s.Press("n", "N")
	assert.Contains(t, s.Text(), "▌01:30:00.000 < another", "round the end and back")
	s.Press("&", "restart", "enter")
	assert.Contains(t, s.Text(), "of 2   only those with restart")
	s.Press("&", "esc")
	assert.Contains(t, s.Text(), "of 52")
	s.Press("/", "gull", "enter")
	assert.Contains(t, s.Text(), "nothing here has gull")
	s.Press("/", "esc")
	assert.False(t, s.Quit)
	s.Press("esc")
	assert.True(t, s.Quit)
}

// Whatever keys come, in whatever window, what is drawn fits and nothing breaks.
func TestKeysNeverBreakIt(t *testing.T) {
	keys := []string{"up", "down", "pgup", "pgdown", "home", "end", "/", "n", "N", "&", "enter", "backspace", "1", "é", "ctrl+u"}
	rapid.Check(t, func(r *rapid.T) {
		text := lines(rapid.IntRange(0, 30).Draw(r, "lines"))
		s := growing(t, &text)
		s.Resize(rapid.IntRange(60, 90).Draw(r, "cells"), rapid.IntRange(16, 24).Draw(r, "height"))
		for _, k := range rapid.SliceOfN(rapid.SampledFrom(keys), 0, 12).Draw(r, "keys") {
			s.Press(k)
			text = text[:len(text)-min(len(text), rapid.IntRange(0, 2).Draw(r, "lost"))]
		}
		for _, l := range s.Lines() {
			assert.LessOrEqual(t, ansi.StringWidth(l), 90)
		}
		assert.NotContains(t, s.Text(), "mistake")
	})
}
