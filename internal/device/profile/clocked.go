package profile

import (
	"context"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/run"
)

// Some platforms set their timer to a time of day, by their own clock. What it is there is
// read right before: the run has made sure that it is near ours.

// clockFormats are the ways in which a time of day is written.
var clockFormats = map[string]string{"HH:MM:SS": "15:04:05", "HH:MM": "15:04"}

// zone is where the device's time of day is told.
func (t Timer) zone() (*time.Location, error) {
	if t.Zone == "" {
		return time.UTC, nil
	}
	return time.LoadLocation(t.Zone)
}

// clock reads the time that the device has.
func (s *Session) clock(ctx context.Context) (time.Time, error) {
	zone, err := s.p.Timer.zone()
	if err != nil {
		return time.Time{}, err
	}
	v, err := s.Read(ctx, "clock")
	if err != nil {
		return time.Time{}, fmt.Errorf("reading its clock: %w", err)
	}
	row, _ := v.(map[string]any)
	seconds, ok := row["time"].(float64)
	if !ok {
		return time.Time{}, &run.Unclear{Asked: "clock", Got: "no time"}
	}
	return time.Unix(0, int64(seconds*1e9)).In(zone), nil
}

// armAt sets the timer to the time of day that is d from now, and no earlier.
func (s *Session) armAt(ctx context.Context, d time.Duration) error {
	now, err := s.clock(ctx)
	if err != nil {
		return err
	}
	step := time.Second
	if s.p.Timer.At == "HH:MM" {
		step = time.Minute
	}
	at := now.Add(d + step - 1).Truncate(step)
	if at.Sub(now) >= 24*time.Hour {
		return &run.Refused{Line: s.p.Timer.Arm.Send, Said: "a time of day is no more than a day away"}
	}
	_, err = s.command(ctx, s.p.Timer.Arm, map[string]string{"at": at.Format(clockFormats[s.p.Timer.At])})
	return err
}

// until is how much is left until a time of day that the device has told.
func (s *Session) until(ctx context.Context, at string) (left time.Duration, pending bool, err error) {
	now, err := s.clock(ctx)
	if err != nil {
		return 0, false, err
	}
	t, err := time.ParseInLocation(clockFormats[s.p.Timer.At], at, now.Location())
	if err != nil {
		return 0, false, &run.Unclear{Asked: s.p.Timer.Show.Send, Got: s.Mask(at)}
	}
	due := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location())
	if !due.After(now) {
		due = due.AddDate(0, 0, 1)
	}
	return due.Sub(now), true, nil
}

// clocked checks a timer that is set to a time of day.
func (c *checker) clocked() {
	t := c.p.Timer
	says := strings.Contains(t.Arm.Send, "<<at>>")
	byAt := t.Pending.Regexp != nil && t.Pending.SubexpIndex("at") > 0
	if t.At == "" {
		if says || byAt || t.Zone != "" {
			c.fail("timer.at", "at: HH:MM:SS", "the timer is set to a time of day, and nothing says how that is written")
		}
		return
	}
	if clockFormats[t.At] == "" {
		c.fail("timer.at", "HH:MM:SS or HH:MM", "%q is no way to write a time of day", t.At)
	}
	if !says {
		c.fail("timer.arm.send", "restart at <<at>>", "the time <<at>> is missing")
	}
	if _, err := t.zone(); err != nil {
		c.fail("timer.zone", "zone: Europe/Lisbon, or none for UTC", "the time zone %q is not known here", t.Zone)
	}
	if r, ok := c.p.Readers["clock"]; !ok || string(r.Columns["time"].Type) != "time" {
		c.fail("timer.at", "readers: clock: with a column time of type time", "the timer is set by the device's clock, and nothing reads that")
	}
}
