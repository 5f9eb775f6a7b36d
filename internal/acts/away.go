package acts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/ssh"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/store/away"
	"metabasis/internal/workspace"
)

// PushedTo is what became of pushing backups to one place.
type PushedTo struct {
	Place string `json:"place"`
	There int    `json:"there"` // pushed now, and proven to be there
	Gone  int    `json:"gone"`  // of those: pushed before, and not there any more
	Had   int    `json:"had"`   // pushed before, and there
	Error string `json:"error,omitempty"`
}

func (p PushedTo) String() string {
	text := fmt.Sprintf("%s: %d pushed, %d there already", p.Place, p.There, p.Had)
	if p.Gone > 0 {
		text += fmt.Sprintf("; %d had been pushed before and were GONE there", p.Gone)
	}
	if p.Error != "" {
		text += "; NOT all: " + p.Error
	}
	return text
}

// Pushing is how far pushing has come.
type Pushing struct {
	Place    string
	Done, Of int // backups that it is to have
}

func (p Pushing) String() string {
	return fmt.Sprintf("pushing to %s: %d of %s", p.Place, p.Done, report.Count(p.Of, "backup"))
}

// Push pushes every backup of the shelf to the places of the settings that do not have it,
// as each says itself, and proves that it is there. With again, those that are there are read
// back, too. What one place refuses keeps no other from its own. Say is told how far it has
// come; nil is nobody.
func (d *Desk) Push(ctx context.Context, again bool, say func(Pushing)) ([]PushedTo, error) {
	if len(d.Settings.Places) == 0 {
		return nil, errors.New("no place for backups is named: write one under backups: in metabasis.yaml")
	}
	shelf := d.Backups("")
	names, err := shelf.Devices()
	if err != nil {
		return nil, err
	}
	var all []store.Shelved
	for _, device := range names {
		of, err := shelf.Shelf(device)
		if err != nil {
			return nil, err
		}
		all = append(all, of...)
	}
	slices.SortStableFunc(all, func(a, b store.Shelved) int { return a.At().Compare(b.At()) })
	var out []PushedTo
	for _, p := range d.Settings.Places {
		one := PushedTo{Place: p.Name()}
		began := time.Now()
		if say == nil {
			say = func(Pushing) {}
		}
		err := d.pushInTime(ctx, p, all, again, &one, say)
		d.did("push", began, err, "place", p.Name(), "there", one.There)
		if err != nil {
			one.Error = err.Error()
		}
		out = append(out, one)
	}
	return out, nil
}

// pushInTime pushes to one place. A directory of another machine that is gone may hold up
// whoever asks for it for good: it is not waited for much longer than there is time.
func (d *Desk) pushInTime(ctx context.Context, p settings.Place, all []store.Shelved, again bool, to *PushedTo, say func(Pushing)) error {
	type end struct {
		to  PushedTo
		err error
	}
	over := make(chan end, 1)
	go func() {
		mine := *to
		err := d.pushTo(ctx, p, all, again, &mine, say)
		over <- end{mine, err}
	}()
	select {
	case e := <-over:
		*to = e.to
		return e.err
	case <-ctx.Done():
	}
	select {
	case e := <-over:
		*to = e.to
		return e.err
	case <-time.After(leftBehind):
		return fmt.Errorf("it did not answer any more: %w", context.Cause(ctx))
	}
}

// leftBehind is how long a place is waited for when there is no time any more.
const leftBehind = 3 * time.Second

// pushTo pushes to one place what it does not have.
func (d *Desk) pushTo(ctx context.Context, p settings.Place, all []store.Shelved, again bool, to *PushedTo, say func(Pushing)) error {
	if len(all) == 0 {
		return nil
	}
	say(Pushing{p.Name(), 0, len(all)})
	place, err := d.openPlace(ctx, p)
	if err != nil {
		return err
	}
	gone, err := d.goneFrom(ctx, p, place, all)
	if err != nil {
		return errors.Join(err, place.Close())
	}
	var left []store.Shelved
	for _, s := range all {
		if slices.Contains(s.Pushed, p.Name()) && !gone[s.Device+"/"+s.File] && !again {
			to.Had++
			continue
		}
		left = append(left, s)
	}
	var wrong []error
	for _, group := range byOrigin(left, p.Git != "") {
		say(Pushing{p.Name(), to.Had + to.There, len(all)})
		wrong = append(wrong, d.pushGroup(ctx, p, place, group, gone, to))
		if wrong[len(wrong)-1] != nil && p.Git != "" {
			break // commits come in their order, or not at all
		}
	}
	return errors.Join(append(wrong, place.Close())...)
}

// goneFrom asks a place which of the backups that were pushed there it does not have any
// more.
func (d *Desk) goneFrom(ctx context.Context, p settings.Place, place away.Place, all []store.Shelved) (map[string]bool, error) {
	shelf := d.Backups("")
	f, _ := d.FleetOfAny("")
	var noted []away.Item
	for _, s := range all {
		if !slices.Contains(s.Pushed, p.Name()) {
			continue
		}
		if data, err := d.toPush(shelf, s, p.Masked, f); err == nil { // a damaged one is told when all are verified
			noted = append(noted, away.Item{Device: s.Device, File: s.File, Data: data})
		}
	}
	out := map[string]bool{}
	if len(noted) == 0 {
		return out, nil
	}
	missing, err := place.Missing(ctx, noted)
	for _, i := range missing {
		out[i.Device+"/"+i.File] = true
	}
	return out, err
}

