package workspace

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/work"
	"metabasis/internal/device/ssh"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/store/secrets"
)

// Backups is the shelf, where the configurations of devices are kept. Origin is on whose
// behalf some are put there, and of are the devices whose they are; "" and none for who
// only reads.
func (w *Workspace) Backups(origin string, of ...fleet.Device) store.Backups {
	return w.configs("backups", origin, of)
}

// Predictions are the configurations that nights and rehearsals computed that devices will
// have, secrets masked. They stand apart from the shelf: nothing that never ran is ever
// restored.
func (w *Workspace) Predictions(origin string, of ...fleet.Device) store.Backups {
	return w.configs("predicted", origin, of)
}

// configs are configurations of devices in a directory of the workspace.
func (w *Workspace) configs(dir, origin string, of []fleet.Device) store.Backups {
	identity := w.Settings.Get(settings.Identity)
	if identity != "" {
		identity = ssh.HomePath(identity)
	}
	seal := secrets.Seal{Recipients: secrets.RecipientsFile(w.SecretsPath()), Identity: identity}
	b := store.Backups{Dir: filepath.Join(w.Dir, dir), Origin: origin, Opens: seal, Platforms: map[string]string{}}
	if ids, err := w.Identities(); err == nil && len(of) > 0 {
		b.Who = ids.Met
	}
	for _, d := range of {
		b.Platforms[d.Name] = d.Platform
	}
	if w.Settings.Get(settings.Encrypt) == "yes" {
		b.Seal = seal
	}
	return b
}

// Records is where the records of the workspace are.
func (w *Workspace) Records() store.Records {
	return store.Records{Dir: filepath.Join(w.Dir, "records")}
}

// Rehearsal is a rehearsal of the night, nothing found yet.
func (n *OpenNight) Rehearsal() store.Rehearsal {
	return store.Rehearsal{Title: n.head.Title, Change: n.head.Change, File: n.head.File, Runbook: n.head.Runbook, Values: n.Plan.Values}
}

// KeepRehearsal keeps what a rehearsal found and returns its number.
func (w *Workspace) KeepRehearsal(r store.Rehearsal) (id int64, err error) {
	j, err := store.OpenJournal(w.JournalFile())
	if err != nil {
		return 0, err
	}
	id, err = j.Rehearsed(r)
	return id, errors.Join(err, j.Close())
}

// Rehearsed is the rehearsal of that number, or with 0 the newest of a runbook of that
// title. [store.ErrNoRehearsal] says that there is none.
func (w *Workspace) Rehearsed(ctx context.Context, id int64, title string) (*store.Rehearsal, error) {
	j, err := w.ReadJournal()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, store.ErrNoRehearsal
	}
	if err != nil {
		return nil, err
	}
	defer j.Close()
	return j.Rehearsal(ctx, id, title)
}

// Seen is what devices told of their neighbours when they were last rehearsed.
func (w *Workspace) Seen(ctx context.Context) (fleet.Seen, error) {
	j, err := w.ReadJournal()
	if errors.Is(err, fs.ErrNotExist) {
		return fleet.Seen{}, nil
	}
	if err != nil {
		return fleet.Seen{}, err
	}
	defer j.Close()
	return j.Seen(ctx, time.Now().Add(-staleAfter))
}

// staleAfter is how old a rehearsal may be to be held against a night.
const staleAfter = 14 * 24 * time.Hour

// rehearsed finds what was found of devices at the newest rehearsal of this night; nil
// where there was none. What of it cannot be read is not held against anything.
func (n *OpenNight) rehearsed(ctx context.Context) func(device string) *work.Earlier {
	r, err := n.w.Rehearsed(ctx, 0, n.head.Title)
	if err != nil || time.Since(r.Ended) > staleAfter {
		return nil
	}
	devices := map[string]*work.Rehearsed{}
	for i := range r.Devices {
		devices[r.Devices[i].Device] = &r.Devices[i]
	}
	return func(device string) *work.Earlier {
		d := devices[device]
		if d == nil || d.Backup == "" {
			return nil
		}
		shelf := n.w.Backups("")
		kept, err := shelf.Find(device, filepath.Base(d.Backup))
		if err != nil {
			return nil
		}
		text, err := shelf.Read(kept)
		if err != nil {
			return nil
		}
		return &work.Earlier{At: r.Ended, Config: text, Differs: d.Differs}
	}
}
