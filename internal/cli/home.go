package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/home"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// open shows what the workspace holds and goes where the person chooses, and comes
// back from there until the person leaves.
func (a *app) open(ctx context.Context) error {
	ws, err := a.workspace()
	if err != nil {
		return err
	}
	if !a.isTerminal() {
		return errors.New("there is no terminal here for the screen; try metabasis --help")
	}
	at := home.Place{}
	for {
		entries := a.entries(ctx, ws)
		e, next, err := home.Choose(ctx, a.dir, entries, ws.Settings.Get(settings.Theme) == "light", at)
		if err != nil || e == nil {
			return err
		}
		at = next
		at.Message = ""
		if err := a.visit(ctx, ws, e); err != nil {
			var exit *exitError
			if errors.As(err, &exit) && exit.err == nil { // how a night ended: it has said so
				continue
			}
			at.Message = firstLine(err)
		}
	}
}

// visit opens what was chosen.
func (a *app) visit(ctx context.Context, ws *workspace.Workspace, e *home.Entry) error {
	switch {
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

// entries are the fleet, the runbooks and the past nights of a workspace. What
// cannot be read is an entry that says so: the rest opens all the same.
func (a *app) entries(ctx context.Context, ws *workspace.Workspace) []home.Entry {
	var out []home.Entry
	fl, fleetErr := ws.Fleet("")
	switch {
	case fleetErr == nil:
		out = append(out, home.Entry{Fleet: true, Title: count(len(fl.Devices), "device") + ": reach them, read them, work one by hand"})
	case !errors.Is(fleetErr, workspace.ErrNoFleet):
		out = append(out, home.Entry{Fleet: true, Problem: firstLine(fleetErr)})
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
	pasts, err := ws.Pasts(ctx)
	if err != nil {
		out = append(out, home.Entry{Title: "the journal", Problem: err.Error() + "; metabasis journal check says what is whole, and a new night can be run all the same"})
	}
	for _, p := range pasts {
		out = append(out, pastEntry(ws, p))
	}
	return out
}

func pastEntry(ws *workspace.Workspace, p workspace.Past) home.Entry {
	e := home.Entry{Night: p.ID, Title: p.Title, Change: p.Change, Began: p.Began}
	switch running, now := ws.Running(p.NightHead); {
	case p.Damage != nil:
		e.Problem = "damaged: " + p.Damage.Error()
	case now:
		e.Outcome, e.Summary = run.NeedsPerson, fmt.Sprintf("runs now: %s, process %d", running.Who, running.PID)
	case p.Night.Ended.IsZero():
		e.Outcome, e.Summary = run.NeedsPerson, report.Crashed(&p.Night)
	default:
		e.Outcome, e.Summary = p.Night.Outcome(), report.Summary(&p.Night)
	}
	return e
}

func firstLine(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}

// replay shows a past night from the journal alone.
func (a *app) replay(ctx context.Context, ws *workspace.Workspace, id int64) error {
	p, err := ws.Past(ctx, id)
	if err != nil {
		return err
	}
	read := func(device string) ([]string, error) { return store.ReadTranscript(ws.Transcripts(id), device) }
	src := screen.Source{Night: p.Night, Transcript: read,
		Tail: func(device string, n int) []string {
			lines, err := read(device)
			if err != nil {
				return nil
			}
			return lines[max(0, len(lines)-n):]
		}}
	if h, now := ws.Running(p.NightHead); now {
		src.Elsewhere = h.String()
	}
	_, err = screen.Run(ctx, src, screen.Theme(ws.Settings.Get(settings.Theme)))
	return err
}
