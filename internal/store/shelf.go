package store

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/textfile"
	"metabasis/internal/store/within"
)

// What is noted of the backups of a device stands beside them in shelf.jsonl, a line each
// time that its configuration was put on the shelf, also where it was the same as the
// newest. Lines are only ever added. A backup of which nothing is noted is one all the
// same: its time stands in its name.

// notes is the name of the file with what is noted of a device's backups.
const notes = "shelf.jsonl"

// Sighting says that a device had a configuration at a time.
type Sighting struct {
	File   string    `json:"file"`
	At     time.Time `json:"at"`
	SHA256 string    `json:"sha256"`
	Size   int       `json:"size"`
	// Stored is the checksum of the file where that is encrypted; SHA256 is that of what is
	// in it.
	Stored string `json:"stored,omitempty"`
	// Origin is on whose behalf it was put on the shelf; "" is not noted.
	Origin string `json:"origin,omitempty"`
	// Platform is what wrote it: configurations of one are not put back onto another. "" is
	// not noted.
	Platform string `json:"platform,omitempty"`
	// Who is who the device said it was then: what is of another is not put back, and not
	// compared as if it were its own. Empty is not noted.
	Who identity.Seen `json:"who,omitzero"`
	// Pushed says that it was put there then, off this machine, and proven to be there.
	Pushed string `json:"pushed,omitempty"`
	// Gone says that the file was taken from the shelf then, and by whom.
	Gone string `json:"gone,omitempty"`
}

// Shelved is a backup on the shelf.
type Shelved struct {
	Device string
	File   string // its name in the device's directory
	Path   string
	Size   int64
	SHA256 string // as it was noted; "" where nothing is
	Stored string // that of the file, where it is encrypted
	// Platform is what wrote it, by the newest note of it; "" where nothing is.
	Platform string
	// Who is who the device said it was, by the newest note of it; empty where nothing is.
	Who identity.Seen
	// Seen is each time that the device was seen to have this configuration, the first one
	// first. It is never empty.
	Seen []Sighting
	// Pushed are the places off this machine that have it.
	Pushed []string
}

// At is when the device was first seen to have the configuration.
func (s Shelved) At() time.Time { return s.Seen[0].At }

// Last is when it was last seen to have it.
func (s Shelved) Last() time.Time { return s.Seen[len(s.Seen)-1].At }

// Origin is on whose behalf it was put on the shelf first.
func (s Shelved) Origin() string { return s.Seen[0].Origin }

// noted notes that a configuration is on the shelf.
func (b Backups) noted(device, path string, seen Sighting) error {
	seen.File = filepath.Base(path)
	line, err := json.Marshal(seen)
	if err != nil {
		return fmt.Errorf("backup of %s: %w", device, err)
	}
	if err := b.note(device, string(line)); err != nil {
		return fmt.Errorf("backup of %s is written, and not noted on the shelf: %w", device, err)
	}
	return nil
}

// note adds a line to what is noted of a device's backups.
func (b Backups) note(device, line string) error {
	file, err := within.Path(b.Dir, device, notes)
	if err != nil {
		return err
	}
	return appendLine(file, line)
}

// sightings reads what is noted of a device's backups, by the name of their files. A line
// that cannot be read says nothing.
func (b Backups) sightings(device string) (map[string][]Sighting, error) {
	out := map[string][]Sighting{}
	file, err := within.Path(b.Dir, device, notes)
	if err != nil {
		return nil, fmt.Errorf("backups of %s: %w", device, err)
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, fmt.Errorf("backups of %s: %w", device, err)
	}
	lines := bufio.NewScanner(bytes.NewReader(data))
	for lines.Scan() {
		var s Sighting
		if json.Unmarshal(lines.Bytes(), &s) == nil && s.File == filepath.Base(s.File) && !s.At.IsZero() {
			out[s.File] = append(out[s.File], s)
		}
	}
	return out, nil
}

