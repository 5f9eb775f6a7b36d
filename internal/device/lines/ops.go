package lines

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/plan"
	"metabasis/internal/device/profile"
)

// Config reads a configuration as the device prints it.
func (s *Session) Config(ctx context.Context, which driver.Which) (string, error) {
	c := s.p.Config.Running
	if which == driver.Saved {
		c = s.p.Config.Saved
		if c.Send == "" { // nothing else may be taken for it
			return "", &driver.Refused{Line: "saved configuration", Said: "the profile of " + s.p.Platform + " says no way to read it"}
		}
	}
	got, err := s.command(ctx, c, nil)
	if err != nil {
		return "", err
	}
	if len(got) == 0 {
		return "", &driver.Unclear{Asked: c.Send, Got: "nothing"}
	}
	if last := got[len(got)-1]; s.p.Config.End.Regexp != nil && !s.p.Config.End.Matches(last) {
		return "", &driver.Unclear{Asked: c.Send, Got: "a configuration without its last line: it is cut short behind " + s.Mask(last)}
	}
	text := strings.Join(got, "\n") + "\n"
	if which != driver.Running || len(s.p.Config.Also) == 0 {
		return text, nil
	}
	var parts []config.Part
	for _, also := range s.p.Config.Also {
		lines, err := s.command(ctx, also.Command, nil)
		if err != nil {
			return "", fmt.Errorf("reading %s beside the configuration: %w", also.Name, err)
		}
		parts = append(parts, config.Part{Name: also.Name, Lines: lines})
	}
	return config.Join(text, parts), nil
}

// Arm puts the rollback timer on the clock, to the second, rounded up. What is on trial is
// given that much time from now on.
func (s *Session) Arm(ctx context.Context, d time.Duration) error {
	arm := s.p.Timer.Arm
	if s.p.OnTrial() {
		if arm = s.p.Trial.Extend; arm.Send == "" {
			arm = s.p.Trial.Apply
		}
	}
	if s.p.Timer.At != "" {
		return s.armAt(ctx, d)
	}
	return s.timed(ctx, arm, d)
}

// timed gives a command that is told a time.
func (s *Session) timed(ctx context.Context, c profile.Command, d time.Duration) error {
	seconds := strconv.Itoa(int((d + time.Second - 1) / time.Second))
	_, err := s.command(ctx, c, map[string]string{"seconds": seconds})
	return err
}

// Pending asks what is left on the rollback timer.
func (s *Session) Pending(ctx context.Context) (time.Duration, bool, error) {
	t := s.p.Timer
	if s.p.OnTrial() {
		t.Show, t.Pending, t.None = s.p.Trial.Show, s.p.Trial.Pending, s.p.Trial.None
	}
	if !t.Kind.Guards() {
		return 0, false, nil
	}
	got, err := s.command(ctx, t.Show, nil)
	if err != nil {
		return 0, false, err
	}
	none := false
	for _, l := range got {
		m := t.Pending.Find(l)
		if at := t.Pending.SubexpIndex("at"); m != nil && at > 0 {
			return s.until(ctx, m[at])
		}
		if m != nil {
			n, err := strconv.Atoi(m[t.Pending.SubexpIndex("seconds")])
			if err != nil || n > 7*86_400 {
				return 0, false, &driver.Unclear{Asked: t.Show.Send, Got: s.Mask(l)}
			}
			return time.Duration(n) * time.Second, true, nil
		}
		none = none || t.None.Matches(l)
	}
	if !none {
		return 0, false, &driver.Unclear{Asked: t.Show.Send, Got: s.Mask(strings.Join(got[:min(len(got), 3)], " / "))}
	}
	return 0, false, nil
}

// Disarm takes the rollback timer off the clock, and confirms what is on trial.
func (s *Session) Disarm(ctx context.Context) error {
	disarm := s.p.Timer.Disarm
	if s.p.OnTrial() {
		disarm = s.p.Trial.Confirm
	}
	_, err := s.command(ctx, disarm, nil)
	return err
}

// TakeBack has the device take back what is on trial.
func (s *Session) TakeBack(ctx context.Context) error {
	if !s.p.OnTrial() {
		return nil
	}
	_, err := s.command(ctx, s.p.Trial.Undo, nil)
	return err
}

