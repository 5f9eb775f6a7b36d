package work

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/software"
)

// A device is given other software by moves: a file is installed, what it starts with next is set, it is
// restarted, and where it takes software on trial, that is kept. What is to be done next follows from what
// the device says of its software, and from nothing that we remember: each move is seen to have done what it
// should before the next, so what was cut off is gone on with from wherever it is (law 20).
//
// Its way back is the software that it ran before, which stays on it: it is set to start next, and the
// device restarted, before anything else is taken back.

// exchange brings a device to the software that is wanted.
func (w *worker) exchange(i int) *trouble {
	s, st := w.t.Steps[i], &w.steps[i]
	u := *s.Upgrade
	for {
		if err := w.interrupted(); err != nil {
			return faced(s.Title, err)
		}
		at, err := w.afterMove(i)
		if err != nil {
			return faced("reading what software it runs", err)
		}
		if st.doubt != "" {
			return w.unshown(i, at)
		}
		if at.Runs != w.software { // whatever it has come to is proven before anything is built on it
			if tr := w.provenOn(i, at); tr != nil {
				return tr
			}
		}
		if at.Stands(u.Wanted) {
			st.did = max(len(s.Commands), 1)
			return nil
		}
		m, tr := w.nextMove(i, at)
		if tr != nil {
			return tr
		}
		if tr := w.makeMove(i, m); tr != nil {
			return tr
		}
	}
}

// afterMove reads what the device says of its software: a few times, until it shows what the last move should
// have done, which is not in doubt then.
func (w *worker) afterMove(i int) (at software.State, err error) {
	_, err = w.until(looking{times: missedLooks, every: missedPause}, func() (bool, error) {
		at, err = w.readSoftware()
		return err == nil && (w.steps[i].doubt == "" || w.settledBy(i, at)), err
	})
	return at, err
}

// readSoftware reads what the device says of its software, and tells where that is news.
func (w *worker) readSoftware() (software.State, error) {
	at, err := w.ses.Software(w.ctx)
	if err != nil {
		return at, err
	}
	if at.Runs != w.runs.Runs {
		w.proven = ""
	}
	if at.Runs != w.runs.Runs || at.Trial != w.runs.Trial {
		w.emit(night.RunsSoftware(at.Runs, at.Trial, w.software))
	}
	w.runs = at
	return at, nil
}

// nextMove is what is done next on a device that runs that software.
func (w *worker) nextMove(i int, at software.State) (m plan.Move, tr *trouble) {
	s := w.t.Steps[i]
	u, sw := *s.Upgrade, w.t.Traits.Software
	make := func(k plan.MoveKind, image software.Image) (plan.Move, *trouble) {
		return plan.Move{Kind: k, Image: image, Line: sw.Line(k, image, w.t.Traits.Restarts.Sends)}, nil
	}
	way, err := software.Way(sw.Images, u.Model, at.Runs, u.Wanted)
	switch {
	case err != nil:
		return m, notSent(fmt.Sprintf("%q leads no further: %v", s.Title, err))
	case at.Trial && at.Runs != w.software && sw.Keep != "": // it was proven
		return make(plan.KeepMove, imageOf(sw.Images, u.Model, at.Runs))
	case len(way) == 0: // it runs what is wanted, and would start with something else
		return make(plan.NextMove, imageOf(sw.Images, u.Model, u.Wanted))
	case !at.Installed(w.software):
		why := fmt.Sprintf("%s is not on it any more, which it would be taken back to", w.software)
		return m, notSent(why)
	case !at.Installed(way[0].Version):
		return make(plan.InstallMove, way[0])
	case at.Next != way[0].Version:
		return make(plan.NextMove, way[0])
	}
	return make(plan.RestartMove, way[0])
}

// notSent is the trouble of a device to which nothing is sent any more.
func notSent(why string, evidence ...string) *trouble {
	return &trouble{why: why, evidence: append(evidence, "nothing was sent"), err: &driver.Unclear{Asked: "its software", Got: why}}
}

