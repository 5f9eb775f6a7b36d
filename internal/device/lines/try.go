package lines

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// Finding is what came of trying one line of a profile on a live device.
type Finding struct {
	Line string   // the entry of the profile, such as "modes.work.enter"
	Sent string   // what was sent; "" when we only looked
	Got  []string // what came, the start of it
	Fits string   // which pattern fitted what
	Not  string   // where none did, and what to do; "" when all is well
}

// Try goes through a profile on a device that has just been connected to: the
// login, the prompts and modes, the pager, the configuration, the timer and the
// readers. Nothing is changed, and edit mode is not entered, unless change is
// given: then a rollback timer is armed and disarmed, too. Each finding is
// reported as it comes. It returns the number of those that are not well.
func Try(ctx context.Context, p *profile.Profile, rw io.ReadWriteCloser, opt profile.Options, change bool, report func(Finding)) int {
	t := &trial{ctx: ctx, p: p, change: change}
	t.s = newSession(p, rw, opt)
	t.report = func(f Finding) {
		if f.Not != "" {
			t.bad++
		}
		if by := t.s.decided; f.Fits != "" && f.Sent == t.s.last.sent && by != undecided && !strings.Contains(f.Fits, by) {
			f.Fits += "; " + by
		}
		f.Got = t.s.MaskEach(head(f.Got))
		f.Not, f.Fits = t.s.Mask(f.Not), t.s.Mask(f.Fits)
		report(f)
	}
	defer t.s.Close()
	for _, part := range []func() bool{t.login, t.refused, t.keys, t.modes, t.pager, t.config,
		t.timer, t.readers, t.arm, t.language, t.trial} {
		if !part() {
			break
		}
	}
	return t.bad
}

func head(lines []string) []string {
	if len(lines) <= 6 {
		return lines
	}
	return append(slices.Clone(lines[:5]), fmt.Sprintf("… %d lines more", len(lines)-5))
}

type trial struct {
	ctx    context.Context
	p      *profile.Profile
	s      *Session
	change bool
	bad    int
	report func(Finding)
}

// broken reports an error; it returns whether the session can still be used.
func (t *trial) broken(f Finding, err error) bool {
	f.Not = err.Error()
	if t.s.broken != nil {
		var prompts []string
		for _, name := range t.p.ModeOrder {
			prompts = append(prompts, name+" "+t.p.Modes[name].Prompt.String())
		}
		f.Got = append(slices.Clone(t.s.out.lines), string(clean(t.s.out.cur)))
		if strings.TrimSpace(f.Got[0]) == strings.TrimSpace(t.s.last.sent) { // its echo did not come from it
			f.Got = f.Got[1:]
		}
		f.Not += "; the prompts it knows are " + strings.Join(prompts, ", ")
	}
	t.report(f)
	return t.s.broken == nil
}

func (t *trial) prompt() string {
	return fmt.Sprintf("prompt of mode %s %s fits %q", t.s.mode, t.p.Modes[t.s.mode].Prompt, t.s.prompt)
}

func (t *trial) login() bool {
	f := Finding{Line: "modes." + t.p.Start + ".prompt"}
	if t.s.opt.Dialogue {
		f.Line = "connect.login"
	}
	err := t.s.wait(t.ctx, t.p.LoginAnswers(t.s.opt), nil)
	if d := t.s.denial(err); d != nil {
		err = d
	}
	if err != nil {
		return t.broken(f, err)
	}
	f.Got, f.Fits = t.s.out.lines, strings.Join(append(slices.Clone(t.s.met), t.prompt()), "; ")
	if t.s.mode != t.p.Start {
		f.Not = fmt.Sprintf("it starts in mode %s, and login: true stands in %s", t.s.mode, t.p.Start)
	}
	if t.s.host == "" {
		f.Fits += "; it tells no name, so a device that was renamed goes unnoticed (where it shows one, give the pattern a group (?P<host>…))"
	}
	t.report(f)
	return f.Not == "" || t.s.mode != ""
}

// refused looks whether a refused line is known as one.
func (t *trial) refused() bool {
	f := Finding{Line: "refused", Sent: profile.Nonsense}
	if t.s.mode != t.p.Start {
		f.Line += " in mode " + t.s.mode
	}
	got, err := t.s.say(t.ctx, profile.Nonsense, nil)
	if err != nil {
		return t.broken(f, err)
	}
	f.Got = got
	if t.saysNo(got) {
		f.Fits = t.s.decided
	} else if t.s.broken != nil {
		return t.broken(f, t.s.broken)
	} else {
		f.Not = "no pattern under refused fits the answer to a word that no device knows: refused lines would go unnoticed"
	}
	t.report(f)
	return true
}

