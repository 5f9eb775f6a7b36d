package nights

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/record"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/device"
	"metabasis/internal/device/profile"
	devssh "metabasis/internal/device/ssh"
	"metabasis/internal/sim"
	"metabasis/internal/store"
	"metabasis/profiles"
)

// Secrets of the test fleet. None may appear anywhere but in backups.
const (
	password = "lamp-harbour-31"
	operator = "deep-fathom-77"
	inConfig = "k3lp-s3cret-55"

	gatesWord  = "t1de-word" // over Telnet
	masterWord = "slow-turn-12"
)

const baseConfig = `name {{.Name}}
time source 192.0.2.9 first
time source 192.0.2.10 second
log host 198.51.100.9
manage from any
login crew secret ` + inConfig + `
lan 10
  title office
port 1
  trunk
port 2
  lan 10
port 3
  label "gate"
`

const intendedConfig = `name {{.Name}}
time source 192.0.2.40 first
time source 192.0.2.9 second
time source 192.0.2.10 third
log host 198.51.100.9
log host 198.51.100.14
manage from any
login crew secret ` + inConfig + `
lan 10
  title office
lan 310
  title gates
port 1
  trunk
port 2
  lan 10
port 3
  label "gate"
  lan 310
`

// world is everything a night needs.
type world struct {
	t          testing.TB
	sim        *sim.Fleet
	plan       *plan.Plan
	initial    map[string]string // configuration of each device when the night began
	journal    *recordingJournal
	backups    *recordingBackups
	scripts    *store.Transcripts // of the newest night
	dir        string
	night      night.Night
	started    time.Time
	unsaved    map[string]bool
	stored0    map[string]string // what was saved on each when the night began
	specs      map[string]sim.Spec
	dial       func(context.Context, string, string) (net.Conn, error) // nil: in memory
	store      work.Backups                                            // nil: on disk
	spy        func(device string, t profile.Transcript) profile.Transcript
	through    func(driver.Connector) driver.Connector // nil: devices are reached as they are
	broke      func(device string, what any, stack []byte)
	stored     *store.Journal
	storedID   int64
	mark       string // stands in the configuration of a device that is kept with the whole change
	noTimer    bool   // the runbook says "timer none"
	profiles   profile.Set
	secrets    []string      // further ones that may be written nowhere
	seen       []night.Event // all events of the newest night, written or not
	who        work.Identities
	remnants   func(device string) []work.Remnant
	unfinished func(device string) *work.Unfinished
	resumed    func(device string) *work.Resumed
	claim      func(ctx context.Context, t *plan.Target) (func(), error)
	wait       bool
	rehearsed  func(device string) *work.Earlier
	sealed     func(device string) (work.Sealed, bool)
	asleep     func() time.Duration
	record     func(phase string, d record.Device) error
	here       func(context.Context, string) (runbook.Reached, error)
	predict    func(device, text string) error // nil takes it
	predicted  *memory                         // what was predicted that each device will have
	drawn      *sim.Manners                    // of its dunlins, when it has any
	loose      bool                            // the order of lines that have none is not held against the truth
	typing     *sync.Mutex
	typed      map[string]bool // lines that were typed by hand, which nobody had to intend
	misled     bool            // its profile is wrong in one place: what is said must be true all the same
}

// recordingJournal keeps events with the time at which each became durable.
type recordingJournal struct {
	run.MemoryJournal
	inner   run.Journal
	mu      sync.Mutex
	appends int
}

func (j *recordingJournal) Append(ev []night.Event) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.appends++
	if j.inner != nil {
		if err := j.inner.Append(ev); err != nil {
			return err
		}
	}
	return j.MemoryJournal.Append(ev)
}

// recordingBackups remembers when each device's backup was on disk.
type recordingBackups struct {
	store.Backups
	mu   sync.Mutex
	done map[string]time.Time
	text map[string]string
}

