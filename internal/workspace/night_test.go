package workspace

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/person"
	"metabasis/internal/store"
	"metabasis/internal/store/locks"
)

// planOf plans a small runbook over one device.
func planOf(t *testing.T, ws *Workspace) (*plan.Plan, *fleet.Fleet) {
	t.Helper()
	f, err := fleet.Read("fleet.csv", []byte("name,address,platform,login\nquay,localhost,tern,crew\n"), ws.Profiles.Platforms())
	require.NoError(t, err)
	rb, err := runbook.Parse("x.runbook", []byte("runbook \"Logs\"\n  window    now for 1h\n\nscope\n  true\n\ntimer       5m\n\nstep \"S\"\n  send\n    | log host 198.51.100.14\n  undo\n    | drop log host 198.51.100.14\n"))
	require.NoError(t, err)
	require.NoError(t, rb.Compile(ws.Profiles.Schema(nil)))
	p, err := plan.Make(rb, f, nil, ws.Profiles.Traits(), time.Now())
	require.NoError(t, err)
	return p, f
}

// prepared is a night in a workspace whose claims are its own.
func prepared(t *testing.T, dir string) *OpenNight {
	t.Helper()
	ws, err := OpenWith(dir, map[string]string{"agent": "no", "ssh_config": "none", "known_hosts": "/nowhere"})
	require.NoError(t, err)
	p, f := planOf(t, ws)
	a, err := ws.Access(context.Background(), f, f.Devices, ws.Finder(env("METABASIS_CREW_PASSWORD=x", "METABASIS_CREW_OPERATOR=y"), nil))
	require.NoError(t, err)
	t.Cleanup(func() { a.Close() })
	return ws.Prepare(p, "x.runbook", "runbook", a, true, "ada")
}

// Nothing is written before a night begins; then everything that may hold a
// configuration is its owner's alone.
func TestWhatANightWrites(t *testing.T) {
	t.Setenv("METABASIS_CLAIMS", t.TempDir())
	dir := filepath.Join(t.TempDir(), "quays [2026]") // which is no pattern
	require.NoError(t, os.Mkdir(dir, 0o700))
	n := prepared(t, dir)
	_, err := os.Stat(filepath.Join(dir, "metabasis.db"))
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, n.Begin(context.Background(), false, func(string) {}))
	n.Connector.Transcript("quay").Note("hello")
	require.NoError(t, n.said().Close())
	assert.Equal(t, n.w.Transcripts(n.ID), filepath.Join(dir, "transcripts", store.FolderOf(time.Now()), "night-1"))
	seen := 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if path == dir || err != nil {
			return err
		}
		info, err := d.Info()
		require.NoError(t, err)
		seen++
		assert.Zero(t, info.Mode().Perm()&0o077, "%s is for others, too: %s", path, info.Mode())
		return nil
	}))
	assert.GreaterOrEqual(t, seen, 6)
	require.NoError(t, n.Close())
}

// A journal that others may read is closed to them when it is opened.
func TestAnOldJournalIsClosedToOthers(t *testing.T) {
	t.Setenv("METABASIS_CLAIMS", t.TempDir())
	dir := t.TempDir()
	n := prepared(t, dir)
	require.NoError(t, n.Begin(context.Background(), false, func(string) {}))
	require.NoError(t, n.Close())
	require.NoError(t, os.Chmod(filepath.Join(dir, "metabasis.db"), 0o644))
	n = prepared(t, dir)
	require.NoError(t, n.Begin(context.Background(), false, func(string) {}))
	defer n.Close()
	info, err := os.Stat(filepath.Join(dir, "metabasis.db"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
}

// A second night in the same workspace names the first; with wait it waits for its end.
func TestOneWriter(t *testing.T) {
	t.Setenv("METABASIS_CLAIMS", t.TempDir())
	dir := t.TempDir()
	first := prepared(t, dir)
	require.NoError(t, first.Begin(context.Background(), false, func(string) {}))
	second := prepared(t, dir)
	err := second.Begin(context.Background(), false, func(string) {})
	var held *locks.Held
	require.ErrorAs(t, err, &held)
	assert.Equal(t, "ada", held.By.Who)
	assert.Equal(t, os.Getpid(), held.By.PID)
	require.NoError(t, second.Close())

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	third := prepared(t, dir)
	assert.ErrorIs(t, third.Begin(ctx, true, func(string) {}), context.Canceled)
	require.NoError(t, third.Close())

	told := make(chan string, 1)
	fourth := prepared(t, dir)
	done := make(chan error, 1)
	go func() { done <- fourth.Begin(context.Background(), true, func(s string) { told <- s }) }()
	assert.Contains(t, <-told, "waiting: this workspace is taken by ada")
	running, now := first.w.Running(first.head)
	assert.True(t, now)
	assert.Equal(t, "Logs", running.What)
	require.NoError(t, first.Close())
	require.NoError(t, <-done)
	require.NoError(t, fourth.Close())
	_, now = first.w.Running(first.head)
	assert.False(t, now)
}

// A device is claimed under the name and the addresses it goes by.
func TestADeviceIsClaimedByNameAndAddress(t *testing.T) {
	t.Setenv("METABASIS_CLAIMS", t.TempDir())
	first := prepared(t, t.TempDir())
	require.NoError(t, first.Begin(context.Background(), false, func(string) {}))
	other, err := locks.OpenClaims(locks.Dir(os.Getenv), locks.Holder{Who: "ben", PID: 1})
	require.NoError(t, err)
	defer other.Close()
	assert.ErrorContains(t, other.Take("localhost:22"), "taken by ada")
	assert.ErrorContains(t, other.Take("127.0.0.1:22"), "taken by ada")
	assert.NoError(t, other.Take("127.0.0.1:23"))

	second := prepared(t, t.TempDir())
	require.NoError(t, second.Begin(context.Background(), false, func(string) {}))
	_, err = second.claim(context.Background(), second.Plan.Targets()[0])
	var taken *work.Taken
	require.ErrorAs(t, err, &taken)
	assert.Contains(t, taken.By, "ada")
	require.NoError(t, second.Close())
	require.NoError(t, first.Close())
	assert.NoError(t, other.Take("localhost:22"))
}

// What a runbook asks for as a secret is found where secrets are kept.
func TestAnswersThatAreSecrets(t *testing.T) {
	ws, err := OpenWith(t.TempDir(), nil)
	require.NoError(t, err)
	v, err := ws.Finder(env("METABASIS_ANSWER_KEY=gull-wing"), nil).Answer(context.Background(), "key", "The key")
	require.NoError(t, err)
	assert.Equal(t, "gull-wing", v)
	_, err = ws.Finder(env(), nil).Answer(context.Background(), "key", "The key")
	assert.ErrorContains(t, err, "set METABASIS_ANSWER_KEY, put it into the secrets file with metabasis secret add answer key")
	// A person types it twice: a slip in it would be on every device.
	asked := 0
	v, err = ws.Finder(env(), person.Func(func(_ context.Context, f person.Form) ([]string, error) {
		asked++
		require.Len(t, f.Questions, 2)
		again := f.Questions[0].Text
		if asked == 1 {
			again = "a slip"
		} else {
			assert.Equal(t, "the two were not the same", f.Questions[0].Hint)
		}
		return []string{f.Questions[0].Text, again}, nil
	})).Answer(context.Background(), "key", "The key")
	require.NoError(t, err)
	assert.Equal(t, "The key (key, hidden)", v)
	assert.Equal(t, 2, asked)
}
