package netconf

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

// Memory is what is known of a device from one session to the next.
type Memory struct {
	// Name is what our confirmed commits persist under. Nobody else knows it.
	Name string

	mu      sync.Mutex
	due     time.Time // until when what we committed last is on trial
	edits   bool      // edits of ours may stand in the candidate
	session string    // the number of our last session, which the device may believe alive
}

func (m *Memory) until() time.Time { m.mu.Lock(); defer m.mu.Unlock(); return m.due }

// onTrial tells whether something of ours may be on trial.
func (m *Memory) onTrial() bool { return !m.until().IsZero() }

func (m *Memory) set(due time.Time) { m.mu.Lock(); defer m.mu.Unlock(); m.due = due }

func (m *Memory) edited(is bool) { m.mu.Lock(); defer m.mu.Unlock(); m.edits = is }

func (m *Memory) hasEdited() bool { m.mu.Lock(); defer m.mu.Unlock(); return m.edits }

// begins takes down the number of a session that begins, and returns that of the last.
func (m *Memory) begins(session string) (last string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	last, m.session = m.session, session
	return last
}

// Session works one device by NETCONF. It implements [driver.Session] and is used by one
// goroutine at a time.
type Session struct {
	profile.Confided
	p        *profile.Profile
	schema   tree.Schema
	c        *client
	mem      *Memory
	log      profile.Transcript
	host     string
	key      func() string // the fingerprint of its host key
	last     string        // the number of our session before this one
	locked   bool          // the candidate is ours
	edits    []string      // that stand in the candidate, as they were sent
	fragment string        // the start of XML that goes on in the next line
	lately   struct {      // the datastore that was read last
		root *tree.Node
		text string
		full bool // all of it stands in the transcript
	}
	closed bool
}

var (
	_ driver.Session  = (*Session)(nil)
	_ driver.Trial    = (*Session)(nil)
	_ driver.Restorer = (*Session)(nil)
	_ driver.Saver    = (*Session)(nil)
)

// Start takes over the stream of the NETCONF subsystem of a device that has just been
// logged in to. On an error, a [reach.Failure], the stream is closed.
func Start(ctx context.Context, p *profile.Profile, rw io.ReadWriteCloser, opt profile.Options, mem *Memory) (*Session, error) {
	s := &Session{Confided: profile.NewConfided(p, opt.Secrets), p: p, schema: p.Schema(), mem: mem, log: opt.Log, key: opt.Key}
	fail := func(cause, remedy string, err error) error {
		rw.Close()
		f := &reach.Failure{Stage: reach.Prompt, Cause: s.Mask(cause), Remedy: remedy, Err: err}
		s.log.Note(f.Error())
		return f
	}
	if opt.Watch != nil {
		opt.Watch(reach.Prompt)
	}
	var err error
	if s.c, err = hello(ctx, rw, s.schema, p.Within()); err != nil {
		return nil, fail("logged in, then no NETCONF: "+err.Error(), "see whether its NETCONF listens on this port, and whether the login may use it", err)
	}
	s.log.Note(fmt.Sprintf("NETCONF session %s begins", s.c.session))
	if lacks, remedy := s.lacks(); lacks != "" {
		return nil, fail(lacks, remedy, nil)
	}
	s.last = s.mem.begins(s.c.session)
	if p.Models.Name != "" {
		if s.host, err = s.readName(ctx); err != nil {
			return nil, fail("its name cannot be read: "+err.Error(), "see models: name: in its profile", err)
		}
	}
	return s, nil
}

// lacks says what the profile needs of the device and the device does not offer.
func (s *Session) lacks() (what, remedy string) {
	n, can := s.p.Netconf, s.c.can
	switch {
	case n.Edit == profile.Candidate && !can[canCandidate]:
		return "it offers no candidate", "write netconf: {edit: running} and timer: {kind: none} in its profile"
	case n.Edit == profile.RunningDS && !can[canWriteRunning]:
		return "what runs on it cannot be edited", "write netconf: {edit: candidate} in its profile"
	case s.p.Timer.Kind == plan.TrialTimer && !can[canConfirm]:
		return "it offers no confirmed commit that persists (confirmed-commit:1.1)", "a trial that ends with its session cannot be kept by another: nothing but timer: {kind: none} with edit: running is safe on it"
	case n.Saved == profile.Startup && !can[canStartup]:
		return "it has no startup configuration of its own", "write netconf: {saved: running} in its profile"
	case n.Saved == profile.RunningDS && can[canStartup]:
		return "it has a startup configuration of its own, and its profile says that it starts with what runs", "write netconf: {saved: startup} in its profile"
	}
	return "", ""
}

// readName reads the device's own name.
func (s *Session) readName(ctx context.Context) (string, error) {
	at, err := tree.ParsePath(s.p.Models.Name)
	if err != nil {
		return "", err
	}
	root, err := s.get(ctx, at)
	if err != nil {
		return "", err
	}
	found := at.Find(root)
	if len(found) != 1 {
		return "", fmt.Errorf("%s is there %d times", at, len(found))
	}
	name := tree.Said(found[0].Value)
	if len(name) > 64 {
		name = name[:64]
	}
	return name, nil
}

// Host is the device's own name; "" when its profile does not say where it stands.
func (s *Session) Host() string { return s.host }

// Who says who the device says it is.
func (s *Session) Who(ctx context.Context) (identity.Seen, error) {
	return s.p.Who(ctx, s.host, s.key, s.Read)
}

// Close ends the session. What stands in the candidate and was not applied is dropped.
func (s *Session) Close() error {
	if s.closed {
		return nil
	}
	s.closed = true
	if s.c.broken == nil {
		ctx, cancel := context.WithTimeout(context.Background(), farewell)
		defer cancel()
		if len(s.edits) > 0 {
			_ = s.ask(ctx, "discard-changes", "<discard-changes/>")
		}
		_ = s.unlock(ctx)
		_, _ = s.c.call(ctx, "<close-session/>")
	}
	return s.c.rw.Close()
}

// farewell bounds how long ending a session gently may take.
const farewell = 3 * time.Second

var errFragment = errors.New("an XML element is begun and not ended")
