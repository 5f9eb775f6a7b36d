package acts

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/reach"
	"metabasis/internal/report"
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
	File    string   `json:"file,omitempty"`
	Error   string   `json:"error,omitempty"`
}

// Wrong tells whether the device did not answer what it was asked.
func (a Answer) Wrong() bool { return a.Error != "" || a.Refused != "" }

// MayAsk refuses, before anything connects, commands that may not be sent: those that
// a profile never lets be sent, and unless anything may be, those that it does not
// know to change nothing.
func (e *Evening) MayAsk(commands Commands, anything bool) error {
	var list problem.List
	told := map[string]bool{}
	none := 0
	for _, d := range e.Scope.Devices {
		p := e.Profiles[d.Platform]
		if len(commands.of(d)) == 0 {
			none++
		}
		for _, c := range commands.of(d) {
			key := d.Platform + " " + c
			switch {
			case told[key]:
			case p.NeverSent(c):
				list = append(list, problem.Problem{File: d.Platform, Msg: fmt.Sprintf("%q is never sent", c)})
			case !anything && !p.Safe(c):
				list = append(list, problem.Problem{File: d.Platform, Msg: fmt.Sprintf("%q is not among the commands that the profile knows to change nothing", c),
					Hint: "another command; or --any, if you know that it changes nothing"})
			}
			told[key] = true
		}
	}
	if none > 0 && len(list) == 0 {
		return fmt.Errorf("%s in scope have no commands: give a --file for their role, or one for all others", report.Count(none, "device"))
	}
	return list.Err()
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
