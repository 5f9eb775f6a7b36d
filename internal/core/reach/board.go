package reach

import (
	"cmp"
	"slices"
	"time"
)

// Event is something that happened on the way to a device.
type Event struct {
	Device string
	At     time.Time
	Stage  Stage   // it stands at this stage now
	Result *Result // it is over: reached, or failed
}

// State is where a device stands on a board.
type State string

// The states of a device on a board.
const (
	Waiting  State = "waiting"
	Reaching State = "reaching"
	Ready    State = "ready"
	Failed   State = "failed"
)

// Entry is one device on a board.
type Entry struct {
	Device string
	State  State
	Stage  Stage // where it stands, or failed
	Since  time.Time
	Result *Result
}

// Board is where every device of a sweep stands. It is a value: Fold returns a
// new one and leaves the old one as it was.
type Board struct {
	Entries []Entry
	index   map[string]int
	Began   time.Time
	Ended   time.Time // when the last device was done; zero while some are not
}

// NewBoard puts devices on a board, all waiting.
func NewBoard(devices []string) Board {
	b := Board{index: make(map[string]int, len(devices))}
	for i, d := range devices {
		b.Entries = append(b.Entries, Entry{Device: d, State: Waiting})
		b.index[d] = i
	}
	return b
}

// Get returns the entry of a device.
func (b *Board) Get(device string) (Entry, bool) {
	i, ok := b.index[device]
	if !ok {
		return Entry{}, false
	}
	return b.Entries[i], true
}

// Fold takes in events.
func (b Board) Fold(events ...Event) Board {
	b.Entries = slices.Clone(b.Entries)
	for _, e := range events {
		i, ok := b.index[e.Device]
		if !ok {
			continue
		}
		en := &b.Entries[i]
		if b.Began.IsZero() {
			b.Began = e.At
		}
		if en.State == Waiting || en.Result != nil { // a new try
			en.Since, en.Result = e.At, nil
			b.Ended = time.Time{}
		}
		en.State, en.Stage = Reaching, e.Stage
		if e.Result == nil {
			continue
		}
		en.Result, en.State = e.Result, Ready
		if f := e.Result.Failure; f != nil {
			en.State, en.Stage = Failed, f.Stage
		}
		if c := b.Count(); c[Waiting]+c[Reaching] == 0 {
			b.Ended = e.At
		}
	}
	return b
}

// Count counts the devices by state.
func (b *Board) Count() map[State]int {
	out := map[State]int{}
	for _, e := range b.Entries {
		out[e.State]++
	}
	return out
}

// Cause is one reason for which devices could not be reached.
type Cause struct {
	Stage   Stage
	Failure *Failure // what can be said of all of them
	Devices []string
}

// Causes groups the failed devices by stage and cause, the most common first.
// Devices that differ in nothing but a port or a fingerprint are of one group.
func (b *Board) Causes() []Cause {
	type key struct {
		stage Stage
		cause string
	}
	at := map[key]int{}
	var out []Cause
	for _, e := range b.Entries {
		if e.State != Failed {
			continue
		}
		f := e.Result.Failure
		k := key{f.Stage, f.Common()}
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, Cause{Stage: k.stage, Failure: f})
		}
		out[i].Failure = out[i].Failure.shared(f)
		out[i].Devices = append(out[i].Devices, e.Device)
	}
	slices.SortStableFunc(out, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(len(b.Devices), len(a.Devices)), cmp.Compare(a.Stage, b.Stage))
	})
	return out
}
