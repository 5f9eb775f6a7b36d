package nights

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/sim"
)

// reachesBook is a night that is only for what reaches what it must, before and after.
const reachesBook = `runbook "Log collector"
  window    now for 2h
  reserve   10m

scope
  name != "ald-quay-9"

precheck
  check     "Its neighbour" where reaches "192.0.2.101"

timer       4m

step "Log collector"
  want
    | log host 198.51.100.14
  expect    reaches "192.0.2.101" within 10s

unattended  take back the device
`

// reached are the addresses that a device was told to reach, by step.
func reached(d night.Device) (out []string) {
	for _, r := range d.Reached {
		out = append(out, r.ReachAsk.String()+": "+r.Reached.String())
	}
	return out
}

func TestWhatADeviceReaches(t *testing.T) {
	for name, c := range map[string]struct {
		edit   func(string) string
		specs  []sim.Spec
		here   func(context.Context, string) (runbook.Reached, error)
		state  night.State
		note   string
		came   []string
		nobody bool // nothing was sent to it
	}{
		"it reaches it": {state: night.Kept, came: []string{"192.0.2.101: 4 of 4 came back", "192.0.2.101: 4 of 4 came back"}},
		"on an osier":   {specs: []sim.Spec{{Platform: "osier"}, {}}, edit: osierBook, state: night.Kept, came: []string{"192.0.2.101: 4 came back", "192.0.2.101: 4 came back"}},
		"it does not": {specs: []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Ignores, Match: "^probe"}}}, {}}, state: night.Blocked,
			note: "192.0.2.101: 0 of 4 came back", came: []string{"192.0.2.101: 0 of 4 came back"}, nobody: true},
		"not any more": {specs: []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Ignores, Match: "^probe", After: 1}}}, {}}, state: night.Reverted,
			note: "", came: []string{"192.0.2.101: 4 of 4 came back", "192.0.2.101: 0 of 4 came back"}},
		"half of it": {specs: []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Lossy, Match: "^probe"}}}, {}}, state: night.Kept,
			came: []string{"192.0.2.101: 2 of 4 came back", "192.0.2.101: 2 of 4 came back"}},
		"half of it, and all is wanted": {
			specs: []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Lossy, Match: "^probe"}}}, {}},
			edit: func(s string) string {
				return strings.Replace(s, `reaches "192.0.2.101"`, `reaches "192.0.2.101" without loss`, 1)
			},
			state: night.Blocked, note: "2 of 4 came back", came: []string{"192.0.2.101: 2 of 4 came back"}, nobody: true,
		},
		"it answers with a fault": {specs: []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Balks, Match: "^probe"}}}, {}}, state: night.Blocked,
			note: "is not known", nobody: true},
		"from another": {edit: from("ald-quay-2"), state: night.Kept,
			came: []string{"192.0.2.101 from ald-quay-2: 4 of 4 came back", "192.0.2.101 from ald-quay-2: 4 of 4 came back"}},
		"from another that does not": {specs: []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.Ignores, Match: "^probe"}}}}, edit: from("ald-quay-2"),
			state: night.Blocked, note: "192.0.2.101 from ald-quay-2: 0 of 4 came back", nobody: true},
		"from another that is away": {specs: []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.Refuses}}}}, edit: from("ald-quay-2"),
			state: night.Blocked, note: "is not known: ald-quay-2 cannot be reached", nobody: true},
		"from another that is not the one": {specs: []sim.Spec{{}, {}, {Name: "ald-quay-9", Faults: []sim.Fault{{Kind: sim.Exchanged, With: "ald-quay-2"}}}},
			edit: from("ald-quay-9"), state: night.Blocked, note: "what answers is not ald-quay-9", nobody: true},
		"from here": {edit: from("here"), here: func(context.Context, string) (runbook.Reached, error) {
			return runbook.Reached{Sent: 3, Answered: 3, Took: 4 * time.Millisecond}, nil
		}, state: night.Kept, came: []string{"192.0.2.101 from here: 3 of 3 came back", "192.0.2.101 from here: 3 of 3 came back"}},
		"from here, and it may not ask": {edit: from("here"), here: func(context.Context, string) (runbook.Reached, error) {
			return runbook.Reached{}, errors.New("this machine lets us send nothing")
		}, state: night.Blocked, note: "is not known: this machine lets us send nothing", nobody: true},
		"not from here, as it should be": {edit: func(s string) string {
			return strings.ReplaceAll(s, `reaches "192.0.2.101"`, `not reaches "192.0.2.101" from here`)
		}, here: func(context.Context, string) (runbook.Reached, error) { return runbook.Reached{Sent: 3}, nil }, state: night.Kept},
		"what is not known is not no": {edit: func(s string) string {
			return strings.ReplaceAll(s, `reaches "192.0.2.101"`, `not reaches "192.0.2.101" from here`)
		}, here: func(context.Context, string) (runbook.Reached, error) {
			return runbook.Reached{}, errors.New("this machine lets us send nothing")
		}, state: night.Blocked, note: "is not known", nobody: true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				specs := c.specs
				if specs == nil {
					specs = []sim.Spec{{}, {}}
				}
				edit := c.edit
				if edit == nil {
					edit = same
				}
				w := simple(t, specs, func(string) string { return edit(reachesBook) })
				defer w.sim.Close()
				w.mark, w.loose, w.here = "", true, c.here
				w.runQuiet()
				w.checkLaws()
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				if c.came != nil {
					assert.Equal(t, c.came, reached(*d))
				}
				if c.nobody {
					assert.Zero(t, w.sent("ald-quay-1"), "nothing is sent to a device whose precheck does not hold")
				}
			})
		})
	}
}

