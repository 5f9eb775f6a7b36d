package work

import (
	"errors"
	"fmt"
	"slices"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
)

// compare tells whether what runs now is the backup, and says so.
func (w *worker) compare(rung string) (bool, error) {
	var now config.Config
	looks, early := w.tooEarly(rung)
	_, err := w.until(looking{times: looks, every: partPause}, func() (_ bool, err error) {
		_, now, err = w.running()
		return !early(now), err
	})
	if err != nil {
		return false, err
	}
	d := config.Compare(w.before, now)
	if unseen := w.unseen(now); rung == asFound && !w.turned && d.Empty() && len(unseen) > 0 {
		err := fmt.Errorf("%w: it reads like the backup, but it took the lines of %q, and nothing of them is seen: what its profile reads may not be what runs", errUnseen, w.t.Steps[unseen[0]].Title)
		w.emit(night.Climbed(rung, false, err.Error()))
		return false, err
	}
	w.emit(night.Climbed(rung, d.Empty(), d.String()))
	w.emit(night.Event{Kind: night.Differs, Lines: d.Lines(w.t.Masked)})
	if d.Empty() {
		for _, i := range slices.Backward(w.ran) {
			w.proveUndone(i)
		}
	}
	return d.Empty(), nil
}

// tooEarly tells how often what runs is looked at after a rung, and whether it may have been
// read too early: what runs beside the configuration may need a moment, and so may what a
// device took until it shows. A device that took lines and reads like its backup is looked at
// more than once.
func (w *worker) tooEarly(rung string) (looks int, early func(now config.Config) bool) {
	if rung != asFound {
		return partLooks + 1, func(now config.Config) bool { return config.OnlyParts(w.before, now) }
	}
	looks = missedLooks
	if w.madeSomething() {
		looks = partLooks * 2
	}
	return looks, func(now config.Config) bool { return w.taken && !w.turned && config.Equal(w.before, now) }
}

// madeSomething tells whether the device took lines in this session that make something,
// by its language. Where nothing of it shows, it may do so late.
func (w *worker) madeSomething() bool {
	return slices.ContainsFunc(w.ran, func(i int) bool {
		base, after := w.steps[i].before, w.t.Steps[i].After
		return base != nil && after != nil && w.steps[i].in == w.ses && w.whole(i) && !config.Equal(*base, *after)
	})
}

// errUnseen says that equality with the backup proves nothing. Undo lines are not
// sent on a guess: what they take away may have been there before.
var errUnseen = errors.New("not proven")

// unseen are the steps whose lines were all taken in this session, and of which the
// configuration shows nothing. It is no proof that they are undone.
func (w *worker) unseen(c config.Config) (out []int) {
	for _, i := range w.ran {
		if w.steps[i].in != w.ses || w.steps[i].undone || !w.whole(i) {
			continue
		}
		if yes, known := w.shows(i, c); known && !yes {
			out = append(out, i)
		}
	}
	return out
}