// Edit enters the mode lines are sent in. Where lines are staged and it is in it already, it
// leaves it first: what follows begins at the top, and not in the section of the line before.
func (s *Session) Edit(ctx context.Context) error {
	if s.p.Config.Whole {
		return s.editWhole(ctx)
	}
	if below := s.p.Modes[s.p.Config.Edit].From; s.p.OnTrial() && s.mode == s.p.Config.Edit && below != "" {
		if err := s.enter(ctx, below); err != nil {
			return err
		}
	}
	return s.enter(ctx, s.p.Config.Edit)
}

// Apply leaves the mode lines are sent in, unless that lasts. Where they were staged, they
// are checked and applied on trial.
func (s *Session) Apply(ctx context.Context, trial time.Duration) error {
	if s.here != nil {
		return s.callOff(ctx, s.here.by)
	}
	if s.p.Config.Whole {
		return s.applyWhole(ctx, trial)
	}
	if s.p.OnTrial() {
		if check := s.p.Trial.Check; check.Send != "" {
			if _, err := s.command(ctx, check, nil); err != nil {
				return err
			}
		}
		return s.timed(ctx, s.p.Trial.Apply, trial)
	}
	return s.leaveEdit(ctx)
}

// Drop drops what is staged; elsewhere it leaves the mode lines are sent in.
func (s *Session) Drop(ctx context.Context) error {
	s.whole = nil
	if s.here != nil {
		if err := s.callOff(ctx, s.here.by); s.broken != nil {
			return err
		}
	}
	drop := s.p.Config.Drop
	if s.p.OnTrial() {
		drop = s.p.Trial.Drop
	}
	switch {
	case drop.Send != "":
		_, err := s.command(ctx, drop, nil)
		return err
	case s.p.Config.Whole:
		return nil
	}
	return s.leaveEdit(ctx)
}

func (s *Session) leaveEdit(ctx context.Context) error {
	below := s.p.Modes[s.p.Config.Edit].From
	if below == "" || s.p.Config.Lasts { // it takes changes where a session starts
		return nil
	}
	return s.enter(ctx, below)
}

// Restore replaces the running configuration; where the way back is a trial it stages the
// one that is to take its place.
func (s *Session) Restore(ctx context.Context, backup string) error {
	s.whole = nil
	if err := s.stage(ctx, backup); err != nil || !s.p.Config.Whole || s.p.OnTrial() {
		return err
	}
	return s.applyWhole(ctx, 0)
}

// stage hands a whole configuration over.
func (s *Session) stage(ctx context.Context, backup string) error {
	backup = config.Alone(backup)
	r := s.p.Restore
	if r.Send == "" {
		return &driver.Refused{Line: "restore", Said: errNoRestore.Error()}
	}
	text, err := s.p.TypedText(strings.TrimRight(backup, "\n") + "\n" + r.End + "\n")
	if err != nil {
		return &driver.Refused{Line: "restore", Said: s.Mask(err.Error()) + "; nothing was sent"}
	}
	if err := s.enter(ctx, r.In); err != nil {
		return err
	}
	s.out.reset()
	s.open = ""
	s.log.Sent(s.Mask(s.prompt), s.Mask(r.Send))
	if err := s.write(r.Send + s.enterKey); err != nil {
		return s.fail(err)
	}
	if err := s.wait(ctx, nil, &r.Ready); err != nil {
		return err
	}
	if !slices.ContainsFunc(s.out.lines, r.Ready.Matches) && !r.Ready.Matches(s.open) {
		// It shows a prompt and is not ready: the text would be taken for commands.
		s.keepGot(s.out.lines)
		if s.open != "" {
			return s.callOff(ctx, r.Send)
		}
		if err := s.judge(r.Send, s.out.lines, profile.Rules{Harmless: r.Harmless, Refused: r.Refused}); err != nil {
			return err
		}
		return &driver.Unclear{Asked: r.Send, Got: s.Mask(strings.Join(s.out.lines[max(0, len(s.out.lines)-3):], " / "))}
	}
	asks := s.open
	s.out.reset()
	s.open = ""
	s.log.Note(fmt.Sprintf("restoring %d lines of the backup", strings.Count(backup, "\n")))
	s.pouring = true
	defer func() { s.pouring = false }()
	if err := s.pour(strings.ReplaceAll(text, "\n", s.enterKey)); err != nil {
		return s.fail(err)
	}
	if err := s.wait(ctx, nil, nil); err != nil {
		return err
	}
	for i, l := range s.out.lines { // it asked for each line, in the row of the next
		for asks != "" && strings.HasPrefix(l, asks) {
			l = strings.TrimPrefix(l, asks)
		}
		s.out.lines[i] = l
	}
	s.keepGot(s.out.lines)
	return s.checked(r.Send, r.Command, s.out.lines)
}

