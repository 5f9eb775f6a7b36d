package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/record"
	"metabasis/internal/core/run"
	"metabasis/internal/core/work"
	"metabasis/internal/device"
	"metabasis/internal/device/echo"
	"metabasis/internal/device/profile"
	"metabasis/internal/report"
	"metabasis/internal/store"
	"metabasis/internal/store/locks"
	"metabasis/internal/store/within"
)

// JournalFile is where the journal of the workspace is.
func (w *Workspace) JournalFile() string { return filepath.Join(w.Dir, "metabasis.db") }

// ReadJournal opens the journal to read past nights. Where there is none yet, the
// error is fs.ErrNotExist.
func (w *Workspace) ReadJournal() (*store.Journal, error) {
	return store.ReadJournal(w.JournalFile())
}

// Transcripts is the directory of a past night's transcripts.
func (w *Workspace) Transcripts(night int64) string {
	id := strconv.FormatInt(night, 10)
	folders, _ := within.Match(filepath.Join(w.Dir, "transcripts"), "*")
	for _, folder := range folders {
		dir := filepath.Join(folder, "night-"+id)
		if _, err := os.Stat(dir); err == nil {
			return dir
		}
	}
	return filepath.Join(w.Dir, "transcripts", id) // as they were kept once
}

// TranscriptsAt is where transcripts of what begins at that time are kept: under the same
// day or night as evidence is.
func (w *Workspace) TranscriptsAt(at time.Time, name string) string {
	return filepath.Join(w.Dir, "transcripts", store.FolderOf(at), name)
}

// OpenNight is a run that is ready to go, with its place in the workspace. Nothing of it
// is written before [OpenNight.Begin].
type OpenNight struct {
	ID   int64 // in the journal; 0 before it has begun
	Plan *plan.Plan
	Run  *run.Run // nil before it has begun
	// Connector is what the run reaches devices with.
	Connector *device.Connector
	// Broke is told where Metabasis itself fails on a device, and of the stack then; nil is
	// told nothing.
	Broke func(device string, what any, stack []byte)
	// AtConsole tells whether somebody works a device by hand at this moment; nil says so of all.
	AtConsole func(device string) bool

	w          *Workspace
	sealed     func(device string) (work.Sealed, bool) // nil: nobody sealed it
	resumed    func(device string) *work.Resumed       // nil: it goes on with no other
	head       store.NightHead
	unattended bool
	by         string
	alone      bool // its devices are its own: they are simulated in this process
	lock       *locks.Lock
	claims     *locks.Claims
	journal    *store.Journal

	mu      sync.Mutex
	scripts *store.Transcripts // nil as long as nothing was said
	notes   []string
}

// Notes are what was met when it began and when it ended, for the person.
func (n *OpenNight) Notes() []string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return slices.Clone(n.notes)
}

// Note adds what was met.
func (n *OpenNight) Note(text string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.notes = append(n.notes, text)
}

// Prepare gets a run ready. Close must be called once it is over.
func (w *Workspace) Prepare(p *plan.Plan, file, text string, access *Access, unattended bool, by string) *OpenNight {
	n := &OpenNight{Plan: p, w: w, unattended: unattended, by: by, alone: access.fixed,
		head: store.NightHead{Title: p.Title, Change: p.Change, File: file, Runbook: w.Masked(p, text)}}
	n.Connector = access.Connector(n.transcript)
	return n
}

// Masked is the text of a runbook as it may be kept: without secrets.
func (w *Workspace) Masked(p *plan.Plan, text string) string { return p.Mask(w.maskRunbook(text)) }

// Seal holds the night against what was approved: a device that is not what was sealed,
// or to which other lines would be sent, is not changed.
func (n *OpenNight) Seal(sealed func(device string) (work.Sealed, bool)) { n.sealed = sealed }

// transcript is where what is said with a device is kept; before the night has begun,
// that is what was said before it.
func (n *OpenNight) transcript(device string) profile.Transcript {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.scripts == nil {
		now := time.Now()
		scripts, err := store.NewTranscripts(n.w.TranscriptsAt(now, now.Format("150405")+"-before"))
		if err != nil {
			return nowhere{}
		}
		n.scripts = scripts
	}
	return n.scripts.For(device)
}

// said is the transcripts as they stand; nil when there are none.
func (n *OpenNight) said() *store.Transcripts {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.scripts
}

// Tail returns the last lines of a device's transcript.
func (n *OpenNight) Tail(device string, lines int) []string {
	if s := n.said(); s != nil {
		return s.Tail(device, lines)
	}
	return nil
}

// Transcript returns all of a device's transcript; fs.ErrNotExist where there is none.
func (n *OpenNight) Transcript(device string) ([]string, error) {
	if s := n.said(); s != nil {
		return s.Read(device)
	}
	return nil, fs.ErrNotExist
}