// imageOf is the image of a version; its version alone where the catalogue has none.
func imageOf(images []software.Image, model, version string) software.Image {
	for _, i := range images {
		if i.Version == version && i.Fits(model) {
			return i
		}
	}
	return software.Image{Version: version}
}

// makeMove does one move.
func (w *worker) makeMove(i int, m plan.Move) *trouble {
	s, st := w.t.Steps[i], &w.steps[i]
	if !w.looked {
		if tr := w.nobodyElse(); tr != nil {
			return tr
		}
		w.looked = true
	}
	if m.Kind == plan.InstallMove { // a while has passed since it was looked at
		if why, err := w.unlikeImage(m.Image, s.Upgrade.Unproven); err != nil {
			return faced("looking at "+m.Image.Name(), err)
		} else if why != "" {
			return notSent("nothing is installed: " + why)
		}
	}
	if m.Kind == plan.RestartMove {
		return w.startNext(i, m)
	}
	shown := w.shown(m.Line)[0]
	w.move(night.Changing, moving(m))
	if err := w.intend(night.Event{What: night.ToExchange, Step: i + 1, Line: w.moves + 1, Lines: []string{shown}}); err != nil {
		return faced(s.Title, err)
	}
	w.acted, w.moves = true, w.moves+1
	st.doubt, st.move = "contact was lost in it", m
	err := w.ses.upgrade(func(up driver.Upgrader) error {
		//exhaustive:enforce
		switch m.Kind {
		case plan.InstallMove:
			return up.Install(w.ctx, w.t.Traits.Software.Path(m.Image.Name()))
		case plan.NextMove:
			return up.StartNext(w.ctx, m.Image.Version)
		case plan.KeepMove:
			return up.Keep(w.ctx)
		case plan.RestartMove:
		}
		return nil
	})
	var refused *driver.Refused
	switch {
	case errors.As(err, &refused):
		st.doubt = ""
		w.emit(night.Did(i+1, w.moves, shown, []string{refused.Said}, false, "it was refused"))
		w.emit(night.Step(i+1, night.StepFailed, ""))
		return &trouble{why: fmt.Sprintf("%q was refused", shown), evidence: []string{"said: " + refused.Said}, err: refused}
	case err != nil && !driver.Answered(err):
		return faced(fmt.Sprintf("%q was given, and contact was lost in it", shown), err)
	case err != nil:
		st.doubt = err.Error()
	default:
		st.doubt = "nobody has read that it did"
	}
	return nil // what it says proves nothing: its software is read next
}

// moving says what a move does.
func moving(m plan.Move) string {
	//exhaustive:enforce
	switch m.Kind {
	case plan.InstallMove:
		return "installing " + m.Image.Version
	case plan.NextMove:
		return "setting " + m.Image.Version + " to start next"
	case plan.KeepMove:
		return "keeping " + m.Image.Version
	case plan.RestartMove:
	}
	return "starting " + m.Image.Version
}

// settledBy tells whether what the device says of its software shows that the last move has done what it
// should.
func (w *worker) settledBy(i int, at software.State) bool {
	st := &w.steps[i]
	m, done := st.move, false
	//exhaustive:enforce
	switch m.Kind {
	case plan.InstallMove:
		done = at.Installed(m.Image.Version)
	case plan.NextMove:
		done = at.Next == m.Image.Version
	case plan.RestartMove:
		done = at.Runs == m.Image.Version
	case plan.KeepMove:
		done = at.Runs == m.Image.Version && !at.Trial && at.Next == at.Runs
	}
	if !done {
		return false
	}
	if st.doubt != "" {
		w.emit(night.Did(i+1, w.moves, w.shown(m.Line)[0], nil, true, "its software: "+at.String()))
	}
	st.doubt = ""
	return true
}

