package plan

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"

	"metabasis/internal/core/config"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// What a device's night will do to its configuration is arithmetic, once the device was
// read: the lines of what is wanted, those that lead back, what is already so, and what
// the configuration will be after each step. Each step is computed from what the one
// before it will have left.

// Reading is what was read from a device.
type Reading struct {
	Config config.Config
	// Holds tells whether a condition is true on it.
	Holds func(Check) (bool, error)
	// Settle is Holds, and says why it is not so.
	Settle func(Check) (ok bool, why string, err error)
	// Rows reads a table.
	Rows func(table string) ([]map[string]any, error)
	// Software reads what the device says of its software.
	Software func() (software.State, error)
}

// Read is the target with all that follows from what was read: see [Target.Unroll] and
// [Target.Compute]. The error says what keeps the device from being changed.
func (t *Target) Read(r Reading) (*Target, error) {
	read, err := t.Unroll(r)
	if err != nil {
		return nil, err
	}
	read = read.Compute(0, r.Config)
	for _, s := range read.Steps {
		if s.Wrong != nil {
			return nil, s.Wrong
		}
	}
	return read, nil
}

// Unroll is the target with the turns of all its loops, and with only those to be done
// that are not so already.
func (t *Target) Unroll(r Reading) (*Target, error) {
	read := *t
	read.Steps = slices.Clone(t.Steps)
	for i := range read.Steps {
		s := &read.Steps[i]
		if here, err := s.here(r); err != nil {
			return nil, fmt.Errorf("when of %q: %w", s.Title, err)
		} else if !here {
			continue
		}
		if s.Through != nil {
			if err := read.rows(s, r); err != nil {
				return nil, fmt.Errorf("step %q: %w", s.Title, err)
			}
		}
		if s.Upgrade != nil {
			was, err := r.Software()
			if err != nil {
				return nil, fmt.Errorf("step %q: reading what software it runs: %w", s.Title, err)
			}
			if err := read.computeUpgrade(s, was); err != nil {
				return nil, err
			}
			continue
		}
		if err := s.alreadySo(r); err != nil {
			return nil, fmt.Errorf("already of %q: %w", s.Title, err)
		}
	}
	return &read, nil
}

// here settles whether the step is for the device at all. One that is not does nothing on it,
// and its expectations are not for it either.
func (s *Step) here(r Reading) (bool, error) {
	if s.When == nil {
		return true, nil
	}
	ok, why, err := r.Settle(*s.When)
	if err != nil || ok {
		return ok, err
	}
	*s = Step{Title: s.Title, Number: s.Number, Kind: s.Kind, Done: true, Not: why}
	return false, nil
}

// rows makes the rounds of a step that goes through the rows of a table.
func (t *Target) rows(s *Step, r Reading) error {
	rows := s.Through.loop.Given(t.Env)
	if s.Through.Reads {
		read, err := r.Rows(s.Through.Table)
		if err != nil {
			return err
		}
		rows = nil
		for _, row := range read {
			rows = append(rows, row)
		}
	}
	if len(rows) > runbook.MaxRows {
		return fmt.Errorf("the table %s has %d rows; the most to go through is %d", s.Through.Table, len(rows), runbook.MaxRows)
	}
	s.Rounds = nil
	for _, row := range rows {
		env := t.Env.With(s.Through.Var, row)
		if w := s.Through.Where; w != nil {
			ok, err := r.Holds(Check{w, env})
			if err != nil {
				return err
			}
			if !ok {
				continue
			}
		}
		round, err := s.Through.render(t, env)
		if err != nil {
			return err
		}
		s.Rounds = append(s.Rounds, round)
	}
	if len(s.Rounds) == 0 {
		s.Empty = fmt.Sprintf("step %q: no row of %s fits, of %d", s.Title, s.Through.Table, len(rows))
	}
	s.Through = nil
	s.gather()
	return nil
}

// alreadySo leaves of a step only the rounds that are not so already.
func (s *Step) alreadySo(r Reading) error {
	todo := Step{}
	asked := false
	for _, round := range s.Rounds {
		done := len(round.Already) > 0
		for _, c := range round.Already {
			asked = true
			ok, err := r.Holds(c)
			if err != nil {
				return err
			}
			done = done && ok
		}
		if !done {
			todo.Rounds = append(todo.Rounds, round)
		}
	}
	todo.gather()
	if s.Want == nil {
		s.Send, s.Undo, s.Commands = todo.Send, todo.Undo, todo.Commands
		s.Done = asked && len(todo.Rounds) == 0
	}
	return nil
}

// Compute is the target with the lines of its steps from number i on (from 0), as they
// follow from what its configuration is before them. What cannot be computed is said in
// the step.
func (t *Target) Compute(i int, now config.Config) *Target {
	computed := *t
	computed.Steps = slices.Clone(t.Steps)
	known := true
	for ; i < len(computed.Steps); i++ {
		s := &computed.Steps[i]
		s.After, s.Later, s.Wrong = nil, false, nil
		if err := computed.step(s, now, known); err != nil {
			s.Wrong, s.After = fmt.Errorf("step %q: %s", s.Title, t.maskQuoted(err.Error())), nil
		}
		if known = s.After != nil; known {
			now = *s.After
		}
	}
	return &computed
}

