package acts

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/record"
	"metabasis/internal/core/textfile"
	"metabasis/internal/report"
	"metabasis/internal/store/locks"
)

// The fleet file is changed by one at a time, whole or not at all, and the one of before is
// kept beside it.

// fleetCSV is the workspace's fleet file, where it is one that can be changed here.
func (d *Desk) fleetCSV() (file string, data []byte, err error) {
	file = filepath.Join(d.Dir, "fleet.csv")
	data, err = textfile.Read(file, textfile.Large)
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil, errors.New("only a fleet.csv is changed here; change your fleet file by hand")
	}
	return file, data, err
}

// AddDevice puts a line of a device into the fleet file, with the values of another one but
// for its own.
func (d *Desk) AddDevice(like, name, address, platform string) error {
	return locks.Editing(d.Dir, func() error { return d.addDevice(like, name, address, platform) })
}

func (d *Desk) addDevice(like, name, address, platform string) error {
	file, data, err := d.fleetCSV()
	if err != nil {
		return err
	}
	f, err := d.Fleet("")
	if err != nil {
		return err
	}
	old, ok := f.Get(like)
	if !ok {
		return fmt.Errorf("%s is not in the fleet", like)
	}
	if _, there := f.Get(name); there {
		return fmt.Errorf("%s is in the fleet already: nothing is to be added; metabasis replace --help tells what comes next", name)
	}
	values := map[string]string{
		"name":     name,
		"address":  address,
		"platform": platform,
		"site":     old.Site,
		"role":     old.Role,
		"via":      old.Via,
		"login":    old.Login,
		"jump":     strings.Join(old.Jump, " "),
	}
	if host, port, err := net.SplitHostPort(address); err == nil {
		values["address"], values["port"] = host, port
	}
	if platform == "" {
		values["platform"] = old.Platform
	}
	for c, v := range old.Values {
		if _, own := values[c]; !own {
			values[c] = v
		}
	}
	changed, err := fleet.Add(data, values)
	if err != nil {
		return err
	}
	return d.writeFleet(file, data, changed)
}

// writeFleet writes a fleet file in the place of another, once it can be read, and keeps the
// old one beside it.
func (d *Desk) writeFleet(file string, old, changed []byte) error {
	if _, err := fleet.Read(file, changed, d.Profiles.Platforms()); err != nil {
		return fmt.Errorf("the fleet file would not be right any more, and stays as it is: %w", err)
	}
	if err := keepBeside(file, old); err != nil {
		return err
	}
	if now, err := textfile.Read(file, textfile.Large); err != nil || !bytes.Equal(now, old) {
		return errors.Join(err, fmt.Errorf("%s has changed just now, and stays as it is: try again", file))
	}
	return textfile.Replace(file, changed, 0o600)
}

// keepBeside keeps what a file held, under a name that nothing has yet.
func keepBeside(file string, old []byte) error {
	beside := file + "." + time.Now().UTC().Format("2006-01-02T150405Z")
	for n := 2; ; n++ {
		f, err := os.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) {
			beside = fmt.Sprintf("%s.%s-%d", file, time.Now().UTC().Format("2006-01-02T150405Z"), n)
			continue
		}
		if err != nil {
			return err
		}
		_, err = f.Write(old)
		return errors.Join(err, f.Sync(), f.Close())
	}
}

// Replaced changes the fleet file: the new device takes the old one's place, with its serial
// and its version as it tells them, and the old one is retired. Noted are those; where it
// did not tell them, untold says why. Nothing is changed where the new one's newest backup
// is not what would be carried over, unless it was set up by hand.
func (d *Desk) Replaced(ctx context.Context, old, fresh string, byHand bool) (noted map[string]string, untold, err error) {
	if _, _, err := d.fleetCSV(); err != nil {
		return nil, nil, err
	}
	if !byHand {
		if err := d.hasWhatItHad(old, fresh); err != nil {
			return nil, nil, fmt.Errorf("%w; where it was set up in another way, add --by-hand", err)
		}
	}
	set, untold := d.identity(ctx, fresh)
	return set, untold, locks.Editing(d.Dir, func() error {
		file, data, err := d.fleetCSV()
		if err != nil {
			return err
		}
		changed, err := fleet.Replace(data, fleet.Replacement{Old: old, New: fresh, Set: set,
			Why: fmt.Sprintf("%s, replaced by %s", time.Now().Format("2006-01-02"), fresh)})
		if err != nil {
			return err
		}
		return d.writeFleet(file, data, changed)
	})
}

// hasWhatItHad says what keeps a new device from taking the old one's place.
func (d *Desk) hasWhatItHad(old, fresh string) error {
	if _, _, _, err := d.oldAndNew(old, fresh); err != nil {
		return nil // the fleet file says it better
	}
	c, err := d.Carry(old, fresh)
	if err != nil {
		return fmt.Errorf("it cannot be said whether %s has what %s had: %w", fresh, old, err)
	}
	if c.Differs > 0 {
		return fmt.Errorf("%s does not have what %s had: by its newest backup, %s would still differ; --carry gives it them",
			fresh, old, report.Count(c.Differs, "line"))
	}
	return nil
}

// identity is the serial and the version of a device, as it tells them.
func (d *Desk) identity(ctx context.Context, device string) (map[string]string, error) {
	set := map[string]string{}
	now, err := d.readNow(ctx, []string{device}, []string{"version"})
	if err != nil {
		return set, err
	}
	one := now.Devices[0]
	switch rows := one.Tables["version"]; {
	case one.Failed != "":
		return set, errors.New(one.Failed)
	case one.Wrong["version"] != "":
		return set, errors.New(one.Wrong["version"])
	case len(rows) == 1:
		for _, c := range []string{"serial", "version"} {
			if text := record.Text(rows[0][c]); text != "" {
				set[c] = text
			}
		}
	}
	if len(set) == 0 {
		return set, errors.New("it told neither")
	}
	return set, nil
}
