package acts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/device"
	"metabasis/internal/device/lines"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// Evening is devices selected to be reached, read or asked, with nothing changed on
// them. Before anything connects it must be made [Evening.Ready].
type Evening struct {
	*Desk
	Fleet *fleet.Fleet
	Scope *scope.Scope
	// Connector opens sessions, once the evening is ready.
	Connector *device.Connector
	// Transcripts is the directory of what is said.
	Transcripts string
	// Warnings are what was met while it was made ready.
	Warnings []string

	access  *workspace.Access
	scripts *store.Transcripts
	part    bool // another evening has its access
}

// Devices are the devices in scope.
func (e *Evening) Devices() []fleet.Device { return e.Scope.Devices }

// Device finds a device in scope by its name.
func (e *Evening) Device(name string) (fleet.Device, bool) {
	i := slices.IndexFunc(e.Scope.Devices, func(d fleet.Device) bool { return d.Name == name })
	if i < 0 {
		return fleet.Device{}, false
	}
	return e.Scope.Devices[i], true
}

// Title says in a line what is in scope.
func (e *Evening) Title() string {
	if e.Scope.Source != "" {
		return e.Path() + "  where " + e.Scope.Source
	}
	return e.Path()
}

// Ready gets ready to reach the devices: secrets are found or asked for, jump hosts
// that ask for more are connected to. What is said is kept under a name that begins
// with what the evening is for. Close must be called then.
func (e *Evening) Ready(ctx context.Context, what string) (err error) {
	began := time.Now()
	defer func() { e.did("ready", began, err, "for", what, "devices", len(e.Scope.Devices)) }()
	if e.access, err = e.accessTo(ctx, e.Fleet, e.Scope.Devices); err != nil {
		return err
	}
	e.Warnings = e.access.Warnings
	now := time.Now()
	e.Transcripts = e.TranscriptsAt(now, now.Format("150405")+"-"+what)
	if e.scripts, err = store.NewTranscripts(e.Transcripts); err != nil {
		return errors.Join(err, e.access.Close())
	}
	e.Connector = e.access.Connector(e.scripts.For)
	e.access.OpenJumps(ctx, e.Connector, e.Scope.Devices)
	return nil
}

// Renew has secrets that were typed typed anew, after a login was denied: one may have
// been mistyped. Secrets that come from elsewhere stay as they are; what guards against
// accounts being locked out begins anew only for a secret that is another now.
func (e *Evening) Renew(ctx context.Context) error {
	if !e.finder().Typed() {
		return nil
	}
	e.refused()
	access, err := e.accessTo(ctx, e.Fleet, e.Scope.Devices)
	if err != nil {
		return err
	}
	old := e.access
	access.Follows(old)
	e.access, e.Connector = access, access.Connector(e.scripts.For)
	e.access.OpenJumps(ctx, e.Connector, e.Scope.Devices)
	return old.Close()
}

// accessTo gets ready to reach devices.
func (d *Desk) accessTo(ctx context.Context, f *fleet.Fleet, devices []fleet.Device) (*workspace.Access, error) {
	if d.Access != nil {
		return d.Access(f), nil
	}
	return d.Workspace.Access(ctx, f, devices, d.finder())
}

// Close ends what the evening had open.
func (e *Evening) Close() error {
	if e.part || e.access == nil {
		return nil
	}
	err := e.scripts.Close()
	if err != nil {
		err = fmt.Errorf("the transcripts of this are not complete: %w", err)
	}
	return errors.Join(e.access.Close(), err)
}

// ErrInChange says that a night of this process works on a device: it is not disturbed.
var ErrInChange = errors.New("not tried: the night that runs works on it")

// free says whether a device may be connected to now.
func (e *Evening) free(d fleet.Device) error {
	for _, n := range e.Planned() {
		if n.changes(d.Name) {
			return ErrInChange
		}
	}
	return nil
}

// open opens a session with a device, unless a night works on it.
func (e *Evening) open(ctx context.Context, d fleet.Device) (device.Session, error) {
	if err := e.free(d); err != nil {
		return nil, err
	}
	return e.Connector.Open(ctx, d, nil)
}

// Part is the evening with only some of its devices; none named are all of them. It
// has no life of its own.
func (e *Evening) Part(names []string) *Evening {
	p := *e
	p.part = true
	if len(names) > 0 {
		s := *e.Scope
		s.Devices = slices.DeleteFunc(slices.Clone(s.Devices), func(d fleet.Device) bool { return !slices.Contains(names, d.Name) })
		p.Scope = &s
	}
	return &p
}

// Together is how many devices are worked on at once.
func (e *Evening) Together() int { return e.Settings.Int(settings.Together) }