// Save makes the running configuration the saved one.
func (s *Session) Save(ctx context.Context) error {
	if s.p.Save.Send == "" {
		return nil
	}
	_, err := s.command(ctx, s.p.Save, nil)
	return err
}

// Ask asks the device what a person wants to know, and returns what it printed,
// masked. It asks only what the profile knows to change nothing, unless any is
// allowed; what is never sent is not sent even then. A refused command is a
// [driver.Refused], with what was printed.
func (s *Session) Ask(ctx context.Context, command string, anything bool) ([]string, error) {
	switch {
	case s.p.NeverSent(command):
		return nil, &driver.Refused{Line: s.Mask(command), Said: "the profile of " + s.p.Platform + " never lets this be sent"}
	case !anything && !s.p.Safe(command):
		return nil, &driver.Refused{
			Line: s.Mask(command),
			Said: "not among the commands that the profile of " + s.p.Platform + " knows to change nothing",
		}
	}
	return s.give(ctx, "", command, nil)
}

// Look implements [driver.Looker].
func (s *Session) Look(ctx context.Context, mode, command string) ([]string, error) {
	if !s.p.Safe(command) {
		return nil, &driver.Refused{
			Line: s.Mask(command),
			Said: "not among the commands that the profile of " + s.p.Platform + " knows to change nothing; it was not sent",
		}
	}
	return s.give(ctx, mode, command, nil)
}

// Do implements [driver.Doer].
func (s *Session) Do(ctx context.Context, c driver.Command) ([]string, error) {
	if s.p.NeverSent(c.Line) {
		return nil, &driver.Refused{Line: s.Mask(c.Line), Said: "the profile of " + s.p.Platform + " never lets this be sent; it was not sent"}
	}
	var answers []profile.Answer
	for _, r := range c.Asked {
		q, err := regexp.Compile(plan.Pattern(r.Question))
		if err != nil {
			return nil, &driver.Refused{Line: s.Mask(c.Line), Said: fmt.Sprintf("%q is no pattern of a question; it was not sent", r.Question)}
		}
		answers = append(answers, profile.Answer{Question: profile.Pattern{Regexp: q}, Send: r.Say})
	}
	s.patience = c.Takes
	defer func() { s.patience = 0 }()
	return s.give(ctx, c.Mode, c.Line, answers)
}

// give gives a command in a mode, and returns what it printed, masked.
func (s *Session) give(ctx context.Context, mode, command string, answers []profile.Answer) ([]string, error) {
	in := cmp.Or(mode, s.p.Ask.In, s.p.Start)
	if err := s.enter(ctx, in); err != nil {
		return nil, err
	}
	got, err := s.say(ctx, command, answers)
	if err != nil {
		return s.MaskEach(s.out.lines), err
	}
	if s.open != "" {
		return s.MaskEach(got), s.callOff(ctx, command)
	}
	return s.MaskEach(got), s.judge(command, got, profile.Rules{})
}

// Read reads a table.
func (s *Session) Read(ctx context.Context, table string) (any, error) {
	r, ok := s.p.Readers[table]
	if !ok {
		return nil, &driver.Unclear{Asked: table, Got: "the profile of " + s.p.Platform + " has no such reader"}
	}
	got, err := s.command(ctx, r.Asked(), nil)
	if err != nil {
		return nil, err
	}
	v, err := r.Parse(got)
	if err != nil {
		return nil, &driver.Unclear{Asked: r.Send, Got: s.Mask(err.Error())}
	}
	return v, nil
}