// byOrigin puts together what goes together: in a repository, what one night or one minute
// put on the shelf is one commit.
func byOrigin(list []store.Shelved, apart bool) (out [][]store.Shelved) {
	if !apart {
		return [][]store.Shelved{list}
	}
	key := func(s store.Shelved) string {
		if strings.HasPrefix(s.Origin(), "night ") {
			return s.Origin()
		}
		return s.Origin() + s.At().UTC().Format(" 2006-01-02 15:04")
	}
	at := map[string]int{}
	for _, s := range list {
		i, known := at[key(s)]
		if !known {
			i = len(out)
			at[key(s)] = i
			out = append(out, nil)
		}
		out[i] = append(out[i], s)
	}
	return out
}

// pushGroup pushes some backups together, and notes those that are there.
func (d *Desk) pushGroup(
	ctx context.Context,
	p settings.Place,
	place away.Place,
	group []store.Shelved,
	gone map[string]bool,
	to *PushedTo,
) error {
	shelf := d.Backups("")
	f, _ := d.FleetOfAny("") // without one, every profile's secrets are masked
	var items []away.Item
	byName := map[string]store.Shelved{}
	var wrong []error
	for _, s := range group {
		data, err := d.toPush(shelf, s, p.Masked, f)
		if err != nil { // what is damaged is not brought anywhere
			wrong = append(wrong, err)
			continue
		}
		items = append(items, away.Item{Device: s.Device, File: s.File, Data: data})
		byName[s.Device+"/"+s.File] = s
	}
	if len(items) == 0 {
		return errors.Join(wrong...)
	}
	message := fmt.Sprintf("%s: %s", cmp.Or(group[0].Origin(), "backups"), report.Count(len(items), "device"))
	there, err := place.Put(ctx, message, items)
	wrong = append(wrong, err)
	for _, i := range there {
		s := byName[i.Device+"/"+i.File]
		if slices.Contains(s.Pushed, p.Name()) && !gone[s.Device+"/"+s.File] {
			to.Had++
			continue
		}
		if gone[s.Device+"/"+s.File] {
			to.Gone++
		}
		if err := shelf.NotePushed(s, p.Name(), time.Now()); err != nil {
			wrong = append(wrong, err)
			continue
		}
		to.There++
	}
	return errors.Join(wrong...)
}

// toPush is a backup as it is pushed: as it is, encrypted or not; or opened, and its
// secrets masked.
func (d *Desk) toPush(shelf store.Backups, s store.Shelved, masked bool, f *fleet.Fleet) ([]byte, error) {
	if masked || s.Stored == "" {
		text, err := shelf.Read(s)
		if masked {
			text = d.maskText(d.PlatformOf(f, s.Device), text)
		}
		return []byte(text), err
	}
	return shelf.Raw(s)
}

// openPlace gets ready to push to a place.
func (d *Desk) openPlace(ctx context.Context, p settings.Place) (away.Place, error) {
	switch {
	case p.Directory != "":
		return away.Directory{Dir: d.inWorkspace(p.Directory)}, nil
	case p.Git != "":
		name := strings.Map(func(r rune) rune {
			if r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
				return r
			}
			return '-'
		}, p.Git)
		remote := p.Git
		if strings.HasPrefix(remote, "~") || strings.HasPrefix(remote, ".") {
			remote = d.inWorkspace(remote)
		}
		return &away.Git{Remote: remote, Branch: cmp.Or(p.Branch, "backups"), Dir: filepath.Join(d.Path(), "backups", ".git-places", name),
			Author: Who(), Env: workspace.ChildEnv(os.Environ())}, nil
	}
	return d.openSFTP(ctx, p)
}

func (d *Desk) inWorkspace(path string) string {
	if path = ssh.HomePath(path); !filepath.IsAbs(path) {
		path = filepath.Join(d.Path(), path)
	}
	return path
}

// openSFTP connects to a server, as devices are connected to: its host key must be known,
// and a password is sent once.
func (d *Desk) openSFTP(ctx context.Context, p settings.Place) (away.Place, error) {
	spec, dir, _ := strings.Cut(p.SFTP, "/")
	user, host, port := ssh.SplitJump(spec)
	// It is worked as a device is that is reached over SSH, under a login of its own.
	dev := fleet.Device{Name: host, Address: host, Login: cmp.Or(p.Login, user, "backups")}
	access, err := d.Workspace.Access(ctx, nil, []fleet.Device{dev}, d.finder())
	if err != nil {
		return nil, err
	}
	defer access.Close()
	hop, err := access.Connector(nil).Server(ctx, host, user, net.JoinHostPort(host, cmp.Or(port, "22")), dev.Login)
	if err != nil {
		return nil, err
	}
	sh, err := ssh.OpenSubsystem(ctx, access.Dial, hop, func(reach.Stage) {}, "sftp")
	if err != nil {
		return nil, fmt.Errorf("%s: %w", host, err)
	}
	if !strings.HasPrefix(dir, "~") {
		dir = "/" + dir
	} else {
		dir = strings.TrimPrefix(strings.TrimPrefix(dir, "~"), "/")
	}
	return away.OpenSFTP(sh, cmp.Or(dir, "."))
}