func (b *recordingBackups) Put(device, text string, at time.Time) (work.Backup, error) {
	out, err := b.Backups.Put(device, text, at)
	b.mu.Lock()
	defer b.mu.Unlock()
	if err == nil {
		b.done[device], b.text[device] = time.Now(), text
	}
	return out, err
}

func newWorld(t testing.TB, s sim.Scenario, fleetCSV, book string, dir string) *world {
	t.Helper()
	return newWorldWith(t, s, fleetCSV, book, nil, dir)
}

func newWorldWith(t testing.TB, s sim.Scenario, fleetCSV, book string, answers map[string]string, dir string) *world {
	t.Helper()
	return newWorldOf(t, shipped(t), s, fleetCSV, book, answers, dir)
}

// shipped are the profiles that ship, read once: a test that changes one changes a copy.
func shipped(t testing.TB) profile.Set {
	t.Helper()
	set, err := readShipped()
	require.NoError(t, err)
	return maps.Clone(set)
}

var readShipped = sync.OnceValues(profiles.Shipped)

// newWorldOf makes a world whose platforms have these profiles.
func newWorldOf(t testing.TB, set profile.Set, s sim.Scenario, fleetCSV, book string, answers map[string]string, dir string) *world {
	t.Helper()
	return newWorldPast(t, set, s, fleetCSV, book, answers, dir, nil)
}

// past finds what a device had, for a night that restores.
type past func(r runbook.Restore, device string) (runbook.Was, error)

// newWorldPast makes a world in which something is restored.
func newWorldPast(t testing.TB, set profile.Set, s sim.Scenario, fleetCSV, book string, answers map[string]string, dir string, was past) *world {
	t.Helper()
	fl, err := fleet.Read("fleet.csv", []byte(fleetCSV), set.Platforms())
	require.NoError(t, err)
	rb, err := runbook.Parse("night.runbook", []byte(book))
	require.NoError(t, err, book)
	require.NoError(t, rb.Fill(func(name string) ([]byte, error) { return os.ReadFile(filepath.Join(dir, name)) }))
	require.NoError(t, rb.Compile(set.Schema(fl)))
	rb.Past = was
	s.Logins, s.Operator, s.Config = map[string]string{"crew": password}, operator, baseConfig
	s.Privacy = masterWord
	s.ClearLogins, s.Master = map[string]string{"gates": gatesWord}, masterWord
	s.TimeSources = []string{"192.0.2.9", "192.0.2.10", "192.0.2.40"}
	simulated, err := sim.New(s)
	require.NoError(t, err)
	p, err := plan.Make(rb, fl, answers, set.Traits(), time.Now())
	require.NoError(t, err)
	w := &world{t: t, sim: simulated, plan: p, dir: dir, initial: map[string]string{}, unsaved: map[string]bool{}, stored0: map[string]string{}, specs: map[string]sim.Spec{}, mark: "log host 198.51.100.14", profiles: set}
	for _, d := range simulated.Devices() {
		w.initial[d.Name()], w.stored0[d.Name()] = d.Running(), d.Saved()
		w.unsaved[d.Name()] = d.Running() != d.Saved()
	}
	for _, spec := range s.Devices {
		w.specs[spec.Name] = spec
	}
	w.typing = &sync.Mutex{}
	w.journal = &recordingJournal{}
	w.who = &known{}
	w.predicted = &memory{text: map[string]string{}}
	w.backups = &recordingBackups{Backups: store.Backups{Dir: filepath.Join(dir, "backups")}, done: map[string]time.Time{}, text: map[string]string{}}
	return w
}

// reached is what its devices are reached through.
func (w *world) reached() driver.Connector {
	if w.through != nil {
		return w.through(w.connector())
	}
	return w.connector()
}

func (w *world) connector() *device.Connector {
	var err error
	w.scripts, err = store.NewTranscripts(filepath.Join(w.dir, "transcripts"))
	require.NoError(w.t, err)
	dial, scripts := w.sim.Dial, w.scripts.For
	if w.dial != nil {
		dial = w.dial
	}
	if w.spy != nil {
		scripts = func(device string) profile.Transcript { return w.spy(device, w.scripts.For(device)) }
	}
	return &device.Connector{
		Profiles: w.profiles, Dial: dial, HostKeys: w.sim.HostKeys(), Resolve: w.sim.Resolve, Guard: &device.Lockout{}, Transcript: scripts,
		Login: login,
	}
}

