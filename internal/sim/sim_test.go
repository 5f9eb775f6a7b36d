package sim

import (
	"context"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"
)

func fleet(t testing.TB, specs ...Spec) *Fleet {
	f, err := New(Scenario{Boot: 10 * time.Second, Settle: 5 * time.Second, TimeSources: []string{"192.0.2.9", "192.0.2.40"},
		Logins: map[string]string{"crew": "lamp"}, Operator: "deep", Config: strangerConfig, Devices: specs})
	require.NoError(t, err)
	return f
}

// edit carries out lines on a device as a session would.
func edit(t testing.TB, d *Device, lines ...string) {
	t.Helper()
	section := ""
	for _, l := range lines {
		d.mu.Lock()
		next := d.running.clone()
		into, err := next.apply(section, l)
		d.running, section = next, into
		d.follow()
		d.mu.Unlock()
		require.NoError(t, err)
		d.fleet.topology()
	}
}

func reach(f *Fleet, addr string) bool {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	c, err := f.Dial(ctx, "tcp", net.JoinHostPort(addr, "22"))
	if err == nil {
		c.Close()
	}
	return err == nil
}

func TestCuttingTheUplinkCutsOffAllBelow(t *testing.T) {
	for name, lines := range map[string][]string{
		"shut":          {"port 1", "shut"},
		"in a lan":      {"lan 310", "port 1"},
		"locked out":    {"manage from 192.0.2.0/24"},
		"port below us": nil,
	} {
		synctest.Test(t, func(t *testing.T) {
			f := fleet(t, Spec{Name: "a", Address: "192.0.2.1"}, Spec{Name: "b", Address: "192.0.2.2", Uplink: "a"})
			defer f.Close()
			require.True(t, reach(f, "192.0.2.2"), name)
			a := f.Device("a")
			switch name {
			case "in a lan":
				edit(t, a, "lan 310")
				edit(t, a, "port 1", "lan 310")
			case "port below us":
				edit(t, a, "port 12", "shut")
				require.True(t, reach(f, "192.0.2.1"), name)
			default:
				edit(t, a, lines...)
			}
			assert.False(t, reach(f, "192.0.2.2"), name)
			a.restart()
			time.Sleep(20 * time.Second)
			assert.True(t, reach(f, "192.0.2.2"), "%s: the restart brings back what was saved", name)
		})
	}
}

func TestTheClockTakesTimeToSettle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := fleet(t, Spec{Name: "a", Address: "192.0.2.1"}, Spec{Name: "b", Address: "192.0.2.2", Faults: []Fault{{Kind: NeverSettles}}})
		defer f.Close()
		look := func(name string) (string, bool) {
			d := f.Device(name)
			d.mu.Lock()
			defer d.mu.Unlock()
			_, source, settled := d.clock()
			return source, settled
		}
		for _, d := range f.Devices() {
			source, settled := look(d.Name())
			assert.Equal(t, "192.0.2.9", source)
			assert.True(t, settled)
			edit(t, d, "time source 192.0.2.40 first")
			_, settled = look(d.Name())
			assert.False(t, settled)
		}
		time.Sleep(6 * time.Second)
		source, settled := look("a")
		assert.Equal(t, "192.0.2.40", source)
		assert.True(t, settled)
		_, settled = look("b")
		assert.False(t, settled, "a fault of its own")
	})
}

func TestNeighboursFollowTheTopology(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := fleet(t, Spec{Name: "a", Address: "192.0.2.1"}, Spec{Name: "b", Address: "192.0.2.2", Uplink: "a"})
		defer f.Close()
		assert.Equal(t, []neighbour{{1, "ops-core", 1}, {12, "b", 1}}, f.Device("a").neighbours())
		edit(t, f.Device("b"), "port 1", "shut")
		assert.Len(t, f.Device("a").neighbours(), 1)
	})
}

func TestRestartAtAClockTime(t *testing.T) {
	now := time.Date(2026, 12, 2, 23, 59, 0, 0, time.UTC)
	for text, want := range map[string]time.Duration{
		"in 10 m": 10 * time.Minute, "in 90 s": 90 * time.Second, "at 23:59:30": 30 * time.Second, "at 00:01:00": 2 * time.Minute, "cancel": 0,
	} {
		d, err := restartDelay(fields(text), now)
		require.NoError(t, err, text)
		assert.Equal(t, want, d, text)
	}
	for _, text := range []string{"in m", "in 0 s", "in 5 h", "at noon", "now", "in 10 m please"} {
		_, err := restartDelay(fields(text), now)
		assert.Error(t, err, text)
	}
}

func fields(s string) (out []string) {
	word := ""
	for _, c := range s + " " {
		if c == ' ' {
			out, word = append(out, word), ""
			continue
		}
		word += string(c)
	}
	return out
}

// What a device prints can be loaded again and is then the same; the undo of a
// line undoes it.
func TestConfigRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := newTernConfig(12)
		c.name = "a"
		section := ""
		for range rapid.IntRange(0, 20).Draw(t, "lines") {
			line := rapid.SampledFrom([]string{"time source 192.0.2.40 first", "time source 192.0.2.9 second", "log host 192.0.2.1", "lan 310",
				"title gates", "up", "port 3", "lan 310", "trunk", "shut", `label "a b"`, "drop log host 192.0.2.1", "drop lan 310", "manage from 192.0.2.0/24", "nonsense"}).Draw(t, "line")
			if line == "up" {
				section = ""
				continue
			}
			next := c.clone()
			if into, err := next.apply(section, line); err == nil {
				c, section = next, into
			}
		}
		again := newTernConfig(12)
		require.NoError(t, again.load("# written now\n"+c.String()), c.String())
		assert.Equal(t, c.String(), again.String())
	})
}

func TestScenarioMistakes(t *testing.T) {
	for text, want := range map[string]string{
		"devices: [{name: a, faults: [{kind: refuse}]}]": `unknown fault "refuse"; write: refuses`,
		"devices: [{name: a, uplink: b}]":                `its uplink "b" is not in the scenario`,
		"stations: x":                                    `unknown field "stations"`,
		"station: here":                                  `station "here" is not an address`,
		"devices: [{name: a, faults: [{kind: rejects, match: '('}]}]": "error parsing regexp",
	} {
		_, err := ReadScenario("s.yaml", []byte(text))
		assert.ErrorContains(t, err, want)
	}
}

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }
