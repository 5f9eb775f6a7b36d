package nights

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/sim"
)

// known keeps who devices were seen to be, in memory. It implements [work.Identities].
type known struct {
	mu   sync.Mutex
	last map[string]identity.Last
	fail error
}

func (k *known) Last(device string) identity.Last {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.last[device]
}

func (k *known) Saw(device string, s identity.Seen, at time.Time, meant bool) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.last == nil {
		k.last = map[string]identity.Last{}
	}
	if meant {
		k.last[device] = identity.Last{Seen: s, At: at}
	}
	return k.fail
}

// touched tells whether a line of a change, or a timer, reached a device.
func touched(d *sim.Device) bool {
	for _, tr := range d.Truth() {
		switch tr.What {
		case sim.Received, sim.Loaded, sim.Armed, sim.Saved:
			return true
		}
	}
	return false
}

// signs is the runbook of passenger signs.
func signs(string) string {
	b := book(signBook)(standardBook)
	return strings.NewReplacer("\ntimer       4m\n", "\ntimer none\n", "  saved\n", "").Replace(b)
}

// swapIn replaces one text in a runbook.
func swapIn(b, old, new string) string {
	if !strings.Contains(b, old) {
		panic("the runbook has no " + old)
	}
	return strings.Replace(b, old, new, 1)
}

// Two devices whose addresses were exchanged are not touched, whatever tells them apart.
func TestExchangedDevicesAreNotTouched(t *testing.T) {
	for name, c := range map[string]struct {
		platform string
		book     func(string) string
		strip    bool // nothing but its key and what was last seen tells
		why      string
	}{
		"terns":    {"tern", nil, false, "it calls itself ald-quay-2, and ald-quay-1 is meant"},
		"osiers":   {"osier", book(mixedBook), false, "it calls itself ald-quay-2"},
		"skerries": {"skerry", book(treeBook), false, "it calls itself ald-quay-2"},
		"bitterns": {"bittern", signs, false, "it calls itself ald-quay-2"},
		"serials":  {"tern", nil, true, "its serial is T-100138, not T-100101"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Platform: c.platform, Faults: []sim.Fault{{Kind: sim.Exchanged, With: "ald-quay-2"}}}, {Platform: c.platform}}, c.book)
				defer w.sim.Close()
				if c.strip {
					w.who = &known{last: map[string]identity.Last{
						"ald-quay-1": {Seen: identity.Seen{Serial: "T-100101"}, At: time.Now()}, "ald-quay-2": {Seen: identity.Seen{Serial: "T-100138"}, At: time.Now()}}}
					for _, tt := range w.plan.Targets() { // each may call itself as the other is called
						tt.Device.Calls = map[string]string{"ald-quay-1": "ald-quay-2", "ald-quay-2": "ald-quay-1"}[tt.Device.Name]
					}
				}
				w.noTimer = w.plan.Timer.None
				w.runQuiet()
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Blocked, d.State, d.Note)
					assert.False(t, touched(w.sim.Device(d.Name)), "%s was touched", d.Name)
					assert.Empty(t, d.Backup, "what is another device's is no backup of it")
				}
				assert.Contains(t, w.night.Get("ald-quay-1").Note, c.why)
				w.checkLaws()
			})
		})
	}
}

// A device that is exchanged in mid-night is not mistaken for the one that was changed: who
// answers in its place gets no line, and it is told who that is.
func TestExchangedInMidNight(t *testing.T) {
	for _, match := range []string{"^time source", "^log host", "^restart cancel", "^keep", "^tell running", "^done$"} {
		t.Run(match, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Exchanged, With: "ald-quay-2", Match: match, Times: 1}}}, {}},
					func(b string) string { return swapIn(b, `role == "quay"`, `name == "ald-quay-1"`) })
				defer w.sim.Close()
				w.runQuiet()
				assert.False(t, touched(w.sim.Device("ald-quay-2")), "the other device was touched")
				d := w.night.Get("ald-quay-1")
				assert.NotEqual(t, night.Kept, d.State)
				assert.NotEqual(t, night.Reverted, d.State, "nobody has seen that it was taken back: %s", d.Note)
				if d.State == night.Stranded {
					assert.Contains(t, d.Note, "another device than the one that is meant: it calls itself ald-quay-2, not ald-quay-1; its serial is T-100138")
				}
			})
		})
	}
}

// Another device that is meant all the same is changed under a waiver, and what it is stays
// known as the device's own as it was.
func TestAnotherDeviceUnderAWaiver(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleIn(t, dir, []sim.Spec{{}}, nil)
		defer w.sim.Close()
		was := identity.Last{Seen: identity.Seen{Serial: "T-1"}, At: time.Now()}
		w.who = &known{last: map[string]identity.Last{"ald-quay-1": was}}
		require.NoError(t, w.plan.Waive([]plan.Waiver{{Check: plan.IdentityCheck, Device: "ald-quay-1", Reason: "its board was exchanged", By: "Ada"}}))
		w.runQuiet()
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Contains(t, fmt.Sprint(d.Checks), "its serial is T-100101, not T-1")
		assert.Contains(t, fmt.Sprint(d.Checks), "its board was exchanged")
		assert.Equal(t, was, w.who.Last("ald-quay-1"), "a waiver is for one night")
		w.checkLaws()
	})
}

// A step that changes what a device is called: it is still the same when it is connected to
// anew, and it is told what the fleet must say then.
func TestARenamedDevice(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		rename := "step \"Name\"\n  send\n    | name ald-pier-1\n\n"
		w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.DropsAfter, Match: "^log host", Times: 1}}}},
			func(b string) string { return swapIn(b, "step \"Time sources\"", rename+"step \"Time sources\"") })
		defer w.sim.Close()
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind == night.HoldOpened {
				go func() { _ = r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.TryAgain, By: "Ada"}) }()
			}
		})
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Contains(t, fmt.Sprint(d.Notices), "it will call itself ald-pier-1")
	})
}

// Two lines of the fleet that lead to one device: what is known of it is told when it is
// planned, and what is not is seen when it is reached; it is never changed side by side.
func TestTwoLinesOfOneDevice(t *testing.T) {
	for name, seen := range map[string]bool{"as was seen": true, "never seen": false} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				csv := "name,address,platform,site,role,calls itself,login\nald-quay-1,192.0.2.100,tern,ALD,quay,,crew\nald-quay-1-too,ald-quay-1,tern,ALD,quay,ald-quay-1,crew\n"
				w := newWorld(t, sim.Scenario{Boot: 5 * time.Second, Settle: time.Second, Devices: []sim.Spec{{Name: "ald-quay-1", Address: "192.0.2.100"}}},
					csv, swapIn(standardBook, "sizes     1, 4", "sizes     2"), dir)
				defer w.sim.Close()
				if seen {
					one := identity.Last{Seen: identity.Seen{Name: "ald-quay-1", Serial: "T-100101"}, At: time.Now()}
					w.plan = w.plan.Known(func(string) identity.Last { return one })
					assert.Contains(t, fmt.Sprint(w.plan.Warnings), "ald-quay-1 and ald-quay-1-too are one device (serial T-100101)")
				}
				w.runQuiet()
				one, too := w.night.Get("ald-quay-1"), w.night.Get("ald-quay-1-too")
				if one.State != night.Kept { // whichever is seen first has it
					one, too = too, one
				}
				assert.Equal(t, night.Kept, one.State, one.Note)
				if seen {
					assert.Equal(t, night.Already, too.State, too.Note)
				} else {
					assert.Equal(t, night.Blocked, too.State, too.Note)
					assert.Contains(t, too.Note, "it is the same device as "+one.Name+", which this night has in change")
				}
			})
		})
	}
}

