package store

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/work"
	"metabasis/internal/store/within"
)

// Backups keeps configurations as plain files, one directory a device. It
// implements [work.Backups]. Beside the files stands what is noted of each; see
// [Backups.Shelf].
type Backups struct {
	Dir string
	// Origin says on whose behalf configurations are put here, such as "night 21".
	Origin string
	// Platforms are those of the devices that are put here, as they are noted; one that is
	// not named is not noted.
	Platforms map[string]string
	// Who is who the device said it was when it was last connected to, as that is noted; nil
	// notes nobody.
	Who func(device string) identity.Seen
	// Seal encrypts what is put there; nil leaves it in the clear.
	Seal Sealer
	// Opens opens what is encrypted; nil opens nothing.
	Opens Opener
}

// Sealer encrypts.
type Sealer interface {
	Shut(text []byte) ([]byte, error)
}

// Opener opens what a [Sealer] has encrypted.
type Opener interface {
	Open(data []byte) ([]byte, error)
}

// Put stores a configuration. It is on disk and was read back equal when Put
// returns. When the device's newest backup is identical, that one is named
// instead, and that it was seen again is noted. A configuration holds secrets: only
// its owner may read the file, and where there is a seal, it is encrypted.
func (b Backups) Put(device, text string, at time.Time) (work.Backup, error) {
	sum := sha256.Sum256([]byte(text))
	out := work.Backup{SHA256: hex.EncodeToString(sum[:])}
	dir, fresh, err := b.directory(device)
	if err != nil {
		return out, fmt.Errorf("backup of %s: %w", device, err)
	}
	seen := Sighting{At: at.UTC(), SHA256: out.SHA256, Size: len(text), Origin: b.Origin, Platform: b.Platforms[device]}
	if b.Who != nil {
		seen.Who = b.Who(device)
	}
	if !fresh {
		same, err := b.sameAsNewest(device, text, out.SHA256, &seen)
		if err != nil {
			return out, err
		}
		if out.Path, out.Same = same, same != ""; out.Same {
			return out, b.noted(device, same, seen)
		}
	}
	data, ending := []byte(text), suffix
	if b.Seal != nil {
		if data, err = b.Seal.Shut(data); err != nil {
			return out, fmt.Errorf("backup of %s: %w", device, err)
		}
		stored := sha256.Sum256(data)
		ending, seen.Stored = sealed, hex.EncodeToString(stored[:])
	}
	path, err := writeNew(dir, at.UTC().Format(nameTime), ending, data)
	if err != nil {
		return out, fmt.Errorf("backup of %s: %w", device, err)
	}
	back, err := os.ReadFile(path)
	if err != nil {
		return out, fmt.Errorf("backup of %s: reading it back: %w", device, err)
	}
	if !bytes.Equal(back, data) {
		return out, fmt.Errorf("backup of %s: %s reads back differently from what was written", device, path)
	}
	out.Path = path
	return out, b.noted(device, path, seen)
}

// sameAsNewest is the path of the device's newest backup where it is the same, else "". Of
// one that is encrypted what was noted of it counts, as long as its file is what was noted.
func (b Backups) sameAsNewest(device, text, sum string, seen *Sighting) (string, error) {
	newest, err := b.newest(device)
	if err != nil {
		return "", fmt.Errorf("backup of %s: %w", device, err)
	}
	if newest == "" {
		return "", nil
	}
	old, err := os.ReadFile(newest)
	switch {
	case err != nil, strings.HasSuffix(newest, sealed) != (b.Seal != nil): // the one or the other from now on
		return "", nil
	case b.Seal == nil:
		if string(old) == text {
			return newest, nil
		}
		return "", nil
	}
	noted, err := b.sightings(device)
	if err != nil {
		return "", err
	}
	stored := sha256.Sum256(old)
	for _, s := range noted[filepath.Base(newest)] {
		if s.SHA256 == sum && s.Stored == hex.EncodeToString(stored[:]) {
			seen.Stored = s.Stored
			return newest, nil
		}
	}
	return "", nil
}

// nameTime is how the time of a backup, in UTC, stands in the name of its file.
const nameTime = "2006-01-02T150405Z"

// directory makes the device's directory, durably, or finds it.
func (b Backups) directory(device string) (dir string, fresh bool, err error) {
	if dir, err = within.Path(b.Dir, device); err != nil {
		return "", false, err
	}
	err = os.Mkdir(dir, 0o700)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(b.Dir, 0o700); err == nil {
			err = os.Mkdir(dir, 0o700)
		}
	}
	switch {
	case errors.Is(err, fs.ErrExist):
		return dir, false, nil
	case err != nil:
		return dir, false, err
	}
	return dir, true, syncDir(b.Dir)
}

// newest is the path of the device's newest backup, "" when there is none.
func (b Backups) newest(device string) (string, error) {
	dir, err := within.Path(b.Dir, device)
	if err != nil {
		return "", err
	}
	paths, err := within.Match(dir, "*"+suffix+"*")
	paths = slices.DeleteFunc(paths, func(p string) bool { return !isBackup(p) })
	if err != nil || len(paths) == 0 {
		return "", err
	}
	return slices.MaxFunc(paths, func(a, b string) int { return compareNames(filepath.Base(a), filepath.Base(b)) }), nil
}

// suffix is that of every backup, sealed that of one that is encrypted; partial is that of
// one which is being written.
const (
	suffix  = ".cfg"
	sealed  = ".cfg.age"
	partial = ".partial"
)

func isBackup(name string) bool {
	return strings.HasSuffix(name, suffix) || strings.HasSuffix(name, sealed)
}

// compareNames orders 2026-12-02T013412Z.cfg before 2026-12-02T013412Z-2.cfg, and that
// before 2026-12-02T013412Z-10.cfg.
func compareNames(a, b string) int {
	at, an := nameParts(a)
	bt, bn := nameParts(b)
	return cmp.Or(strings.Compare(at, bt), an-bn)
}

// nameParts is the time in a backup's name and its number among those of that time.
func nameParts(name string) (at string, number int) {
	name = strings.TrimSuffix(strings.TrimSuffix(name, sealed), suffix)
	if at, n, ok := strings.Cut(name, "Z-"); ok {
		number, _ = strconv.Atoi(n)
		return at + "Z", number
	}
	return name, 1
}

// writeNew writes data to a new file and makes the file and its name durable. It bears
// the name of a backup only once all of it is there: what is cut off in the midst is
// never taken for one.
func writeNew(dir, name, ending string, data []byte) (string, error) {
	f, err := os.CreateTemp(dir, name+"-*"+partial)
	if err != nil {
		return "", err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(data)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return "", err
	}
	for n := 1; ; n++ {
		path := filepath.Join(dir, name)
		if n > 1 {
			path = fmt.Sprintf("%s-%d", path, n)
		}
		// One that is encrypted and one that is not never share a number: nobody could tell
		// which of them is the newer.
		err := fs.ErrExist
		if !exists(path+suffix) && !exists(path+sealed) {
			path += ending
			err = takeName(f.Name(), path)
		}
		if errors.Is(err, fs.ErrExist) && n < mostAtOnce {
			continue
		}
		if err != nil {
			return "", err
		}
		return path, syncDir(dir)
	}
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// mostAtOnce is how many backups a device may have of one second.
const mostAtOnce = 1000

// takeName gives a file a name that no other has. Where the disk knows no links, an
// empty file takes the name first; an empty file is no backup.
func takeName(file, name string) error {
	err := os.Link(file, name)
	if err == nil || errors.Is(err, fs.ErrExist) {
		return err
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	return os.Rename(file, name)
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
