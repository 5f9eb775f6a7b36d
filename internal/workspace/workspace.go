// Package workspace is a directory with everything about one network: the
// fleet, runbooks, profiles, and what nights left behind.
//
//	fleet.csv | fleet.yaml | fleet.txt   the devices
//	*.runbook                            the changes
//	profiles/*.yaml                      profiles of one's own, before the shipped ones
//	metabasis.yaml                       settings
//	selections.yaml                      selections of devices that were saved
//	secrets.age                          passwords and the like, encrypted
//	known_hosts                          the keys devices have shown (OpenSSH's format)
//	evidence/                            what devices answered
//	metabasis.db, backups/, transcripts/ what nights left behind
package workspace

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/device"
	"metabasis/internal/device/profile"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/profiles"
)

// Workspace is an opened directory.
type Workspace struct {
	Dir      string
	Profiles profile.Set
	Settings *settings.Settings
}

// Open opens a directory as a workspace with the settings of the environment
// and of files.
func Open(dir string) (*Workspace, error) { return OpenWith(dir, nil) }

// SettingsFile is the name of a workspace's settings file.
const SettingsFile = "metabasis.yaml"

// OpenWith opens a directory as a workspace, with settings that were given as
// flags, and loads its profiles.
func OpenWith(dir string, flags map[string]string) (*Workspace, error) {
	set, err := profiles.Shipped()
	if err != nil {
		return nil, err
	}
	values, err := settings.Load(settings.Source{Flags: flags, Env: os.Getenv,
		Workspace: filepath.Join(dir, SettingsFile), User: settings.UserFile()})
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
	return &Workspace{Dir: dir, Profiles: set, Settings: values}, nil
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
	var defaults []runbook.Precheck
	for _, name := range slices.Sorted(maps.Keys(w.Settings.Prechecks)) {
		pc, err := runbook.DefaultPrecheck("the settings", name, w.Settings.Prechecks[name])
		if err != nil {
			return nil, "", err
		}
		defaults = append(defaults, pc)
	}
	rb.AddPrechecks(defaults)
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

// Night is a run that is ready to go, with its place in the workspace.
type Night struct {
	ID      int64
	Plan    *plan.Plan
	Run     *run.Run
	Scripts *store.Transcripts
	// Connector is what the run reaches devices with.
	Connector *device.Connector
	journal   *store.Journal
}

// Prepare enters a new night in the journal and gets its run ready. Close must
// be called once the run is over.
func (w *Workspace) Prepare(p *plan.Plan, file, text string, access *Access, unattended bool, by string) (*Night, error) {
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
	c := access.Connector(scripts.For)
	r := run.New(p, run.Options{Connector: c, Backups: store.Backups{Dir: filepath.Join(w.Dir, "backups")},
		Journal: writer, Unattended: unattended, By: by})
	return &Night{ID: writer.ID, Plan: p, Run: r, Scripts: scripts, Connector: c, journal: j}, nil
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
