package work

import (
	"fmt"
	"strconv"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// What is saved is only said where it was read. A platform may have no way to show
// what is saved, or none to save; then the end of a device says so in place of a
// claim, and a take-back saves again whatever it may have saved.

// savedConfig reads the saved configuration. It is not known where the platform has
// no way to show it: nothing else is ever taken for it.
func (w *worker) savedConfig() (c config.Config, known bool, err error) {
	if !w.t.Traits.TellsSaved {
		return config.Config{}, false, nil
	}
	_, c, err = w.parsed(driver.Saved)
	return c, err == nil, err
}

// save makes what runs the saved configuration, where the platform can.
func (w *worker) save() error {
	if !w.t.Traits.Saves {
		return nil
	}
	w.doing("saving")
	if err := w.intend(night.Event{What: night.ToSave}); err != nil {
		return err
	}
	w.saved = true // from here on it may be, whatever we hear
	return w.ses.Save(w.ctx)
}

// saveBack saves what was taken back, where this night saved something else or may
// have. What was not saved before stays so.
func (w *worker) saveBack() error {
	saved, known, err := w.savedConfig()
	w.backSaved = err == nil && known && config.Equal(w.before, saved)
	switch {
	case err != nil, w.backSaved, !known && !w.saved:
		return err
	case known && w.hadUnsaved() && config.Equal(w.found, saved):
		return nil
	}
	if err := w.save(); err != nil {
		return err
	}
	if saved, known, err = w.savedConfig(); err != nil || !known {
		return err
	}
	if d := config.Compare(w.before, saved); !d.Empty() {
		return &driver.Unclear{Asked: "saved configuration", Got: d.String() + " " + w.afterSaving()}
	}
	w.backSaved = true
	return nil
}

func (w *worker) afterSaving() string {
	if !w.t.Traits.Saves {
		return "and the profile of " + w.t.Device.Platform + " says no way to save"
	}
	return "after saving"
}

// keptNote is the last word of a device that is kept.
func (w *worker) keptNote() string {
	if w.handed {
		return "worked by hand; " + w.keptSoftware() + w.keptAs()
	}
	return w.keptSoftware() + w.keptAs()
}

func (w *worker) keptAs() string {
	without := w.without()
	switch {
	case without != "" && len(w.accepted) > 0:
		return fmt.Sprintf("%s; not as predicted: %s; %s", without, night.CountLines(len(w.accepted)), w.savedNote())
	case without != "" && w.expected != nil && !w.unpredicted:
		return without + "; " + w.savedNote() + "; the rest as predicted"
	case without != "":
		return without + "; " + w.savedNote()
	case len(w.accepted) > 0:
		return fmt.Sprintf("not as predicted: %s; %s", night.CountLines(len(w.accepted)), w.savedNote())
	case w.expected != nil && !w.unpredicted && len(w.rewritten) > 0:
		return w.savedNote() + "; the rest as predicted"
	case w.expected != nil && !w.unpredicted:
		return w.savedNote() + "; as predicted"
	}
	return w.savedNote()
}

// without says which steps were left out on the device; "" for none.
func (w *worker) without() string {
	var out []string
	for i, s := range w.t.Steps {
		if w.steps[i].left {
			out = append(out, strconv.Quote(s.Title))
		}
	}
	if out == nil {
		return ""
	}
	return "kept WITHOUT " + strings.Join(out, ", ")
}

// savedNote says what is known to be saved of a device that is kept.
func (w *worker) savedNote() string {
	t := w.t.Traits
	switch {
	case t.TellsSaved && w.proves && w.from == nil:
		return "kept and saved: it ran already and was not saved"
	case w.hadUnsaved() && !config.Equal(w.found, config.Parse(w.intended, t.Style)):
		return "kept and saved, with what was not saved before this night"
	case t.One:
		return "kept; " + asOne
	case t.TellsSaved:
		return "kept and saved"
	case t.Saves:
		return fmt.Sprintf("not known to be saved: that cannot be read on %s", w.t.Device.Platform)
	}
	return fmt.Sprintf("nothing was saved, and what is saved cannot be read on %s", w.t.Device.Platform)
}

// asOne is said where nothing but the profile tells that something is saved.
const asOne = "what runs is what is saved, as its profile says"

// backNote is the last word of a device that was taken back.
func (w *worker) backNote() string {
	switch {
	case w.proves && w.from == nil && !w.hadUnsaved():
		return "nothing was sent: it is as it was, with the change, and what is expected of it does not hold"
	case w.hadUnsaved() && w.backSaved:
		return "equal to the backup; what was not saved before this night is saved now"
	case w.hadUnsaved():
		return "equal to the backup; what was not saved before this night is still not saved"
	case w.t.Traits.TellsSaved:
		return "equal to the backup"
	case w.saved:
		return fmt.Sprintf("what runs is equal to the backup, and was saved again; what is saved cannot be read on %s", w.t.Device.Platform)
	}
	return fmt.Sprintf("what runs is equal to the backup; nothing was saved, and what is saved cannot be read on %s", w.t.Device.Platform)
}

// hadUnsaved tells whether it was read that something ran on the device that was not
// saved, before anything was done to it.
func (w *worker) hadUnsaved() bool {
	return w.from == nil && w.foundSaved && !config.Equal(w.found, w.before)
}

// toSave tells whether what runs is to be saved although nothing is to be changed: it is not
// saved, or nobody can tell and that is what the night is for. What somebody else has not saved is
// not ours to save on a device that is only looked at.
func (w *worker) toSave() bool {
	switch {
	case w.t.OnlySaves() && !w.foundSaved:
		return w.t.Traits.Saves && !w.t.Traits.One
	case w.t.OnlySaves() || w.t.Touches():
		return w.hadUnsaved()
	}
	return false
}

// notSavedLines are the lines that run and are not saved, as they are shown.
func (w *worker) notSavedLines() []string {
	if !w.hadUnsaved() {
		return nil
	}
	return config.Compare(w.found, w.before).Lines(w.t.Masked)
}

// whose says whose it may be that is not saved.
func (w *worker) whose() string {
	if u := w.unfinished(); u != nil {
		if w.leftBy(u) {
			return "left by " + u.Night + ", which was cut off"
		}
		return u.Night + " was " + u.Was + " there when it was cut off, and it is not just what that was to leave"
	}
	if editing, err := w.others(); err == nil && editing != "" {
		return "perhaps " + editing + ", who is changing the configuration now"
	}
	return "no night of ours left it: somebody else"
}

// others are those who are changing the configuration now, where the device tells.
func (w *worker) others() (string, error) {
	if _, tells := w.t.Traits.Tables[editors]; !tells {
		return "", nil
	}
	rows, err := w.rows(editors, tables{})
	var names []string
	for _, r := range rows {
		names = append(names, fmt.Sprint(r["user"]))
	}
	return strings.Join(names, ", "), err
}

// alreadyNote is the last word of a device on which there was nothing to do.
func (w *worker) alreadyNote() string {
	if w.t.Traits.One {
		return asOne + "; as intended already, and nothing was sent"
	}
	if w.foundSaved {
		return "as intended already and saved; nothing was sent"
	}
	return fmt.Sprintf("not known to be saved: that cannot be read on %s; as intended already, and nothing was sent", w.t.Device.Platform)
}

// whole tells whether all the lines of a step were taken: only then is it odd that a
// line of its undo is refused.
func (w *worker) whole(i int) bool {
	return w.intended != "" || i < w.at.step || i == w.at.step && w.at.sent
}

// refusals tells of undo lines that were refused, although the device is as it was:
// what they were to undo may stand in something that no configuration shows.
func (w *worker) refusals() string {
	switch w.refusedUndo {
	case 0:
		return ""
	case 1:
		return "; 1 undo line was refused"
	}
	return fmt.Sprintf("; %d undo lines were refused", w.refusedUndo)
}