// keys looks whether the keys that line editors most often keep for themselves
// arrive, as far as the profile says that they can be sent.
func (t *trial) keys() bool {
	for _, key := range []string{"?", "\t"} {
		word := profile.Nonsense + key + "x"
		if t.p.Unsendable(word) != "" || !t.s.echoes && t.p.Connect.Echo != profile.EchoYes {
			continue
		}
		f := Finding{Line: "connect.unsendable", Sent: word}
		got, err := t.s.say(t.ctx, word, nil)
		f.Got = got
		switch {
		case t.s.broken != nil:
			return t.broken(f, err)
		case err != nil:
			f.Not = fmt.Sprintf(
				"%s is a key of its line editor: name it in connect: unsendable:, or in quote: with the key that makes a character of it; it said back %s",
				profile.Character([]rune(key)[0]),
				t.s.last.typed,
			)
		default:
			f.Fits = profile.Character([]rune(key)[0]) + " arrives as it is"
		}
		t.report(f)
	}
	return true
}

// saysNo tells whether a refused line is known as one: by a pattern, or, where
// lines are sent in this mode, by what proves them.
func (t *trial) saysNo(got []string) bool {
	var r *driver.Refused
	if errors.As(t.s.judge(profile.Nonsense, got, profile.Rules{}), &r) {
		return true
	}
	if t.s.mode != t.p.Config.Edit {
		return false
	}
	proof := t.p.ProofOf(profile.Nonsense)
	if err := t.s.judge(profile.Nonsense, got, proof.Rules()); err != nil {
		return answers(err)
	}
	return answers(t.s.status(t.ctx, profile.Nonsense, proof.Status))
}

// answers tells whether err is a device saying no, or not saying yes.
func answers(err error) bool {
	var r *driver.Refused
	var u *driver.Unclear
	return errors.As(err, &r) || errors.As(err, &u)
}

// modes goes to every mode and back.
func (t *trial) modes() bool {
	for _, name := range t.p.ModeOrder {
		if name == t.p.Start || name == t.p.Config.Edit && name != t.p.Top && !t.change {
			if name != t.p.Start {
				t.report(Finding{Line: "modes." + name, Fits: "not entered: it is where changes are made; --change enters it"})
			}
			continue
		}
		f := Finding{Line: "modes." + name + ".enter", Sent: t.p.Modes[name].Enter.Send}
		if err := t.s.enter(t.ctx, name); err != nil {
			if !t.broken(f, err) {
				return false
			}
			continue
		}
		f.Fits = strings.Join(append(slices.Clone(t.s.met), t.prompt()), "; ")
		t.report(f)
		if name == t.p.Config.Edit && t.change && !t.refused() {
			return false
		}
		back := Finding{Line: "modes." + name + ".leave", Sent: t.p.Modes[name].Leave.Send}
		if err := t.s.enter(t.ctx, t.p.Start); err != nil {
			if !t.broken(back, err) {
				return false
			}
			continue
		}
		back.Fits = t.prompt()
		t.report(back)
	}
	return true
}

func (t *trial) say(f Finding, c profile.Command) (Finding, []string, bool) {
	f.Sent = c.Send
	got, err := t.s.command(t.ctx, c, nil)
	if err != nil {
		f.Got = got
		return f, nil, t.broken(f, err) && false
	}
	f.Got = got
	return f, got, true
}

func (t *trial) pager() bool {
	if t.p.Pager.Off.Send == "" {
		return true
	}
	f, _, ok := t.say(Finding{Line: "pager.off"}, t.p.Pager.Off)
	if ok {
		f.Fits = t.prompt()
		t.report(f)
	}
	return t.s.broken == nil
}

func (t *trial) config() bool {
	for _, part := range []struct {
		line string
		c    profile.Command
	}{{"configuration.running", t.p.Config.Running}, {"configuration.saved", t.p.Config.Saved}} {
		if part.c.Send == "" {
			continue
		}
		f, got, ok := t.say(Finding{Line: part.line}, part.c)
		if !ok {
			if t.s.broken != nil {
				return false
			}
			continue
		}
		volatile, secret := 0, 0
		for _, l := range got {
			if slices.ContainsFunc(t.p.Config.Volatile, func(p profile.Pattern) bool { return p.Matches(strings.TrimLeft(l, " ")) }) {
				volatile++
			}
			if len(t.p.SecretsIn(l)) > 0 {
				secret++
			}
		}
		f.Fits = fmt.Sprintf("%d lines; volatile fits %d of them, secrets %d", len(got), volatile, secret)
		switch {
		case len(got) == 0:
			f.Not = "it printed nothing"
		case volatile == len(got):
			f.Not = "every line of it is volatile: nothing would ever be compared"
		}
		if n := stops(t.s.met); n > 0 && t.p.Pager.Off.Send != "" {
			f.Not = "the pager still stops output: pager.off does not turn it off"
		} else if n > 0 {
			f.Fits += "; stopped, and gone on from: " + profile.Plural(n, "time")
		}
		t.report(f)
	}
	return true
}

// stops counts the pages among what was met.
func stops(met []string) (n int) {
	for _, m := range met {
		if strings.HasPrefix(m, "pager: ") {
			n++
		}
	}
	return n
}