// step computes one step from what is before it, where that is known.
func (t *Target) step(s *Step, now config.Config, known bool) error {
	l := t.Traits.Language
	switch {
	case s.Kind == ConsoleStep && s.Not == "": // nobody knows what a person will do
	case s.Was != nil:
		return t.computeWas(s, now, known)
	case len(s.Put) > 0:
		t.computePut(s, now, known)
	case s.Want == nil && len(s.Send) == 0, s.Want == nil && s.Done:
		if known {
			s.After = &now
		}
	case !known:
		s.Later = s.Want != nil || s.Unwritten
		if s.Want != nil {
			s.Send, s.Undo, s.Done = nil, nil, false
		}
	case s.Want != nil:
		return t.want(s, now)
	case l != nil:
		after, err := l.Predict(now, s.Send)
		if err == nil {
			s.After = &after
		}
		if s.Unwritten {
			return t.unwritten(s, now, err)
		}
	case s.Unwritten:
		return errNoLanguage
	}
	return nil
}

var errNoLanguage = errors.New("its profile has no language: no lines can be computed")

// want computes the lines that lead to what is wanted, and back.
func (t *Target) want(s *Step, now config.Config) (err error) {
	l := t.Traits.Language
	if l == nil {
		return errNoLanguage
	}
	if why := l.Refuses(*s.Want); len(why) > 0 {
		return errors.New(why[0])
	}
	after, err := l.Wanted(now, *s.Want)
	if err != nil {
		return err
	}
	if s.Send, s.Undo, err = t.between(now, after); err != nil {
		return err
	}
	s.Done, s.After = len(s.Send) == 0, &after
	return nil
}

// between are the lines that lead from one configuration to another, and back.
func (t *Target) between(now, after config.Config) (send, undo []string, err error) {
	if send, err = t.Lead(now, after); err != nil {
		return nil, nil, err
	}
	if undo, err = t.Lead(after, now); err != nil && !t.Traits.Whole {
		return nil, nil, fmt.Errorf("no lines lead back: %w", err)
	}
	return send, undo, nil
}

// unwritten computes the undo lines of a step that has none.
func (t *Target) unwritten(s *Step, now config.Config, unknown error) (err error) {
	if unknown != nil {
		return fmt.Errorf("it has no undo lines, and what it does is not known: %w", unknown)
	}
	if s.Undo, err = t.Lead(*s.After, now); err != nil && !t.Traits.Whole {
		return fmt.Errorf("it has no undo lines, and none lead back: %w", err)
	}
	return nil
}

// Lead finds the lines that lead from one configuration of the device to another, as
// [config.Language.Lead] does. They are lines that may be sent.
func (t *Target) Lead(from, to config.Config) ([]string, error) {
	if t.Traits.Language == nil {
		return nil, errNoLanguage
	}
	lines, err := t.Traits.Language.Lead(from, to)
	if err != nil {
		return nil, err
	}
	lines = config.Typed(lines)
	for _, line := range lines {
		for _, never := range t.Traits.Never {
			if never.MatchString(line) {
				return nil, fmt.Errorf("%q is never sent", line)
			}
		}
		if t.Traits.Unsendable != nil {
			if why := t.Traits.Unsendable(line); why != "" {
				return nil, fmt.Errorf("%q cannot be sent: %s", line, why)
			}
		}
	}
	return lines, nil
}

var quotedText = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

// maskQuoted takes secrets out of the lines that a text quotes: in the midst of it no
// pattern would find them.
func (t *Target) maskQuoted(text string) string {
	return quotedText.ReplaceAllStringFunc(text, func(q string) string {
		line, err := strconv.Unquote(q)
		if err != nil {
			return q
		}
		return strconv.Quote(t.Masked([]string{line})[0])
	})
}

// Slip is a step whose undo lines, as they are written, do not lead back.
type Slip struct {
	Step     int // from 0
	Leaves   config.Diff
	Why      string   // why they cannot be followed, in place of what they leave
	Computed []string // what would lead back
}

// Slips holds the undo lines that are written against those that are computed, where a
// target was read: they are to lead back from what a step leaves to what was before it.
func (t *Target) Slips(before config.Config) (out []Slip) {
	l, now := t.Traits.Language, &before
	if l == nil {
		return nil
	}
	for i, s := range t.Steps {
		if now != nil && s.After != nil && len(s.Undo) > 0 && s.Want == nil && !s.Unwritten && !s.Done {
			back, err := l.Predict(*s.After, s.Undo)
			slip := Slip{Step: i, Leaves: config.Compare(*now, back)}
			if err != nil {
				slip.Why = err.Error()
			}
			if slip.Why != "" || !slip.Leaves.Empty() {
				slip.Computed, _ = t.Lead(*s.After, *now)
				out = append(out, slip)
			}
		}
		now = s.After
	}
	return out
}

// Predicted is what the configuration will be when all is done; ok is false where
// nobody knows.
func (t *Target) Predicted(before config.Config) (after config.Config, ok bool) {
	after = before
	for _, s := range t.Steps {
		if s.After == nil {
			return after, false
		}
		after = *s.After
	}
	return after, true
}
