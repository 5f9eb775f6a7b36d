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
//	identities.jsonl                     who devices said they are, when they were seen
//	evidence/                            what devices answered
//	metabasis.db, backups/, transcripts/ what nights left behind
package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
	"metabasis/internal/device/profile"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/store/within"
	"metabasis/profiles"
)

// Workspace is an opened directory.
type Workspace struct {
	Dir      string
	Profiles profile.Set
	Settings *settings.Settings

	mu  sync.Mutex
	ids *store.Identities
}

// Identities keeps who the devices of the workspace were seen to be.
func (w *Workspace) Identities() (*store.Identities, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ids != nil {
		return w.ids, w.ids.Refresh()
	}
	ids, err := store.OpenIdentities(filepath.Join(w.Dir, "identities.jsonl"))
	if err == nil {
		w.ids = ids
	}
	return ids, err
}

// Open opens a directory as a workspace with the settings of the environment
// and of files.
func Open(dir string) (*Workspace, error) { return OpenWith(dir, nil) }

// SettingsFile is the name of a workspace's settings file.
const SettingsFile = "metabasis.yaml"

// OpenWith opens a directory as a workspace, with settings that were given as
// flags, and loads its profiles.
func OpenWith(dir string, flags map[string]string) (*Workspace, error) {
	sources, err := ProfileSources(dir)
	if err != nil {
		return nil, err
	}
	set, err := sources.Set()
	if err != nil {
		return nil, err
	}
	values, err := settings.Load(settings.Source{Flags: flags, Env: os.Getenv,
		Workspace: filepath.Join(dir, SettingsFile), User: settings.UserFile()})
	if err != nil {
		return nil, err
	}
	return &Workspace{Dir: dir, Profiles: set, Settings: values}, nil
}

// ProfileSources reads the texts of the profiles of a workspace, beside those that
// ship with the product.
func ProfileSources(dir string) (s profile.Sources, err error) {
	if s.Shipped, err = profiles.Sources(); err != nil {
		return s, err
	}
	paths, err := within.Match(filepath.Join(dir, "profiles"), "*.yaml")
	if err != nil {
		return s, err
	}
	for _, path := range paths {
		data, err := textfile.Read(path, textfile.Small)
		if err != nil {
			return s, err
		}
		s.Own = append(s.Own, profile.Source{File: path, Data: data})
	}
	return s, nil
}

// fleetFiles are looked for in this order.
var fleetFiles = []string{"fleet.csv", "fleet.yaml", "fleet.txt"}

// ErrNoFleet says that a workspace has no fleet file.
var ErrNoFleet = errors.New("there is no fleet.csv, fleet.yaml or fleet.txt here")

// Fleet reads the fleet of the workspace, or the file named.
func (w *Workspace) Fleet(file string) (*fleet.Fleet, error) {
	return w.fleetOf(file, w.Profiles.Platforms())
}

// FleetOfAny reads the fleet, whose devices may be of platforms without a profile.
func (w *Workspace) FleetOfAny(file string) (*fleet.Fleet, error) {
	return w.fleetOf(file, []string{fleet.AnyPlatform})
}

func (w *Workspace) fleetOf(file string, platforms []string) (*fleet.Fleet, error) {
	files := fleetFiles
	if file != "" {
		files = []string{file}
	}
	for _, name := range files {
		path := name
		if file == "" {
			path = filepath.Join(w.Dir, name)
		}
		data, err := textfile.Read(path, textfile.Large)
		if errors.Is(err, fs.ErrNotExist) && file == "" {
			continue
		}
		if err != nil {
			return nil, err
		}
		f, err := fleet.Read(path, data, platforms)
		if err != nil {
			return nil, err
		}
		return f, addShared(f, filepath.Dir(path))
	}
	return nil, ErrNoFleet
}

// addShared adds the values by site and by role that stand beside a fleet file.
func addShared(f *fleet.Fleet, dir string) error {
	var shared []*fleet.Shared
	for _, by := range []string{"site", "role"} {
		path := filepath.Join(dir, by+"s.csv")
		data, err := textfile.Read(path, textfile.Large)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		s, err := fleet.ReadShared(path, by, data)
		if err != nil {
			return err
		}
		shared = append(shared, s)
	}
	return f.Add(shared...)
}

// RunbookFile is where a runbook is that a person has named: as it was named, else in the
// workspace.
func (w *Workspace) RunbookFile(file string) (string, error) {
	if _, err := os.Stat(file); !errors.Is(err, fs.ErrNotExist) || filepath.IsAbs(file) {
		return file, nil // what is wrong with it is said when it is read
	}
	inside := filepath.Join(w.Dir, file)
	if _, err := os.Stat(inside); err != nil {
		if filepath.Clean(inside) == filepath.Clean(file) {
			return file, nil
		}
		return "", fmt.Errorf("there is no %s here, nor in the workspace %s", file, w.Dir)
	}
	return inside, nil
}

// Runbook reads a runbook and compiles it against the profiles and, when there
// is one, the fleet.
func (w *Workspace) Runbook(file string, f *fleet.Fleet) (*runbook.Runbook, string, error) {
	data, err := textfile.Read(file, textfile.Small)
	if err != nil {
		return nil, "", err
	}
	return w.RunbookOf(file, data, f)
}

// RunbookOf compiles the text of a runbook, as [Workspace.Runbook] does a file. File is its
// name, in problems and in the journal.
func (w *Workspace) RunbookOf(file string, data []byte, f *fleet.Fleet) (*runbook.Runbook, string, error) {
	rb, err := runbook.Parse(file, data)
	if err != nil {
		return nil, "", err
	}
	defaults, err := w.Prechecks()
	if err != nil {
		return nil, "", err
	}
	rb.AddPrechecks(defaults)
	rb.Past = w.past()
	text := string(data)
	err = rb.Fill(func(name string) ([]byte, error) {
		body, err := textfile.Read(filepath.Join(w.Dir, name), textfile.Small)
		if err == nil { // what was sent must be there to be read when the file is long another one
			text += "\n# " + name + "\n    | " + strings.ReplaceAll(strings.TrimRight(string(body), "\n"), "\n", "\n    | ") + "\n"
		}
		return body, err
	})
	if err != nil {
		return nil, "", err
	}
	return rb, text, rb.Compile(w.Profiles.Schema(f))
}

// Prechecks are those that the settings ask for of every runbook. The error is a
// problem.List with all that are wrong.
func (w *Workspace) Prechecks() ([]runbook.Precheck, error) {
	var out []runbook.Precheck
	var list problem.List
	for _, name := range slices.Sorted(maps.Keys(w.Settings.Prechecks)) {
		at := w.Settings.At[name]
		pc, err := runbook.DefaultPrecheck(at.File, name, w.Settings.Prechecks[name])
		var wrong problem.List
		if errors.As(err, &wrong) {
			for i := range wrong {
				wrong[i].Line, wrong[i].Col, wrong[i].Text = at.Line, at.Col, at.Text
			}
			list = append(list, wrong...)
		}
		out = append(out, pc)
	}
	return out, list.Err()
}

// Runbooks lists the runbook files of the workspace.
func (w *Workspace) Runbooks() []string {
	paths, _ := within.Match(w.Dir, "*.runbook")
	return paths
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
