package nights

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// TestSessionsToldInFull goes through everything a session can be asked for, on a
// device of each kind and with each thing that can go wrong, and holds what came of it
// and every line of the transcript.
func TestSessionsToldInFull(t *testing.T) {
	for name, c := range map[string]struct {
		platform string
		faults   []sim.Fault
	}{
		"tern":               {"tern", nil},
		"plover":             {"plover", nil},
		"tern balks":         {"tern", []sim.Fault{{Kind: sim.Balks, Match: "^(tell|restart|keep|load|edit|log)"}}},
		"plover balks":       {"plover", []sim.Fault{{Kind: sim.Balks, Match: "^(list|set|store)"}}},
		"tern, pager stuck":  {"tern", []sim.Fault{{Kind: sim.StuckPager}}},
		"tern, quiet timer":  {"tern", []sim.Fault{{Kind: sim.QuietTimer}}},
		"tern says it back":  {"tern", []sim.Fault{{Kind: sim.SaysBack, Match: "^log"}, {Kind: sim.NoSave}, {Kind: sim.Refusing}}},
		"tern hangs late":    {"tern", []sim.Fault{{Kind: sim.Hangs, Match: "^keep"}}},
		"tern drops late":    {"tern", []sim.Fault{{Kind: sim.Drops, Match: "^load"}}},
		"tern cuts short":    {"tern", []sim.Fault{{Kind: sim.CutShort, Match: "tell saved"}}},
		"tern, no operator":  {"tern", []sim.Fault{{Kind: sim.NoOperator}}},
		"plover, no master":  {"plover", []sim.Fault{{Kind: sim.NoOperator}}},
		"plover, odd prompt": {"plover", []sim.Fault{{Kind: sim.OddPrompt}}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := oneDevice(t, dir, c.platform, c.faults)
				defer w.sim.Close()
				told := w.tellSession(t)
				compareStory(t, "session, "+name, told)
			})
		})
	}
}

// oneDevice makes a world of one device of a platform.
func oneDevice(t *testing.T, dir, platform string, faults []sim.Fault) *world {
	t.Helper()
	spec := sim.Spec{Name: "ald-1", Address: "192.0.2.100", Platform: platform, Faults: faults}
	login := map[string]string{"tern": "crew", "plover": "gates"}[platform]
	csv := fmt.Sprintf("name,address,platform,site,role,login\nald-1,192.0.2.100,%s,ALD,quay,%s\n", platform, login)
	book := strings.NewReplacer("timer       4m", "timer       none", "  storage   at least 20 MB\n", "", "already   when config has \"time source 192.0.2.40 first\"\n  ", "", "  expect    clock.source == \"192.0.2.40\" and clock.settled within 40s\n", "").Replace(standardBook)
	return newWorld(t, sim.Scenario{Boot: 15 * time.Second, Settle: 8 * time.Second, Latency: 40 * time.Millisecond, Devices: []sim.Spec{spec}}, csv, book, dir)
}

func (w *world) tellSession(t *testing.T) string {
	ctx := context.Background()
	var b strings.Builder
	began := time.Now()
	say := func(what string, v any, err error) {
		kind := ""
		var refused *driver.Refused
		var unclear *driver.Unclear
		switch {
		case errors.As(err, &refused):
			kind = " [refused]"
		case errors.As(err, &unclear):
			kind = " [unclear]"
		case err != nil:
			kind = " [lost]"
		}
		fmt.Fprintf(&b, "%8.3f %-22s %v%s %v\n", time.Since(began).Seconds(), what, v, kind, err)
	}
	target := w.plan.Targets()[0]
	ses, err := w.connector().Open(ctx, target.Device, nil)
	say("open", err == nil, err)
	if err == nil {
		all := ses.(whole)
		lines := map[string][]string{"tern": {"log host 198.51.100.14", "port 3", "lan 99", "up", "nonsense", "done"}, "plover": {"set report host 198.51.100.14", "nonsense", "plain"}}
		for _, table := range []string{"clock", "storage", "version", "ports", "neighbours", "gates", "editors", "nothing"} {
			v, err := ses.Read(ctx, table)
			say("read "+table, v, err)
		}
		for _, which := range []driver.Which{driver.Running, driver.Saved} {
			v, err := ses.Config(ctx, which)
			say("config "+string(which), len(v), err)
		}
		backup, _ := ses.Config(ctx, driver.Running)
		say("arm", "", all.Arm(ctx, 90*time.Second+300*time.Millisecond))
		left, pending, err := all.Pending(ctx)
		say("pending", fmt.Sprint(left, pending), err)
		say("edit", "", ses.Edit(ctx))
		for _, l := range lines[target.Device.Platform] {
			say("line "+l, "", ses.Line(ctx, l))
		}
		say("line of two lines", "", ses.Line(ctx, "one\ntwo"))
		say("apply", "", ses.Apply(ctx, 0))
		say("disarm", "", all.Disarm(ctx))
		left, pending, err = all.Pending(ctx)
		say("pending", fmt.Sprint(left, pending), err)
		for _, ask := range []string{"tell version", "list version", "keep", "restart", "leave", "tell nonsense"} {
			v, err := ses.Ask(ctx, ask, false)
			say("ask "+ask, len(v), err)
		}
		v, err := ses.Ask(ctx, "work", true)
		say("ask anything", v, err)
		say("save", "", all.Save(ctx))
		say("restore", "", all.Restore(ctx, backup))
		say("edit", "", ses.Edit(ctx))
		say("save from there", "", all.Save(ctx))
		say("close", ses.Host(), ses.Close())
		say("close again", "", ses.Close())
	}
	require.NoError(t, w.scripts.Close())
	script, err := os.ReadFile(filepath.Join(w.dir, "transcripts", "ald-1.log"))
	require.NoError(t, err)
	b.WriteString("\n" + strings.ReplaceAll(string(script), w.dir, "DIR"))
	for _, tr := range w.sim.Device("ald-1").Truth() {
		fmt.Fprintf(&b, "%8.3f | %s %s\n", tr.At.Sub(began).Seconds(), tr.What, tr.Line)
	}
	for _, secret := range []string{password, operator, inConfig, gatesWord, masterWord} {
		assert.NotContains(t, b.String(), secret)
	}
	return b.String()
}