// A line of the fleet that leads to another device by mistake keeps nobody from that one: the
// line that is right has it, whichever comes first.
func TestAWrongLineKeepsNobodyOut(t *testing.T) {
	right, wrong := "ald-quay-1,192.0.2.100,tern,ALD,quay,crew\n", "ald-quay-0,ald-quay-1,tern,ALD,quay,crew\n"
	for _, rows := range []string{right + wrong, wrong + right} {
		for range 10 {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := newWorld(t, sim.Scenario{Boot: 5 * time.Second, Settle: time.Second, Devices: []sim.Spec{{Name: "ald-quay-1", Address: "192.0.2.100"}}},
					"name,address,platform,site,role,login\n"+rows, swapIn(standardBook, "sizes     1, 4", "sizes     2"), dir)
				defer w.sim.Close()
				w.runQuiet()
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, night.Kept, d.State, d.Note)
				d = w.night.Get("ald-quay-0")
				assert.Equal(t, night.Blocked, d.State)
				assert.Equal(t, "identity: it calls itself ald-quay-1, and ald-quay-0 is meant", d.Note)
			})
		}
	}
}

// Drawn nights over all platforms and protocols: a device that is not in scope takes the place
// of one that is, from the start or in mid-night, and is never touched.
func TestExchangedNights(t *testing.T) {
	lines := map[string][]string{
		"tern":            {"^time source", "^log host", "^tell restart", "^restart cancel", "^keep", "^tell", "^edit$", "^lan"},
		"osier":           {"^source", "^to ", "^apply", "^keep trial", "^sight", "^draft$", "^check"},
		"skerry":          {"^set", "commit", "confirm", "^get-config running", "^lock", "^get"},
		"skerry-restconf": {"^set", "^get-config running", "^get", "."},
		"bittern":         {"^set", "^get", "sign.clock", "sign.store"},
		"plover":          {"^set gate", "^set report", "^store", "^list", "^master"},
	}
	eachSeed(t, func(t *testing.T, seed uint64, dir string) {
		g := &generator{rng: rand.New(rand.NewPCG(seed, 16))}
		platform := pick(g, slices.Sorted(maps.Keys(lines)))
		specs := make([]sim.Spec, 2+g.rng.IntN(3))
		last := len(specs) - 1
		other := fmt.Sprintf("ald-quay-%d", last+1)
		if platform == "plover" {
			other = fmt.Sprintf("ald-gate-%d", last+1)
		}
		f := sim.Fault{Kind: sim.Exchanged, With: other, Times: 1, After: g.rng.IntN(6)}
		if g.chance(0.8) {
			f.Match = pick(g, lines[platform])
		}
		specs[g.rng.IntN(last)].Faults = []sim.Fault{f}
		without := func(b string) string {
			return strings.NewReplacer(`role == "quay"`, fmt.Sprintf("name != %q", other), `role == "gate"`, fmt.Sprintf("name != %q", other)).Replace(b)
		}
		for i := range specs {
			specs[i].Platform = platform
			if platform == "skerry-restconf" {
				specs[i].Platform = "skerry"
			}
		}
		var w *world
		switch platform {
		case "plover":
			w = gatesOf(t, specs, dir, without)
		case "bittern":
			set := shipped(t)
			if g.chance(0.5) {
				set = v2c(t) // in which nothing but the name tells
			}
			w = simpleOf(t, set, dir, specs, nil, func(b string) string { return without(signs(b)) })
		case "skerry-restconf":
			w = simpleOf(t, overREST(t), dir, specs, nil, func(b string) string {
				return without(swapIn(book(restBook)(b), "\ntimer       4m\n", "\ntimer none\n"))
			})
		case "skerry":
			w = simpleIn(t, dir, specs, func(b string) string { return without(book(treeBook)(b)) })
		case "osier":
			w = simpleIn(t, dir, specs, func(b string) string { return without(book(mixedBook)(b)) })
		default:
			w = simpleIn(t, dir, specs, without)
		}
		defer w.sim.Close()
		w.noTimer = w.plan.Timer.None
		w.runQuiet()
		w.everyNightEnds()
		w.lawTheRightDevice()
		assert.False(t, touched(w.sim.Device(other)), "seed %d: %s, %q after %d: the other one was touched", seed, platform, f.Match, f.After)
		if t.Failed() {
			t.Log(w.story())
		}
	})
}