// Shelf lists the backups of a device, the newest first.
func (b Backups) Shelf(device string) ([]Shelved, error) {
	dir, err := within.Path(b.Dir, device)
	if err != nil {
		return nil, fmt.Errorf("backups of %s: %w", device, err)
	}
	files, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("backups of %s: %w", device, err)
	}
	seen, err := b.sightings(device)
	if err != nil {
		return nil, err
	}
	var out []Shelved
	for _, f := range files {
		info, err := f.Info()
		if err != nil || !isBackup(f.Name()) || !info.Mode().IsRegular() || info.Size() == 0 {
			continue
		}
		s := Shelved{Device: device, File: f.Name(), Path: filepath.Join(dir, f.Name()), Size: info.Size()}
		for _, one := range seen[f.Name()] {
			switch {
			case one.Gone != "": // it was to go, and is there: it stays
			case one.Pushed != "":
				s.Pushed = append(s.Pushed, one.Pushed)
			default:
				s.Seen = append(s.Seen, one)
				s.Platform, s.Who = cmp.Or(one.Platform, s.Platform), cmp.Or(one.Who, s.Who)
			}
		}
		if len(s.Seen) > 0 {
			s.SHA256, s.Stored = s.Seen[0].SHA256, s.Seen[0].Stored
		} else {
			at, _ := nameParts(f.Name())
			t, err := time.Parse(nameTime, at)
			if err != nil {
				continue // somebody else's
			}
			s.Seen = []Sighting{{File: f.Name(), At: t, Size: int(info.Size())}}
		}
		out = append(out, s)
	}
	slices.SortFunc(out, func(a, b Shelved) int { return -compareNames(a.File, b.File) })
	return out, nil
}

// Devices lists the devices that have a directory on the shelf.
func (b Backups) Devices() ([]string, error) {
	dirs, err := os.ReadDir(b.Dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("backups: %w", err)
	}
	var out []string
	for _, d := range dirs {
		if d.IsDir() && !strings.HasPrefix(d.Name(), ".") {
			out = append(out, d.Name())
		}
	}
	return out, nil
}

// DamagedBackup is a backup that is not what was put on the shelf.
type DamagedBackup struct {
	Device, File string
	Why          string
}

func (e *DamagedBackup) Error() string {
	return fmt.Sprintf("the backup %s of %s is damaged: %s", e.File, e.Device, e.Why)
}

// Read reads a backup. It is what was put there: where a checksum is noted, it is held
// against it, and the error is a [DamagedBackup] where it does not hold.
func (b Backups) Read(s Shelved) (string, error) {
	data, err := b.Raw(s)
	if err != nil {
		return "", err
	}
	if strings.HasSuffix(s.File, sealed) {
		if b.Opens == nil {
			return "", fmt.Errorf("the backup %s of %s is encrypted", s.File, s.Device)
		}
		if data, err = b.Opens.Open(data); err != nil {
			return "", fmt.Errorf("the backup %s of %s: %w", s.File, s.Device, err)
		}
	}
	sum := sha256.Sum256(data)
	if got := hex.EncodeToString(sum[:]); s.SHA256 != "" && got != s.SHA256 {
		return "", &DamagedBackup{
			s.Device,
			s.File,
			fmt.Sprintf("its SHA-256 is %s…, and %s… was noted", got[:12], s.SHA256[:min(12, len(s.SHA256))]),
		}
	}
	return string(data), nil
}

// Raw reads the file of a backup as it is, encrypted or not, and holds it against its
// checksum where it is encrypted.
func (b Backups) Raw(s Shelved) ([]byte, error) {
	data, err := textfile.Bytes(s.Path, textfile.Large)
	if err != nil {
		return nil, fmt.Errorf("backup of %s: %w", s.Device, err)
	}
	sum := sha256.Sum256(data)
	if got := hex.EncodeToString(sum[:]); s.Stored != "" && got != s.Stored {
		return nil, &DamagedBackup{
			s.Device,
			s.File,
			fmt.Sprintf("the SHA-256 of its file is %s…, and %s… was noted", got[:12], s.Stored[:min(12, len(s.Stored))]),
		}
	}
	return data, nil
}

// check holds one backup against what was noted of it: of one that is encrypted, its file.
func (b Backups) check(s Shelved) error {
	if strings.HasSuffix(s.File, sealed) {
		_, err := b.Raw(s)
		return err
	}
	_, err := b.Read(s)
	return err
}

// Find finds the backup of a device with that file's name. The error is an [ErrNoBackup]
// where it is not on the shelf, and says why it went, where that is noted.
func (b Backups) Find(device, file string) (Shelved, error) {
	shelf, err := b.Shelf(device)
	if err != nil {
		return Shelved{}, err
	}
	for _, s := range shelf {
		if s.File == file {
			return s, nil
		}
	}
	left, err := b.missing(device, shelf)
	if err != nil {
		return Shelved{}, err
	}
	for _, one := range left {
		if one.File == file {
			return Shelved{}, fmt.Errorf(
				"%s: %w: %s of %s is not on the shelf any more%s",
				device,
				ErrNoBackup,
				file,
				shortTime(one.At),
				why(one.Gone),
			)
		}
	}
	return Shelved{}, fmt.Errorf("%s: %w: there is none of the name %s", device, ErrNoBackup, file)
}