// login is a credential of the test fleet.
func login(_ context.Context, name string) (device.Login, error) {
	if name == "gates" {
		return device.Login{Login: devssh.Login{Name: name, User: name, Password: gatesWord}, Secrets: map[string]string{"master": masterWord}}, nil
	}
	return device.Login{Login: devssh.Login{Name: name, User: "crew", Password: password}, Secrets: map[string]string{"operator": operator, "privacy": masterWord}}, nil
}

// person decides for a run; it is called for every event, in order, and may
// start goroutines that decide later.
type person func(r *run.Run, e night.Event)

// run runs the night to its end and folds its events.
func (w *world) run(ctx context.Context, who person) {
	w.t.Helper()
	require.NoError(w.t, w.runTo(ctx, who))
}

// runTo runs the night to its end and returns what the run returned.
func (w *world) runTo(ctx context.Context, who person) error {
	w.t.Helper()
	var backups work.Backups = w.backups
	if w.store != nil {
		backups = w.store
	}
	r := run.New(w.plan, run.Options{Journal: w.journal, Unattended: who == nil, By: "test", Asleep: w.asleep, Outside: work.Outside{
		Connector: w.reached(), Broke: w.broke, Backups: backups, Who: w.who, Remnants: w.remnants, Unfinished: w.unfinished, Resumed: w.resumed,
		Claim: w.claim, Wait: w.wait, Rehearsed: w.rehearsed, Sealed: w.sealed, Record: w.record, Here: w.here, Predict: w.keepPredicted, Shelve: w.shelve()}})
	w.started, w.seen = time.Now(), nil
	done := make(chan error, 1)
	go func() { done <- r.Go(ctx) }()
	for events := range r.Events() {
		w.night = night.Fold(w.night, events...)
		w.seen = append(w.seen, events...)
		if who != nil {
			for _, e := range events {
				who(r, e)
			}
		}
	}
	err := <-done
	require.NoError(w.t, w.scripts.Close())
	return err
}

// shelve keeps what the night leaves; nowhere, where nothing is kept.
func (w *world) shelve() func(device, text string, at time.Time) (work.Backup, error) {
	if n, none := w.store.(nowhere); none {
		return n.Put
	}
	return w.left().Put
}

// left is what the night leaves on the devices it kept.
func (w *world) left() store.Backups {
	return store.Backups{Dir: filepath.Join(w.dir, "left"), Origin: "after"}
}

// memory keeps a text of each device.
type memory struct {
	mu   sync.Mutex
	text map[string]string
}

// keepPredicted implements work.Outside.Predict.
func (w *world) keepPredicted(device, text string, _ time.Time) (work.Backup, error) {
	if w.predict != nil {
		if err := w.predict(device, text); err != nil {
			return work.Backup{}, err
		}
	}
	w.predicted.mu.Lock()
	defer w.predicted.mu.Unlock()
	w.predicted.text[device] = text
	return work.Backup{}, nil
}

// runQuiet runs the night unattended.
func (w *world) runQuiet() { w.run(context.Background(), nil) }

