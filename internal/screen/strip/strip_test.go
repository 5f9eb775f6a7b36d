package strip

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/screen/ink"
)

var open = time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)

func aNight(slots ...plan.Slot) *night.Night {
	o := &night.Outline{Title: "Quays", Window: plan.Window{Open: open, Close: open.Add(100 * time.Minute), Reserve: 20 * time.Minute}}
	for range slots {
		o.Batches = append(o.Batches, nil)
	}
	n := night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: o}, night.Event{Kind: night.Forecast, Slots: slots, Due: open.Add(50 * time.Minute), Late: open.Add(60 * time.Minute)})
	return &n
}

func plain(r ink.Row) string {
	var b strings.Builder
	for _, s := range r.Spans {
		b.WriteString(s.Text)
	}
	return b.String()
}

func TestTheWindowIsDrawnToScale(t *testing.T) {
	n := aNight(plan.Slot{Start: open.Add(10 * time.Minute), End: open.Add(30 * time.Minute), TurnBack: open.Add(70 * time.Minute)},
		plan.Slot{Start: open.Add(30 * time.Minute), End: open.Add(50 * time.Minute), TurnBack: open.Add(75 * time.Minute)})
	rows := Rows(n, open.Add(10*time.Minute), 102)
	bar := []rune(plain(rows[1]))[1:]
	assert.Equal(t, "██████████", string(bar[:10]), "what is gone")
	assert.Equal(t, '┃', bar[10], "now")
	assert.Equal(t, '▒', bar[20])
	assert.Equal(t, '▓', bar[40])
	assert.Equal(t, '░', bar[60])
	assert.Equal(t, '┃', bar[70], "the turn-back time of the next batch")
	assert.Equal(t, '▞', bar[85], "the reserve")
	labels := plain(rows[2])
	for _, want := range []string{"01:30", "1", "2", "turn back 02:40", "03:10"} {
		assert.Contains(t, labels, want)
	}
}

// Where there is no window, the time the night takes is drawn, and nothing is said of
// what is left.
func TestNoWindow(t *testing.T) {
	n := aNight(plan.Slot{Start: open, End: open.Add(50 * time.Minute)})
	n.Outline.Window = plan.Window{Open: open, Close: open.AddDate(10, 0, 0), None: true}
	rows := Rows(n, open, 120)
	all := plain(rows[0]) + plain(rows[1]) + plain(rows[2])
	assert.Contains(t, all, "no window   finish 02:20:00")
	for _, not := range []string{"reserve", "turn back", "next batch"} {
		assert.NotContains(t, all, not)
	}
	bar := []rune(plain(rows[1]))[1:]
	assert.Equal(t, '▒', bar[len(bar)*49/67], "fifty minutes of sixty-six")
	assert.Equal(t, '░', bar[len(bar)*52/67])
}

func TestWhatATiredPersonReads(t *testing.T) {
	n := aNight(plan.Slot{Start: open, End: open.Add(10 * time.Minute), TurnBack: open.Add(70 * time.Minute)})
	for after, want := range map[time.Duration]string{
		0:                 "next batch must start within 1 h 10 m   window 1 h 40 m   finish 02:20:00, 90 % by 02:30:00",
		66 * time.Minute:  "next batch must start within 4 m 00 s",
		71 * time.Minute:  "turn-back time has passed",
		101 * time.Minute: "the window is closed",
	} {
		assert.Contains(t, plain(Rows(n, open.Add(after), 200)[0]), want, after)
	}
	*n = night.Fold(*n, night.Event{Kind: night.Ended, At: open.Add(40 * time.Minute)})
	assert.Contains(t, plain(Rows(n, open.Add(90*time.Minute), 200)[0]), "over since Wed 2 Dec 02:10:00, 1 h 00 m before the window's end")
	*n = night.Fold(*n, night.Event{Kind: night.Ended, At: open.Add(106 * time.Minute)})
	assert.Contains(t, plain(Rows(n, open.Add(110*time.Minute), 200)[0]), "6 m 00 s after the window closed")
	*n = night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: n.Outline})
	assert.Contains(t, plain(Rows(n, open.Add(-21*time.Hour), 200)[0]), "opens in 21 h 00 m")
	assert.Contains(t, plain(Rows(n, open.Add(-21*time.Hour), 200)[2]), "Wed 2 Dec 01:30 UTC")
	n.Outline.Window.Now = true
	assert.Contains(t, plain(Rows(n, open.Add(2*time.Hour), 200)[0]), "the window opens when the run begins, for 1 h 40 m")
}

// Whatever the night and the moment, each row fits the screen.
func TestStripFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		minute := func(name string) time.Time {
			return open.Add(time.Duration(rapid.IntRange(-30, 200).Draw(t, name)) * time.Minute)
		}
		n := aNight(plan.Slot{Start: minute("a"), End: minute("b"), TurnBack: minute("c")}, plan.Slot{Start: minute("d"), End: minute("e"), TurnBack: minute("f")})
		cells := rapid.IntRange(60, 220).Draw(t, "cells")
		for _, r := range Rows(n, minute("now"), cells)[1:] {
			if r.Width() > cells {
				t.Fatalf("%d cells in %d", r.Width(), cells)
			}
		}
	})
}

// A terminal may be of one column, or of none: nothing is drawn past its end, and nothing
// breaks.
func TestTheNarrowestWindow(t *testing.T) {
	slots := []plan.Slot{{Start: open.Add(10 * time.Minute), End: open.Add(30 * time.Minute), TurnBack: open.Add(70 * time.Minute)},
		{Start: open.Add(30 * time.Minute), End: open.Add(50 * time.Minute), TurnBack: open.Add(75 * time.Minute)}}
	none := aNight(slots...)
	none.Outline.Window = plan.Window{Open: open, Close: open.AddDate(10, 0, 0), None: true}
	empty := aNight(slots...)
	empty.Outline.Window.Close = open
	for _, n := range []*night.Night{aNight(), aNight(slots...), none, empty} {
		for cells := -2; cells < 40; cells++ {
			for _, at := range []time.Duration{-time.Hour, 0, time.Hour, 48 * time.Hour} {
				Rows(n, open.Add(at), cells)
				Still(n, cells)
			}
		}
	}
}
