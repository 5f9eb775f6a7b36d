package acts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"metabasis/internal/attach"
	"metabasis/internal/core/night"
	"metabasis/internal/diag"
	"metabasis/internal/person"
)

// Attached is a night that runs in another process, and is seen and decided on from here.
type Attached struct {
	*attach.Client
	// Past is the night as it stood in the journal when it was attached to; what happened behind
	// that comes by [attach.Client.Next].
	Past *Past

	desk  *Desk
	needs atomic.Pointer[string]
	now   atomic.Pointer[night.Night]
}

// Notes say what is to be known of it before it is looked at.
func (a *Attached) Notes() (out []string) {
	if v := ofThis(); a.Client.Night.Version != v {
		out = append(out, fmt.Sprintf("the night is run by Metabasis %s, and this is %s", a.Client.Night.Version, v))
	}
	return append(out, a.Client.Night.Notes...)
}

// ofThis is the version of this Metabasis, as two of them tell each other apart.
func ofThis() string { return diag.Version() + " " + diag.Commit() }

// ErrNotAttached says that there is no night to attach to.
var ErrNotAttached = errors.New("no night runs in this workspace")

// Attach attaches to the night that runs in this workspace. Say is told what was met that is no
// reason not to.
func (d *Desk) Attach(ctx context.Context) (*Attached, error) {
	conn, err := attach.Connect(ctx, d.Dir)
	switch {
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return nil, d.noNight(ctx)
	case err != nil:
		return nil, fmt.Errorf("the night of this workspace cannot be attached to: %w", err)
	}
	a := &Attached{desk: d}
	b := &bookOf{desk: d}
	var told night.Night
	client, err := attach.Dial(ctx, conn, attach.Viewer{
		Hello:  looking(),
		Person: person.Func(d.ask),
		Seen: func(events ...night.Event) {
			if told.Outline == nil { // it begins with what the journal had
				told = b.past.Night
			}
			told = night.Fold(told, events...)
			a.needs.Store(new(needing(&told)))
			stands := told
			a.now.Store(&stands)
		},
	}, b)
	if err != nil {
		return nil, fmt.Errorf("the night of this workspace cannot be attached to: %w", err)
	}
	a.Client, a.Past = client, b.past
	return a, nil
}

// looking is who looks from here.
func looking() attach.Hello {
	return attach.Hello{Version: ofThis(), From: lookingFrom(os.Getenv), Agent: os.Getenv("SSH_AUTH_SOCK")}
}

// ask asks the desk's person, whoever that is by then.
func (d *Desk) ask(ctx context.Context, f person.Form) ([]string, error) {
	if d.Person == nil {
		return nil, person.ErrNobody
	}
	return d.Person.Ask(ctx, f)
}

// Needs is what needs a person now, in a few words; "" for nothing.
func (a *Attached) Needs() string {
	if p := a.needs.Load(); p != nil {
		return *p
	}
	return ""
}

// Console opens a device of the night to be worked by hand, in a window of that size.
func (a *Attached) Console(ctx context.Context, device string, columns, rows int) (*attach.Remote, error) {
	conn, err := attach.Connect(ctx, a.desk.Dir)
	if err != nil {
		return nil, attach.ErrGone
	}
	return attach.Work(ctx, conn, looking(), device, columns, rows)
}

// NeverSent tells whether a line is one that the profile of a device never has sent.
func (a *Attached) NeverSent(device, line string) bool {
	d := a.Past.Night.Get(device)
	return d != nil && a.desk.neverSent(d.Platform, line)
}

// WayBack says what takes back by itself what is done on a device now, and when.
func (a *Attached) WayBack(device string) string { return wayBack(a.now.Load(), device) }

// ClearText tells whether a device is reached without encryption.
func (a *Attached) ClearText(device string) bool {
	d := a.Past.Night.Get(device)
	return d != nil && d.ClearText
}

// noNight says why there is no night to attach to.
func (d *Desk) noNight(ctx context.Context) error {
	all, err := d.Nights(ctx)
	if err != nil {
		return fmt.Errorf("%w that can be attached to, and not all of the journal can be read: %w", ErrNotAttached, err)
	}
	for _, l := range all {
		switch {
		case l.Runs != "":
			return fmt.Errorf("night %d runs now, %s, and its process lets nobody attach", l.ID, l.Runs)
		case l.Summary == nil:
			return fmt.Errorf("%w; night %d was cut off, and nobody runs it: metabasis report %d tells what is known of it", ErrNotAttached, l.ID, l.ID)
		}
	}
	return ErrNotAttached
}

// bookOf is the journal of the night that is attached to.
type bookOf struct {
	desk *Desk
	past *Past
}

// written is how long the first events of a night may take to be written that lets others attach
// already.
const written = 10 * time.Second

