package watch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// A past night can be played again: its state is a fold over its events, so at each
// moment the screen is exactly what it was then. What a device said up to that moment
// stands beside it.

// player is where in its night a night that is played again stands.
type player struct {
	events []night.Event
	marks  []night.Night // the night after every markEvery events
	at     int           // events that have happened; at least 1
	now    time.Time     // the moment that is shown
	speed  int           // index of speeds
	runs   bool
	stop   context.CancelFunc // of what moves it on
}

// markEvery is after how many events the state is kept, so that a jump back is quick.
const markEvery = 2000

// speeds are how many times faster than it was.
var speeds = [...]int{1, 2, 5, 10, 30, 60, 300}

// newPlayer stands at the beginning of a night; nil where there is nothing to play.
func newPlayer(events []night.Event) *player {
	if len(events) == 0 || events[0].Outline == nil {
		return nil
	}
	p := &player{events: events, speed: 3}
	p.to(1)
	return p
}

// night is the night at that moment.
func (p *player) night() night.Night {
	for len(p.marks)*markEvery <= p.at { // up to the one before it
		var n night.Night
		if k := len(p.marks); k > 0 {
			n = night.Fold(p.marks[k-1], p.events[(k-1)*markEvery:k*markEvery]...)
		}
		p.marks = append(p.marks, n)
	}
	k := p.at / markEvery
	return night.Fold(p.marks[k], p.events[k*markEvery:p.at]...)
}

// to goes to the moment of an event, from 1.
func (p *player) to(at int) {
	p.at = min(max(at, 1), len(p.events))
	p.now = p.events[p.at-1].At
}

// toTime goes to a moment of the night.
func (p *player) toTime(t time.Time) {
	first, last := p.events[0].At, p.events[len(p.events)-1].At
	if t.Before(first) {
		t = first
	}
	if t.After(last) {
		t = last
	}
	p.now = t
	n, _ := slices.BinarySearchFunc(p.events, t, func(e night.Event, t time.Time) int {
		if e.At.After(t) {
			return 1
		}
		return -1
	})
	p.at = max(n, 1)
}

// over tells whether the end of the night is shown.
func (p *player) over() bool { return p.at == len(p.events) && !p.now.Before(p.events[p.at-1].At) }

// row is the slider over the time of the night.
func (p *player) row(cells int, note string) ink.Row {
	first, last := p.events[0].At, p.events[len(p.events)-1].At
	share := 1.0
	if all := last.Sub(first); all > 0 {
		share = float64(p.now.Sub(first)) / float64(all)
	}
	word := "stands"
	if p.runs {
		word = fmt.Sprintf("runs, %d times as fast", speeds[p.speed])
	}
	r := ink.T(ink.Lamp, " ▶ ").Strong(ink.Foam, "Played again ").Strong(ink.Lamp, p.now.Local().Format("15:04:05")).
		Add(ink.Dim, fmt.Sprintf("  event %d of %d  %s  ", p.at, len(p.events), word))
	if note != "" {
		r = r.Strong(ink.Lamp, ink.Fit(note, max(min(len([]rune(note)), cells-r.Width()-30), 10))+"  ")
	}
	filled, empty := ink.Bar(share, max(cells-r.Width()-18, 8))
	return r.Add(ink.Tide, filled).Add(ink.Faint, empty).Add(ink.Dim, " "+last.Local().Format("15:04:05"))
}

// play begins to play the night again, or lets it stand, or go on.
func (v *View) play() {
	p := v.n.play
	switch {
	case p == nil:
		if p = newPlayer(v.n.src.Events); p == nil {
			v.host.Say("nothing of this night can be played")
			return
		}
		v.n.play, v.n.whole = p, v.n.night
	case p.runs:
		v.rest()
		return
	case p.over():
		p.to(1)
	}
	p.runs = true
	ctx, stop := context.WithCancel(v.host.Context())
	p.stop = stop
	v.host.Go(func(context.Context) {
		tick := time.NewTicker(playTick)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				v.host.Then(func() {
					if ctx.Err() == nil {
						v.on(playTick * time.Duration(speeds[p.speed]))
					}
				})
			case <-ctx.Done():
				return
			}
		}
	})
	v.shown()
}

// playTick is how often the moment that is shown moves on.
const playTick = 100 * time.Millisecond

// on moves on by some time, and stands at the end.
func (v *View) on(by time.Duration) {
	p := v.n.play
	p.toTime(p.now.Add(by))
	if p.over() {
		v.rest()
	}
	v.shown()
}

// rest lets it stand where it is.
func (v *View) rest() {
	if p := v.n.play; p != nil && p.runs {
		p.runs = false
		p.stop()
	}
}

// shown shows the moment.
func (v *View) shown() { v.n.night = v.n.play.night() }

// unplay ends playing: the night is shown as it ended.
func (v *View) unplay() {
	v.rest()
	v.n.play, v.n.night = nil, v.n.whole
}

// playKeys are the keys of a night that can be played again.
func (v *View) playKeys() []screen.Key {
	p := v.n.play
	if p == nil {
		return []screen.Key{screen.On(keys.Play, "play again", v.play)}
	}
	word := "go on"
	if p.runs {
		word = "stand"
	}
	step := func(do func()) func() { return func() { v.rest(); do(); v.shown() } }
	back := screen.On(keys.EventBack, "event", step(func() { p.to(p.at - 1) }))
	back.Binding.SetHelp(", .", keys.EventBack.Help().Desc)
	minute := screen.On(keys.MinuteBack, "minute", step(func() { p.toTime(p.now.Add(-time.Minute)) }))
	minute.Binding.SetHelp("< >", keys.MinuteBack.Help().Desc)
	fast := screen.On(keys.Faster, "speed", func() { p.speed = min(p.speed+1, len(speeds)-1) })
	fast.Binding.SetHelp("+ -", keys.Faster.Help().Desc)
	return []screen.Key{screen.On(keys.Play, word, v.play), back, screen.On(keys.EventOn, "", step(func() { p.to(p.at + 1) })),
		minute, screen.On(keys.MinuteOn, "", step(func() { p.toTime(p.now.Add(time.Minute)) })),
		fast, screen.On(keys.Slower, "", func() { p.speed = max(p.speed-1, 0) })}
}

// saidBy is what was said with a device up to a moment: its transcript's lines begin with
// the time of day. Began is when the night began: what is earlier in the day than the
// line before it by half a day is of the next.
func saidBy(lines []string, began, now time.Time) []string {
	began = began.Local()
	day := time.Date(began.Year(), began.Month(), began.Day(), 0, 0, 0, 0, time.Local)
	last := began.Add(-time.Minute)
	for i, l := range lines {
		stamp, _, _ := strings.Cut(l, " ")
		of, err := time.Parse("15:04:05.000", stamp)
		if err != nil {
			continue
		}
		at := time.Date(day.Year(), day.Month(), day.Day(), of.Hour(), of.Minute(), of.Second(), of.Nanosecond(), time.Local)
		if last.Sub(at) > 12*time.Hour {
			day = day.AddDate(0, 0, 1)
			at = at.AddDate(0, 0, 1)
		}
		if at.After(now) {
			return lines[:i]
		}
		last = at
	}
	return lines
}
