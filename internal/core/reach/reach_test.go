package reach

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestFailuresReadAsSentences(t *testing.T) {
	f := &Failure{Stage: Prompt, Cause: "logged in, then no prompt in 10s", Last: "Welcome\x1b", Remedy: "see its profile", Err: context.DeadlineExceeded}
	assert.Equal(t, `logged in, then no prompt in 10s; last: "Welcome\x1b": see its profile`, f.Error())
	assert.ErrorIs(t, f, context.DeadlineExceeded)
	assert.Same(t, f, AsFailure(fmt.Errorf("ald-quay-1: %w", f)))
	assert.Equal(t, Name, AsFailure(errors.New("no profile")).Stage)
	b, err := json.Marshal(Result{Device: "a", Failure: f, Passed: []Passed{{Name, time.Second}}})
	require.NoError(t, err)
	assert.JSONEq(t, `{"device":"a","address":"","protocol":"","passed":[{"stage":"name","took_ns":1000000000}],"took_ns":0,
		"failure":{"stage":"prompt","cause":"logged in, then no prompt in 10s","remedy":"see its profile","last":"Welcome\u001b"}}`, string(b))
	var r Result
	require.NoError(t, json.Unmarshal(b, &r))
	assert.Equal(t, Prompt, r.Failure.Stage)
	assert.Error(t, json.Unmarshal([]byte(`{"failure":{"stage":"moon"}}`), &r))
}

// Every stage has a word of its own, and comes back from it.
func TestStages(t *testing.T) {
	seen := map[string]bool{}
	for _, s := range Stages() {
		text, err := s.MarshalText()
		require.NoError(t, err)
		assert.False(t, seen[string(text)])
		seen[string(text)] = true
		var back Stage
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, s, back)
	}
	assert.Len(t, seen, 10)
}

func TestOtherName(t *testing.T) {
	for host, want := range map[string]string{"": "", "quay-1": "", "QUAY-1": "", "quay-1.example": "", "quay-2": "quay-2"} {
		r := Result{Device: "quay-1", Host: host}
		assert.Equal(t, want, r.OtherName(), host)
	}
}

// However events come in, a board counts each device once, a fold leaves the
// board before it as it was, and it is over when all are.
func TestBoard(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		names := []string{"a", "b", "c", "d"}
		b := NewBoard(names)
		for range rapid.IntRange(0, 30).Draw(t, "events") {
			e := Event{Device: rapid.SampledFrom(append(names, "stranger")).Draw(t, "device"), At: time.Now(), Stage: Stage(rapid.IntRange(0, 8).Draw(t, "stage"))}
			switch rapid.IntRange(0, 2).Draw(t, "kind") {
			case 1:
				e.Result = &Result{Device: e.Device}
			case 2:
				e.Result = &Result{Device: e.Device, Failure: &Failure{Stage: e.Stage, Cause: "x"}}
			}
			before := b.Count()
			next := b.Fold(e)
			assert.Equal(t, before, b.Count(), "the old board stays")
			b = next
			c := b.Count()
			assert.Equal(t, 4, c[Waiting]+c[Reaching]+c[Ready]+c[Failed])
			assert.Equal(t, c[Waiting]+c[Reaching] == 0, !b.Ended.IsZero())
			failed := 0
			for _, cause := range b.Causes() {
				failed += len(cause.Devices)
			}
			assert.Equal(t, c[Failed], failed)
		}
	})
}

func TestCausesTheMostCommonFirst(t *testing.T) {
	b := NewBoard([]string{"a", "b", "c"})
	for device, stage := range map[string]Stage{"a": Login, "b": Port, "c": Port} {
		b = b.Fold(Event{Device: device, Result: &Result{Failure: &Failure{Stage: stage, Cause: stage.String()}}})
	}
	causes := b.Causes()
	require.Len(t, causes, 2)
	assert.Equal(t, []string{"b", "c"}, causes[0].Devices)
	e, ok := b.Get("a")
	assert.True(t, ok)
	assert.Equal(t, Login, e.Stage)
	_, ok = b.Get("z")
	assert.False(t, ok)
}

// Devices that differ in nothing but a fingerprint stand together, under what
// can be said of all of them; one alone keeps what is its own.
func TestCausesLeaveOutWhatIsADevicesOwn(t *testing.T) {
	b := NewBoard([]string{"a", "b", "c", "d", "e"})
	for i, f := range []*Failure{{Stage: HostKey, Cause: "a new key (1)", Kind: "a new key"}, {Stage: HostKey, Cause: "a new key (2)", Kind: "a new key"}, {Stage: Port, Cause: "refuses port 22", Kind: "refuses its port"},
		{Stage: Prompt, Cause: "no prompt", Last: "d>"}, {Stage: Prompt, Cause: "no prompt", Last: "e>"}} {
		b = b.Fold(Event{Device: string(rune('a' + i)), Result: &Result{Failure: f}})
	}
	causes := b.Causes()
	require.Len(t, causes, 3)
	assert.Equal(t, []string{"a", "b"}, causes[0].Devices)
	assert.Equal(t, "a new key", causes[0].Failure.Error())
	assert.Equal(t, []string{"d", "e"}, causes[1].Devices)
	assert.Equal(t, "no prompt", causes[1].Failure.Error())
	assert.Equal(t, "refuses port 22", causes[2].Failure.Error())
}

// A sweep does each device once, no more together than allowed; one that hangs
// holds up nobody else; after the end of its context none is begun.
func TestSweep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var devices []int
		for i := range 50 {
			devices = append(devices, i)
		}
		var mu sync.Mutex
		done := map[int]int{}
		var now, most atomic.Int32
		began := time.Now()
		Sweep(context.Background(), devices, 7, func(_ context.Context, d int) {
			if n := now.Add(1); n > most.Load() {
				most.Store(n)
			}
			if d == 3 {
				time.Sleep(time.Minute)
			}
			time.Sleep(time.Second)
			now.Add(-1)
			mu.Lock()
			done[d]++
			mu.Unlock()
		}, nil)
		assert.Len(t, done, 50)
		assert.EqualValues(t, 7, most.Load())
		assert.Equal(t, 61*time.Second, time.Since(began), "the others were done meanwhile")

		ctx, cancel := context.WithCancel(context.Background())
		begun, skipped := 0, 0
		Sweep(ctx, devices, 1, func(context.Context, int) { begun++; cancel() }, func(context.Context, int) { skipped++ })
		assert.Equal(t, 1, begun)
		assert.Equal(t, 49, skipped)
	})
}