// unshown is the trouble of a move of which the device does not show that it was done.
func (w *worker) unshown(i int, at software.State) *trouble {
	s, st := w.t.Steps[i], &w.steps[i]
	m, shown := st.move, w.shown(st.move.Line)[0]
	why := ""
	//exhaustive:enforce
	switch m.Kind {
	case plan.InstallMove:
		why = fmt.Sprintf("it was told to install %s, and does not have it", m.Image.Version)
	case plan.NextMove:
		why = fmt.Sprintf("it was told to start with %s next, and says %s", m.Image.Version, at.Next)
	case plan.KeepMove:
		why = fmt.Sprintf("it was told to keep %s, and did not", m.Image.Version)
	case plan.RestartMove:
		why = fmt.Sprintf("it was to start with %s, and runs %s", m.Image.Version, at.Running())
	}
	w.emit(night.Did(i+1, w.moves, shown, nil, false, why))
	w.emit(night.Step(i+1, night.StepFailed, ""))
	return &trouble{why: fmt.Sprintf("%q: %s", s.Title, why), evidence: []string{"sent: " + shown},
		err: &driver.Unclear{Asked: "its software", Got: why}}
}

// startNext restarts the device, which starts it with what was set to start next.
func (w *worker) startNext(i int, m plan.Move) *trouble {
	st := &w.steps[i]
	if tr := w.inWindow(w.t.Steps[i]); tr != nil {
		return tr
	}
	at, tr := w.readyToRestart(i, true)
	if tr != nil {
		return tr
	}
	again, err := w.readSoftware() // what starts next is read right before each restart
	switch {
	case err != nil:
		return faced("reading what it starts with next", err)
	case again.Next != m.Image.Version || !again.Installed(w.software):
		return nil // it is looked at anew
	}
	w.moves++
	o := w.orderOf(i, w.shown(m.Line)[0], night.ToExchange, w.moves)
	if m.Image.Restart > 0 && o.seldom == 0 {
		o.usual = min(m.Image.Restart, o.most)
	}
	st.move, o.starts = m, m.Image.Version
	if st.away, tr = w.tellAway(o, at); tr != nil {
		return tr
	}
	return w.comeBack(i, o)
}

// comeBack waits for a device that was told to restart. What it runs then is read by whoever called.
func (w *worker) comeBack(i int, o order) *trouble {
	up, anew, tr := w.absent(o, w.steps[i].away)
	switch {
	case tr != nil:
		return tr
	case !anew:
		return w.stayedUp(o, up)
	}
	w.emit(night.Event{Kind: night.Contact})
	w.cameBack(i, up)
	w.move(night.Verifying, "back; reading its software")
	return nil
}

// cameBack takes down for how long a device was away that has come back.
func (w *worker) cameBack(i int, up time.Duration) {
	gone := max(time.Since(w.steps[i].away.at)-up, 0).Round(time.Second)
	w.doing("it was away for some %s, and has been up for %s", gone, age(up))
	w.back = time.Now().Add(-up)
}

// provenOn looks whether a device that runs other software than before is as it should be: its
// configuration, what the step expects, and what the runbook compares. Until then nothing more is done, and
// what is on trial is not kept.
func (w *worker) provenOn(i int, at software.State) *trouble {
	u := w.t.Steps[i].Upgrade
	if w.proven == at.Runs {
		return nil
	}
	if tr := w.rewrittenBy(i, at); tr != nil {
		return tr
	}
	if at.Runs == u.Wanted && at.Trial { // else that is looked at behind the step, and in the end
		if tr := w.proveStep(i); tr != nil {
			return tr
		}
		if tr := w.asRecorded(); tr != nil {
			return tr
		}
	}
	w.proven = at.Runs
	return nil
}

