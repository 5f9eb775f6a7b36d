package cli

import (
	"context"
	"errors"
	"fmt"
	"os/signal"
	"strings"
	"syscall"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/home"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// watch runs a night on the screen.
func (a *app) watch(ctx context.Context, ws *workspace.Workspace, n *workspace.Night) error {
	// A terminal that goes away lets go of everything, and the journal says so.
	ctx, cancel := signal.NotifyContext(ctx, syscall.SIGHUP)
	defer cancel()
	planned := run.Event{Kind: run.Planned, Outline: run.Outlined(n.Plan)}
	var over chan result
	left := make(chan struct{}) // closed when nobody looks any more
	need := &needs{}
	src := screen.Source{
		Night: run.Fold(run.Night{}, planned),
		Start: func() <-chan []run.Event {
			over = make(chan result, 1)
			shown := make(chan []run.Event)
			go func() { over <- runNight(ctx, n.Run, shown, left, need) }()
			return shown
		},
		Do:         func(c run.Command) error { return n.Run.Do(ctx, c) },
		Tail:       n.Scripts.Tail,
		Transcript: n.Scripts.Read,
		Console: func(name string) tea.ExecCommand {
			return &consoleCommand{ctx: ctx, c: n.Connector, d: deviceOf(n, name), needs: need}
		},
		By: who(),
	}
	_, err := screen.Run(ctx, src, screen.Theme(ws.Settings.Get(settings.Theme)))
	close(left)
	if over == nil { // it never began
		return err
	}
	cancel() // lets go of what is left, if the screen ended before the night
	end := <-over
	night := end.night
	if err == nil {
		err = end.err
	}
	if err != nil {
		return &exitError{int(run.NeedsPerson), err}
	}
	fmt.Fprintln(a.out, report.Summary(&night))
	for _, l := range report.Needs(&night) {
		fmt.Fprintln(a.out, "  "+l)
	}
	return outcome(&night, night.Aborted != "" || night.Released)
}

// deviceOf finds a device of a night's plan.
func deviceOf(n *workspace.Night, name string) fleet.Device {
	for _, t := range n.Plan.Targets() {
		if t.Device.Name == name {
			return t.Device
		}
	}
	return fleet.Device{Name: name}
}

// open shows what the workspace holds and goes where the person chooses.
func (a *app) open(ctx context.Context) error {
	ws, err := a.workspace()
	if err != nil {
		return err
	}
	if !a.isTerminal() {
		return errors.New("there is no terminal here for the screen; try metabasis --help")
	}
	entries, err := a.entries(ctx, ws)
	if err != nil {
		return err
	}
	e, err := home.Choose(ctx, a.dir, entries, ws.Settings.Get(settings.Theme) == "light")
	switch {
	case err != nil || e == nil:
		return err
	case e.Fleet:
		ev, err := a.selectedIn(ws, "", nil)
		if err != nil {
			return err
		}
		return a.roster(ctx, ev)
	case e.Runbook != "":
		return a.night(ctx, ws, e.Runbook, nightFlags{}, nil)
	}
	return a.replay(ctx, ws, e.Night)
}

// entries are the runbooks and the past nights of a workspace.
func (a *app) entries(ctx context.Context, ws *workspace.Workspace) ([]home.Entry, error) {
	var out []home.Entry
	fl, fleetErr := ws.Fleet("")
	if fleetErr == nil {
		out = append(out, home.Entry{Fleet: true, Title: count(len(fl.Devices), "device") + ": reach them, read them, work one by hand"})
	}
	for _, file := range ws.Runbooks() {
		e := home.Entry{Runbook: file}
		rb, _, err := ws.Runbook(file, fl)
		switch {
		case fleetErr != nil:
			e.Problem = firstLine(fleetErr)
		case err != nil:
			e.Problem = firstLine(err)
		default:
			e.Title = rb.Title
		}
		out = append(out, e)
	}
	j, err := ws.Journal()
	if err != nil {
		return nil, err
	}
	defer j.Close()
	nights, err := j.Nights(ctx)
	if err != nil {
		return nil, err
	}
	for _, h := range nights {
		events, err := j.Events(ctx, h.ID)
		if errors.Is(err, store.ErrNoNight) {
			continue // it was prepared and never begun
		}
		if err != nil {
			return nil, err
		}
		n := run.Fold(run.Night{}, events...)
		e := home.Entry{Night: h.ID, Title: h.Title, Change: h.Change, Began: h.Began, Outcome: n.Outcome(), Summary: report.Summary(&n)}
		if n.Ended.IsZero() {
			e.Outcome, e.Summary = run.NeedsPerson, "has no end in the journal: "+e.Summary
		}
		out = append(out, e)
	}
	return out, nil
}

func firstLine(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

// replay shows a past night from the journal alone.
func (a *app) replay(ctx context.Context, ws *workspace.Workspace, id int64) error {
	j, err := ws.Journal()
	if err != nil {
		return err
	}
	defer j.Close()
	events, err := j.Events(ctx, id)
	if err != nil {
		return err
	}
	read := func(device string) ([]string, error) { return store.ReadTranscript(ws.Transcripts(id), device) }
	src := screen.Source{Night: run.Fold(run.Night{}, events...), Transcript: read,
		Tail: func(device string, n int) []string {
			lines, err := read(device)
			if err != nil {
				return nil
			}
			return lines[max(0, len(lines)-n):]
		}}
	_, err = screen.Run(ctx, src, screen.Theme(ws.Settings.Get(settings.Theme)))
	return err
}
