package kills

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/demo"
)

// resumed kills a night at an event, goes on with it or takes it back at once, and holds what is said
// against the devices.
func (g *ground) resumed(t *testing.T, at int, back bool) {
	last, killed, _ := g.runUntil(at)
	g.goneOn(t, fmt.Sprintf("killed at event %d (%v): %s", at, killed, last), back)
}

// goneOn goes on with a night that was cut off, or takes it back, and holds what is said against the
// devices.
func (g *ground) goneOn(t *testing.T, cut string, back bool) {
	now := g.truths()
	how := "--go-on"
	if back {
		how = "--back"
	}
	look, lookCode := g.said("resume", "--look")
	doc, code := g.said("resume", how, "--headless")
	defer func() {
		if t.Failed() {
			t.Logf("%s\n%+v\n--- look: exit %d\n%s\n--- resume %s: exit %d\n%s", cut, now, lookCode, look, how, code, doc)
		}
	}()
	for _, x := range now {
		if x.changed && x.unsaved || x.pending {
			assert.Contains(t, look, x.name, "it is %+v", x)
		}
	}
	if strings.Contains(doc, "no night of this workspace was cut off") || strings.Contains(doc, "no night was ever run here") || strings.Contains(doc, "left nothing that") ||
		strings.Contains(doc, "was not cut off") {
		for _, x := range g.truths() {
			assert.False(t, x.pending || x.changed && x.unsaved, "%+v: nothing was to be gone on with", x)
		}
		return
	}
	left := map[string]bool{} // one that was dark may be back
	for _, m := range regexp.MustCompile(`(?m)^\S+ +(\S+) +(stranded|dark|reverted|kept|already): `).FindAllStringSubmatch(doc, -1) {
		if left[m[1]] = m[2] == "stranded" || m[2] == "dark"; !left[m[1]] {
			delete(left, m[1])
		}
	}
	for _, d := range g.fleet.Devices() {
		name := d.Name()
		was := now[slices.IndexFunc(now, func(x truth) bool { return x.name == name })]
		changed, unsaved, pending := d.Running() != g.base[name], d.Running() != d.Saved(), !d.Due().IsZero()
		switch {
		case left[name]: // it is said what is so, and that somebody must look
		case regexp.MustCompile(`(?m)^\S+ +` + name + ` +(kept|already): `).MatchString(doc):
			assert.True(t, changed, "%s is said to be kept", name)
			assert.False(t, pending, "%s is said to be kept", name)
			assert.False(t, unsaved && !regexp.MustCompile(name+` +(kept|already): .*not known to be saved`).MatchString(doc), "%s is said to be kept", name)
		case regexp.MustCompile(`(?m)^\S+ +` + name + ` +reverted: `).MatchString(doc):
			assert.False(t, changed || pending, "%s is said to be taken back", name)
		default: // nothing was to be done to it: it was kept by the night that was killed, or never begun
			assert.False(t, pending, "%s: nothing is said of it", name)
			assert.Equal(t, was.changed, changed, "%s: nothing is said of it", name)
		}
	}
	if !back && !g.fails {
		assert.Equal(t, len(left) == 0, code == 0, "the exit code is %d", code)
	}
	assert.Equal(t, len(left) > 0, code == 4, "the exit code is %d, and a person must look at %v", code, left)
	again, code := g.said("resume", "--look")
	if !strings.Contains(doc, "not gone on with") {
		assert.NotEqual(t, 0, code)
		assert.Contains(t, again, "no night of this workspace was cut off", "it was seen to")
		return
	}
	for name := range left { // nothing was done there: it is offered again
		assert.Contains(t, again, name)
	}
}

func TestAKilledNightIsGoneOnWith(t *testing.T) {
	text := strings.Replace(book, "sizes     8", "sizes     2, 4", 1)
	whole := newGround(t)
	whole.write("night.runbook", text)
	_, _, n := whole.runUntil(1 << 30)
	require.Greater(t, n, 60)
	step := 1
	if *count > 0 {
		step = max(1, n / *count)
	}
	for k := 1 + *seed%step; k <= n; k += step {
		for _, back := range []bool{false, true} {
			t.Run(fmt.Sprintf("%d, back %t", k, back), func(t *testing.T) {
				t.Parallel()
				g := newGround(t)
				g.write("night.runbook", text)
				g.resumed(t, k, back)
			})
		}
	}
}

// The night of the demo, in which one device refuses a line, one never settles and one cuts itself off,
// killed at events that are drawn. It is run when it is asked for: each of its nights has timers to wait
// for. Those are shorter here than in the demo, and its devices quicker.
func TestTheDemosNightIsGoneOnWith(t *testing.T) {
	if *demos == 0 {
		t.Skip("go test ./internal/kills -run Demos -args -demos 100")
	}
	whole := demoGround(t)
	_, _, n := whole.runUntil(1 << 30)
	require.Greater(t, n, 200)
	drawn := rand.New(rand.NewPCG(uint64(*seed), 0))
	for i := range *demos {
		k, back := 1+drawn.IntN(n), i%2 == 1
		t.Run(fmt.Sprintf("%d, back %t", k, back), func(t *testing.T) {
			t.Parallel()
			demoGround(t).resumed(t, k, back)
		})
	}
}

// demoGround has the demo's devices, its fleet and its runbook.
func demoGround(t *testing.T) *ground {
	s, err := demo.Scenario("few")
	require.NoError(t, err)
	s.Boot, s.Settle, s.Latency, s.Jitter = 2*time.Second, time.Second, 8*time.Millisecond, 0
	g, addrs := over(t, s)
	g.fails, g.night = true, demo.Runbook
	require.NoError(t, demo.Write(g.ws, "few", addrs))
	text, err := os.ReadFile(filepath.Join(g.ws, demo.Runbook))
	require.NoError(t, err)
	g.write(demo.Runbook, strings.NewReplacer("timer       50s", "timer       20s", "within 12s", "within 4s", "soak      3s", "soak      1s").Replace(string(text)))
	return g
}
