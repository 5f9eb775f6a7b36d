package kills

import (
	"fmt"
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/sim"
)

// softwareBook is a night in which devices are given other software.
const softwareBook = `runbook "New software"
  window    now for 20m

scope
  true

batches
  sizes     3, 1
  together  3

timer       15s

step "New software"
  software  "5.0"
  back      within 30s

unattended  take back the device
`

// softwareGround has a pair of osiers and two terns, with the images on them.
func softwareGround(t *testing.T) *ground {
	s := sim.Scenario{Boot: time.Second, Install: 200 * time.Millisecond, Logins: map[string]string{"crew": "harbour-lamp"}, Operator: "deep-fathom",
		Config: "name {{.Name}}\nlog host 198.51.100.9\nmanage from any\n",
		Images: []sim.Stocked{{Platform: "tern", Version: "5.0", From: []string{"4.8"}}, {Platform: "osier", Version: "5.0", From: []string{"4.8"}}},
		Devices: []sim.Spec{{Name: "ald-dist-1", Platform: "osier", Pair: "ald"}, {Name: "ald-dist-2", Platform: "osier", Pair: "ald"},
			{Name: "ald-quay-1"}, {Name: "ald-quay-2"}}}
	for i := range s.Devices {
		s.Devices[i].Version, s.Devices[i].Site, s.Devices[i].Address = "4.8", "ALD", fmt.Sprintf("192.0.2.%d", 10+i)
	}
	require.NoError(t, s.Prepare())
	g, addrs := over(t, s)
	require.NoError(t, s.WriteStock(g.ws))
	csv := "name,address,port,platform,site,pair,login\n"
	for i, d := range g.fleet.Devices() {
		host, port, err := net.SplitHostPort(addrs[d.Name()])
		require.NoError(t, err)
		csv += fmt.Sprintf("%s,%s,%s,%s,ALD,%s,crew\n", d.Name(), host, port, d.Platform(), s.Devices[i].Pair)
		d.Store("/"+d.Platform()+"-5.0.img", sim.Image(d.Platform(), "5.0", 64<<10))
	}
	g.write("fleet.csv", csv)
	g.write(g.night, softwareBook)
	return g
}

// Wherever a night is killed that gives devices other software, it is gone on with or taken back, and what is
// said of each device is so.
func TestSoftwareThatIsKilledIsGoneOnWith(t *testing.T) {
	whole := softwareGround(t)
	_, _, n := whole.runUntil(1 << 30)
	for _, d := range whole.fleet.Devices() {
		require.Equal(t, "5.0", d.Runs(), d.Name())
	}
	require.Greater(t, n, 80)
	step := 1
	if *count > 0 {
		step = max(1, n / *count)
	}
	for k := 1 + *seed%step; k <= n; k += step {
		for _, back := range []bool{false, true} {
			t.Run(fmt.Sprintf("%d, back %t", k, back), func(t *testing.T) {
				t.Parallel()
				g := softwareGround(t)
				last, killed, _ := g.runUntil(k)
				time.Sleep(1500 * time.Millisecond) // what was told to restart has
				was := map[string]string{}
				for _, d := range g.fleet.Devices() {
					was[d.Name()] = d.Runs()
				}
				how := "--go-on"
				if back {
					how = "--back"
				}
				doc, code := g.said("resume", how, "--headless")
				defer func() {
					if t.Failed() {
						t.Logf("killed at event %d (%v): %s\n%v\n--- exit %d\n%s", k, killed, last, was, code, doc)
					}
				}()
				for _, d := range g.fleet.Devices() {
					end := regexp.MustCompile(`(?m)^\S+ +` + d.Name() + ` +(stranded|dark|reverted|kept|already|skipped|blocked): (.*)`).FindStringSubmatch(doc)
					switch {
					case end == nil: // nothing was to be done to it
						assert.Equal(t, was[d.Name()], d.Runs(), d.Name())
					case end[1] == "kept", end[1] == "already":
						assert.Equal(t, "5.0 5.0", d.Runs()+" "+d.StartsWith(), "%s: %s", d.Name(), end[2])
					case end[1] == "reverted":
						assert.Equal(t, "4.8 4.8", d.Runs()+" "+d.StartsWith(), "%s: %s", d.Name(), end[2])
					case end[1] == "stranded":
						assert.True(t, strings.Contains(end[2], "on that can be told") || strings.Contains(end[2], "not gone on with"), "%s: %s", d.Name(), end[2])
					}
					assert.Equal(t, g.base[d.Name()], d.Running())
				}
			})
		}
	}
}
