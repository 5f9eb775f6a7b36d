package watch

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/attach"
)

// fakeBeside is a night that runs elsewhere.
type fakeBeside struct {
	own, screened bool
	wheel         attach.Wheel
}

func (f fakeBeside) Own() bool                                     { return f.own }
func (f fakeBeside) Screened() bool                                { return f.screened }
func (f fakeBeside) Wheel() attach.Wheel                           { return f.wheel }
func (f fakeBeside) Take() error                                   { return nil }
func (f fakeBeside) Turned(context.Context) ([]attach.Wheel, bool) { return nil, false }
func (f fakeBeside) Err() error                                    { return nil }
func (f fakeBeside) Again(context.Context) (Source, error)         { return Source{}, nil }

// With what a night ends is said as it is: one that hangs on a screen is not called one that goes
// on by itself.
func TestWhatTheRowWithTheWheelSays(t *testing.T) {
	two := []string{"ada (pts/3)", "ben (pts/7)"}
	for name, c := range map[string]struct {
		beside fakeBeside
		want   string
		seen   bool
	}{
		"of a screen":        {fakeBeside{screened: true, wheel: attach.Wheel{Has: "ada (pts/3)", Viewers: two}}, "ada (pts/3) has the wheel; H takes it; 1 other looks; it ends with the screen it was begun on", true},
		"without one":        {fakeBeside{wheel: attach.Wheel{Viewers: two[:1]}}, "nobody has the wheel; H takes it; it runs without a screen, and goes on when you leave", true},
		"mine":               {fakeBeside{wheel: attach.Wheel{Has: two[1], Mine: true, Viewers: append(two, "cem")}}, "you have the wheel; 2 others look; it runs without a screen", true},
		"here, alone":        {fakeBeside{own: true, screened: true, wheel: attach.Wheel{Mine: true, Viewers: two[:1]}}, "", false},
		"here, and one more": {fakeBeside{own: true, screened: true, wheel: attach.Wheel{Mine: true, Viewers: two}}, "you have the wheel; 1 other looks", true},
		"here, and taken":    {fakeBeside{own: true, screened: true, wheel: attach.Wheel{Has: two[1], Viewers: two}}, "ben (pts/7) has the wheel; H takes it", true},
	} {
		n, _ := troubled()
		n.src.Beside, n.wheel = c.beside, c.beside.wheel
		assert.Equal(t, c.seen, n.seen(), name)
		if !c.seen {
			continue
		}
		row := n.besideRow()
		assert.Contains(t, row.Text(), c.want, name)
		if c.beside.own {
			assert.NotContains(t, row.Text(), "screen", name)
		}
		assert.LessOrEqual(t, row.Width(), 100, "%s: it is read in full in the smallest window", name)
	}
	n, _ := troubled()
	n.src.Beside = fakeBeside{screened: true}
	form := n.Leaving()
	assert.Contains(t, form.Lines[0], "it ends with the screen it was begun on")
	n.src.Beside = fakeBeside{own: true, screened: true}
	assert.Contains(t, n.Leaving().Lines[0], "Leaving aborts it")
}
