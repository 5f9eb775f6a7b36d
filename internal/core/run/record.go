package run

import (
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
)

// recorder gives events their order, makes them durable and hands them on. Its
// goroutine is the only one that writes to the journal; what arrives while it
// writes goes into the next append together.
type recorder struct {
	journal Journal
	in      chan entry
	out     chan []night.Event
	done    chan struct{}
	failed  error                 // the first failure of the journal; owned by the goroutine
	broken  atomic.Pointer[error] // the same, for the conductor: it stands before anybody is told
	onFail  func(error)           // is told of it, once, in a goroutine of its own; may be nil
	telling sync.WaitGroup
}

type entry struct {
	event night.Event
	ack   chan error // nil when nobody waits
}

// lazy is how long facts may wait for company before they are written.
// Intentions never wait.
const lazy = 25 * time.Millisecond

func newRecorder(j Journal) *recorder {
	return &recorder{journal: j, in: make(chan entry, 256), out: make(chan []night.Event, 64), done: make(chan struct{})}
}

// Emit implements [work.Log].
func (r *recorder) Emit(e night.Event) {
	e.At = time.Now()
	r.in <- entry{event: e}
}

// Intend implements [work.Log].
func (r *recorder) Intend(e night.Event) error {
	e.At = time.Now()
	ack := make(chan error, 1)
	r.in <- entry{e, ack}
	if err := <-ack; err != nil {
		return fmt.Errorf("%w: %w", work.ErrJournal, err)
	}
	return nil
}

// run writes until in is closed. Nobody may emit after that.
func (r *recorder) run() {
	defer close(r.done)
	defer close(r.out)
	seq := int64(0)
	var batch []night.Event
	var acks []chan error
	flush := func() {
		if len(batch) == 0 {
			return
		}
		err := r.failed
		if err == nil {
			if err = r.journal.Append(batch); err != nil {
				said := fmt.Errorf("%w: %w", work.ErrJournal, err)
				r.failed = err
				r.broken.Store(&said)
				r.tell(said)
			}
		}
		for _, a := range acks {
			a <- err
		}
		r.out <- batch
		batch, acks = nil, nil
	}
	timer := time.NewTimer(lazy)
	defer timer.Stop()
	add := func(e entry) {
		seq++
		e.event.Seq = seq
		batch = append(batch, e.event)
		if e.ack != nil {
			acks = append(acks, e.ack)
		}
	}
	for {
		e, ok := <-r.in
		if !ok {
			return
		}
		add(e)
		timer.Reset(lazy)
	gather:
		for len(batch) < 4096 {
			if len(acks) > 0 { // somebody waits: take only what is here already
				select {
				case e, ok := <-r.in:
					if !ok {
						break gather
					}
					add(e)
					continue
				default:
					break gather
				}
			}
			select {
			case e, ok := <-r.in:
				if !ok {
					break gather
				}
				add(e)
			case <-timer.C:
				break gather
			}
		}
		flush()
	}
}

// tell passes on that the journal failed, without waiting: whoever is told may
// be waiting for us.
func (r *recorder) tell(err error) {
	if r.onFail != nil {
		r.telling.Go(func() { r.onFail(err) })
	}
}

// MemoryJournal keeps events in memory only: for rehearsals in tests.
type MemoryJournal struct {
	Events []night.Event
	Fail   func([]night.Event) error // when set, decides whether an append fails
}

// Append implements [Journal].
func (m *MemoryJournal) Append(events []night.Event) error {
	if m.Fail != nil {
		if err := m.Fail(events); err != nil {
			return err
		}
	}
	m.Events = append(m.Events, events...)
	return nil
}