func from(where string) func(string) string {
	return func(s string) string {
		return strings.ReplaceAll(s, `reaches "192.0.2.101"`, `reaches "192.0.2.101" from `+where)
	}
}

func osierBook(s string) string {
	return strings.Replace(s, "step \"Log collector\"\n  want\n    | log host 198.51.100.14\n", "step \"Log collector\"\n  on tern\n    want\n      | log host 198.51.100.14\n  on osier\n    want\n      | report\n      |   to 198.51.100.14\n", 1)
}

// sent counts the lines of a change that a device was sent.
func (w *world) sent(device string) (n int) {
	for _, e := range w.seen {
		if e.Device == device && e.Kind == night.Sent {
			n++
		}
	}
	return n
}

// Many devices that need one other to look are served one after the other, by one session at a
// time, which is over with the last of them.
func TestOneOtherServesMany(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		specs := make([]sim.Spec, 12)
		specs[11] = sim.Spec{Name: "ald-quay-9"}
		for i := range 11 {
			if i >= 8 {
				specs[i].Name = "brm-quay-" + string(rune('a'+i))
			}
		}
		w := simple(t, specs, func(string) string { return from("ald-quay-9")(reachesBook) })
		defer w.sim.Close()
		w.mark, w.loose = "", true
		at := openings{}
		w.through = func(of driver.Connector) driver.Connector { return openingsOn{of, &at} }
		w.runQuiet()
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, d.Note)
		}
		require.Nil(t, w.night.Get("ald-quay-9"), "it is not of the night")
		assert.Equal(t, 1, at.most, "one session at a time")
		assert.Zero(t, at.now, "nothing stays open on it")
		assert.Positive(t, at.all)
	})
}

// openings counts the sessions that are open with a device.
type openings struct {
	mu             sync.Mutex
	now, most, all int
}

func (o *openings) add(n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.now += n
	o.most, o.all = max(o.most, o.now), o.all+max(n, 0)
}

type openingsOn struct {
	driver.Connector
	at *openings
}

func (c openingsOn) Connect(ctx context.Context, t *plan.Target) (driver.Session, error) {
	s, err := c.Connector.Connect(ctx, t)
	if err != nil || t.Device.Name != "ald-quay-9" {
		return s, err
	}
	c.at.add(1)
	return &opening{s.(whole), c.at, sync.Once{}}, nil
}

type opening struct {
	whole
	at   *openings
	once sync.Once
}

func (o *opening) Close() error {
	o.once.Do(func() { o.at.add(-1) })
	return o.whole.Close()
}

func (o *opening) Reach(ctx context.Context, address string) (runbook.Reached, error) {
	return o.whole.(driver.Reacher).Reach(ctx, address)
}

// Who waits for what another one says of an address does not wait on when it is to go back.
func TestATakeBackDoesNotWaitForAnAddress(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, make([]sim.Spec, 6), func(string) string {
			return strings.Replace(from("here")(reachesBook), "  check     \"Its neighbour\" where reaches \"192.0.2.101\" from here\n", "  saved\n", 1)
		})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.here = func(ctx context.Context, _ string) (runbook.Reached, error) {
			<-ctx.Done() // until nobody wants to know
			return runbook.Reached{}, ctx.Err()
		}
		var told, over time.Time
		ctx, end := context.WithCancel(t.Context())
		defer end()
		w.run(ctx, func(r *run.Run, e night.Event) {
			switch {
			case e.Kind == night.Sent && told.IsZero():
				told = e.At.Add(20 * time.Second)
				go func() {
					time.Sleep(20 * time.Second)
					assert.NoError(t, r.Do(ctx, night.Command{Choice: night.BackDevice, By: "ada"}))
				}()
			case e.Kind == night.Ended:
				over = e.At
			}
		})
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Contains(t, []night.State{night.Reverted, night.Skipped}, d.State, d.Note)
		}
		assert.Less(t, over.Sub(told), time.Minute)
	})
}