// TestTryingToldInFull tries profiles that are right and profiles with a mistake each on
// a device, and holds every finding.
func TestTryingToldInFull(t *testing.T) {
	for name, c := range map[string]struct {
		platform, old, new string
		faults             []sim.Fault
	}{
		"tern":                {"tern", "", "", nil},
		"plover":              {"plover", "", "", nil},
		"wrong prompt":        {"tern", `(?P<host>\S+) work\]`, `(?P<host>\S+) wurk\]`, nil},
		"no pager off":        {"tern", "  off: {in: work, send: pages off}\n", "", nil},
		"refused unknown":     {"tern", "  - '^Refused: (.*)$'\n", "", nil},
		"pending unknown":     {"tern", "pending: '^Restart due", "pending: '^Restart will be due", nil},
		"none unknown":        {"tern", `none: '^No restart is pending\.$'`, `none: '^Nothing$'`, nil},
		"wrong column":        {"tern", `'^time +(\S+)$'`, `'^clock +(\S+)$'`, nil},
		"wrong row":           {"tern", "(?P<state>up|shut)", "(?P<state>on|off)", nil},
		"nothing volatile":    {"tern", "    - '^# written '\n", "", nil},
		"all of it volatile":  {"tern", "    - '^# written '\n", "    - '^ *\\S'\n", nil},
		"silent in edit mode": {"tern", "refused:\n  - '^Refused: (.*)$'\n", "refused:\n  - '^Refused: unknown command'\n", nil},
		"no name":             {"tern", `'^\[(?P<host>\S+) look\] $'`, `'^\[\S+ look\] $'`, nil},
		"arming goes wrong":   {"tern", "", "", []sim.Fault{{Kind: sim.NoTimer}}},
		"stays pending":       {"tern", "", "", []sim.Fault{{Kind: sim.StuckTimer}}},
		"never armed":         {"tern", "", "", []sim.Fault{{Kind: sim.QuietTimer}}},
		"drops":               {"tern", "", "", []sim.Fault{{Kind: sim.Drops, Match: "^tell storage"}}},
		"lost while arming":   {"tern", "", "", []sim.Fault{{Kind: sim.Drops, Match: "^restart in"}}},
		"lost on the way out": {"tern", "", "", []sim.Fault{{Kind: sim.Drops, Match: "^(up|leave|look|end)$"}}},
		"balks":               {"tern", "", "", []sim.Fault{{Kind: sim.Balks, Match: "^tell"}}},
		"wrong word":          {"plover", "", "", []sim.Fault{{Kind: sim.BadPassword}}},
		"wrong master":        {"plover", "", "", []sim.Fault{{Kind: sim.NoOperator}}},
		"saves in the middle": {"tern", "done: '^Restart due '", "done: '^Will restart '", nil},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			text, err := os.ReadFile("../../profiles/" + c.platform + ".yaml")
			require.NoError(t, err)
			require.Contains(t, string(text), c.old)
			p, err := profile.Load(c.platform+".yaml", []byte(strings.Replace(string(text), c.old, c.new, 1)))
			require.NoError(t, err)
			var b strings.Builder
			for _, change := range []bool{false, true} {
				synctest.Test(t, func(t *testing.T) {
					w := oneDevice(t, filepath.Join(dir, fmt.Sprint(change)), c.platform, c.faults)
					defer w.sim.Close()
					w.profiles = profile.Set{c.platform: p}
					bad, err := w.connector().Try(context.Background(), w.plan.Targets()[0].Device, change, func(f lines.Finding) {
						fmt.Fprintf(&b, "%s\n  sent %q\n  got  %q\n  fits %q\n  not  %q\n", f.Line, f.Sent, f.Got, f.Fits, f.Not)
					})
					fmt.Fprintf(&b, "change %v: %d bad, %v\n\n", change, bad, err)
					require.NoError(t, w.scripts.Close())
				})
			}
			compareStory(t, "trying, "+name, b.String())
		})
	}
}
