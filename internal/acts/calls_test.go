package acts

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
)

// caller is a person that can be called, by a script that writes down what it gets.
type caller struct {
	*calls
	dir string

	mu    sync.Mutex
	notes []string
}

func newCaller(t *testing.T, script string, edit func(*calls)) *caller {
	dir := t.TempDir()
	program := filepath.Join(dir, "call.sh")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"+script+"\n"), 0o700))
	c := &caller{dir: dir}
	c.calls = &calls{program: program, dir: dir, within: 20 * time.Second, last: 20 * time.Second, of: call{Night: 21, Title: "Quays", Workspace: dir},
		remark: func(_ context.Context, text string) {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.notes = append(c.notes, text)
		}}
	if edit != nil {
		edit(c.calls)
	}
	ctx, stop := context.WithCancel(t.Context())
	c.begin(ctx, stop)
	return c
}

func (c *caller) said() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return strings.Join(c.notes, "\n")
}

func hold(n int64, device, why string) night.Event {
	return night.Event{Seq: n, Kind: night.HoldOpened, Hold: int(n), Device: device, Note: why}
}

func TestAPersonIsCalledOnceForEach(t *testing.T) {
	t.Setenv("METABASIS_CREW_PASSWORD", "harbour-lamp")
	c := newCaller(t, `cat >> got; echo >> got; env > env; pwd > where`, nil)
	told := &night.Night{Outline: &night.Outline{}, Devices: []*night.Device{{State: night.Stranded, Over: true}}}
	c.on([]night.Event{hold(1, "ald-quay-1", "line 1 was refused"), {Kind: night.Doing, Device: "ald-quay-2", Note: "backing up"}}, told)
	c.on([]night.Event{hold(2, "ald-quay-1", "line 1 was refused"), hold(3, "", "the runbook holds after batch 1"),
		{Kind: night.Moved, Device: "ald-quay-2", State: night.Stranded, Note: "no lines lead back"}, {Kind: night.Moved, Device: "ald-quay-3", State: night.Kept}}, told)
	c.on([]night.Event{{Kind: night.Ended}}, told)
	c.end()

	data, err := os.ReadFile(filepath.Join(c.dir, "got"))
	require.NoError(t, err)
	var got []string
	for l := range strings.Lines(string(data)) {
		if strings.TrimSpace(l) == "" {
			continue
		}
		var one call
		require.NoError(t, json.Unmarshal([]byte(l), &one))
		assert.EqualValues(t, 21, one.Night)
		assert.Equal(t, "Quays", one.Title)
		got = append(got, one.Why+": "+one.Text)
	}
	require.Len(t, got, 4, "once for each, and for nothing else: %v", got)
	assert.Equal(t, []string{"held: ald-quay-1 is held: line 1 was refused", "held: the run is held: the runbook holds after batch 1",
		"stranded: ald-quay-2 is stranded: no lines lead back"}, got[:3])
	assert.True(t, strings.HasPrefix(got[3], "over: the night is over: "))
	assert.Equal(t, 4, strings.Count(c.said(), "called "))
	env, err := os.ReadFile(filepath.Join(c.dir, "env"))
	require.NoError(t, err)
	assert.NotContains(t, string(env), "harbour-lamp", "what we know in confidence is not in its environment")
}

func TestNobodyIsCalledWhereTheRunbookDecides(t *testing.T) {
	c := newCaller(t, `cat >> got`, func(c *calls) { c.alone = true })
	told := &night.Night{Outline: &night.Outline{}, Devices: []*night.Device{{State: night.Kept, Over: true}}}
	c.on([]night.Event{hold(1, "ald-quay-1", "line 1 was refused"), {Kind: night.Ended}}, told)
	c.end()
	assert.NoFileExists(t, filepath.Join(c.dir, "got"))
	assert.Empty(t, c.said())
	var none *calls // no program is named
	none.on([]night.Event{hold(1, "x", "y")}, told)
	none.end()
}

func TestACallThatFails(t *testing.T) {
	for name, c := range map[string]struct{ script, want string }{
		"with a word":      {"echo 'no such pager' >&2; echo more >&2; exit 3", "exit status 3: no such pager; it was for this: ald-quay-1 is held"},
		"without a word":   {"exit 4", "exit status 4; it was for this"},
		"with rubbish":     {`printf 'a\033[2Jb\377' >&2; exit 1`, "exit status 1: a[2Jb; it was"},
		"it reads nothing": {"exit 0", "called "},
	} {
		x := newCaller(t, c.script, nil)
		x.on([]night.Event{hold(1, "ald-quay-1", strings.Repeat("why ", 40000))}, &night.Night{})
		x.end()
		assert.Contains(t, x.said(), c.want, name)
	}
	x := newCaller(t, "", func(c *calls) { c.program = filepath.Join(c.dir, "none") })
	x.on([]night.Event{hold(1, "ald-quay-1", "y")}, &night.Night{})
	x.end()
	assert.Contains(t, x.said(), "no such file or directory")
}

// A program that hangs is given up, stands in nobody's way, and what was not called for is counted.
func TestACallThatHangs(t *testing.T) {
	c := newCaller(t, `sleep 600 & echo $! > child; sleep 600`, func(c *calls) { c.within, c.last = 300*time.Millisecond, 900*time.Millisecond })
	began := time.Now()
	for i := range int64(100) {
		c.on([]night.Event{hold(i+1, "quay", strings.Repeat("x", int(i+1)))}, &night.Night{})
	}
	assert.Less(t, time.Since(began), 10*time.Second, "who tells of it does not wait")
	require.Eventually(t, func() bool { return strings.Contains(c.said(), "more were not made: 16 waited already") }, 20*time.Second, 20*time.Millisecond)
	assert.Contains(t, c.said(), "did not end within 300ms")
	c.end()
	assert.Less(t, time.Since(began), 15*time.Second, "the end of a night waits a moment only")
	child, err := os.ReadFile(filepath.Join(c.dir, "child"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		stat, err := os.ReadFile("/proc/" + strings.TrimSpace(string(child)) + "/stat")
		return err != nil || strings.Contains(string(stat), ") Z ")
	}, 10*time.Second, 20*time.Millisecond, "what it started is ended with it")
}
