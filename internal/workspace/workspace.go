// Package workspace is a directory with everything about one network: the
// fleet, runbooks, profiles, and what nights left behind.
//
//	fleet.csv | fleet.yaml | fleet.txt   the devices
//	*.runbook                            the changes
//	profiles/*.yaml                      profiles of one's own, before the shipped ones
//	known_hosts                          the keys devices have shown (OpenSSH's format)
//	metabasis.db, backups/, transcripts/ what nights left behind
package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	gossh "golang.org/x/crypto/ssh"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/device"
	"metabasis/internal/device/profile"
	"metabasis/internal/store"
	"metabasis/profiles"
)

// Workspace is an opened directory.
type Workspace struct {
	Dir      string
	Profiles profile.Set
}

// Open opens a directory as a workspace and loads its profiles.
func Open(dir string) (*Workspace, error) {
	set, err := profiles.Shipped()
	if err != nil {
		return nil, err
	}
	paths, err := filepath.Glob(filepath.Join(dir, "profiles", "*.yaml"))
	if err != nil {
		return nil, err
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		p, err := profile.Load(path, data)
		if err != nil {
			return nil, err
		}
		set[p.Platform] = p
	}
	return &Workspace{Dir: dir, Profiles: set}, nil
}

// fleetFiles are looked for in this order.
var fleetFiles = []string{"fleet.csv", "fleet.yaml", "fleet.txt"}

// ErrNoFleet says that a workspace has no fleet file.
var ErrNoFleet = errors.New("there is no fleet.csv, fleet.yaml or fleet.txt here")

// Fleet reads the fleet of the workspace, or the file named.
func (w *Workspace) Fleet(file string) (*fleet.Fleet, error) {
	files := fleetFiles
	if file != "" {
		files = []string{file}
	}
	for _, name := range files {
		path := name
		if file == "" {
			path = filepath.Join(w.Dir, name)
		}
		data, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) && file == "" {
			continue
		}
		if err != nil {
			return nil, err
		}
		return fleet.Read(path, data, w.Profiles.Platforms())
	}
	return nil, ErrNoFleet
}

// Runbook reads a runbook and compiles it against the profiles and, when there
// is one, the fleet.
func (w *Workspace) Runbook(file string, f *fleet.Fleet) (*runbook.Runbook, string, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, "", err
	}
	rb, err := runbook.Parse(file, data)
	if err != nil {
		return nil, "", err
	}
	var columns []string
	if f != nil {
		columns = f.Columns
	}
	return rb, string(data), rb.Compile(w.Profiles.Schema(columns))
}

// Runbooks lists the runbook files of the workspace.
func (w *Workspace) Runbooks() []string {
	paths, _ := filepath.Glob(filepath.Join(w.Dir, "*.runbook"))
	return paths
}

// Journal opens the journal of the workspace.
func (w *Workspace) Journal() (*store.Journal, error) {
	return store.OpenJournal(filepath.Join(w.Dir, "metabasis.db"))
}

// Transcripts is the directory of a night's transcripts.
func (w *Workspace) Transcripts(night int64) string {
	return filepath.Join(w.Dir, "transcripts", strconv.FormatInt(night, 10))
}

// Access is how devices are reached and logged in to.
type Access struct {
	Dial    func(ctx context.Context, network, addr string) (net.Conn, error) // nil: over TCP
	Logins  map[string]device.Login
	HostKey gossh.HostKeyCallback // nil: the workspace's known_hosts
}

// Night is a run that is ready to go, with its place in the workspace.
type Night struct {
	ID      int64
	Plan    *plan.Plan
	Run     *run.Run
	Scripts *store.Transcripts
	journal *store.Journal
}

// Prepare enters a new night in the journal and gets its run ready. Close must
// be called once the run is over.
func (w *Workspace) Prepare(p *plan.Plan, file, text string, access Access, unattended bool, by string) (*Night, error) {
	j, err := w.Journal()
	if err != nil {
		return nil, err
	}
	writer, err := j.Begin(store.NightHead{Began: time.Now(), Title: p.Title, Change: p.Change, File: file, Runbook: w.maskRunbook(text)})
	if err != nil {
		j.Close()
		return nil, err
	}
	scripts, err := store.NewTranscripts(w.Transcripts(writer.ID))
	if err != nil {
		j.Close()
		return nil, err
	}
	if access.HostKey == nil {
		if access.HostKey, err = store.HostKeys(filepath.Join(w.Dir, "known_hosts")); err != nil {
			j.Close()
			return nil, err
		}
	}
	if access.Dial == nil {
		access.Dial = (&net.Dialer{KeepAlive: 10 * time.Second}).DialContext
	}
	c := &device.Connector{Profiles: w.Profiles, Dial: access.Dial, HostKey: access.HostKey, Transcript: scripts.For,
		Login: func(_ context.Context, name string) (device.Login, error) {
			l, ok := access.Logins[name]
			if !ok {
				return l, fmt.Errorf("there is no login named %q", name)
			}
			return l, nil
		}}
	r := run.New(p, run.Options{Connector: c, Backups: store.Backups{Dir: filepath.Join(w.Dir, "backups")},
		Journal: writer, Unattended: unattended, By: by})
	return &Night{ID: writer.ID, Plan: p, Run: r, Scripts: scripts, journal: j}, nil
}

// maskRunbook takes secrets out of the device text of a runbook, for the
// journal.
func (w *Workspace) maskRunbook(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		before, body, isText := strings.Cut(l, "|")
		if !isText || strings.TrimSpace(before) != "" {
			continue
		}
		for _, p := range w.Profiles {
			body = p.Mask(body)
		}
		lines[i] = before + "|" + body
	}
	return strings.Join(lines, "\n")
}

// Close closes what the night had open.
func (n *Night) Close() error {
	return errors.Join(n.Scripts.Close(), n.journal.Close())
}

// LoginNames lists the logins a plan needs, each with the secrets its platforms
// may ask for.
func (w *Workspace) LoginNames(p *plan.Plan) map[string][]string {
	out := map[string][]string{}
	for _, t := range p.Targets() {
		need := append([]string{"password"}, w.Profiles[t.Device.Platform].Secrets()...)
		for _, s := range need {
			if !slices.Contains(out[t.Device.Login], s) {
				out[t.Device.Login] = append(out[t.Device.Login], s)
			}
		}
	}
	return out
}
