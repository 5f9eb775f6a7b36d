package work

import (
	"fmt"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// situation is how a device stands when it is held, in values: what can be done with it is
// made of nothing else.
type situation struct {
	position
	timer
	by  plan.TimerKind // how it takes a change back by itself
	now time.Time

	guarded, extends   bool // it has a timer in this night; a trial can be made longer
	once, saves, one   bool // all is applied at once; it saves; what runs is what is saved
	over, soaks        bool // all steps are done; what holds is watched
	late, unlike       bool // no time is left to change things; it is not as predicted
	touched, saved     bool // lines may be in effect; the change may be saved
	kind               plan.StepKind
	doubt, repeatable  bool // whether its command was done is not known; it may be given twice
	acted              bool // something was done that cannot be undone
	expects, confirmed bool // something is expected of the step; a person has confirmed it
	title              string
	changes, begun     bool // the step in hand has lines; lines of it may be in effect
	later              int  // steps behind it that send lines
	again, skip        span // how long going on takes, with the step, and without it
	accept             span
	back, fire, extend time.Duration

	steps, taken int      // of the device; lines of the step in hand that it took
	lines, undo  []string // of the step in hand, masked
	undoes       []string // what was begun is undone by them, masked, as far as that is known
	cuts         []string // devices that are reached through it
	whole        bool     // the step puts a whole configuration in place
	worked       bool     // somebody has worked it by hand in this step
	byHanded     bool     // it was worked by hand, and has another configuration since
	sealed       bool     // nothing but what was sealed is sent
	hears        bool     // it has contact
	software     string   // how its software stands, where it is given another
	moved        bool     // it may run, or start with, another than before
	ran          string   // what it ran before
	lastMove     string   // what was done last, and is in doubt
}

// span is how long something usually takes, and at most.
type span struct{ usual, most time.Duration }

func (s *situation) trial() bool { return s.by == plan.TrialTimer }

// stretches tells whether what is pending can be put off.
func (s *situation) stretches() bool { return s.pends() && (!s.trial() || s.extends) }

// offers are what can be done with the device. Going on is the first.
func (s situation) offers() []night.Offer {
	again := night.Offer{Choice: night.TryAgain, Touches: 1, Takes: s.again.usual, Most: s.again.most, Does: s.againDoes(),
		Reason: s.late || s.byHanded}
	if s.sendsAgain() {
		again.Sends, again.Cuts = few(s.lines), s.cuts
	}
	if s.late {
		again.Choice = night.GoOnLate
	}
	out := []night.Offer{again}
	switch {
	case s.late:
	case s.kind == plan.ConsoleStep && !s.confirmed && !s.worked: // nothing but a person does it
		out = nil
	case s.kind == plan.ConsoleStep && s.byHanded: // it is adopted, or taken back
		out = nil
	default:
		out = s.settling(again)
	}
	if s.byHanded {
		out = append([]night.Offer{{Choice: night.Adopt, Touches: 1, Takes: s.accept.usual, Most: s.accept.most, Reason: true,
			Does: s.adoptDoes()}}, out...)
	}
	if !s.over && !s.byHanded && (!s.once || s.kind != plan.ChangeStep) && !(s.kind == plan.RestartStep && s.unlike) && !s.moved { // else it is kept, or not
		skip := night.Offer{Choice: night.SkipStep, Touches: 1, Takes: s.skip.usual, Most: s.skip.most, Does: s.skipDoes()}
		if s.begun {
			skip.Sends, skip.Cuts = few(s.undo), s.cuts
		}
		out = append(out, skip)
	}
	out = append(out, night.Offer{Choice: night.BackDevice, Touches: 1, Takes: s.back, Does: s.backDoes(), Sends: few(s.undoes), Cuts: s.cuts})
	if s.pends() {
		out = append(out, night.Offer{Choice: night.LetFire, Touches: 1, Takes: s.fire, Way: s.by, Cuts: s.cuts})
	}
	if s.stretches() {
		out = append(out, night.Offer{Choice: night.Extend, Touches: 1, Takes: s.extend})
	}
	if s.unlike && !s.byHanded {
		out = append(out, night.Offer{Choice: night.Accept, Touches: 1, Takes: s.accept.usual, Most: s.accept.most, Reason: true,
			Does: "sends nothing for it; " + s.thenDoes()})
	}
	if s.edits() {
		out = append(out, night.Offer{Choice: night.OtherLines, Touches: 1, Sends: s.lines, Reason: true,
			Does: "sends nothing yet: what they would do is shown first"})
	}
	return s.console(out)
}

// console offers to work the device by hand: at a step that is that, first of all.
func (s *situation) console(out []night.Offer) []night.Offer {
	if !s.hears {
		return out
	}
	by := night.Offer{Choice: night.AtConsole, Touches: 1, Does: s.consoleDoes()}
	if s.kind == plan.ConsoleStep && !s.confirmed && !s.worked {
		return append([]night.Offer{by}, out...)
	}
	return append(out, by)
}

// fewLines is how many lines of what is sent are shown with a choice.
const fewLines = 12

func few(lines []string) []string {
	if len(lines) <= fewLines+1 {
		return lines
	}
	return append(lines[:fewLines:fewLines], fmt.Sprintf("… and %d lines more", len(lines)-fewLines))
}

// sendsAgain tells whether trying again sends lines of the step.
func (s *situation) sendsAgain() bool {
	return !s.over && !s.sent && s.changes && s.kind == plan.ChangeStep && !s.whole
}

// edits tells whether other lines can be sent in the place of the step's: where they could still
// take effect, and nobody has put a seal on those that are.
func (s *situation) edits() bool {
	return !s.over && !s.late && !s.sealed && !s.whole && s.changes && s.kind == plan.ChangeStep && !(s.once && s.pends())
}

// consoleDoes says what takes back what is done by hand.
func (s *situation) consoleDoes() string {
	text := "opens the console; what was changed is read and shown when you leave it; "
	switch {
	case s.pends() && s.stretches():
		return text + "its timer is watched and put off meanwhile"
	case s.pends():
		return text + "its trial runs on, and nothing of it is put off"
	case s.trial():
		return text + "nothing takes back what you apply there, but a trial that you begin yourself"
	case s.guarded:
		return text + "no timer is pending on it now"
	}
	return text + "it takes nothing back by itself"
}

// adoptDoes says what adopting what was done by hand leads to.
func (s *situation) adoptDoes() string {
	text := "what runs is as it is meant; sends nothing for it; "
	if !s.over && s.kind == plan.ChangeStep {
		text = fmt.Sprintf("what runs stands for %q; sends none of its lines; ", s.title)
		if s.expects {
			text += "looks at what is expected of it; "
		}
	}
	return text + s.thenDoes()
}

// settling is how going on is offered: where a person is to do something, by saying that it is
// done; where nobody knows whether a command was done, by looking, by taking it as done, or by
// giving it again, for a reason.
func (s *situation) settling(again night.Offer) (out []night.Offer) {
	done := night.Offer{Choice: night.ItIsDone, Touches: 1, Takes: again.Takes, Most: again.Most}
	switch {
	case (s.kind == plan.HandStep || s.kind == plan.ConsoleStep) && !s.confirmed:
		done.Does = fmt.Sprintf("sends nothing for it, and looks at what is expected of it; %s", s.thenDoes())
		return []night.Offer{done}
	case !s.doubt:
		return []night.Offer{again}
	case s.kind == plan.SoftwareStep:
		looks := again
		looks.Takes, looks.Most = s.accept.usual, s.accept.most
		looks.Does = "sends nothing; reads its software, and goes on where that is as it should be by now; " + s.thenDoes()
		return []night.Offer{looks, {Choice: night.DoAgain, Touches: 1, Takes: again.Takes, Most: again.Most, Reason: true,
			Does: fmt.Sprintf("does it once more (%s), and what is left of %q; %s", s.lastMove, s.title, s.thenDoes())}}
	case s.kind == plan.RestartStep: // it tells by itself whether it was
		looks := again
		looks.Takes, looks.Most = s.accept.usual, s.accept.most
		looks.Does = fmt.Sprintf("sends nothing; looks for how long it has been up, which tells whether it was restarted; %s", s.thenDoes())
		return []night.Offer{looks, {Choice: night.DoAgain, Touches: 1, Takes: again.Takes, Most: again.Most, Reason: true,
			Does: fmt.Sprintf("restarts it once more, although it may yet do so by itself; %s", s.thenDoes())}}
	case s.repeatable:
		again.Does = fmt.Sprintf("gives the command of %q once more; %s", s.title, s.thenDoes())
		out = append(out, again)
	case s.expects:
		again.Does = fmt.Sprintf("gives nothing again; looks whether what is expected of %q is so; %s", s.title, s.thenDoes())
		out = append(out, again)
	}
	done.Does = fmt.Sprintf("takes the command of %q as done, although nobody has read that; %s", s.title, s.thenDoes())
	done.Reason = true
	out = append(out, done)
	if !s.repeatable {
		out = append(out, night.Offer{Choice: night.DoAgain, Touches: 1, Takes: again.Takes, Most: again.Most, Reason: true,
			Does: fmt.Sprintf("gives the command of %q again, which may then have been done twice; %s", s.title, s.thenDoes())})
	}
	return out
}

// againDoes says what trying again sends.
func (s *situation) againDoes() string {
	text := "looks once more; "
	if s.byHanded {
		text = "adopts what was done by hand; looks once more; "
	}
	switch {
	case s.byHanded && s.sendsAgain():
		text = fmt.Sprintf("adopts what was done by hand, and then sends %q from its first line; ", s.title)
	case !s.over && s.kind == plan.SoftwareStep && !s.sent:
		text = fmt.Sprintf("looks once more, and does what is left of %q; ", s.title)
	case !s.over && s.kind == plan.LookStep:
		text = fmt.Sprintf("gives the commands of %q once more; ", s.title)
	case !s.over && s.kind == plan.WaitStep && !s.sent:
		text = fmt.Sprintf("waits anew, as %q says; ", s.title)
	case !s.over && s.sent:
		text = fmt.Sprintf("looks once more at %q and sends none of its lines; once it is so, ", s.title)
	case !s.over && s.changes:
		text = fmt.Sprintf("sends %q once more from its first line; ", s.title)
	case !s.soaked && s.soaks:
		text = "watches anew that it holds; "
	}
	if s.stretches() && !s.covers(s.again.usual, s.now) {
		text += "its timer is extended first; "
	}
	return text + s.thenDoes()
}

// thenDoes says what going on behind the step in hand sends.
func (s *situation) thenDoes() string {
	text := "then "
	if s.later == 1 {
		text += "sends 1 step more, "
	} else if s.later > 1 {
		text += fmt.Sprintf("sends %d steps more, ", s.later)
	}
	return text + s.keepDoes()
}

// keepDoes says what keeping the device sends.
func (s *situation) keepDoes() string {
	switch {
	case s.trial():
		return "confirms it, which keeps it"
	case s.guarded && s.saves:
		return "cancels its timer and saves"
	case s.saves:
		return "saves"
	case s.guarded:
		return "cancels its timer"
	}
	return "keeps it"
}

// skipDoes says what leaving the step out sends.
func (s *situation) skipDoes() string {
	if s.kind == plan.DoStep || s.kind == plan.RestartStep || s.kind == plan.SoftwareStep && s.doubt {
		return fmt.Sprintf("leaves what %q has done as it is; %s", s.title, s.thenDoes())
	}
	switch {
	case (s.kind == plan.HandStep || s.kind == plan.ConsoleStep) && !s.confirmed:
		return "nobody has said that it is done; " + s.thenDoes()
	case !s.begun:
		return "nothing of it was sent; " + s.thenDoes()
	}
	return fmt.Sprintf("undoes %q and proves that; %s", s.title, s.thenDoes())
}

// backDoes says what taking the device back sends.
func (s *situation) backDoes() string {
	text := "compares with its backup, and sends nothing if it is equal"
	switch {
	case s.byHanded && !(s.trial() && s.pends()):
		text = "undoes what was done by hand, and what was sent before, and compares with its backup"
	case s.touched && s.trial() && s.pends():
		text = "ends its trial, and compares with its backup"
	case s.touched:
		text = "undoes what was sent, and compares with its backup"
	}
	if s.moved {
		text = fmt.Sprintf("has it start with %s, restarts it where it runs another, and compares with its backup", s.ran)
	} else if s.acted {
		text += "; what was done by a command stays done"
	}
	if s.guarded && !s.trial() && s.pends() {
		text += "; then cancels its timer"
	}
	if s.saved {
		text += "; saves again, since the change may be saved"
	}
	return text
}

// wayBack says whether anything takes the change back by itself, and whether anything of it is
// saved.
func (s situation) wayBack() []string {
	return append(s.soFar(), s.wayBacks()...)
}

// soFar says how far the change has come on the device.
func (s *situation) soFar() []string {
	if s.steps == 0 || s.kind == plan.ConsoleStep {
		return nil
	}
	if s.over && s.steps == 1 {
		return []string{"so far: its only step is done"}
	}
	if s.over {
		return []string{fmt.Sprintf("so far: all of its %d steps done", s.steps)}
	}
	text := fmt.Sprintf("so far: step %d of %d", s.step+1, s.steps)
	if s.changes && s.kind == plan.ChangeStep && !s.whole {
		text += fmt.Sprintf(", %d of %s taken", s.taken, night.CountLines(len(s.lines)))
	}
	return []string{text}
}

func (s situation) wayBacks() []string {
	does := s.by.Does(s.due.Format("15:04:05"))
	way := "no way back of its own: nothing but we takes it back"
	switch {
	case s.pends() && s.doubted:
		way = "its timer may be gone: cancelling it was asked for and not seen; else it " + does
	case s.pends() && s.untold:
		way = "a change is on trial on it, and it does not tell until when"
	case s.pends() && s.trial():
		way = "its way back is pending: " + does
	case s.pends():
		way = "its way back is pending: it " + does
	case s.trial() && !s.touched:
		way = "nothing is on trial on it, and nothing of the change runs"
	case s.guarded:
		way = "no timer is pending on it: nothing but we takes it back"
	}
	saved := "nothing of the change is saved"
	switch {
	case s.one && s.touched:
		saved = "what runs is what is saved, as its profile says"
	case s.saved:
		saved = "the change may be saved: that was asked for"
	}
	if s.software != "" {
		return []string{way, saved, s.software}
	}
	return []string{way, saved}
}