// Reach reaches the devices named, none are all, and tells what happens; each is
// called from several goroutines. It returns when all are done, or given up because
// ctx has ended, and names those that were not tried because a night works on them.
func (e *Evening) Reach(ctx context.Context, names []string, each func(reach.Event)) (inChange []string) {
	var devices []fleet.Device
	for _, d := range e.Part(names).Scope.Devices {
		if e.free(d) != nil {
			inChange = append(inChange, d.Name)
			continue
		}
		devices = append(devices, d)
	}
	began := time.Now()
	e.access.Once()
	defer func() { e.did("reach", began, ctx.Err(), "devices", len(devices), "in change", len(inChange)) }()
	send := func(ev reach.Event) {
		ev.At = time.Now()
		if r := ev.Result; r != nil && r.Failure != nil {
			e.failed(r.Failure)
			e.Log.Debug("not reached", "device", ev.Device, "stage", r.Failure.Stage.String(), "cause", r.Failure.Cause, "err", r.Failure.Err)
		} else {
			e.Log.Debug("reaching", "device", ev.Device, "stage", ev.Stage.String(), "over", r != nil)
		}
		each(ev)
	}
	reach.Sweep(ctx, devices, e.Together(), func(ctx context.Context, d fleet.Device) {
		r := e.Connector.Reach(ctx, d, func(s reach.Stage) { send(reach.Event{Device: d.Name, Stage: s}) })
		send(reach.Event{Device: d.Name, Result: &r})
	}, func(_ context.Context, d fleet.Device) {
		r := reach.Result{Device: d.Name, Failure: &reach.Failure{Stage: reach.Name, Cause: notBegun}}
		send(reach.Event{Device: d.Name, Result: &r})
	})
	return inChange
}

// failed takes note of why a device was not reached.
func (e *Evening) failed(f *reach.Failure) {
	if f.Stage == reach.Login || f.Stage == reach.Privileged {
		e.refused()
	}
}

// told is an error of a device as it may be shown.
func told(s interface{ Mask(string) string }, err error) string {
	if errors.Is(err, context.Canceled) { // we gave up, not the device
		return "given up before it had answered"
	}
	return s.Mask(err.Error())
}

// sweep does something to every device in scope, so many together. Each result is told of as it comes, one
// at a time, where each is not nil; all of them come in the fleet's order. Those that were not begun with are
// given a result by skipped.
func sweep[T any](
	ctx context.Context, e *Evening, each func(T), do func(context.Context, fleet.Device) T, skipped func(fleet.Device) T,
) (out []T) {
	var mu sync.Mutex
	done := map[string]T{}
	take := func(d fleet.Device, one T) {
		mu.Lock()
		defer mu.Unlock()
		done[d.Name] = one
		if each != nil {
			each(one)
		}
	}
	reach.Sweep(ctx, e.Scope.Devices, e.Together(),
		func(ctx context.Context, d fleet.Device) { take(d, do(ctx, d)) },
		func(_ context.Context, d fleet.Device) { take(d, skipped(d)) })
	for _, d := range e.Scope.Devices {
		out = append(out, done[d.Name])
	}
	return out
}

// notBegun is why a device was not reached that was never tried.
const notBegun = "not begun: given up before"

// Where tells which devices in scope a condition selects, and what it goes by of what they told
// when they were last read.
func (e *Evening) Where(condition string) (names, told []string, err error) {
	from, err := e.From()
	if err != nil {
		return nil, nil, err
	}
	s, err := scope.Select(
		&fleet.Fleet{File: e.Fleet.File, Devices: e.Scope.Devices, Columns: e.Fleet.Columns, Kinds: e.Fleet.Kinds, Tables: e.Fleet.Tables},
		[]string{condition},
		from,
	)
	if err != nil {
		return nil, nil, err
	}
	for _, d := range s.Devices {
		names = append(names, d.Name)
	}
	return names, s.Told.Says(), nil
}

// SaveScope saves what is in scope as a selection: a condition as that, else the names that it
// means now. It says so, and what the name meant before, if it was another thing.
func (e *Evening) SaveScope(name string) (said string, err error) {
	var s scope.Selection
	switch {
	case e.Scope.Source == "":
		return "", errors.New("the whole fleet needs no selection; give a scope to save")
	case e.Scope.Condition:
		s.Where = e.Scope.Source
	default:
		for _, d := range e.Scope.Devices {
			s.Devices = append(s.Devices, d.Name)
		}
	}
	return e.SaveAs(name, s)
}

// SaveAs saves a selection, and says so as [Evening.SaveScope] does.
func (e *Evening) SaveAs(name string, s scope.Selection) (said string, err error) {
	before, err := e.SaveSelection(name, s)
	if err != nil {
		return "", err
	}
	said = fmt.Sprintf("saved: @%s means ", name)
	if s.Where != "" {
		said += s.Where
	} else {
		said += report.Some(s.Devices, 4)
	}
	if before != nil {
		said += "; before, it meant " + before.Condition()
	}
	return said, nil
}

// LoginOf names the login of a device, and where that is said.
func (e *Evening) LoginOf(d fleet.Device) (login, from string) {
	if e.access == nil {
		return e.Workspace.LoginOf(d, nil)
	}
	return e.Workspace.LoginOf(d, e.access.Config)
}

