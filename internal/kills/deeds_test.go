package kills

import (
	"fmt"
	"regexp"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/sim"
)

// deeds is a night that does what cannot be undone.
const deeds = `runbook "Renew and count"
  window    now for 10m

scope
  platform == "tern"

batches
  sizes     2
  together  2

timer       15s

step "Counts"
  look
    | tell counts

step "Renew"
  do
    | renew links
  asked     "Renew all links*" say "yes"
  answers   "Renewing*"

step "Log collector"
  want
    | log host 198.51.100.14

step "Count anew"
  do
    | recount ports
  answers   "Counted anew*"

step "Rest"
  wait      1s

unattended  take back the device
`

// Wherever a night is killed that does what cannot be undone: what a device did is never missing
// in its report, and what is said to be done was done.
func TestADeedInAKilledNightIsToldAsItIs(t *testing.T) {
	whole := newGround(t)
	whole.write("night.runbook", deeds)
	_, _, n := whole.runUntil(1 << 30)
	require.Greater(t, n, 30)
	step := 1
	if *count > 0 {
		step = max(1, n / *count)
	}
	for k := 1 + *seed%step; k <= n; k += step {
		t.Run(fmt.Sprint(k), func(t *testing.T) {
			t.Parallel()
			g := newGround(t)
			g.write("night.runbook", deeds)
			last, _, _ := g.runUntil(k)
			doc, code := g.said("report", "1")
			told := section(doc, "What was done, and cannot be undone")
			for _, d := range g.fleet.Devices() {
				for _, command := range []string{"renew links", "recount ports"} {
					did := slices.ContainsFunc(d.Truth(), func(x sim.Truth) bool { return x.What == sim.Done && x.Line == command })
					row := regexp.MustCompile(`(?m)^\| ` + d.Name() + ` \|.*\| ` + command + ` \|.*$`).FindString(told)
					if did {
						assert.NotEmpty(t, row, "%s did %q (report: exit %d)", d.Name(), command, code)
					}
					if regexp.MustCompile(`\| done \|`).MatchString(row) {
						assert.True(t, did, "%s is said to have done %q", d.Name(), command)
					}
				}
			}
			if t.Failed() {
				t.Logf("killed at event %d: %s\n%s", k, last, doc)
			}
		})
	}
}
