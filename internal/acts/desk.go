package acts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/textfile"
	"metabasis/internal/diag"
	"metabasis/internal/person"
	"metabasis/internal/workspace"
)

// Desk is a workspace and whoever works at it.
type Desk struct {
	*workspace.Workspace
	// Person is asked what has to be asked; nil when nobody is there.
	Person person.Person
	// Log takes what is needed to understand a mistake of ours.
	Log *diag.Log
	// Access, if not nil, is how devices are reached, in place of the workspace's own:
	// those of the demo are in this process.
	Access func(*fleet.Fleet) *workspace.Access
	// Working, if not nil, is told what is worked out before that which takes long for many
	// devices; what it returns is called when that is done.
	Working func(what string) (done func())

	// Outlives, if not nil, is told of a night that begins, and takes it away from the screen on which
	// it was begun: the night goes on without that, and is looked at by those that attach to it. Who
	// has the wheel among them is asked then what has to be asked.
	Outlives func(n *Tonight, who person.Person)

	notKept atomic.Pointer[error] // why what devices told was not

	mu     sync.Mutex
	nights []*Tonight // that were planned
	found  *workspace.Finder
}

// Open opens the workspace in a directory with the settings that were given as flags.
func Open(dir string, given map[string]string, p person.Person) (*Desk, error) {
	ws, err := workspace.OpenWith(dir, given)
	if err != nil {
		return nil, err
	}
	return &Desk{Workspace: ws, Person: p, Log: diag.None()}, nil
}

// working tells whoever wants to know what is worked out now, until done is called.
func (d *Desk) working(format string, args ...any) (done func()) {
	if d.Working == nil {
		return func() {}
	}
	return d.Working(fmt.Sprintf(format, args...))
}

// Planned are the nights that were planned here, in order.
func (d *Desk) Planned() []*Tonight {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Clone(d.nights)
}

// Close closes the nights that were planned here and do not run.
func (d *Desk) Close() error {
	var errs []error
	for _, n := range d.Planned() {
		if !n.Running() {
			errs = append(errs, n.Close())
		}
	}
	return errors.Join(errs...)
}

// finder finds secrets, asking the desk's person for those that are nowhere.
// What was told once is not asked again, until a login fails.
func (d *Desk) finder() *workspace.Finder {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.found == nil {
		d.found = d.Finder(os.Getenv, d.Person)
		d.found.Found = d.Log.Secrets.Add
	}
	return d.found
}

// Confided is what the desk's person has told of secrets, for another process of the same person;
// Confide takes it there.
func (d *Desk) Confided() workspace.Confided { return d.finder().Confided() }

// Confide takes what the person has told another desk.
func (d *Desk) Confide(c workspace.Confided) { d.finder().Confide(c) }

// refused forgets what was told: a secret was refused, and may have been mistyped.
func (d *Desk) refused() {
	d.mu.Lock()
	f := d.found
	d.mu.Unlock()
	if f != nil {
		f.Forget()
	}
}

// did logs an act that is over: what it was, how long it took, and why it failed.
func (d *Desk) did(what string, began time.Time, err error, args ...any) {
	args = append(args, "took", time.Since(began).Round(time.Millisecond))
	if err != nil {
		args = append(args, "err", err)
	}
	d.Log.Info(what, args...)
}

// Path is the workspace's directory in full.
func (d *Desk) Path() string {
	if abs, err := filepath.Abs(d.Dir); err == nil {
		return abs
	}
	return d.Dir
}

// Who is the person in front of us, for the journal.
func Who() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
}

// Select selects devices by words: a condition, names, and saved selections; none are
// all of them. A fleet file takes the place of the workspace's; "" is that one.
// Nothing connects.
func (d *Desk) Select(fleetFile string, words []string) (*Evening, error) {
	e := &Evening{Desk: d}
	var err error
	if e.Fleet, err = d.Fleet(fleetFile); err != nil {
		return nil, err
	}
	from, err := d.From()
	if err != nil {
		return nil, err
	}
	e.Scope, err = scope.Select(e.Fleet, words, from)
	return e, err
}

// From is where words of a scope are looked up: selections, files of names, and nights.
func (d *Desk) From() (scope.From, error) {
	saved, err := d.Selections()
	return scope.From{
		Saved: saved,
		File: func(path string) ([]string, error) {
			data, err := textfile.Read(path, textfile.Small)
			if errors.Is(err, fs.ErrNotExist) && !filepath.IsAbs(path) {
				data, err = textfile.Read(d.inWorkspace(path), textfile.Small)
			}
			if err != nil {
				return nil, fmt.Errorf("a file of names: %w", err)
			}
			names := scope.NamesIn(data)
			if len(names) == 0 {
				return nil, fmt.Errorf("no name stands in %s", path)
			}
			return names, nil
		},
		NotKept: d.notKeptIn,
		Schema:  d.Profiles.Schema(nil),
		Told:    d.Teller(),
	}, err
}

// notKeptIn are the devices that a night did not keep.
func (d *Desk) notKeptIn(word string) ([]string, error) {
	ctx := context.Background()
	all, err := d.Nights(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range all {
		if word == Newest || word == strconv.FormatInt(l.ID, 10) {
			p, err := d.Stands(ctx, l.ID)
			if err != nil || p == nil {
				return nil, errors.Join(err, fmt.Errorf("night %d cannot be read", l.ID))
			}
			return notKept(&p.Night), nil
		}
	}
	return nil, fmt.Errorf("there is no night %s in the journal", word)
}
