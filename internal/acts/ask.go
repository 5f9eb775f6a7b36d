package acts

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/settings"
	"metabasis/internal/store"
)

// Commands are the commands for devices of a role; "" is any other role.
type Commands map[string][]string

func (c Commands) of(d fleet.Device) []string {
	if list, ok := c[d.Role]; ok {
		return list
	}
	return c[""]
}

// Answer is what a device answered to a command.
type Answer struct {
	Device  string   `json:"device"`
	Host    string   `json:"host,omitempty"`
	Command string   `json:"command"`
	Lines   []string `json:"lines"`
	Refused string   `json:"refused,omitempty"`
	Nothing string   `json:"nothing,omitempty"` // why nothing came back, where it was answered
	File    string   `json:"file,omitempty"`
	Error   string   `json:"error,omitempty"`
}

// Wrong tells whether the device did not answer what it was asked.
func (a Answer) Wrong() bool { return a.Error != "" || a.Refused != "" }

// Said is what a device answered, as it is shown: what it printed, or in place of that why nothing.
func (a Answer) Said() (text string, wrong bool) {
	text = strings.Join(a.Lines, "\n")
	switch {
	case a.Error != "":
		return "not answered: " + a.Error, true
	case a.Refused != "":
		return strings.TrimRight("refused: "+a.Refused+"\n"+text, "\n"), true
	case a.Nothing != "":
		return a.Nothing, true
	}
	return text, false
}

// Alike are devices that answered the same to a command.
type Alike struct {
	Command, Text string
	Wrong         bool
	Devices       []string
}

// Together puts answers together that are the same, in the order of the first of each.
func Together(all []Answer) (out []Alike) {
	type key struct {
		command, text string
		wrong         bool
	}
	at := map[key]int{}
	for _, a := range all {
		text, wrong := a.Said()
		k := key{a.Command, text, wrong}
		i, known := at[k]
		if !known {
			i = len(out)
			at[k] = i
			out = append(out, Alike{Command: a.Command, Text: text, Wrong: wrong})
		}
		out[i].Devices = append(out[i].Devices, a.Device)
	}
	return out
}

// Askable is the evening with those devices that can be asked the commands; the others are left
// out, each with the reason: a command that its profile never lets be sent, and unless anything
// may be, one that it does not know to change nothing; or no command for its role. Nothing
// connects. It is an error where none is left.
func (e *Evening) Askable(commands Commands, anything bool) (asked *Evening, out []scope.LeftOut, err error) {
	part := e.Part(nil)
	scoped := *e.Scope
	scoped.Devices, scoped.LeftOut = nil, slices.Clone(e.Scope.LeftOut)
	told := map[string]bool{}
	var list problem.List
	for _, d := range e.Scope.Devices {
		why, hint := e.mayNotAsk(d, commands.of(d), anything)
		if why == "" {
			scoped.Devices = append(scoped.Devices, d)
			continue
		}
		out = append(out, scope.LeftOut{Device: d.Name, Why: d.Platform + ": " + why})
		if !told[d.Platform+why] {
			told[d.Platform+why] = true
			list = append(list, problem.Problem{File: d.Platform, Msg: why, Hint: hint})
		}
	}
	if len(scoped.Devices) == 0 {
		return nil, out, list.Err()
	}
	scoped.LeftOut = append(scoped.LeftOut, out...)
	part.Scope = &scoped
	part.part = e.part
	return part, out, nil
}

// mayNotAsk says why a device cannot be asked some commands; "" where it can.
func (e *Evening) mayNotAsk(d fleet.Device, commands []string, anything bool) (why, hint string) {
	if len(commands) == 0 {
		return fmt.Sprintf("there is no command for the role %q", d.Role), "a --file for that role, or one for all others"
	}
	p := e.Profiles[d.Platform]
	for _, c := range commands {
		switch {
		case p.NeverSent(c):
			return fmt.Sprintf("%q is never sent", c), ""
		case !anything && !p.Safe(c):
			return fmt.Sprintf("%q is not among the commands that the profile knows to change nothing", c),
				"another command; or --any, if you know that it changes nothing"
		}
	}
	return "", ""
}

// nothing says why nothing came back of a command that was answered.
func nothing(typed bool) string {
	if typed {
		return "it printed nothing"
	}
	return "nothing is there: no such object or path, or one without a value"
}

// Ask asks every device its commands and keeps what each answers as evidence. The
// answers come in the fleet's order.
func (e *Evening) Ask(ctx context.Context, commands Commands, anything bool) (out []Answer) {
	dir := e.Settings.Get(settings.Evidence)
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(e.Dir, dir)
	}
	q := &asking{e, commands, anything, &store.Evidence{Dir: dir}, time.Now()}
	var mu sync.Mutex
	answers := map[string][]Answer{}
	take := func(d fleet.Device, got ...Answer) {
		mu.Lock()
		defer mu.Unlock()
		answers[d.Name] = got
	}
	reach.Sweep(ctx, e.Scope.Devices, e.Together(), func(ctx context.Context, d fleet.Device) { take(d, q.one(ctx, d)...) },
		func(_ context.Context, d fleet.Device) { take(d, Answer{Device: d.Name, Error: notBegun}) })
	for _, d := range e.Scope.Devices {
		out = append(out, answers[d.Name]...)
	}
	return out
}

// Unanswered counts the devices that did not answer all they were asked.
func Unanswered(answers []Answer) int {
	var names []string
	for _, a := range answers {
		if a.Wrong() && !slices.Contains(names, a.Device) {
			names = append(names, a.Device)
		}
	}
	return len(names)
}

// asking asks devices one by one.
type asking struct {
	*Evening
	commands Commands
	anything bool
	evidence *store.Evidence
	at       time.Time
}

// one asks one device all its commands.
func (q *asking) one(ctx context.Context, d fleet.Device) (out []Answer) {
	s, err := q.open(ctx, d)
	if err != nil {
		return []Answer{{Device: d.Name, Error: q.unreached(err).Error()}}
	}
	defer s.Close()
	for _, c := range q.commands.of(d) {
		one := Answer{Device: d.Name, Host: s.Host(), Command: s.Mask(c)}
		one.Lines, err = s.Ask(ctx, c, q.anything)
		var refused *driver.Refused
		switch {
		case errors.As(err, &refused):
			one.Refused = refused.Said
		case err != nil:
			one.Error = told(s, err)
		case len(one.Lines) == 0:
			one.Nothing = nothing(q.Profiles[d.Platform].Typed())
		}
		if one.Error == "" {
			if one.File, err = q.evidence.Put(q.at, d.Name, s.Host(), one.Command, one.Lines); err != nil {
				one.Error = err.Error()
			}
		}
		out = append(out, one)
		if one.Error != "" {
			break // the session is of no more use
		}
	}
	return out
}
