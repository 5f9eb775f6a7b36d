package nights

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
	"metabasis/internal/sim/pipe"
	"metabasis/internal/store"
	"metabasis/profiles"
)

// stageOf is the stage at which each fault truly stops us; "" for those that a
// platform does not have.
var stageOf = map[string]map[string]reach.Stage{
	"tern": {
		sim.NoName: reach.Name, sim.NoRoute: reach.Route, sim.Silent: reach.Route, sim.Refuses: reach.Port,
		sim.Mute: reach.Handshake, sim.Closes: reach.Handshake, sim.Stranger: reach.Handshake, sim.OldOnly: reach.Handshake,
		sim.OtherKey: reach.HostKey, sim.BadPassword: reach.Login, sim.HangsLogin: reach.Login, sim.NoPrompt: reach.Prompt,
		sim.OddPrompt: reach.Prompt, sim.NoOperator: reach.Privileged, sim.StuckPager: reach.Pager,
	},
	"plover": {
		sim.NoName: reach.Name, sim.NoRoute: reach.Route, sim.Silent: reach.Route, sim.Refuses: reach.Port,
		sim.Mute: reach.Handshake, sim.Closes: reach.Handshake, sim.BadPassword: reach.Login, sim.HangsLogin: reach.Login,
		sim.NoPrompt: reach.Login, sim.OddPrompt: reach.Prompt, sim.NoOperator: reach.Privileged, sim.StuckPager: reach.Pager,
	},
}

// harbour is a fleet to be reached.
type harbour struct {
	t     testing.TB
	sim   *sim.Fleet
	fleet *fleet.Fleet
	c     *device.Connector
	dir   string
}

func newHarbour(t testing.TB, devices []sim.Spec) *harbour {
	t.Helper()
	set, err := profiles.Shipped()
	require.NoError(t, err)
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,login\n")
	for i := range devices {
		d := &devices[i]
		if d.Platform == "" {
			d.Platform = "tern"
		}
		d.Address = fmt.Sprintf("2001:db8::%x", i+1)
		login := map[string]string{"tern": "crew", "plover": "gates"}[d.Platform]
		fmt.Fprintf(&csv, "%s,%s,%s,ALD,quay,%s\n", d.Name, d.Name, d.Platform, login)
	}
	f, err := fleet.Read("fleet.csv", []byte(csv.String()), set.Platforms())
	require.NoError(t, err)
	s, err := sim.New(sim.Scenario{Logins: map[string]string{"crew": password}, Operator: operator, ClearLogins: map[string]string{"gates": gatesWord},
		Master: masterWord, Config: baseConfig, Latency: 20 * time.Millisecond, Devices: devices})
	require.NoError(t, err)
	h := &harbour{t: t, sim: s, fleet: f, dir: t.TempDir()}
	scripts, err := store.NewTranscripts(filepath.Join(h.dir, "transcripts"))
	require.NoError(t, err)
	t.Cleanup(func() { scripts.Close() })
	h.c = &device.Connector{Profiles: set, Dial: s.Dial, Resolve: s.Resolve, HostKeys: s.HostKeys(), Transcript: scripts.For,
		Login: login}
	return h
}

// reach reaches all devices, so many together, and closes the simulator.
func (h *harbour) reach(together int) map[string]reach.Result {
	out := map[string]reach.Result{}
	var mu sync.Mutex
	reach.Sweep(context.Background(), h.fleet.Devices, together, func(ctx context.Context, d fleet.Device) {
		r := h.c.Reach(ctx, d, nil)
		mu.Lock()
		defer mu.Unlock()
		out[d.Name] = r
	}, nil)
	return out
}

// TestTheNamedStageIsTheTrueOne reaches random fleets in which anything can go
// wrong on the way, in virtual time.
func TestTheNamedStageIsTheTrueOne(t *testing.T) {
	for seed := range max(uint64(*count)/16, 4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) { reachRandom(t, *firstSeed+seed) })
		})
	}
}

func reachRandom(t *testing.T, seed uint64) {
	rng := rand.New(rand.NewPCG(seed, 3))
	var devices []sim.Spec
	want := map[string]string{}
	for i := range 24 {
		d := sim.Spec{Name: fmt.Sprintf("ald-%d", i), Platform: []string{"tern", "tern", "plover"}[rng.IntN(3)]}
		kinds := sim.Kinds()
		if kind := kinds[rng.IntN(len(kinds))]; rng.IntN(4) > 0 {
			if stage, has := stageOf[d.Platform][kind]; has {
				d.Faults = append(d.Faults, sim.Fault{Kind: kind})
				want[d.Name] = stage.String()
			}
		}
		devices = append(devices, d)
	}
	h := newHarbour(t, devices)
	defer h.sim.Close()
	began := time.Now()
	for name, r := range h.reach(24) {
		got := ""
		if r.Failure != nil {
			got = r.Failure.Stage.String()
			assert.NotEmpty(t, r.Failure.Cause)
			for _, secret := range []string{password, operator, masterWord, gatesWord} {
				assert.NotContains(t, r.Failure.Error(), secret)
			}
		} else {
			assert.Equal(t, name, r.Host)
		}
		assert.Equal(t, before(r), stagesOf(r.Passed), "%s: every stage before the end is passed, none after", name)
		assert.Equal(t, want[name], got, "%s: %v", name, r.Failure)
	}
	assert.Less(t, time.Since(began), 40*time.Second, "a dead device costs its own time only")
}