func (t *trial) timer() bool {
	if !t.p.Timer.Kind.BringsBack() {
		return true
	}
	f, got, ok := t.say(Finding{Line: "timer.show"}, t.p.Timer.Show)
	if !ok {
		return t.s.broken == nil
	}
	pending, none := t.p.TimerSays(got)
	switch {
	case pending != "":
		f.Fits = fmt.Sprintf("timer.pending fits %q", pending)
	case none != "":
		f.Fits = fmt.Sprintf("timer.none fits %q", none)
	default:
		f.Not = "neither timer.pending nor timer.none fits: a timer could be neither seen nor proven gone"
	}
	t.report(f)
	return true
}

func (t *trial) readers() bool {
	for _, name := range slices.Sorted(maps.Keys(t.p.Readers)) {
		r := t.p.Readers[name]
		f, got, ok := t.say(Finding{Line: "readers." + name}, r.Asked())
		if !ok {
			if t.s.broken != nil {
				return false
			}
			continue
		}
		v, err := r.Parse(got)
		switch rows := v.(type) {
		case map[string]any:
			f.Fits = r.RowText(rows)
		case []map[string]any:
			f.Fits = fmt.Sprintf("%d rows", len(rows))
			if len(rows) > 0 {
				f.Fits += ", the first: " + r.RowText(rows[0])
			}
		}
		if err != nil {
			f.Not = err.Error()
		}
		t.report(f)
	}
	return true
}

// arm arms a rollback timer for ten minutes, looks at it and disarms it.
func (t *trial) arm() bool {
	if !t.change || !t.p.Timer.Kind.BringsBack() {
		return true
	}
	steps := []struct {
		line string
		do   func() error
	}{
		{"timer.arm", func() error { return t.s.Arm(t.ctx, 10*time.Minute) }},
		{"timer.pending", func() error { return t.pendingIs(true) }},
		{"timer.disarm", func() error { return t.s.Disarm(t.ctx) }},
		{"timer.none", func() error { return t.pendingIs(false) }},
	}
	for _, s := range steps {
		f := Finding{Line: s.line}
		if err := s.do(); err != nil {
			if !t.broken(f, err) {
				return false
			}
			continue
		}
		f.Sent, f.Got, f.Fits = t.s.last.sent, t.s.last.got, "as it should be"
		t.report(f)
	}
	return true
}

func (t *trial) pendingIs(want bool) error {
	left, pending, err := t.s.Pending(t.ctx)
	switch {
	case err != nil:
		return err
	case pending != want && want:
		return errors.New("the timer was armed and is not pending")
	case pending != want:
		return fmt.Errorf("the timer was disarmed and is still pending, due in %s: DISARM IT BY HAND", left)
	}
	return nil
}

// asItIs stages the configuration as it is.
func (t *trial) asItIs() error {
	if !t.p.Config.Whole {
		return t.s.Edit(t.ctx)
	}
	text, err := t.s.Config(t.ctx, driver.Running)
	if err != nil {
		return err
	}
	return t.s.stage(t.ctx, text)
}

// trial applies the configuration as it is for a minute, looks at what is
// pending, and takes it back.
func (t *trial) trial() bool {
	p := t.p.Trial
	if !t.change || p.Apply.Send == "" {
		return true
	}
	seconds := map[string]string{"seconds": "60"}
	for _, s := range []struct {
		line string
		c    profile.Command
		want profile.Pattern // that must fit a line of what is shown
	}{
		{"trial.check", p.Check, profile.Pattern{}}, {"trial.apply", p.Apply, profile.Pattern{}}, {"trial.pending", p.Show, p.Pending},
		{"trial.confirm", p.Confirm, profile.Pattern{}}, {"trial.none", p.Show, p.None},
		{"trial.apply again", p.Apply, profile.Pattern{}}, {"trial.pending", p.Show, p.Pending},
		{"trial.undo", p.Undo, profile.Pattern{}}, {"trial.none", p.Show, p.None},
	} {
		if s.line == "trial.check" || s.line == "trial.apply again" {
			if err := t.asItIs(); err != nil {
				return t.broken(Finding{Line: "restore"}, err)
			}
		}
		if s.c.Send == "" {
			continue
		}
		f := Finding{Line: s.line, Sent: fill(s.c.Send, seconds)}
		got, err := t.s.command(t.ctx, s.c, seconds)
		f.Got = got
		if err != nil {
			if !t.broken(f, err) {
				return false
			}
			continue
		}
		f.Fits = "as it should be"
		if s.want.Regexp != nil {
			i := slices.IndexFunc(got, s.want.Matches)
			switch {
			case i < 0:
				f.Fits, f.Not = "", "no line fits "+s.want.String()
			case s.line == "trial.none" && slices.ContainsFunc(got, p.Pending.Matches):
				f.Fits, f.Not = "", "it is still pending"
			default:
				f.Fits = fmt.Sprintf("%s fits %q", s.want, got[i])
			}
		}
		t.report(f)
	}
	return true
}
