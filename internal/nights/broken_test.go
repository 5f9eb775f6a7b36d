package nights

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/sim"
)

// whole is a session that can do all that one can.
type whole interface {
	driver.Session
	driver.Trial
	driver.Putter
	driver.Restorer
	driver.Saver
	driver.Upgrader
	driver.Paired
}

// breaking is a session of ours with a mistake in it: at a line it panics, and whatever is
// asked of it from then on panics, too.
type breaking struct {
	whole
	at    string
	broke bool
	asked *[]string // of it, once it is broken
}

func (s *breaking) fine(what string) {
	if s.broke {
		*s.asked = append(*s.asked, what)
		panic("it is broken, and was asked to " + what)
	}
}

func (s *breaking) Line(ctx context.Context, line string) error {
	s.fine("send")
	if strings.Contains(line, s.at) {
		s.broke = true
		panic("no such index: " + s.at)
	}
	return s.whole.Line(ctx, line)
}

// Read breaks where no line is to.
func (s *breaking) Read(ctx context.Context, table string) (any, error) {
	s.fine("read")
	if s.at == "" {
		s.broke = true
		panic("no such table")
	}
	return s.whole.Read(ctx, table)
}

func (s *breaking) Drop(ctx context.Context) error { s.fine("drop"); return s.whole.Drop(ctx) }
func (s *breaking) Close() error                   { s.fine("close"); return s.whole.Close() }

func (s *breaking) Pending(ctx context.Context) (time.Duration, bool, error) {
	s.fine("look at its timer")
	return s.whole.Pending(ctx)
}

func (s *breaking) Config(ctx context.Context, which driver.Which) (string, error) {
	s.fine("print")
	return s.whole.Config(ctx, which)
}

type breakingOn struct {
	driver.Connector
	device, at string
	asked      *[]string
	left       *[]driver.Session
}

func (c breakingOn) Connect(ctx context.Context, t *plan.Target) (driver.Session, error) {
	s, err := c.Connector.Connect(ctx, t)
	if err != nil || t.Device.Name != c.device {
		return s, err
	}
	*c.left = append(*c.left, s)
	return &breaking{whole: s.(whole), at: c.at, asked: c.asked}, nil
}

// A mistake of ours on one device costs that device, not the night of the others. Nothing
// more is asked of a session that broke: the device is stranded, and it is said what is
// pending on it, and where somebody must look.
func TestAMistakeOfOursOnOneDevice(t *testing.T) {
	for name, c := range map[string]struct {
		platform, want string
		notes          []string
	}{
		"with a timer":     {"tern", "    | log host 198.51.100.14\n", []string{"restarts at 00:0", "look at it"}},
		"in its candidate": {"osier", "    | report\n    |   to 198.51.100.14\n", []string{"no timer is pending", "may still stand in its candidate, which do not run", "look at it"}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Platform: c.platform}, {Platform: c.platform}},
					func(s string) string {
						return edits("sizes     1, 4", "sizes     2")(book("step \"Log collector\"\n  want\n" + c.want)(s))
					})
				defer w.sim.Close()
				var asked []string
				var left []driver.Session
				w.through = func(of driver.Connector) driver.Connector {
					return breakingOn{of, "ald-quay-1", "198.51.100.14", &asked, &left}
				}
				var told []string
				w.broke = func(device string, what any, stack []byte) {
					told = append(told, fmt.Sprintf("%s: %v", device, what))
					assert.Contains(t, string(stack), "breaking).Line")
				}
				w.runQuiet()
				d := w.night.Devices[0]
				assert.Equal(t, night.Stranded, d.State, d.Note)
				for _, part := range append(c.notes, "Metabasis itself failed on this device (no such index: 198.51.100.14)") {
					assert.Contains(t, d.Note, part)
				}
				assert.Empty(t, asked, "a session that broke was asked again")
				assert.Equal(t, []string{"ald-quay-1: no such index: 198.51.100.14"}, told)
				assert.Equal(t, night.Kept, w.night.Devices[1].State, w.night.Devices[1].Note)
				w.replayAgrees()
				for _, s := range left {
					_ = s.Close()
				}
			})
		})
	}
}

