package nights

import (
	"regexp"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// clocked are the shipped profiles, with a tern that sets its timer to a time of day, and
// tells that of it.
func clocked(t testing.TB, format string) profile.Set {
	set := shipped(t)
	p := *set["tern"]
	p.Timer.At, p.Timer.Arm.Send = format, "restart at <<at>>"
	if format == "HH:MM" {
		p.Timer.Arm.Send = "restart at <<at>>:00"
	}
	p.Timer.Pending = profile.Pattern{Regexp: regexp.MustCompile(`^Restart due at (?P<at>\d\d:\d\d:\d\d),`)}
	if format == "HH:MM" {
		p.Timer.Pending = profile.Pattern{Regexp: regexp.MustCompile(`^Restart due at (?P<at>\d\d:\d\d):00,`)}
	}
	set["tern"] = &p
	return set
}

// A timer that can only be set to a time of day is set by the device's own clock, over
// midnight, too; a device whose clock is off is blocked, since one that is put right would
// fire at another time.
func TestATimerByTheClock(t *testing.T) {
	for _, format := range []string{"HH:MM:SS", "HH:MM"} {
		t.Run(format, func(t *testing.T) {
			set, dir := clocked(t, format), t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				time.Sleep(23*time.Hour + 58*time.Minute + 7*time.Second)
				w := simpleOf(t, set, dir, []sim.Spec{
					{ClockOff: 4 * time.Second},
					{ClockOff: -20 * time.Second},
					{Faults: []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3"}}},
					{Faults: []sim.Fault{{Kind: sim.QuietTimer}}},
					{},
					{Faults: []sim.Fault{{Kind: sim.Balks, Match: "^tell clock", After: 2}}},
				}, nil, nil)
				defer w.sim.Close()
				w.runQuiet()
				w.checkLaws()
				for name, want := range map[string]night.State{"ald-quay-1": night.Kept, "ald-quay-2": night.Blocked, "ald-quay-3": night.Reverted, "ald-quay-4": night.Blocked, "ald-quay-5": night.Kept, "ald-quay-6": night.Blocked} {
					assert.Equal(t, want, w.night.Get(name).State, "%s: %s", name, w.night.Get(name).Note)
				}
				assert.Contains(t, w.night.Get("ald-quay-2").Note, "its clock is off by 20s, at most 10s is wanted: its timer is set by that clock, so set the clock first")
				assert.Contains(t, w.night.Get("ald-quay-6").Note, "reading its clock", "no time is set by a clock that cannot be read")
				for _, e := range w.intents("ald-quay-5", night.ToArm) {
					due := time.Time{}
					for _, s := range w.seen {
						if s.Kind == night.TimerSeen && s.Device == "ald-quay-5" && due.IsZero() {
							due = s.Due
						}
					}
					assert.GreaterOrEqual(t, due.Sub(e.At), e.For-2*time.Second, "never sooner than was meant")
					assert.Less(t, due.Sub(e.At), e.For+time.Minute+2*time.Second)
				}
				assert.True(t, strings.HasSuffix(w.night.Get("ald-quay-3").Note, "equal to the backup"))
			})
		})
	}
}
