package acts

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/runbook"
	"metabasis/internal/store"
)

// moment is what is meant by the word behind an @: of every device that it is asked of.
type moment struct {
	d    *Desk
	word string // as it was written

	at        time.Time // a time
	night     int64     // what was before it; 0 is none
	after     bool      // or what it left
	predicted bool      // or what was computed that the device would have: by that night,
	by        string    // by what is called so; "" by any

	of *night.Night // that night, once it was read
}

// found is what a device had at a moment.
type found struct {
	from  store.Backups
	kept  store.Shelved
	label string // when that was, in words
}

// Newest is the word for the newest backup, Predicted that for the newest prediction.
const (
	Newest    = "newest"
	Predicted = "predicted"
)

// moment reads a word such as newest, 2026-11-20 03:00, night 21, after night 21, predicted
// night 21, or the name of a backup.
func (d *Desk) moment(word string) (m *moment, err error) {
	m = &moment{d: d, word: word}
	var rest string
	if by, is := strings.CutPrefix(word, Predicted); is {
		m.predicted, m.by = true, strings.TrimSpace(by)
		rest = m.by
	} else {
		rest, m.after = strings.CutPrefix(word, "after ")
	}
	id, isNight, err := nightNumber(rest)
	switch {
	case err != nil:
		return nil, err
	case isNight:
		if m.night = id; m.predicted {
			m.by = fmt.Sprintf("night %d", id) // as it was noted
		}
		return m, nil
	case m.predicted && m.by != "" && m.by != "rehearsal":
		return nil, fmt.Errorf("%q predicts nothing; write predicted, predicted night 21 or predicted rehearsal", m.by)
	case m.predicted, word == Newest:
		return m, nil
	}
	m.at, _ = runbook.ParseRestoreTime(word) // else it names a backup, which the device has or not
	return m, nil
}

// title is the moment as it is told of many devices.
func (m *moment) title() string {
	switch {
	case m.predicted && m.by == "":
		return "what was last predicted"
	case m.predicted:
		return "what " + m.by + " predicted"
	case m.after:
		return fmt.Sprintf("what night %d left", m.night)
	case m.night > 0:
		return fmt.Sprintf("what was before night %d", m.night)
	case m.word == Newest:
		return "the newest backup of each"
	}
	return "what was at " + m.word
}

// origin is on whose behalf that was put on the shelf; "" for what is no night's.
func (m *moment) origin() string {
	switch {
	case m.night == 0 || m.predicted:
		return ""
	case m.after:
		return fmt.Sprintf("night %d, after", m.night)
	}
	return fmt.Sprintf("night %d, before", m.night)
}

// find finds what a device had. The errors do not name it.
func (m *moment) find(ctx context.Context, device string) (f found, err error) {
	if m.predicted {
		return m.prediction(ctx, device)
	}
	f.from = m.d.Backups("")
	if m.night > 0 {
		f.kept, err = m.ofNight(ctx, device)
	} else {
		f.kept, err = m.ofShelf(device)
	}
	if err != nil {
		return f, errors.New(strings.TrimPrefix(err.Error(), device+": ")) // who asks says of which device
	}
	f.label = f.kept.Last().Local().Format("Mon 2 Jan 2006 15:04:05")
	return f, nil
}

// ofShelf finds a backup by its name or its time.
func (m *moment) ofShelf(device string) (store.Shelved, error) {
	shelf, err := m.d.Backups("").Shelf(device)
	if err != nil {
		return store.Shelved{}, err
	}
	if m.word == Newest && len(shelf) > 0 {
		return shelf[0], nil
	}
	for _, k := range shelf {
		if k.File == m.word || strings.TrimSuffix(strings.TrimSuffix(k.File, ".age"), ".cfg") == m.word {
			return k, nil
		}
	}
	switch {
	case len(shelf) == 0:
		return store.Shelved{}, errors.New("it has no backup: metabasis backup makes one")
	case m.at.IsZero():
		return store.Shelved{}, fmt.Errorf("%q is no backup of it; write a time such as 2026-11-20 03:00, newest, night 21, after night 21, predicted, or the name of a backup", m.word)
	}
	k, _, err := m.d.Backups("").AsOf(device, m.at)
	return k, err
}

// read reads the night, once.
func (m *moment) read(ctx context.Context) (*night.Night, error) {
	if m.of == nil {
		p, err := m.d.Open(ctx, m.night)
		if err != nil {
			return nil, err
		}
		m.of = &p.Night
	}
	return m.of, nil
}

// ofNight finds what a night found on a device, or left on it.
func (m *moment) ofNight(ctx context.Context, device string) (store.Shelved, error) {
	n, err := m.read(ctx)
	if err != nil {
		return store.Shelved{}, err
	}
	dev := n.Get(device)
	switch {
	case dev == nil:
		return store.Shelved{}, fmt.Errorf("night %d was not for it", m.night)
	case m.after && dev.Left == "":
		return store.Shelved{}, fmt.Errorf("night %d kept nothing that it left on it: it is %s", m.night, dev.State)
	case m.after:
		return m.d.Backups("").Find(device, filepath.Base(dev.Left))
	case dev.Backup == "":
		return store.Shelved{}, fmt.Errorf("night %d took no backup of it: it is %s", m.night, dev.State)
	}
	return m.d.Backups("").Find(device, filepath.Base(dev.Backup))
}

// prediction finds what was computed that a device would have.
func (m *moment) prediction(ctx context.Context, device string) (f found, err error) {
	f.from = m.d.Predictions("")
	all, err := f.from.Shelf(device)
	if err != nil {
		return f, fmt.Errorf("predictions: %w", err)
	}
	var seen store.Sighting
	for _, k := range all {
		for _, at := range k.Seen {
			if (m.by == "" || at.Origin == m.by) && at.At.After(seen.At) {
				f.kept, seen = k, at
			}
		}
	}
	switch {
	case seen.At.IsZero() && m.night > 0:
		return f, m.notPredicted(ctx, device)
	case seen.At.IsZero() && m.by == "":
		return f, errors.New("nothing is kept that a night or a rehearsal predicted of it")
	case seen.At.IsZero():
		return f, fmt.Errorf("nothing is kept that a %s predicted of it", m.by)
	}
	by := seen.Origin
	if !strings.HasPrefix(by, "night ") {
		by = "a rehearsal" // nothing else predicts
	}
	f.label = fmt.Sprintf("as %s predicted it, %s", by, seen.At.Local().Format("Mon 2 Jan 2006 15:04:05"))
	return f, nil
}

// notPredicted says why there is no prediction of a device by a night.
func (m *moment) notPredicted(ctx context.Context, device string) error {
	n, err := m.read(ctx)
	if err != nil {
		return err
	}
	dev := n.Get(device)
	switch {
	case dev == nil:
		return fmt.Errorf("night %d was not for it", m.night)
	case dev.Computed && dev.Unknown != "":
		return fmt.Errorf("night %d could not tell what it would have: %s", m.night, dev.Unknown)
	case !dev.Computed:
		return fmt.Errorf("night %d computed nothing for it: it is %s", m.night, dev.State)
	}
	return fmt.Errorf("what night %d predicted of it is not kept", m.night)
}

// nightNumber reads "night 21"; it is false for what is no night at all.
func nightNumber(word string) (id int64, is bool, err error) {
	number, is := strings.CutPrefix(word, "night ")
	if !is {
		return 0, false, nil
	}
	if id, err = strconv.ParseInt(strings.TrimSpace(number), 10, 64); err != nil {
		return 0, true, fmt.Errorf("%q is not the number of a night", number)
	}
	return id, true, nil
}
