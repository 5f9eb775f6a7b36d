// Package workspace is a directory with everything about one network: the
// fleet, runbooks, profiles, and what nights left behind.
//
//	fleet.csv | fleet.yaml | fleet.txt   the devices
//	images.yaml                          what software there is for them
//	sites.csv, roles.csv                 values by site and by role
//	tables/*.csv, tables/*.yaml          tables with several rows a device, a site or a role
//	columns.yaml                         the kinds of all their columns
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
	"metabasis/internal/core/software"
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
	Images   software.Catalogue // what software there is

	imagesWrong error

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
	w := &Workspace{Dir: dir, Profiles: set, Settings: values}
	if w.Images, w.imagesWrong = w.readImages(); w.imagesWrong == nil {
		w.Profiles = set.Stocked(w.Images)
	}
	return w, nil
}

// readImages reads the catalogue of images; none is an empty one.
func (w *Workspace) readImages() (software.Catalogue, error) {
	path := filepath.Join(w.Dir, software.FileName)
	data, err := textfile.Read(path, textfile.Large)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, nil
	case err != nil:
		return nil, err
	}
	return software.Read(path, data, w.Profiles.Platforms())
}

// ImagesWrong is what is wrong with the catalogue of images; nil where it can be used. Only what needs it is
// kept from anything by that.
func (w *Workspace) ImagesWrong() error { return w.imagesWrong }

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
		dir := filepath.Dir(path)
		kinds, err := readKinds(dir)
		if err != nil {
			return nil, err
		}
		f, err := kinds.Read(path, data, platforms)
		if err != nil {
			return nil, err
		}
		return f, beside(f, dir, kinds)
	}
	return nil, ErrNoFleet
}

// readKinds reads the kinds of columns that stand beside a fleet file.
func readKinds(dir string) (fleet.Kinds, error) {
	path := filepath.Join(dir, fleet.ColumnsFile)
	data, err := textfile.Read(path, textfile.Small)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return fleet.ReadKinds(path, data)
}

// tablesDir is where the tables beside the fleet are.
const tablesDir = "tables"

// beside adds all that stands beside a fleet file: values by site and by role, and tables.
func beside(f *fleet.Fleet, dir string, kinds fleet.Kinds) error {
	of := map[string][]string{"fleet": f.Columns}
	if err := addShared(f, dir, kinds, of); err != nil {
		return err
	}
	if err := addTables(f, filepath.Join(dir, tablesDir), kinds); err != nil {
		return err
	}
	for _, t := range f.Tables {
		for _, c := range t.Columns {
			of[t.Name] = append(of[t.Name], c.Name)
		}
	}
	return kinds.Unused(of)
}

// addTables adds the tables that stand beside a fleet file. What is wrong with several is told
// together.
func addTables(f *fleet.Fleet, dir string, kinds fleet.Kinds) error {
	paths, err := within.Match(dir, "*")
	if err != nil {
		return err
	}
	var tables []*fleet.Rows
	var list problem.List
	for _, path := range paths {
		switch strings.ToLower(filepath.Ext(path)) {
		case ".csv", ".yaml", ".yml":
		default:
			f.Notes = append(f.Notes, fmt.Sprintf("%s is not read: tables are .csv or .yaml", path))
			continue
		}
		data, err := textfile.Read(path, textfile.Large)
		if err != nil {
			return err
		}
		t, err := kinds.ReadTable(path, data)
		var wrong problem.List
		if errors.As(err, &wrong) {
			list = append(list, wrong...)
			continue
		}
		if err != nil {
			return err
		}
		tables = append(tables, t)
	}
	if err := list.Err(); err != nil {
		return err
	}
	return f.AddTables(tables...)
}

// addShared adds the values by site and by role that stand beside a fleet file.
func addShared(f *fleet.Fleet, dir string, kinds fleet.Kinds, of map[string][]string) error {
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
		s, err := kinds.ReadShared(path, by, data)
		if err != nil {
			return err
		}
		of[by+"s"] = s.Columns
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
	if rb.Exchanges() && w.imagesWrong != nil {
		return nil, "", w.imagesWrong
	}
	defaults, err := w.Prechecks()
	if err != nil {
		return nil, "", err
	}
	rb.AddPrechecks(defaults)
	rb.Past = w.past()
	rb.Told = w.Teller()
	text := string(data)
	files, bodies := rb.Files(), map[string][]byte{}
	err = rb.Fill(func(name string) (body []byte, err error) {
		if body, known := bodies[name]; known {
			return body, nil
		}
		if body, err = textfile.Read(filepath.Join(w.Dir, name), textfile.Small); err == nil && slices.Contains(files, name) {
			bodies[name] = body
		}
		return body, err
	})
	if err != nil {
		return nil, "", err
	}
	for _, name := range files { // what was sent must be there to be read when the file is long another one
		text += withFile(name, string(bodies[name]))
	}
	if err := w.choose(rb, f); err != nil {
		return nil, "", err
	}
	if names, means := rb.Selections(); len(names) > 0 {
		for i, name := range names { // as they are now
			text += fmt.Sprintf("\n# @%s is %s\n", name, means[i])
		}
	}
	return rb, text, rb.Compile(w.Profiles.Schema(f))
}

// choose puts what selections mean in the place of their names in a scope.
func (w *Workspace) choose(rb *runbook.Runbook, f *fleet.Fleet) error {
	return rb.Choose(func(name string) (string, error) {
		saved, err := w.Selections()
		if err != nil {
			return "", err
		}
		s, is := saved[name]
		if !is {
			return "", fmt.Errorf("there is no selection @%s%s", name, problem.Write(name, slices.Sorted(maps.Keys(saved))))
		}
		for _, d := range s.Devices {
			if f == nil {
				break
			}
			if _, there := f.Get(d); !there {
				return "", fmt.Errorf("the selection @%s names %s, which is not in the fleet", name, d)
			}
		}
		if s.Condition() == "" {
			return "", fmt.Errorf("the selection @%s is empty", name)
		}
		return s.Condition(), nil
	})
}

// withFile is a file as it stands behind a runbook in the journal.
func withFile(name, body string) string {
	return "\n# " + name + "\n    | " + strings.ReplaceAll(strings.TrimRight(body, "\n"), "\n", "\n    | ") + "\n"
}

// OwnFiles begins the files of single devices behind the text of a runbook.
const OwnFiles = "\n# files of single devices\n"

// Whole is the text of a runbook that was planned, with the files that are another one for each
// device.
func Whole(rb *runbook.Runbook, text string) string {
	names, bodies := rb.OwnFiles()
	if len(names) > 0 {
		text += OwnFiles
	}
	for i, name := range names {
		text += withFile(name, bodies[i])
	}
	return text
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
