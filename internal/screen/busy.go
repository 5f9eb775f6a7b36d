package screen

import (
	"context"
	"strings"
	"time"

	"charm.land/bubbles/v2/spinner"
	tea "charm.land/bubbletea/v2"

	"metabasis/internal/screen/ink"
)

// busy stands where the person waits for something.
type busy struct {
	what   string
	began  time.Time
	giveUp context.CancelFunc
	given  bool // up
	wheel  spinner.Model
}

// beads are how waiting is drawn: one bead that moves on a string of them.
func beads() spinner.Spinner {
	const n = 5
	var frames []string
	for i := range 2*n - 2 {
		at := min(i, 2*n-2-i)
		frames = append(frames, strings.Repeat("─", at)+"●"+strings.Repeat("─", n-1-at))
	}
	return spinner.Spinner{Frames: frames, FPS: time.Second / 6}
}

func (b *busy) Name() string { return b.what }
func (b *busy) Keys() []Key  { return nil }

// Opened implements [Opener].
func (b *busy) Opened(h *Host) {
	b.wheel = spinner.New(spinner.WithSpinner(beads()))
	h.app.cmd(b.wheel.Tick)
}

func (b *busy) take(msg tea.Msg) (cmd tea.Cmd) {
	b.wheel, cmd = b.wheel.Update(msg)
	return cmd
}

// leave gives up what is under way.
func (b *busy) leave() {
	b.given = true
	if b.giveUp != nil {
		b.giveUp()
	}
}

func (b *busy) Rows(f Frame) []ink.Row {
	b.wheel.Style = f.Painter.Style(ink.Tide)
	word := b.what
	if b.given {
		word = "giving up: " + b.what
	}
	r := ink.T(ink.Foam, "   ").Then(ink.Raw(b.wheel.View())).Add(ink.Foam, "   ").Strong(ink.Foam, word)
	if took := f.Now.Sub(b.began); took > 2*time.Second {
		r = r.Add(ink.Dim, "   "+ink.Long(took))
	}
	return []ink.Row{{}, r}
}