// The same in a rehearsal: nothing is foreseen of that device, and the others are rehearsed.
func TestAMistakeOfOursInARehearsal(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleIn(t, dir, []sim.Spec{{}, {}}, nil)
		defer w.sim.Close()
		var asked []string
		var left []driver.Session
		w.through = func(of driver.Connector) driver.Connector {
			return breakingOn{of, "ald-quay-1", "", &asked, &left}
		}
		told := 0
		w.broke = func(string, any, []byte) { told++ }
		found, _ := w.rehearse()
		assert.Equal(t, "Metabasis itself failed on this device (no such table)", found[0].Blocked)
		assert.Empty(t, found[0].Steps)
		assert.Empty(t, found[1].Blocked)
		assert.NotEmpty(t, found[1].Steps)
		assert.Empty(t, asked, "a session that broke was asked again")
		assert.Equal(t, 1, told)
		for _, s := range left {
			_ = s.Close()
		}
	})
}

// counted is a session that counts what is dropped, and refuses a whole backup.
type counted struct {
	whole
	drops *int
}

func (s *counted) Drop(ctx context.Context) error { *s.drops++; return s.whole.Drop(ctx) }

func (s *counted) Restore(context.Context, string) error {
	return &driver.Refused{Line: "the backup", Said: "no room"}
}

type countedOn struct {
	driver.Connector
	drops *int
}

func (c countedOn) Connect(ctx context.Context, t *plan.Target) (driver.Session, error) {
	s, err := c.Connector.Connect(ctx, t)
	if err != nil {
		return s, err
	}
	return &counted{s.(whole), c.drops}, nil
}

// Of a whole backup that a device refuses, what was handed over is dropped before anything else
// is done: it would be applied together with what comes after.
func TestAWholeBackupThatIsRefusedIsDropped(t *testing.T) {
	set, dir := wordless(t, "osier"), t.TempDir()
	g := &generator{rng: rand.New(rand.NewPCG(3, 0))}
	now, text := drawnTern(g), asPrinted(t, "osier", "ald-quay-1", drawnTern(g))
	synctest.Test(t, func(t *testing.T) {
		w := restoring(t, set, dir, "osier", []sim.Spec{{Config: now}}, map[string]runbook.Was{"ald-quay-1": {Name: "x.cfg", At: time.Now(), Text: text}})
		defer w.sim.Close()
		drops := 0
		w.through = func(of driver.Connector) driver.Connector { return countedOn{of, &drops} }
		w.runQuiet()
		d := w.night.Devices[0]
		assert.Positive(t, drops, "%s: %s", d.State, d.Note)
		assert.Equal(t, night.Reverted, d.State, d.Note)
	})
}

// coreOnly reaches devices by a way that can do nothing but what all can.
type coreOnly struct {
	driver.Connector
	reached *int
}

func (c coreOnly) Connect(ctx context.Context, t *plan.Target) (driver.Session, error) {
	s, err := c.Connector.Connect(ctx, t)
	*c.reached++
	return struct{ driver.Session }{s}, err
}

// A way that cannot do what the profile claims is found out before anything else is asked: the
// device is blocked, at once and not after further tries, and nothing is sent to it.
func TestAWayThatLacksWhatTheProfileClaims(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleIn(t, dir, []sim.Spec{{}}, nil)
		defer w.sim.Close()
		reached := 0
		w.through = func(of driver.Connector) driver.Connector { return coreOnly{of, &reached} }
		w.runQuiet()
		d := w.night.Devices[0]
		assert.Equal(t, night.Blocked, d.State)
		assert.Contains(t, d.Note, "the profile of tern has a rollback timer; mend the profile")
		assert.Equal(t, 1, reached)
		assert.Empty(t, w.sim.Devices()[0].Truth())
	})
}