// bare is a bare SSH client's shell on a device.
func bare(addr string) (io.ReadWriteCloser, error) {
	c, err := ssh.Dial("tcp", addr, &ssh.ClientConfig{User: "crew", Auth: []ssh.AuthMethod{ssh.Password(password)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return nil, err
	}
	s, err := c.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := s.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := errors.Join(s.RequestPty("dumb", 60, 250, ssh.TerminalModes{}), s.Shell()); err != nil {
		return nil, err
	}
	return bareShell{out, in, c}, nil
}

type bareShell struct {
	io.Reader
	io.Writer
	c *ssh.Client
}

func (b bareShell) Close() error { return b.c.Close() }

// loopback dials devices by their address in the scenario, on this machine.
func loopback(specs []sim.Spec, addrs map[string]string) func(context.Context, string, string) (net.Conn, error) {
	at := map[string]string{}
	for _, s := range specs {
		at[s.Address] = addrs[s.Name]
	}
	return func(ctx context.Context, network, addr string) (net.Conn, error) {
		host, _, err := net.SplitHostPort(addr)
		if err != nil {
			return nil, err
		}
		return (&net.Dialer{}).DialContext(ctx, network, at[host])
	}
}

// simple makes a world of a few devices with the standard runbook.
func simple(t testing.TB, devices []sim.Spec, edit func(string) string) *world {
	t.Helper()
	return simpleIn(t, t.TempDir(), devices, edit)
}

// simpleIn is simple in a directory that was made outside of a bubble.
func simpleIn(t testing.TB, dir string, devices []sim.Spec, edit func(string) string) *world {
	t.Helper()
	return simpleAsked(t, dir, devices, nil, edit)
}

// simpleWith is simple with answers to what the runbook asks for.
func simpleWith(t testing.TB, devices []sim.Spec, answers map[string]string, edit func(string) string) *world {
	t.Helper()
	return simpleAsked(t, t.TempDir(), devices, answers, edit)
}

func simpleAsked(t testing.TB, dir string, devices []sim.Spec, answers map[string]string, edit func(string) string) *world {
	t.Helper()
	return simpleOf(t, shipped(t), dir, devices, answers, edit)
}

// simpleOf is simple with profiles of the test's own.
func simpleOf(t testing.TB, set profile.Set, dir string, devices []sim.Spec, answers map[string]string, edit func(string) string) *world {
	t.Helper()
	return simplePast(t, set, dir, devices, answers, edit, nil)
}

// simplePast is simple with something to restore.
func simplePast(t testing.TB, set profile.Set, dir string, devices []sim.Spec, answers map[string]string, edit func(string) string, was past) *world {
	t.Helper()
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,pair,via,login\n")
	for i := range devices {
		d := &devices[i]
		if d.Name == "" {
			d.Name = fmt.Sprintf("ald-quay-%d", i+1)
		}
		d.Address = fmt.Sprintf("192.0.2.%d", 100+i)
		fmt.Fprintf(&csv, "%s,%s,%s,ALD,quay,%s,%s,%s\n", d.Name, d.Address, cmp.Or(d.Platform, "tern"), d.Pair, d.Uplink,
			map[bool]string{true: "gates", false: "crew"}[d.Platform == "plover"])
	}
	book := standardBook
	if edit != nil {
		book = edit(book)
	}
	return newWorldPast(t, set, sim.Scenario{Boot: 15 * time.Second, Settle: 8 * time.Second, Devices: devices}, csv.String(), book, answers, dir, was)
}

const standardBook = `runbook "Move the quays to the new clocks"
  window    now for 3h
  reserve   20m

scope
  role == "quay"

batches
  sizes     1, 4
  together  4

precheck
  reachable
  clock     within 30s
  saved
  storage   at least 20 MB

timer       4m

step "Time sources"
  already   when config has "time source 192.0.2.40 first"
  send
    | time source 192.0.2.40 first
  undo
    | drop time source 192.0.2.40
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Log collector"
  already   when config has "log host 198.51.100.14"
  send
    | log host 198.51.100.14
  undo
    | drop log host 198.51.100.14

step "Gates"
  already   when config has "port 3 > lan 310"
  send
    | lan 310
    | title gates
    | up
    | port 3
    | lan 310
    | up
  undo
    | port 3
    | drop lan
    | up
    | drop lan 310

finish
  soak      30s

unattended  take back the device
`

// journalText is the whole journal as it would be written.
func (w *world) journalText() string {
	var b strings.Builder
	for _, e := range w.journal.Events {
		line, err := json.Marshal(e)
		require.NoError(w.t, err)
		b.Write(line)
		b.WriteByte('\n')
	}
	return b.String()
}