// nowhere is a transcript that cannot be kept.
type nowhere struct{}

func (nowhere) Sent(string, string) {}
func (nowhere) Got([]string)        {}
func (nowhere) Note(string)         {}

// Begin takes the workspace and the devices for this night and enters it in the
// journal. Where another night has the workspace, the error is a [locks.Held];
// with wait it waits for that night's end, and say is told of whom it waits for.
func (n *OpenNight) Begin(ctx context.Context, wait bool, say func(string)) error {
	n.head.Began = time.Now()
	if err := n.take(ctx, wait, say); err != nil {
		return err
	}
	if err := n.enter(ctx); err != nil {
		return err
	}
	said := n.w.TranscriptsAt(n.head.Began, fmt.Sprintf("night-%d", n.ID))
	scripts, err := store.NewTranscripts(said)
	if err != nil {
		return err
	}
	n.mu.Lock()
	before := n.scripts
	n.scripts = scripts
	n.mu.Unlock()
	if before != nil {
		_ = before.Close()
	}
	name, devices := fmt.Sprintf("night %d", n.ID), n.Plan.Devices()
	o := run.Options{Unattended: n.unattended, By: n.by, Asleep: asleep, Outside: work.Outside{
		Connector: n.Connector,
		Record:    n.record,
		Backups: n.w.Backups(
			name,
			devices...),
		Shelve:     n.w.Backups(name+", after", devices...).Put,
		Predict:    n.w.Predictions(name, devices...).Put,
		Here:       echo.Reach,
		Wait:       wait,
		Remnants:   n.remnants(ctx),
		Unfinished: n.w.Unfinished(ctx, n.ID),
		Resumed:    n.resumed,
		Rehearsed:  n.rehearsed(ctx),
		Sealed:     n.sealed,
		Broke:      n.Broke,
		AtConsole:  n.AtConsole,
	}}
	ids, err := n.w.Identities()
	if err != nil {
		return err
	}
	o.Who = ids
	if n.claims != nil {
		n.claims.TakeAll(n.keysOf(ctx))
		o.Claim, o.ClaimAs = n.claim, n.claimKeys
	}
	writer, err := n.journal.Writer(n.ID)
	if err != nil {
		return err
	}
	if o.Journal, err = n.standing(writer, said); err != nil {
		return err
	}
	n.Run = run.New(n.Plan, o)
	return nil
}

// record implements work.Outside.Record.
func (n *OpenNight) record(phase string, d record.Device) error {
	rec := record.Record{Name: RecordName(n.ID, phase), At: n.head.Began, By: n.by, Of: fmt.Sprintf("night %d, %s", n.ID, phase)}
	// Where what it told cannot be kept for scopes, these go by what it told before, and say when.
	_ = n.w.Told().PutRecord(rec.Of, d)
	return n.w.Records().Add(rec, d)
}

// RecordName is the name of the record that a night takes, before its changes or after.
func RecordName(night int64, phase string) string { return fmt.Sprintf("night-%d-%s", night, phase) }

