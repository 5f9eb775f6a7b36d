package screen_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/screentest"
)

// gulls is the smallest view that does something: it shows a number, one key makes it
// larger, another has it counted behind. A new view begins as a copy of it.
type gulls struct {
	host *screen.Host
	n    int
}

// Name implements [screen.View].
func (g *gulls) Name() string { return "Gulls" }

// Opened implements [screen.Opener].
func (g *gulls) Opened(h *screen.Host) { g.host = h }

// Rows implements [screen.View].
func (g *gulls) Rows(screen.Frame) []ink.Row {
	return []ink.Row{ink.T(ink.Foam, " ").Strong(ink.Foam, fmt.Sprintf("%d gulls", g.n))}
}

// Keys implements [screen.View].
func (g *gulls) Keys() []screen.Key {
	return []screen.Key{
		screen.On(keys.Mark, "one more", func() { g.n++ }),
		screen.On(keys.Reach, "count", g.count),
	}
}

// count counts them while the person waits.
func (g *gulls) count() {
	n := 0
	g.host.Work("Counting gulls", func(ctx context.Context) error {
		n = 12
		return ctx.Err()
	}, func(err error) {
		if err != nil {
			g.host.Say("not counted: " + err.Error())
			return
		}
		g.n = n
	})
}

// The smallest view.
func Example() {
	app := screen.New(screen.Options{Theme: "dark"})
	_ = app.Run(context.Background(), func(h *screen.Host) { h.Open(&gulls{}) })
}

func TestTheSmallestView(t *testing.T) {
	s := screentest.Open(t, 80, 24, &gulls{})
	s.Press("m", "m")
	assert.Contains(t, s.Text(), "2 gulls")
	assert.Contains(t, s.Text(), "m one more   r count")
	s.Press("r")
	s.See("12 gulls")
}
