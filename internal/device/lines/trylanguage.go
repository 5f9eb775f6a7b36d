package lines

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
)

// language holds the rules of the language against the device: which lines of what runs
// they know, and whether a harmless line is put there and taken away as they say. Without
// change, it is only said how that would be done.
func (t *trial) language() bool {
	l := t.p.Language()
	if l == nil {
		return true
	}
	before, err := t.running()
	if err != nil {
		return t.broken(Finding{Line: "language"}, err)
	}
	t.report(t.known(l, before))
	harmless := t.p.Grammar.Harmless
	if harmless == "" {
		return true
	}
	f := Finding{Line: "language.harmless"}
	there, err := l.Wanted(before, config.Want{Lines: []config.Line{{Text: harmless}}})
	if err == nil && config.Equal(before, there) {
		err = fmt.Errorf("%q stands there already: nothing can be tried with it", harmless)
	}
	var put, back []string
	if err == nil {
		put, err = l.Lead(before, there)
	}
	if err == nil {
		back, err = l.Lead(there, before)
	}
	if err != nil {
		f.Not = err.Error()
		t.report(f)
		return true
	}
	f.Fits = fmt.Sprintf("it would be put there by %q and taken away by %q", put, back)
	t.report(f)
	if !t.change {
		return true
	}
	return t.proveLanguage(before, there, put, back)
}

// known says which lines of a configuration the rules know.
func (t *trial) known(l *config.Language, c config.Config) Finding {
	f := Finding{Line: "language"}
	unknown, all := l.Unknown(c), len(c.Paths())
	for i, p := range unknown { // in the midst of a text no pattern would find a secret
		unknown[i] = strings.Join(t.s.MaskEach(strings.Split(p, " > ")), " > ")
	}
	f.Fits = fmt.Sprintf("its rules know %d of %d lines", all-len(unknown), all)
	if len(unknown) > 0 {
		f.Fits += ", and not: " + strings.Join(unknown[:min(len(unknown), 5)], "; ")
	}
	if len(unknown) == all {
		f.Fits, f.Not = "", "its rules know none of its lines"
	}
	return f
}

func (t *trial) running() (config.Config, error) {
	text, err := t.s.Config(t.ctx, driver.Running)
	if err != nil {
		return config.Config{}, err
	}
	return config.Parse(text, t.p.Style()), nil
}

// languageTimer is how long the device is guarded while a line is tried on it.
const languageTimer = 10 * time.Minute

// proveLanguage puts a harmless line there and takes it away again, guarded by the
// rollback timer where there is one.
func (t *trial) proveLanguage(before, there config.Config, put, back []string) bool {
	if t.p.OnTrial() {
		made := t.typedMakes("language.harmless put", put, there)
		return t.takenBack(before) && made
	}
	guarded := t.p.Timer.Kind.BringsBack()
	if guarded {
		if err := t.s.Arm(t.ctx, languageTimer); err == nil {
			err = t.pendingIs(true)
			if err != nil {
				return t.broken(Finding{Line: "timer.arm"}, err)
			}
		} else {
			return t.broken(Finding{Line: "timer.arm"}, err)
		}
	}
	well := t.typedMakes("language.harmless put", put, there) && t.typedMakes("language.harmless taken away", back, before)
	if !guarded || t.s.broken != nil {
		return well
	}
	if now, err := t.running(); !well && (err != nil || !config.Equal(before, now)) {
		t.report(Finding{Line: "timer", Not: fmt.Sprintf("the rollback timer is left pending: within %s it brings back what is saved", languageTimer)})
		return false
	}
	if err := t.s.Disarm(t.ctx); err != nil {
		return t.broken(Finding{Line: "timer.disarm"}, err)
	}
	if err := t.pendingIs(false); err != nil {
		return t.broken(Finding{Line: "timer.none"}, err)
	}
	return well
}

// takenBack has the device take back what is on trial, and looks whether it did.
func (t *trial) takenBack(before config.Config) bool {
	f := Finding{Line: "language.harmless taken back"}
	if t.s.broken != nil {
		return false
	}
	_, pending, err := t.s.Pending(t.ctx)
	if err == nil && pending {
		err = t.s.TakeBack(t.ctx)
	}
	if err != nil {
		return t.broken(f, err)
	}
	now, err := t.running()
	if err != nil {
		return t.broken(f, err)
	}
	if d := config.Compare(before, now); !d.Empty() {
		f.Not = fmt.Sprintf("what runs is not what ran before: %s; LOOK AT IT, AND PUT IT RIGHT BY HAND", strings.Join(d.Lines(t.s.MaskEach), ", "))
		t.report(f)
		return false
	}
	f.Fits = "what runs is what ran before"
	t.report(f)
	return true
}

// typedMakes types lines and looks whether what runs is then what was predicted.
func (t *trial) typedMakes(what string, lines []string, predicted config.Config) bool {
	f := Finding{Line: what, Sent: strings.Join(lines, " / ")}
	err := t.s.Edit(t.ctx)
	for _, line := range lines {
		if err == nil {
			err = t.s.Line(t.ctx, line)
		}
	}
	end := func() error { return t.s.Apply(t.ctx, languageTimer) }
	if err != nil && t.p.OnTrial() {
		end = func() error { return t.s.Drop(t.ctx) }
	}
	if ended := end(); err == nil {
		err = ended
	}
	if err != nil {
		t.broken(f, err)
		return false
	}
	now, err := t.running()
	if err != nil {
		t.broken(f, err)
		return false
	}
	if d := config.Compare(predicted, now); !d.Empty() {
		f.Not = fmt.Sprintf("what runs is not what was predicted: %s; LOOK AT IT, AND PUT IT RIGHT BY HAND", strings.Join(d.Lines(t.s.MaskEach), ", "))
		t.report(f)
		return false
	}
	f.Fits = "what runs is what was predicted"
	t.report(f)
	return true
}