// rewrittenBy looks whether what runs is what ran before the step, or what a person has kept of it since, but for
// what the runbook says that new software may change by itself. A restart brings back what is saved: what a
// version on the way had changed may be gone with the next.
func (w *worker) rewrittenBy(i int, at software.State) *trouble {
	if w.base == nil {
		base := w.meant()
		w.base, w.keptBefore = &base, len(w.accepted)
	}
	w.differs = nil
	now, same, err := w.settlesTo(*w.base, w.meant())
	d := config.Compare(*w.base, now)
	switch {
	case err != nil:
		return faced("reading what it came back with", err)
	case d.Empty():
		w.rewritten, w.accepted = w.rewroteThen, w.accepted[:w.keptBefore]
	case same: // a person has kept that
	case w.t.Steps[i].Upgrade.Rewritten(d):
		w.rewritten = netOf(w.rewroteThen, d.Lines(w.t.Masked))
		n := night.CountLines(len(w.rewritten))
		w.emit(night.Notice(i+1, fmt.Sprintf("%s has changed by itself what it may: %s", at.Runs, n), w.rewritten...))
	default:
		w.emit(night.Step(i+1, night.StepFailed, ""))
		return w.unlike(i, *w.base, now, "the software of %q is on it, and has changed the configuration by itself")
	}
	if w.t.Traits.Language != nil {
		w.expected = &now
		w.computeFrom(i+1, &now)
	}
	return nil
}

// netOf is what lines of a difference and then those of another have changed together: what the second undoes
// of the first is in neither.
func netOf(then, now []string) (out []string) {
	undone := func(l string, by []string) bool {
		other := map[byte]string{'+': "-", '-': "+"}[l[0]] + l[1:]
		return slices.Contains(by, other)
	}
	for _, l := range then {
		if !undone(l, now) {
			out = append(out, l)
		}
	}
	for _, l := range now {
		if !undone(l, then) {
			out = append(out, l)
		}
	}
	return out
}

// unlikeImage says why a file on the device is not the image; "" where it is, or that is waived.
func (w *worker) unlikeImage(i software.Image, unproven string) (why string, err error) {
	path := w.t.Traits.Software.Path(i.Name())
	sum, known, err := w.ses.Sum(w.ctx, path)
	var refused *driver.Refused
	switch {
	case errors.As(err, &refused):
		return fmt.Sprintf("%s is not on it (%s); write: metabasis carry %s to %s", path, refused.Said, i.File, w.name()), nil
	case err != nil:
		return "", err
	case known && sum != i.SHA256:
		return fmt.Sprintf("%s is another file than that of version %s: its SHA-256 is %s…, and not %s…", path, i.Version, sum[:12], i.SHA256[:12]), nil
	case known, unproven != "":
		return "", nil
	}
	return fmt.Sprintf("nothing on it tells that %s is the file of version %s; write in the step: unproven, and why that may be", path, i.Version), nil
}

// fitForSoftware looks, before anything is done to a device, whether it can be given the software that is
// wanted, and taken back. Each is told as a precheck; why says what is not so.
func (w *worker) fitForSoftware() (why string) {
	i, does := w.t.Upgrades()
	if !does || w.t.Steps[i].Done {
		return ""
	}
	u := *w.t.Steps[i].Upgrade
	var failed []string
	note := func(name, good string, bad string) {
		w.emit(night.Event{Kind: night.Prechecked, What: name, OK: bad == "", Note: good + bad})
		if bad != "" {
			failed = append(failed, name+": "+bad)
		}
	}
	if w.resumed() == nil || w.resumed().Software == "" { // else it is what that night has left
		switch {
		case u.Was.Trial:
			note("software", "", fmt.Sprintf("%s is on trial on it, and nobody has kept it: see whose that is", u.Was.Runs))
		case u.Was.Next != u.Was.Runs:
			note("software", "", fmt.Sprintf("it runs %s and would start with %s: see whose that is", u.Was.Runs, u.Was.Next))
		default:
			note("software", "its software: "+u.Was.String(), "")
		}
	}
	var hops []string
	room, known := int64(0), true
	for _, image := range u.Way {
		hops = append(hops, image.Version)
		if u.Was.Installed(image.Version) {
			continue
		}
		room, known = room+image.Size, known && image.Size > 0
		bad, err := w.unlikeImage(image, u.Unproven)
		switch {
		case err != nil:
			return "looking at " + image.Name() + ": " + err.Error()
		case bad == "" && u.Unproven != "" && !w.t.Traits.Software.Proves:
			note("image", fmt.Sprintf("%s is not proven: %s", image.Name(), u.Unproven), bad)
		default:
			note("image", goodOf(image.Name()+" is on it, with its checksum", bad), bad)
		}
	}
	note("hops", fmt.Sprintf("from %s to %s", u.Was.Runs, strings.Join(hops, " to ")), "")
	if _, reads := w.t.Traits.Tables["storage"]; reads && known && room > 0 {
		good, err := w.storageAtLeast(room)
		if !talking(err) {
			return "reading for precheck space: " + err.Error()
		}
		bad := ""
		if err != nil {
			bad = err.Error()
		}
		note("space", good, bad)
	}
	return strings.Join(failed, "; ")
}

