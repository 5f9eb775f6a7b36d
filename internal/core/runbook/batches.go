package runbook

import (
	"fmt"
	"strings"
)

// Lines are the rules of the batches as a runbook has them, each once, in one order: so
// two sets of rules can be compared, and read by who approves them.
func (b Batches) Lines() (out []string) {
	say := func(is bool, format string, args ...any) {
		if is {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	say(b.CanaryEach, "canaries one of each platform and role")
	say(len(b.Canaries) > 0, "canaries %s", strings.Join(b.Canaries, ", "))
	var sizes []string
	for _, s := range b.Sizes {
		if s.Percent > 0 {
			sizes = append(sizes, fmt.Sprintf("%d%%", s.Percent))
		} else {
			sizes = append(sizes, fmt.Sprint(s.Count))
		}
	}
	say(len(sizes) > 0, "sizes %s", strings.Join(sizes, ", "))
	say(b.Together > 0, "together %d", b.Together)
	say(b.PerSite > 0, "per site %d", b.PerSite)
	say(b.PerRole > 0, "per role %d", b.PerRole)
	say(b.PerUplink > 0, "per uplink %d", b.PerUplink)
	say(b.PairsApart, "pairs apart, standby first")
	say(b.FarFirst, "order far first")
	after := strings.Trim(strings.ReplaceAll(fmt.Sprint(b.HoldAfter), " ", ", "), "[]")
	say(len(b.HoldAfter) > 0, "hold after batch %s", after)
	say(b.HoldAlways, "hold after every batch")
	say(b.GoOnHeld, "while held go on")
	say(b.DarkFor > 0, "while dark wait %s", FormatDuration(b.DarkFor))
	say(b.StopAfter > 0, "stop after %d failures", b.StopAfter)
	say(b.StopAfter == 0, "stop never")
	return out
}
