package lines

import (
	"context"
	"fmt"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// Some platforms set their timer to a time of day, by their own clock. What it is there is
// read right before: the run has made sure that it is near ours.

// clock reads the time that the device has.
func (s *Session) clock(ctx context.Context) (time.Time, error) {
	zone, err := s.p.Timer.Location()
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
		return time.Time{}, &driver.Unclear{Asked: "clock", Got: "no time"}
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
		return &driver.Refused{Line: s.p.Timer.Arm.Send, Said: "a time of day is no more than a day away"}
	}
	_, err = s.command(ctx, s.p.Timer.Arm, map[string]string{"at": at.Format(profile.ClockFormats[s.p.Timer.At])})
	return err
}

// until is how much is left until a time of day that the device has told.
func (s *Session) until(ctx context.Context, at string) (left time.Duration, pending bool, err error) {
	now, err := s.clock(ctx)
	if err != nil {
		return 0, false, err
	}
	t, err := time.ParseInLocation(profile.ClockFormats[s.p.Timer.At], at, now.Location())
	if err != nil {
		return 0, false, &driver.Unclear{Asked: s.p.Timer.Show.Send, Got: s.Mask(at)}
	}
	due := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location())
	if !due.After(now) {
		due = due.AddDate(0, 0, 1)
	}
	return due.Sub(now), true, nil
}
