package sim

import (
	"math/rand/v2"
	"strings"
	"time"
)

// strikes are the faults that strike at one line, and how long the device takes
// for it.
type strikes struct {
	hang, drop, restart, garbage, balk bool
	wait                               time.Duration
}

func (d *Device) strikes(line string) strikes {
	s, with := d.struck(line)
	if with != "" {
		d.fleet.exchange(d.spec.Name, with)
	}
	return s
}

// struck is strikes, and the device that takes its place now; "" for none.
func (d *Device) struck(line string) (s strikes, with string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	s = strikes{
		hang: d.fault(Hangs, line) != nil,
		drop: d.fault(Drops, line) != nil,
		restart: d.fault(
			Restarts,
			line,
		) != nil,
		garbage: d.fault(Garbage, line) != nil,
		balk:    d.fault(Balks, line) != nil,
		wait:    d.fleet.scenario.Latency,
	}
	if j := d.fleet.scenario.Jitter; j > 0 {
		s.wait += rand.N(j)
	}
	if slow := d.fault(Slow, line); slow != nil {
		s.wait += slow.By
	}
	d.meddle(line)
	if f := d.fault(Exchanged, line); f != nil && f.Match != "" && d.fleet.inPlaceOf(d) == d {
		with = f.With
	}
	return s, with
}

// meddle is what others do on the device at a line. The caller holds d.mu.
func (d *Device) meddle(line string) {
	if d.fault(Joined, line) != nil {
		d.spec.Editing = "deckhand"
	}
	if f := d.fault(OtherTimer, line); f != nil && !d.due.IsZero() {
		if f.By == 0 {
			d.disarm()
		} else {
			d.arm(time.Until(d.due) + f.By)
		}
	}
	if d.fault(Drifts, line) != nil {
		d.drift()
	}
}

// drift changes the running configuration, as nobody has told it to. The caller
// holds d.mu.
func (d *Device) drift() {
	d.kind.drifts(d)
	d.note(Drifted, "")
}

// part is what a device prints of a configuration: a part of it when it cuts short.
// The caller holds d.mu.
func (d *Device) part(asked, text string) string {
	if d.fault(CutShort, asked) == nil {
		return text
	}
	lines := strings.SplitAfter(text, "\n")
	return strings.Join(lines[:len(lines)*2/3], "")
}

// noise is what a broken device prints; some even print back what they were told
// in confidence. At the end it tries to write over the screen; the bells before
// that end whatever control string the noise may have begun.
func noise(secret string) string {
	b := make([]byte, 8<<10)
	for i := range b {
		b[i] = byte(rand.Uint32())
	}
	return "debug: operator said " + secret + "\n" + string(b) + "\a\a\x1b[2J\x1b[1;1HALL IS WELL\x1b]0;owned\x07\x1b[31m[not-me work] \n"
}

// slowLogin takes its time over a password.
func (d *Device) slowLogin() {
	d.mu.Lock()
	f := d.fault(SlowLogin, "")
	d.mu.Unlock()
	if f != nil {
		time.Sleep(f.By)
	}
}