func goodOf(good, bad string) string {
	if bad != "" {
		return ""
	}
	return good
}

// oldSoftware has the device run the software that it ran before, where it runs or would start another.
func (w *worker) oldSoftware() error {
	i, does := w.target.Upgrades()
	if !does || w.software == "" {
		return nil
	}
	at, err := w.readSoftware()
	if err != nil {
		return fmt.Errorf("reading what software it runs: %w", err)
	}
	if at.Stands(w.software) {
		return nil
	}
	w.proven = ""
	if !at.Installed(w.software) {
		return &driver.Unclear{Asked: "its software", Got: fmt.Sprintf("%s is not on it any more: %s", w.software, at)}
	}
	sw := w.t.Traits.Software
	old := imageOf(sw.Images, w.t.Device.Values["model"], w.software)
	if at.Next != w.software {
		line := w.shown(sw.Line(plan.NextMove, old, ""))[0]
		w.doing("taking its software back: %s", at)
		w.moves++
		if err := w.intend(night.Event{What: night.ToExchange, Step: i + 1, Line: w.moves, Lines: []string{line}}); err != nil {
			return err
		}
		if err := w.ses.upgrade(func(up driver.Upgrader) error { return up.StartNext(w.ctx, w.software) }); err != nil {
			return fmt.Errorf("%q: %w", line, err)
		}
		if at, err = w.readSoftware(); err != nil {
			return fmt.Errorf("reading what it starts with next: %w", err)
		}
		w.emit(night.Did(i+1, w.moves, line, nil, at.Next == w.software, "its software: "+at.String()))
		if at.Next != w.software {
			return &driver.Unclear{Asked: line, Got: "it says that it starts with " + at.Next}
		}
	}
	if at.Runs != w.software {
		if at, err = w.startOld(i); err != nil {
			return err
		}
	}
	if at.Trial {
		if at, err = w.keepOld(i); err != nil {
			return err
		}
	}
	if !at.Stands(w.software) {
		return &driver.Unclear{Asked: "its software", Got: fmt.Sprintf("it was to go back to %s: %s", w.software, at)}
	}
	w.turned = true
	w.emit(night.Climbed(RungSoftware, false, "it runs "+w.software+" again"))
	return nil
}

// startOld restarts a device that is to start with the software that it ran before.
func (w *worker) startOld(i int) (is software.State, err error) {
	at, tr := w.readyToRestart(i, true)
	if tr != nil {
		return is, tr.unwrapped()
	}
	w.moves++
	o := w.orderOf(i, w.shown(w.t.Traits.Restarts.Sends)[0], night.ToExchange, w.moves)
	o.starts = w.software
	if at, tr = w.tellAway(o, at); tr != nil {
		return is, tr.unwrapped()
	}
	w.steps[i].away = at
	up, anew, tr := w.absent(o, at)
	switch {
	case tr != nil:
		return is, tr.unwrapped()
	case !anew:
		w.emit(night.Did(i+1, w.moves, o.shown, nil, false, "it has been up for "+age(up)))
		return is, &driver.Unclear{Asked: o.shown, Got: fmt.Sprintf("it was told to restart, and has been up for %s", age(up))}
	}
	w.emit(night.Event{Kind: night.Contact})
	w.cameBack(i, up)
	w.move(night.Reverting, "back; reading its software")
	if is, err = w.readSoftware(); err != nil {
		return is, fmt.Errorf("reading what software it runs: %w", err)
	}
	w.steps[i].doubt = ""
	w.emit(night.Did(i+1, w.moves, o.shown, nil, is.Runs == w.software, "its software: "+is.String()))
	return is, nil
}

