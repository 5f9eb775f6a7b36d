package shelf

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/acts"
	"metabasis/internal/core/keep"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
	"metabasis/internal/store"
)

func seen(file string, at time.Time, origins ...string) store.Shelved {
	s := store.Shelved{File: file}
	for i, o := range origins {
		s.Seen = append(s.Seen, store.Sighting{File: file, At: at.Add(time.Duration(i) * time.Second), Origin: o})
	}
	return s
}

// What a night found and what it left are moments of their own, however short it was; what
// was put there in one minute by hand is one.
func TestMomentsToGoBackTo(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	devices := []Device{
		{Name: "a", Backups: []store.Shelved{seen("a3", at.Add(time.Hour), "by hand"), seen("a2", at.Add(9*time.Second), "night 7, after"), seen("a1", at, "rehearsal", "night 7")}},
		{Name: "b", Backups: []store.Shelved{seen("b2", at.Add(time.Hour+time.Second), "by hand"), seen("b1", at.Add(20*time.Second), "night 7")}},
		{Name: "c", Backups: []store.Shelved{seen("c1", at.Add(time.Hour+2*time.Second), "by hand")}},
	}
	got := datesOf(devices)
	var titles []string
	for _, d := range got {
		titles = append(titles, d.origin)
	}
	assert.Equal(t, []string{"by hand", "night 7", "night 7, after", "rehearsal"}, titles)
	assert.Equal(t, date{at: at.Add(time.Hour + 2*time.Second), devices: 3, origin: "by hand", has: 3}, got[0])
	assert.Equal(t, date{at: at.Add(20 * time.Second), night: 7, devices: 2, origin: "night 7", has: 2, changed: 2}, got[1])
	assert.Zero(t, got[2].night, "what it left is a time")
}

// A date is chosen for the devices that are marked, and nothing but that is planned.
func TestTakingBackFromTheShelf(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	var planned []string
	var each []string
	var night int64
	var when time.Time
	src := Source{Path: "/ws",
		Devices: func(context.Context) ([]Device, error) {
			return []Device{
				{Name: "ald-quay-1", Backups: []store.Shelved{seen("a2", at.Add(time.Hour), "by hand"), seen("a1", at, "night 7")}},
				{Name: "ald-quay-2", Backups: []store.Shelved{seen("b1", at, "night 7")}},
				{Name: "ald-quay-4", Out: "retired", Platform: "tern", Backups: []store.Shelved{seen("d1", at, "night 7")}},
				{Name: "ald-quay-3"},
			}, nil
		},
		Of:      func(string, string) ([]acts.ShelfRow, error) { return nil, nil },
		Restore: func(_ *screen.Host, t time.Time, devices []string) { when, planned = t, devices },
		Before:  func(_ *screen.Host, n int64, devices []string) { night, planned = n, devices },
		Each:    func(_ *screen.Host, devices []string) { each = devices },
		BackUp:  func(context.Context, []string) ([]string, error) { return []string{"ald-quay-3: port: refused"}, nil },
	}
	s := screentest.Open(t, 160, 40, New(src))
	s.See("The shelf  4 backups of 3 devices, none of 1 in /ws")
	s.See("ald-quay-4 +tern +.*night 7  retired")
	s.See("ald-quay-3 .*▪ none")
	s.Press("m", "m", "T")
	s.See("Take 2 devices back to what was  ald-quay-1, ald-quay-2")
	s.Press("enter")
	assert.Equal(t, at.Add(time.Hour), when)
	assert.Equal(t, []string{"ald-quay-1", "ald-quay-2"}, planned)
	s.Press("end", "enter")
	assert.EqualValues(t, 7, night)
	s.Press("esc", "x", "home", "m", "m", "m", "C")
	assert.Equal(t, []string{"ald-quay-1", "ald-quay-2", "ald-quay-4"}, each)
	s.Press("x", "end", "T")
	s.See("there is nothing on the shelf to take them back to")
	s.Press("u")
	s.See("1 of 1 are not backed up: ald-quay-3: port: refused")
}

// The whole shelf is verified, pushed and cleared: what is wrong is listed, and nothing goes
// before it was listed and confirmed.
func TestTendingTheShelf(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	one := seen("a1.cfg", at, "night 7")
	one.Device = "ald-quay-1"
	verified, cleared := &acts.Verified{Devices: 1, Whole: 3}, 0
	c := &acts.Clearing{Rule: keep.Rule{Last: 1}, Stay: 2, Needed: 1}
	pushed := []acts.PushedTo{{Place: "vault", There: 2, Had: 1}}
	src := Source{Path: "/ws",
		Devices: func(context.Context) ([]Device, error) {
			return []Device{{Name: "ald-quay-1", Backups: []store.Shelved{one}}}, nil
		},
		Of: func(string, string) ([]acts.ShelfRow, error) { return nil, nil },
		Tend: Tending{
			Verify:  func(context.Context) (*acts.Verified, error) { return verified, nil },
			Clear:   func(context.Context) (*acts.Clearing, error) { return c, nil },
			Cleared: func(*acts.Clearing) error { cleared++; return nil },
			Push:    func(context.Context, func(acts.Pushing)) ([]acts.PushedTo, error) { return pushed, nil },
		}}
	s := screentest.Open(t, 160, 40, New(src))
	s.Press("y")
	s.See("3 backups of 1 device: 3 whole")
	verified.Wrong = []error{&store.DamagedBackup{Device: "ald-quay-1", File: "a1.cfg", Why: "it is noted on the shelf, and not there"}}
	s.Press("y")
	s.See("1 damaged or not there")
	s.See("the backup a1.cfg of ald-quay-1 is damaged: it is noted")
	s.Press("esc", "O")
	s.See("vault: 2 pushed, 1 there already")
	pushed = append(pushed, acts.PushedTo{Place: "yard", Error: "refused"})
	s.Press("O")
	s.See("NOT all is pushed: 1 of 2 places")
	s.Press("esc", "X")
	s.See("0 backups to be cleared, 0 bytes; 2 backups stay, 1 of them only because a night may need them; kept are the 1 newest")
	c.Go = []store.Shelved{one}
	s.Press("X")
	s.See("1 backup to be cleared")
	s.See("a1.cfg")
	s.Press("enter")
	assert.Zero(t, cleared, "what is not chosen stays")
	s.Press("X", "down", "enter")
	assert.Equal(t, 1, cleared)
	s.See("1 backup cleared")
}