// take locks the workspace's journal, which has one writer, and opens the claims on
// devices of this machine.
func (n *OpenNight) take(ctx context.Context, wait bool, say func(string)) error {
	dir, err := filepath.Abs(n.w.Dir)
	if err != nil {
		dir = n.w.Dir
	}
	me := locks.Holder{Who: n.by, What: n.head.Title, Workspace: dir, PID: os.Getpid(), Since: n.head.Began}
	for told := false; ; told = true {
		n.lock, err = locks.File(filepath.Join(n.w.Dir, lockFile), "this workspace", me)
		var held *locks.Held
		switch {
		case err == nil:
		case !errors.As(err, &held) || !wait:
			return err
		case !told:
			say("waiting: " + err.Error())
			fallthrough
		default:
			select {
			case <-time.After(waitFor):
				continue
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		break
	}
	if n.alone {
		return nil
	}
	n.claims, err = Claims(me)
	return err
}

// Claims opens the claims of this machine, for one that works on devices.
func Claims(me locks.Holder) (*locks.Claims, error) {
	dir := locks.Dir(os.Getenv)
	c, err := locks.OpenClaims(dir, me)
	if err != nil {
		return nil, fmt.Errorf(
			"what keeps two nights off one device cannot be written in %s: %w; name another directory in METABASIS_CLAIMS, the same for all who work here",
			dir,
			err,
		)
	}
	return c, nil
}

// waitFor is the time between two looks whether another night has ended.
const waitFor = time.Second

// enter writes the night into the journal. A journal that is damaged is set aside
// first: a new night can always be run.
func (n *OpenNight) enter(ctx context.Context) error {
	file := n.w.JournalFile()
	err := n.tryEnter(ctx, file)
	if !store.Broken(err) {
		return err
	}
	if n.journal != nil {
		_ = n.journal.Close()
		n.journal = nil
	}
	aside, saved, err2 := store.SetAside(ctx, file, time.Now())
	if err2 != nil {
		return errors.Join(err, err2)
	}
	n.Note(fmt.Sprintf("the journal was damaged (%v); it is set aside as %s, and %d of its nights stand in the new one", err, aside, saved))
	return n.tryEnter(ctx, file)
}

func (n *OpenNight) tryEnter(ctx context.Context, file string) (err error) {
	if n.journal, err = store.OpenJournal(file); err != nil {
		n.journal = nil
		return err
	}
	if err := n.journal.Sound(ctx); err != nil {
		return err
	}
	w, err := n.journal.Begin(n.head)
	if err == nil {
		n.ID = w.ID
	}
	return err
}

// keysOf are what the devices of the plan are claimed by.
func (n *OpenNight) keysOf(ctx context.Context) (out []string) {
	ids, err := n.w.Identities()
	for _, t := range n.Plan.Targets() {
		out = append(out, n.keys(ctx, t)...)
		if err == nil {
			out = append(out, ids.Last(t.Device.Name).Holds()...)
		}
	}
	return out
}

// keys are what a device is claimed by: its address and port, and where it has a
// name, those that the name stands for, too.
func (n *OpenNight) keys(ctx context.Context, t *plan.Target) []string {
	addr := n.Connector.Address(t.Device)
	out := []string{addr}
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return out
	}
	if _, err := netip.ParseAddr(host); err == nil || len(t.Device.Jump) > 0 {
		return out
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	addrs, _ := net.DefaultResolver.LookupHost(ctx, host)
	for _, a := range addrs {
		out = append(out, net.JoinHostPort(a, port))
	}
	return out
}

// claim implements work.Outside.Claim.
func (n *OpenNight) claim(ctx context.Context, t *plan.Target) (func(), error) {
	return n.claimKeys(ctx, n.keys(ctx, t))
}

// claimKeys implements work.Outside.ClaimAs.
func (n *OpenNight) claimKeys(_ context.Context, keys []string) (func(), error) {
	for _, err := range n.claims.TakeAll(keys) {
		var held *locks.Held
		if errors.As(err, &held) {
			return nil, &work.Taken{By: held.By.String()}
		}
		return nil, err
	}
	return func() {
		for _, k := range keys {
			n.claims.Release(k)
		}
	}, nil
}

// remnants finds the timers that nights without an end have left on devices.
func (n *OpenNight) remnants(ctx context.Context) func(string) []work.Remnant {
	return n.w.remnantsIn(ctx, n.journal, n.ID)
}

// Remnants is what the nights of the workspace have left on devices, and what the one that
// runs now has armed. What cannot be read is not known.
func (w *Workspace) Remnants(ctx context.Context) func(device string) []work.Remnant {
	j, err := w.ReadJournal()
	if err != nil {
		return nil
	}
	defer j.Close()
	return w.remnantsIn(ctx, j, 0)
}

// remnantsIn finds them in a journal, except those of one night.
func (w *Workspace) remnantsIn(ctx context.Context, j *store.Journal, except int64) func(device string) []work.Remnant {
	left := map[string][]work.Remnant{}
	heads, _ := j.Nights(ctx)
	for _, h := range heads {
		if h.ID == except || h.Damage != nil || time.Since(h.Began) > oldest {
			continue
		}
		_, runs := w.Running(h)
		told, _ := j.Standing(ctx, h.ID) // of a damaged night, what can be read
		for device, dues := range told.TimersLeft() {
			for _, due := range dues {
				left[device] = append(
					left[device],
					work.Remnant{ID: h.ID, Night: fmt.Sprintf("%q of %s", h.Title, h.Began.Local().Format("Mon 2 Jan 15:04")), Due: due, Runs: runs},
				)
			}
		}
	}
	return func(device string) []work.Remnant { return left[device] }
}

// oldest is the longest that a timer may have been pending.
const oldest = 8 * 24 * time.Hour

// Stand writes down how the night stands, for whoever reads that and need not read all that happened.
func (n *OpenNight) Stand(told *night.Night) error { return n.journal.Stand(n.ID, told) }

// Finish writes what the night came to, at its end, and gives free the workspace and the
// devices: another night can begin. What was said can be read on, until [OpenNight.Close].
func (n *OpenNight) Finish(night *night.Night) error {
	var errs []error
	if n.journal != nil {
		if err := n.journal.Summarise(n.ID, Summed(night)); err != nil {
			errs = append(errs, fmt.Errorf("what the night came to is not written; it is read from its events: %w", err))
		}
		errs = append(errs, n.journal.Close())
		n.journal = nil
	}
	if n.claims != nil {
		errs = append(errs, n.claims.Close())
		n.claims = nil
	}
	if n.lock != nil {
		errs = append(errs, n.lock.Close())
		n.lock = nil
	}
	return errors.Join(errs...)
}

// Summed is what a night came to.
func Summed(n *night.Night) store.Summary {
	s := store.Summary{Ended: n.Ended, Last: n.Last, Outcome: n.Outcome(), Text: report.Summary(n)}
	if n.Ended.IsZero() {
		s.Outcome, s.Text = night.NeedsPerson, report.Crashed(n)
	}
	if times := n.Times(); len(times.Parts) > 0 {
		s.Times = &times
	}
	for _, d := range n.Devices {
		if d.State == night.Stranded || d.State == night.Dark {
			s.Needs = append(s.Needs, d.Name+" "+string(d.State))
		}
	}
	return s
}

// Close closes what the night has open still and gives free what it had taken.
func (n *OpenNight) Close() error {
	var errs []error
	if s := n.said(); s != nil {
		if err := s.Close(); err != nil {
			errs = append(errs, fmt.Errorf("the transcripts of this night are not complete: %w", err))
		}
	}
	if n.journal != nil {
		errs = append(errs, n.journal.Close())
	}
	if n.claims != nil {
		errs = append(errs, n.claims.Close())
	}
	if n.lock != nil {
		errs = append(errs, n.lock.Close())
	}
	return errors.Join(errs...)
}

// Running tells whether a night of the journal is running now, and by whom.
func (w *Workspace) Running(h store.NightHead) (locks.Holder, bool) {
	by, held := locks.Look(filepath.Join(w.Dir, lockFile))
	return by, held && by.Since.Equal(h.Began)
}

const lockFile = "metabasis.lock"

// Past is a night of the journal.
type Past struct {
	store.NightHead
	Night night.Night // what of it can be read
	// Events are what it is a fold of.
	Events []night.Event
}

// Listed lists the nights of the workspace, newest first, without reading their events;
// those that were never begun are left away. An error says that not all could be
// listed; those that could are there.
func (w *Workspace) Listed(ctx context.Context) ([]store.Listed, error) {
	j, err := w.ReadJournal()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer j.Close()
	all, err := j.List(ctx)
	return slices.DeleteFunc(all, func(l store.Listed) bool { return l.Empty }), err
}

// nightsLearned is from how many nights is learned how long things take: the newest, since
// devices and ways change.
const nightsLearned = 10

// Estimates is what the newest nights of the workspace say of how long things take; nil
// where they say nothing. What cannot be read says nothing.
func (w *Workspace) Estimates(ctx context.Context) *plan.Estimates {
	all, _ := w.Listed(ctx)
	var nights []plan.Times
	for _, l := range all {
		if l.Summary != nil && l.Summary.Times != nil && len(nights) < nightsLearned {
			nights = append(nights, *l.Summary.Times)
		}
	}
	if r, err := w.Rehearsed(ctx, 0, ""); err == nil && time.Since(r.Ended) < staleAfter {
		nights = append(nights, r.Times())
	}
	if len(nights) == 0 {
		return nil
	}
	return plan.Learn(nights)
}

// Past reads one night. A night of which only a part can be read comes with an
// error that says so; one of which nothing can be shown has no outline.
func (w *Workspace) Past(ctx context.Context, id int64) (Past, error) {
	return w.read(ctx, id, func(j *store.Journal, p *Past) (err error) {
		p.Events, err = j.Events(ctx, id)
		p.Night = night.Fold(night.Night{}, p.Events...)
		return err
	})
}

// Standing is Past without the events: how the night stands, without reading all that happened.
func (w *Workspace) Standing(ctx context.Context, id int64) (Past, error) {
	return w.read(ctx, id, func(j *store.Journal, p *Past) (err error) {
		p.Night, err = j.Standing(ctx, id)
		return err
	})
}

func (w *Workspace) read(ctx context.Context, id int64, what func(*store.Journal, *Past) error) (Past, error) {
	j, err := w.ReadJournal()
	if err != nil {
		return Past{}, err
	}
	defer j.Close()
	heads, err := j.List(ctx)
	i := slices.IndexFunc(heads, func(h store.Listed) bool { return h.ID == id })
	if i < 0 {
		return Past{}, errors.Join(err, fmt.Errorf("night %d: %w", id, store.ErrNoNight))
	}
	p := Past{NightHead: heads[i].NightHead}
	err = what(j, &p)
	if text, wrong := j.Runbook(ctx, id); wrong != nil {
		err = errors.Join(err, wrong)
	} else {
		p.Runbook = text
	}
	if p.Damage == nil {
		p.Damage = err
	}
	return p, p.Damage
}
