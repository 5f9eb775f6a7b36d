package profile

import (
	"strings"
	"time"
)

// ClockFormats are the ways in which a time of day is written.
var ClockFormats = map[string]string{"HH:MM:SS": "15:04:05", "HH:MM": "15:04"}

// Location is where the device's time of day is told.
func (t Timer) Location() (*time.Location, error) {
	if t.Zone == "" {
		return time.UTC, nil
	}
	return time.LoadLocation(t.Zone)
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
	if ClockFormats[t.At] == "" {
		c.fail("timer.at", "HH:MM:SS or HH:MM", "%q is no way to write a time of day", t.At)
	}
	if !says {
		c.fail("timer.arm.send", "restart at <<at>>", "the time <<at>> is missing")
	}
	if _, err := t.Location(); err != nil {
		c.fail("timer.zone", "zone: Europe/Lisbon, or none for UTC", "the time zone %q is not known here", t.Zone)
	}
	if r, ok := c.p.Readers["clock"]; !ok || string(r.Columns["time"].Type) != "time" {
		c.fail("timer.at", "readers: clock: with a column time of type time", "the timer is set by the device's clock, and nothing reads that")
	}
}