// before lists the stages that come before the one at which a device failed; all
// of them when it did not.
func before(r reach.Result) (out []reach.Stage) {
	for _, s := range reach.Stages() {
		if r.Failure != nil && s >= r.Failure.Stage {
			break
		}
		if s == reach.HostKey && r.Protocol == profile.Telnet {
			continue // which has none
		}
		out = append(out, s)
	}
	return out
}

func stagesOf(passed []reach.Passed) (out []reach.Stage) {
	for _, p := range passed {
		out = append(out, p.Stage)
	}
	return out
}

// TestSentencesOfReaching holds the sentences people will read.
func TestSentencesOfReaching(t *testing.T) {
	for kind, want := range map[string]string{
		sim.NoName:      "its name x has no address: see whether the fleet file has it right, or write the address",
		sim.NoRoute:     "there is no route to it: see whether this machine or its jump host is on the right network",
		sim.Silent:      "nothing answers in 10s: it may be off, or a filter drops port 22 on the way",
		sim.Refuses:     "answers on the network but refuses port 22: SSH may not be enabled on it, or its host keys are missing",
		sim.Mute:        "connected, then silent at the handshake for 10s: it may be overloaded or out of sessions",
		sim.Closes:      "takes the connection and closes it at once: it may be out of sessions, or an access list stands in the way",
		sim.Stranger:    "something else than SSH listens there: see whether the port in the fleet file is right",
		sim.OldOnly:     "key exchange: it only offers diffie-hellman-group14-sha1: these are weak; write old in its algorithms column to allow them for this device alone",
		sim.OtherKey:    "this is not the host key of x:22",
		sim.BadPassword: "login crew is denied: check user, password and key; it was tried once",
		sim.HangsLogin:  "connected, then silent at the login for 10s: it may be overloaded or out of sessions",
		sim.NoPrompt:    `logged in, then no prompt in 10s; last: "starting up": see whether the prompt in its profile fits`,
		sim.OddPrompt:   `logged in, then no prompt in 10s; last: "x at your service: ": see whether the prompt in its profile fits`,
		sim.NoOperator:  `entering mode work: refused: "work": Refused: wrong password.: check the secret of mode work; it was tried once`,
		sim.StuckPager:  `its pager cannot be turned off: refused: "pages off": Refused: the pager is locked.: see pager in its profile`,
	} {
		synctest.Test(t, func(t *testing.T) {
			h := newHarbour(t, []sim.Spec{{Name: "x", Faults: []sim.Fault{{Kind: kind}}}})
			defer h.sim.Close()
			r := h.reach(1)["x"]
			require.NotNil(t, r.Failure, kind)
			assert.Equal(t, want, r.Failure.Error(), kind)
		})
	}
}

// TestNoAccountIsLockedOut lets a wrong password meet a whole fleet: three
// devices are asked, no more, however many are reached together. A device that
// never answers may have counted the try all the same. The secret of the
// privileged mode is guarded as the login is.
func TestNoAccountIsLockedOut(t *testing.T) {
	for kind, at := range map[string]reach.Stage{sim.BadPassword: reach.Login, sim.HangsLogin: reach.Login, sim.NoOperator: reach.Privileged} {
		synctest.Test(t, func(t *testing.T) {
			var devices []sim.Spec
			for i := range 60 {
				devices = append(devices, sim.Spec{Name: fmt.Sprintf("ald-%d", i), Faults: []sim.Fault{{Kind: kind}}})
			}
			h := newHarbour(t, devices)
			defer h.sim.Close()
			h.c.Guard = &device.Lockout{}
			stopped := 0
			for _, r := range h.reach(60) {
				require.NotNil(t, r.Failure)
				assert.Equal(t, at, r.Failure.Stage)
				if strings.Contains(r.Failure.Cause, "three devices in a row") {
					assert.Equal(t, kind == sim.NoOperator, strings.Contains(r.Failure.Cause, "not tried: login crew's operator was"))
					stopped++
				}
			}
			assert.Equal(t, 57, stopped, kind)
			tries := 0
			for _, d := range h.sim.Devices() {
				for _, truth := range d.Truth() {
					if truth.What == sim.Denied {
						tries++
					}
				}
			}
			assert.Equal(t, 3, tries, "passwords that reached a device: %s", kind)
		})
	}
}