// keepOld keeps the software that it ran before, where that is on trial.
func (w *worker) keepOld(i int) (is software.State, err error) {
	line := w.shown(w.t.Traits.Software.Keep)[0]
	w.moves++
	if err := w.intend(night.Event{What: night.ToExchange, Step: i + 1, Line: w.moves, Lines: []string{line}}); err != nil {
		return is, err
	}
	if err := w.ses.upgrade(func(up driver.Upgrader) error { return up.Keep(w.ctx) }); err != nil {
		return is, fmt.Errorf("%q: %w", line, err)
	}
	if is, err = w.readSoftware(); err != nil {
		return is, fmt.Errorf("reading what software it runs: %w", err)
	}
	w.emit(night.Did(i+1, w.moves, line, nil, !is.Trial, "its software: "+is.String()))
	return is, nil
}

// unwrapped is the error that trouble stands for.
func (tr *trouble) unwrapped() error {
	if driver.Answered(tr.err) {
		return &driver.Unclear{Asked: "the restart", Got: tr.why}
	}
	return tr.err
}

// exchanged tells whether the device may run, or start with, other software than before.
func (w *worker) exchanged() bool {
	return w.software != "" && (w.moves > 0 || w.runs.Runs != "" && !w.runs.Stands(w.software))
}

// softwareNote says at a hold, or at the end, how its software stands.
func (w *worker) softwareNote() string {
	switch {
	case w.software == "" || w.runs.Runs == "":
		return ""
	case w.runs.Stands(w.software):
		return "its software is what it was: " + w.runs.String()
	case w.runs.Trial && !w.back.IsZero():
		return fmt.Sprintf("its software: %s; it goes back by itself at some %s, unless that is kept", w.runs, timeOf(w.back.Add(w.t.Traits.Software.Falls)))
	}
	return fmt.Sprintf("its software: %s; it ran %s before", w.runs, w.software)
}

// keptSoftware is what is said of the software of a device that is kept; "" where it is what it was.
func (w *worker) keptSoftware() string {
	if w.software == "" || w.runs.Runs == "" || w.runs.Runs == w.software {
		return ""
	}
	out := fmt.Sprintf("runs %s, before %s; ", w.runs.Runs, w.software)
	if n := len(w.rewritten); n > 0 {
		out += fmt.Sprintf("%s changed by the new software; ", night.CountLines(n))
	}
	return out
}

// foundSoftware takes in what software the device ran before this night, or before the one that it goes on
// with.
func (w *worker) foundSoftware() {
	i := slices.IndexFunc(w.t.Steps, func(s plan.Step) bool { return s.Upgrade != nil && s.Upgrade.Known })
	if i < 0 {
		return
	}
	was := w.t.Steps[i].Upgrade.Was
	w.software = was.Runs
	if r := w.resumed(); r != nil && r.Software != "" {
		w.software = r.Software
	}
	if !w.t.Steps[i].Done || w.software != w.runs.Runs {
		w.emit(night.RunsSoftware(w.runs.Runs, w.runs.Trial, w.software))
	}
}

// softwareBefore is what the device says of its software. Where what an earlier night left is taken back, the
// way from there does not matter.
func (w *worker) softwareBefore() (software.State, error) {
	at, err := w.ses.Software(w.ctx)
	if err == nil {
		w.runs = at
	}
	if r := w.resumed(); err == nil && r != nil && r.GoBack && r.Software != "" {
		at.Runs, at.Next, at.Trial = r.Software, r.Software, false
	}
	return at, err
}