// Last implements [attach.Journal].
func (b *bookOf) Last(ctx context.Context, of attach.Hello) (int64, error) {
	var err error
	for began := time.Now(); ; {
		b.past, err = b.desk.Open(ctx, of.Night)
		if b.past != nil || ctx.Err() != nil || time.Since(began) > written {
			break
		}
		select {
		case <-time.After(written / 200):
		case <-ctx.Done():
		}
	}
	if b.past == nil {
		return 0, fmt.Errorf("night %d cannot be read from the journal: %w", of.Night, err)
	}
	return int64(len(b.past.Events)), nil
}

// After implements [attach.Journal].
func (b *bookOf) After(ctx context.Context, last int64) ([]night.Event, error) {
	j, err := b.desk.ReadJournal()
	if err != nil {
		return nil, err
	}
	defer j.Close()
	return j.EventsAfter(ctx, b.past.ID, last)
}

// lookingFrom is from where somebody looks: the terminal, and the address that it was logged in
// from.
func lookingFrom(getenv func(string) string) string {
	var parts []string
	if tty, err := os.Readlink("/proc/self/fd/0"); err == nil && strings.HasPrefix(tty, "/dev/pts/") {
		parts = append(parts, strings.TrimPrefix(tty, "/dev/"))
	}
	if from, _, _ := strings.Cut(getenv("SSH_CONNECTION"), " "); from != "" {
		parts = append(parts, "from "+from)
	}
	return strings.Join(parts, " ")
}

// serve lets others attach to the night. That nobody can is noted, and no reason not to run it.
// Where somebody sits before it here, that one has the wheel first, unless the night outlives the
// screen.
func (n *Tonight) serve(ctx context.Context) (put func(...night.Event), over func()) {
	l, err := attach.Listen(ctx, n.desk.Dir)
	if err != nil {
		n.Note("nobody can attach to this night from another terminal: " + err.Error())
		return func(...night.Event) {}, func() {}
	}
	w := &watch{n: n}
	ends := !n.request.Unattended && n.EndsWithScreen()
	s := attach.Serve(ctx, l, attach.Served{
		Hello: attach.Hello{Version: ofThis(), Night: n.ID, Title: n.Plan.Title, By: Who(), PID: os.Getpid(),
			Screen: ends, Notes: n.Notes()},
		Do:     func(c night.Command) error { return n.Run.Do(ctx, c) },
		Took:   func(who, from string) { n.remark(ctx, tookWheel(who, from)) },
		Turned: func() { w.look(ctx) },
		Agent: func(at string) {
			if k := n.access.Keys; k != nil && k.Offer(at) {
				n.remark(ctx, "the SSH agent that the night began with answers no more; that of who has the wheel is asked from now on")
			}
		},
		Lines: n.Lines,
		Login: n.Login,
		Console: func(ctx context.Context, device string, columns, rows int) (attach.Session, error) {
			return n.Console(ctx, device, columns, rows)
		},
		Who: attach.Who,
	})
	w.set(s)
	switch {
	case ends:
		n.mu.Lock()
		n.local = s.Local(Who())
		n.mu.Unlock()
	case !n.request.Unattended:
		n.desk.Outlives(n, s)
		go func() { // the screen that is to take it may not come
			select {
			case <-time.After(comes):
				w.look(ctx)
			case <-n.over:
			}
		}()
	}
	n.mu.Lock()
	n.hands = s.Hands
	n.mu.Unlock()
	return s.Put, s.Close
}

// EndsWithScreen tells whether the night ends with the screen that it is begun on.
func (n *Tonight) EndsWithScreen() bool { return n.desk.Outlives == nil }

// comes is how long the screen may take that looks at a night which has just been begun.
const comes = 10 * time.Second

// watch tells the run whether somebody is there to decide, as it turns.
type watch struct {
	n *Tonight

	mu     sync.Mutex
	server *attach.Server // nil before it is known
	alone  bool           // as the run was told last
}

func (w *watch) set(s *attach.Server) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.server = s
}

// look tells the run what is so now, if it was told otherwise.
func (w *watch) look(ctx context.Context) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.server == nil {
		return
	}
	has := w.server.Has()
	if alone := has == ""; alone != w.alone {
		w.alone = alone
		c := night.Command{Choice: night.Somebody, By: has}
		if alone {
			c.Choice = night.Nobody
		}
		_ = w.n.Run.Do(ctx, c) // the night may be over
	}
}

// Hands waits until nobody works a device by hand any more through this process, from another one.
func (n *Tonight) Hands() {
	n.mu.Lock()
	wait := n.hands
	n.mu.Unlock()
	if wait != nil {
		wait()
	}
}

// tookWheel says who decides from now on.
func tookWheel(who, from string) string {
	if from == "" {
		return who + " has taken the wheel"
	}
	return who + " has taken the wheel from " + from
}

// Local is this process's own screen among those that look at the night; nil where nobody can
// attach to it, where it is run without one, and before it has begun.
func (n *Tonight) Local() *attach.Local {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.local
}