// TestOneWrongDeviceStopsNobody: a denial in between does not stop a login that
// others let in.
func TestOneWrongDeviceStopsNobody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var devices []sim.Spec
		for i := range 40 {
			d := sim.Spec{Name: fmt.Sprintf("ald-%d", i)}
			if i%8 == 7 {
				d.Faults = []sim.Fault{{Kind: sim.BadPassword}}
			}
			devices = append(devices, d)
		}
		h := newHarbour(t, devices)
		defer h.sim.Close()
		h.c.Guard = &device.Lockout{}
		denied := 0
		for _, r := range h.reach(4) {
			if r.Failure != nil {
				denied++
				assert.Contains(t, r.Failure.Cause, "is denied")
			}
		}
		assert.Equal(t, 5, denied)
	})
}

// TestBrokenDevicesDoNotStopALoginThatIsRight: once a login has been let in, one
// that is never answered says that the device is broken, not that the login is
// wrong; a night must still get to its other devices.
func TestBrokenDevicesDoNotStopALoginThatIsRight(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		devices := []sim.Spec{{Name: "first"}}
		for i := range 12 {
			devices = append(devices, sim.Spec{Name: fmt.Sprintf("broken-%d", i), Faults: []sim.Fault{{Kind: sim.HangsLogin}}})
		}
		h := newHarbour(t, append(devices, sim.Spec{Name: "last"}))
		defer h.sim.Close()
		h.c.Guard = &device.Lockout{}
		out := h.reach(1)
		assert.True(t, out["first"].Failure == nil && out["last"].Failure == nil, "%v", out["last"].Failure)
		assert.Contains(t, out["broken-11"].Failure.Cause, "silent at the login")
	})
}

// TestAPloverIsLeftProperly: it takes one session at a time and keeps one that
// was not ended; so every session of ours ends with its own command.
func TestAPloverIsLeftProperly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHarbour(t, []sim.Spec{{Name: "gate", Platform: "plover"}})
		defer h.sim.Close()
		for range 5 {
			r := h.reach(1)["gate"]
			require.Nil(t, r.Failure)
			assert.Contains(t, r.Warnings, device.ClearText)
		}
		// One that is given up in the middle is ended, too.
		ctx, cancel := context.WithCancel(context.Background())
		s, err := h.c.Open(ctx, h.fleet.Devices[0], nil)
		require.NoError(t, err)
		time.AfterFunc(10*time.Millisecond, cancel)
		_, err = s.Read(ctx, "gates")
		require.ErrorIs(t, err, context.Canceled)
		require.NoError(t, s.Close())
		r := h.reach(1)["gate"]
		require.Nil(t, r.Failure, "%v", r.Failure)
		// While somebody else is in, it says so, and we do not wait for ever.
		s, err = h.c.Open(context.Background(), h.fleet.Devices[0], nil)
		require.NoError(t, err)
		r = h.reach(1)["gate"]
		require.NotNil(t, r.Failure)
		assert.Equal(t, reach.Login, r.Failure.Stage)
		assert.Contains(t, r.Failure.Error(), "In use. Try later.")
		require.NoError(t, s.Close())
	})
}

// A Telnet end that makes offers without end and reads none of our answers costs
// its time, before a login and in the midst of one.
func TestAFloodOfOffersIsBounded(t *testing.T) {
	for first, want := range map[string]reach.Stage{"": reach.Handshake, "Name? ": reach.Login} {
		synctest.Test(t, func(t *testing.T) {
			h := newHarbour(t, []sim.Spec{{Name: "gate", Platform: "plover"}})
			defer h.sim.Close()
			h.c.Dial = func(ctx context.Context, _, _ string) (net.Conn, error) {
				ours, c := pipe.New(4 << 10)
				go func() {
					defer c.Close()
					_, err := io.WriteString(c, first)
					for err == nil {
						_, err = c.Write([]byte{255, 251, 99, 255, 252, 99})
					}
				}()
				return ours, nil
			}
			began := time.Now()
			r := h.reach(1)["gate"]
			require.NotNil(t, r.Failure)
			assert.Equal(t, want, r.Failure.Stage, r.Failure.Error())
			assert.Less(t, time.Since(began), time.Minute)
		})
	}
}

// A login that is used over SSH is not given away in clear text: no connection
// is made, unless the fleet says that it is meant so.
func TestAClearTextLoginMustBeItsOwn(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := newHarbour(t, []sim.Spec{{Name: "gate", Platform: "plover"}})
		defer h.sim.Close()
		h.c.Encrypted = func(login string, l device.Login) bool { return login == "gates" && l.Password == gatesWord }
		dials := 0
		dial := h.c.Dial
		h.c.Dial = func(ctx context.Context, network, addr string) (net.Conn, error) {
			dials++
			return dial(ctx, network, addr)
		}
		r := h.reach(1)["gate"]
		require.NotNil(t, r.Failure)
		assert.Equal(t, reach.Login, r.Failure.Stage)
		assert.Contains(t, r.Failure.Error(), "login gates, or its password, is used over SSH, too: in clear text it would be given away")
		assert.Zero(t, dials)
		h.fleet.Devices[0].Shared = true
		r = h.reach(1)["gate"]
		assert.Nil(t, r.Failure)
		assert.Equal(t, 1, dials)
	})
}
