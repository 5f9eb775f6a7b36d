package run

import (
	"maps"
	"slices"
	"strings"
	"unicode"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// command carries out what a person decided.
func (r *Run) command(c night.Command) {
	switch c.Choice {
	case night.Remark:
		r.note(c)
		return
	case night.Nobody:
		r.nobody()
		return
	case night.LeaveOut:
		r.leaveOut(c)
		return
	case night.AtOnce:
		r.atOnce(c)
		return
	case night.Somebody:
		r.somebody(c.By)
		return
	}
	if c.Hold != 0 {
		r.answer(c)
		return
	}
	switch c.Choice {
	case night.Stand, night.StandLine, night.StandStep:
		r.stand(c)
		return
	}
	r.abort(c)
}

// longestNote is the longest note that is written, in characters.
const longestNote = 500

// note writes what somebody says into the journal, as one line. Nothing is decided by it.
func (r *Run) note(c night.Command) {
	text := []rune(strings.Join(strings.FieldsFunc(c.Reason, func(c rune) bool { return unicode.IsSpace(c) || unicode.IsControl(c) }), " "))
	if len(text) > longestNote {
		text = append(text[:longestNote], '…')
	}
	if len(text) > 0 {
		r.rec.Emit(night.Event{Kind: night.Noted, By: c.By, Note: r.plan.Mask(string(text))})
	}
}

// stand lets the night stand: no new device begins until somebody says so. What is in change goes on
// to its end, or is held after the line in flight, or after its step. Where nobody is there to say
// that it goes on, it is not done.
func (r *Run) stand(c night.Command) {
	if r.released {
		return
	}
	if r.opts.Unattended {
		r.note(night.Command{By: "metabasis", Reason: "not let stand, as " + c.By + " wanted: this night is run without a screen, and nobody would let it go on; abort it, where it is not to"})
		return
	}
	evidence := []string{"what is in change goes on to its end; no new device begins"}
	if c.Choice != night.Stand {
		for _, h := range r.active {
			h.orders.Halt(c.Choice == night.StandLine, c.By)
		}
		evidence[0] = "what is in change is held " + strings.TrimPrefix(string(c.Choice), "hold ") + " in flight; no new device begins"
		r.note(night.Command{By: c.By, Reason: evidence[0]})
	}
	if r.stopping || r.holds[r.standHold] != nil || !r.unstarted() {
		return
	}
	likely := r.plan.Forecast(r.progress(r.now(), min(r.batch, len(r.plan.Batches)))).Likely
	back, touched := r.backAll()
	offers := []night.Offer{
		{Choice: night.GoOn, Touches: r.toCome(), Takes: likely.Sub(r.now())},
		{Choice: night.Stop},
		{Choice: night.BackAll, Touches: touched, Takes: back, Open: r.unknown(r.inChange())},
	}
	if c.Reason != "" {
		evidence = append(evidence, r.plan.Mask(c.Reason))
	}
	r.open(&openHold{offers: offers, answer: func(c night.Command) {
		switch c.Choice {
		case night.GoOn:
			r.goOnHalted(c.By)
		case night.Stop:
			r.stop("it was let stand, and stopped")
		case night.BackAll:
			r.takeAllBack()
		}
	}, alone: always(night.Stop)}, "", "let stand by "+c.By, evidence)
	r.standHold = r.nextHold
}

// goOnHalted has the devices go on that were held by letting the night stand, and those that would
// have been.
func (r *Run) goOnHalted(by string) {
	for _, h := range r.active {
		h.orders.Unhalt()
	}
	for _, n := range slices.Sorted(maps.Keys(r.holds)) {
		if h := r.holds[n]; h != nil && h.halted {
			r.answer(night.Command{Hold: n, Choice: night.TryAgain, By: by})
		}
	}
}

// abort starts no new device (law 7). What becomes of the devices in change is
// the choice: they are taken back, or may finish, or everything is taken back,
// or everything is let go of at once.
func (r *Run) abort(c night.Command) {
	if r.released {
		return
	}
	if c.Choice == night.Release {
		r.letGoAll(c.By)
		return
	}
	r.rec.Emit(night.Event{Kind: night.Aborted, Choice: c.Choice, By: c.By})
	switch c.Choice {
	case night.BackAll:
		r.takeAllBack()
	case night.Finish:
		r.stop("the run was aborted")
		r.answerRunHolds(night.Stop, "the abort")
	default:
		r.stop("the run was aborted")
		r.answerRunHolds(night.Stop, "the abort")
		r.backActive(all)
	}
}

// all are all devices.
func all(*hand) bool { return true }

// backActive tells devices in change to be taken back. One that has no contact cannot be
// asked now: what was decided is said of it.
func (r *Run) backActive(which func(*hand) bool) {
	for _, h := range r.active {
		if !which(h) {
			continue
		}
		if !h.orders.ToldBack() && h.waits() {
			r.rec.Emit(night.Event{Kind: night.Doing, Device: h.name(), Note: "no contact; to be taken back as soon as it is there: decided at " + r.now().Format("15:04:05")})
		}
		h.orders.TakeBack()
	}
}

// letGoAll lets go of every device and leaves the timers to do their work.
func (r *Run) letGoAll(by string) {
	if r.released {
		return
	}
	r.released, r.stopping = true, true
	r.rec.Emit(night.Event{Kind: night.LetGo, By: by})
	r.release()
}

// answerRunHolds answers the holds that are about the run itself.
func (r *Run) answerRunHolds(c night.Choice, by string) {
	for n, h := range r.holds {
		if h.of == nil {
			r.answer(night.Command{Hold: n, Choice: c, By: by})
		}
	}
}

// takeBatchBack takes back every device of the batch that runs.
func (r *Run) takeBatchBack() {
	r.batchBack = true
	r.skip(r.queue, "its batch was taken back")
	r.queue = nil
	ofBatch := func(h *hand) bool { return h.target.Batch == r.batch }
	r.backActive(ofBatch)
	r.undoKept(ofBatch)
}

// takeSiteBack takes back every device of a site, and begins no further one of it.
func (r *Run) takeSiteBack(site string) {
	var unbegun []*plan.Target
	for _, t := range r.plan.Targets() {
		if t.Device.Site == site && r.ends[t.Device.Name] == "" && r.active[t.Device.Name] == nil {
			unbegun = append(unbegun, t)
		}
	}
	if r.sitesBack == nil {
		r.sitesBack = map[string]bool{}
	}
	r.sitesBack[site] = true
	r.skip(unbegun, "its site was taken back")
	r.queue = slices.DeleteFunc(r.queue, func(t *plan.Target) bool { return t.Device.Site == site })
	of := func(h *hand) bool { return h.target.Device.Site == site }
	r.backActive(of)
	r.undoKept(of)
}

// siteOf is the site of a device; "" where it has none.
func (r *Run) siteOf(device string) string {
	for _, t := range r.plan.Targets() {
		if t.Device.Name == device {
			return t.Device.Site
		}
	}
	return ""
}

// takeAllBack takes back every device of the night and stops.
func (r *Run) takeAllBack() {
	r.stop("everything is being taken back")
	r.answerRunHolds(night.Stop, "the abort")
	r.backActive(all)
	r.undoKept(all)
}

// undoKept queues kept devices to be taken back, the last kept first.
func (r *Run) undoKept(which func(*hand) bool) {
	for _, h := range slices.Backward(r.kept) {
		if which(h) {
			r.backs = append(r.backs, h.again())
		}
	}
	r.kept = slices.DeleteFunc(r.kept, which)
}
