package watch

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/night"
	"metabasis/internal/screen/screentest"
)

// aNight is the events of a long night.
func aNight(devices int) []night.Event {
	at := time.Date(2026, 12, 1, 23, 50, 0, 0, time.Local)
	o := &night.Outline{Title: "Quays", Batches: [][]night.OutlineDevice{{}}}
	for i := range devices {
		o.Batches[0] = append(o.Batches[0], night.OutlineDevice{Name: fmt.Sprintf("q-%d", i), Platform: "tern", Steps: []string{"S"}})
	}
	out := []night.Event{{Kind: night.Planned, Outline: o, At: at}}
	for i := range devices {
		for _, s := range []night.State{night.Checking, night.Changing, night.Soaking, night.Kept} {
			at = at.Add(2 * time.Second)
			out = append(out, night.Event{Kind: night.Moved, Device: o.Batches[0][i].Name, State: s, OK: s == night.Kept, At: at})
		}
	}
	out = append(out, night.Event{Kind: night.Ended, At: at})
	for i := range out {
		out[i].Seq = int64(i + 1)
	}
	return out
}

// Whatever is jumped to, and in whatever order: the night is the fold of the events up to
// there, as it was then.
func TestPlayedAgainItIsAsItWas(t *testing.T) {
	events := aNight(1500) // more than two marks
	p := newPlayer(events)
	rapid.Check(t, func(t *rapid.T) {
		if rapid.Bool().Draw(t, "by event") {
			p.to(rapid.IntRange(-3, len(events)+3).Draw(t, "event"))
		} else {
			p.toTime(events[0].At.Add(time.Duration(rapid.IntRange(-60, 4*3600).Draw(t, "seconds")) * time.Second))
			if p.at < len(events) && events[p.at].At.Before(p.now) {
				t.Fatalf("event %d has happened by %s", p.at+1, p.now)
			}
		}
		if events[p.at-1].At.After(p.now) {
			t.Fatalf("event %d has not happened by %s", p.at, p.now)
		}
		want := night.Fold(night.Night{}, events[:p.at]...)
		got := p.night()
		if got.Seq != want.Seq || fmt.Sprint(got.Count()) != fmt.Sprint(want.Count()) {
			t.Fatalf("at event %d it is %v, and was %v", p.at, got.Count(), want.Count())
		}
	})
	assert.Nil(t, newPlayer(nil))
	assert.Nil(t, newPlayer(events[1:]), "a night without its plan")
}

// What a device had said by a moment, past midnight too.
func TestWhatWasSaidByThen(t *testing.T) {
	began := time.Date(2026, 12, 1, 23, 50, 0, 0, time.Local)
	lines := []string{"23:50:01.000 > tell clock", "23:59:59.900 < time", "00:00:00.100 < state settled", "no stamp", "01:10:00.000 · lost"}
	for minutes, want := range map[int]int{0: 0, 1: 1, 10: 2, 11: 4, 79: 4, 80: 5, 999: 5} {
		assert.Len(t, saidBy(lines, began, began.Add(time.Duration(minutes)*time.Minute)), want, "after %d minutes", minutes)
	}
}

func TestASliderOverANight(t *testing.T) {
	events := aNight(6)
	src := Source{Night: night.Fold(night.Night{}, events...), Events: events,
		Said: fakeSaid{transcript: func(string) ([]string, error) { return []string{"23:50:03.000 > first", "23:50:30.000 > later"}, nil }}}
	s := screentest.Open(t, 160, 40, New(src).View())
	s.See("6 kept")
	s.Press("P", "P")
	s.See(`Played again \d\d:\d\d:\d\d  event \d+ of 26  stands`)
	for range 8 {
		s.Press("<")
	}
	text := s.See(`Played again 23:50:00  event 1 of 26  stands`)
	assert.NotContains(t, text, "kept")
	assert.NotContains(t, text, "first", "it had not been said")
	s.Press(".", ".", ".")
	text = s.See(`event 4 of 26`)
	assert.Contains(t, text, "soaking")
	assert.Contains(t, text, "first")
	assert.NotContains(t, text, "later")
	s.Press(">")
	s.See(`event 26 of 26`)
	s.Press("esc")
	require.NotContains(t, s.Text(), "Played again")
	s.See("6 kept")
}