// ReadNoted reads a backup by the path or the name of its file, and holds it against the
// checksum that somebody noted of it; where that is "", against the shelf's own.
func (b Backups) ReadNoted(device, file, sum string) (Shelved, string, error) {
	s, err := b.Find(device, filepath.Base(file))
	if err != nil {
		return s, "", err
	}
	if sum != "" {
		s.SHA256 = sum
	}
	text, err := b.Read(s)
	return s, text, err
}

// ErrNoBackup says that there is none.
var ErrNoBackup = errors.New("no backup")

// AsOf finds what a device had at a time: the configuration that it was last seen to have
// by then. Seen is when that was. The error is an [ErrNoBackup] where nothing is that old,
// or where what it had then is not on the shelf any more: an older one is never taken for
// it.
func (b Backups) AsOf(device string, at time.Time) (s Shelved, seen time.Time, err error) {
	shelf, err := b.Shelf(device)
	if err != nil {
		return s, seen, err
	}
	for _, k := range shelf {
		for _, one := range k.Seen {
			if !one.At.After(at) && one.At.After(seen) { // of one time, the newest file
				s, seen = k, one.At
			}
		}
	}
	left, err := b.missing(device, shelf)
	if err != nil {
		return s, seen, err
	}
	for _, one := range left {
		if !one.At.After(at) && one.At.After(seen) && one.File != s.File {
			return Shelved{}, one.At, fmt.Errorf(
				"%s: %w: what it had then, %s of %s, is not on the shelf any more%s",
				device,
				ErrNoBackup,
				one.File,
				shortTime(one.At),
				why(one.Gone),
			)
		}
	}
	switch {
	case !seen.IsZero():
		return s, seen, nil
	case len(shelf) == 0:
		return s, seen, fmt.Errorf("%s: %w", device, ErrNoBackup)
	}
	return s, seen, fmt.Errorf("%s: %w as old as that; its oldest is of %s", device, ErrNoBackup, shortTime(shelf[len(shelf)-1].At()))
}

func shortTime(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func why(gone string) string {
	if gone == "" {
		return ""
	}
	return " (" + gone + ")"
}

// missing lists the sightings of configurations that are noted and not on the shelf, with
// why they went, where that is noted.
func (b Backups) missing(device string, shelf []Shelved) (out []Sighting, err error) {
	noted, err := b.sightings(device)
	if err != nil {
		return nil, err
	}
	for _, s := range shelf {
		delete(noted, s.File)
	}
	for _, file := range slices.Sorted(maps.Keys(noted)) {
		gone := ""
		for _, s := range noted[file] {
			gone = cmp.Or(s.Gone, gone)
		}
		for _, s := range noted[file] {
			if s.Gone == "" && s.Pushed == "" {
				s.Gone = gone
				out = append(out, s)
			}
		}
	}
	return out, nil
}

// Check holds every backup of a device against its checksum, and tells what is wrong: those
// that are damaged, those that are noted and not there. Unnoted counts those that have no
// checksum to be held against.
func (b Backups) Check(device string) (whole, unnoted int, wrong []error, err error) {
	shelf, err := b.Shelf(device)
	if err != nil {
		return 0, 0, nil, err
	}
	for _, s := range shelf {
		switch err := b.check(s); {
		case err != nil:
			wrong = append(wrong, err)
		case s.SHA256 == "":
			unnoted++
		default:
			whole++
		}
	}
	left, err := b.missing(device, shelf)
	told := map[string]bool{}
	for _, one := range left {
		if one.Gone == "" && !told[one.File] {
			wrong = append(wrong, &DamagedBackup{device, one.File, "it is noted on the shelf, and not there"})
		}
		told[one.File] = true
	}
	return whole, unnoted, wrong, err
}

// NotePushed notes that a backup is in a place off this machine.
func (b Backups) NotePushed(s Shelved, place string, at time.Time) error {
	line, err := json.Marshal(Sighting{File: s.File, At: at.UTC(), SHA256: s.SHA256, Size: int(s.Size), Pushed: place})
	if err == nil {
		err = b.note(s.Device, string(line))
	}
	if err != nil {
		return fmt.Errorf("backup %s of %s is pushed to %s, and that is not noted: %w", s.File, s.Device, place, err)
	}
	return nil
}

// Remove takes a backup from the shelf, and notes why before it goes.
func (b Backups) Remove(s Shelved, why string, at time.Time) error {
	line, err := json.Marshal(Sighting{File: s.File, At: at.UTC(), SHA256: s.SHA256, Size: int(s.Size), Gone: why})
	if err == nil {
		err = b.note(s.Device, string(line))
	}
	if err == nil {
		err = os.Remove(s.Path)
	}
	if err != nil {
		return fmt.Errorf("backup %s of %s: %w", s.File, s.Device, err)
	}
	return nil
}
