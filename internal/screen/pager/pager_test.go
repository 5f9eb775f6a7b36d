package pager

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func lines(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprintf("01:30:00.000 < line %d", i))
	}
	return out
}

func shown(v *View, height int) string {
	var b strings.Builder
	for _, r := range v.Rows(80, height) {
		for _, s := range r.Spans {
			b.WriteString(s.Text)
		}
		b.WriteByte('\n')
	}
	return b.String()
}

func TestItFollowsTheEndUntilScrolledAway(t *testing.T) {
	v := New("a", lines(100))
	assert.Contains(t, shown(v, 11), "line 99")
	v.Set(lines(120))
	assert.Contains(t, shown(v, 11), "line 119")
	v.Key("up", "", 10)
	v.Set(lines(140))
	assert.NotContains(t, shown(v, 11), "line 139")
	v.Key("end", "", 10)
	v.Set(lines(150))
	assert.Contains(t, shown(v, 11), "line 149")
}

func TestSearch(t *testing.T) {
	v := New("a", append(lines(50), "01:30:00.000 < a Restart here"))
	v.Key("home", "", 10)
	for _, k := range []string{"/", "r", "e", "s", "x", "backspace", "t", "enter"} {
		text := k
		if len(k) > 1 {
			text = ""
		}
		v.Key(k, text, 10)
	}
	assert.Contains(t, shown(v, 11), "1 lines with rest")
	assert.Contains(t, shown(v, 11), "▌01:30:00")
	v.Key("/", "", 10)
	assert.True(t, v.Typing())
	v.Key("esc", "", 10)
	assert.False(t, v.Typing())
	assert.False(t, v.Key("esc", "", 10), "a second Esc leaves the view")
}

// Whatever keys come, in whatever window, what is drawn fits and nothing breaks.
func TestKeysNeverBreakIt(t *testing.T) {
	keys := []string{"up", "down", "pgup", "pgdown", "home", "end", "/", "n", "N", "esc", "enter", "backspace", "1", "é"}
	rapid.Check(t, func(t *rapid.T) {
		v := New("a", lines(rapid.IntRange(0, 30).Draw(t, "lines")))
		height := rapid.IntRange(1, 20).Draw(t, "height")
		for _, k := range rapid.SliceOf(rapid.SampledFrom(keys)).Draw(t, "keys") {
			text := ""
			if len([]rune(k)) == 1 {
				text = k
			}
			v.Key(k, text, height)
			if rows := v.Rows(40, height); len(rows) > max(height, 1) {
				t.Fatalf("%d rows in a space of %d", len(rows), height)
			}
		}
	})
}