// Said returns what was said with a device; fs.ErrNotExist where nothing was.
func (e *Evening) Said(device string) ([]string, error) { return e.scripts.Read(device) }

// Console opens a device to be worked by hand, in a window of that size; with anyway, also
// where another device answers than is meant.
func (e *Evening) Console(ctx context.Context, device string, columns, rows int, anyway bool) (*lines.Raw, error) {
	d, ok := e.Device(device)
	if !ok {
		return nil, fmt.Errorf("%s is not in scope", device)
	}
	return e.Connector.Console(ctx, d, columns, rows, anyway)
}

// NeverSent tells whether a line is one that the profile of a device never has sent.
func (e *Evening) NeverSent(d fleet.Device, line string) bool {
	return e.Desk.neverSent(d.Platform, line)
}

// Tables are the tables that some profile in scope reads.
func (e *Evening) Tables() []string {
	all := map[string]bool{}
	for _, d := range e.Scope.Devices {
		for n := range e.Profiles[d.Platform].Readers {
			all[n] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// NewKey is the host key that a device showed for the first time; nil when that is not
// why it was not reached.
func NewKey(r *reach.Result) *store.NewKey {
	var k *store.NewKey
	if r != nil && r.Failure != nil && errors.As(r.Failure.Err, &k) {
		return k
	}
	return nil
}

// Fingerprint is a new key's, with its kind and whose it is; "" where there is none.
func Fingerprint(r *reach.Result) string {
	if k := NewKey(r); k != nil {
		return k.Fingerprint() + "  " + k.Key.Type() + " of " + k.Host
	}
	return ""
}

// Words on new host keys.
const (
	Remember = "remember"
	Once     = "once"
	Refuse   = "refuse"
)

// Accept asks about the host keys that were shown for the first time, each of them
// whole, since half a fingerprint proves nothing. It returns the devices that can be
// reached again: none where the keys were refused.
func (e *Evening) Accept(ctx context.Context, results []*reach.Result) ([]string, error) {
	keys, ok := e.access.HostKeys.(*store.HostKeys)
	if !ok || e.Person == nil {
		return nil, person.ErrNobody
	}
	word, err := person.AskOne(
		ctx,
		formPerson{e.Person, printsOf(results)},
		"",
		person.Question{Text: "Accept them?", Choices: []person.Choice{
			{Word: Refuse, Does: "the devices stay unreached"},
			{Word: Once, Does: "accept them this once and go on"},
			{Word: Remember, Does: "accept them for good and go on"},
		}},
	)
	if err != nil || word == Refuse {
		return nil, err
	}
	var again []string
	for _, r := range results {
		if k := NewKey(r); k != nil {
			if err := keys.Accept(k, word == Remember); err != nil {
				return nil, err
			}
			if err := e.newKey(r.Device, k); word == Remember && err != nil {
				return nil, err
			}
			again = append(again, r.Device)
		}
	}
	return again, nil
}

// newKey takes a key that was accepted for good for the device's own, where another one was
// seen under its name before: nobody is asked the same twice.
func (e *Evening) newKey(device string, k *store.NewKey) error {
	ids, err := e.Identities()
	if err != nil {
		return err
	}
	last := ids.Last(device)
	if d, ok := e.Device(device); !ok || last.Key == "" || last.Key == k.Fingerprint() || len(d.Jump) > 0 {
		return nil // behind a jump host, the key may be that host's
	}
	return ids.Accept(device, last.With(identity.Seen{Key: k.Fingerprint()}), time.Now(), Who(), "its new host key was accepted")
}

// formPerson puts what must be seen before every question.
type formPerson struct {
	person.Person
	form person.Form
}

// Ask implements [person.Person].
func (p formPerson) Ask(ctx context.Context, f person.Form) ([]string, error) {
	f.Title, f.Lines = p.form.Title, p.form.Lines
	return p.Person.Ask(ctx, f)
}

// printsOf lists the new keys, each with the devices that wait for it: those behind a
// jump host may all wait for its key.
func printsOf(results []*reach.Result) person.Form {
	prints, devices := Prints(results)
	f := person.Form{Title: fmt.Sprintf("%s shown for the first time", report.Count(len(prints), "host key"))}
	f.Lines = append(f.Lines, "Compare them with what the devices' own consoles say. A wrong one means that",
		"somebody stands between you and the device.", "")
	for _, p := range prints {
		f.Lines = append(f.Lines, p+"  "+report.Some(devices[p], 2))
	}
	return f
}

// Prints lists the fingerprints of new keys, each with its devices.
func Prints(results []*reach.Result) (prints []string, devices map[string][]string) {
	devices = map[string][]string{}
	for _, r := range results {
		p := Fingerprint(r)
		if p == "" {
			continue
		}
		if devices[p] == nil {
			prints = append(prints, p)
		}
		devices[p] = append(devices[p], r.Device)
	}
	return prints, devices
}
