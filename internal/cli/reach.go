package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/report"
)

func (a *app) reachCommand() *cobra.Command {
	var f eveningFlags
	cmd := &cobra.Command{
		Use:         "reach [SCOPE]",
		Annotations: shows(),
		Short:       "Find out which devices can be reached, and why the others cannot",
		Long: `Reach every device in scope as far as a change would need it: name, route, port,
handshake, host key, login, prompt, privileged mode, pager. Nothing is changed.
A device that fails says at which stage, why, and what to do.`,
		RunE: func(cmd *cobra.Command, words []string) error { return a.reach(cmd.Context(), f, words) },
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().BoolVar(&f.headless, "headless", false, "no screen: a line a device")
	cmd.Flags().BoolVar(&f.json, "json", false, "no screen: one JSON object a device")
	return cmd
}

func (a *app) reach(ctx context.Context, f eveningFlags, words []string) error {
	e, err := a.scoped(f, words)
	if err != nil {
		return err
	}
	if !f.headless && !f.json {
		if a.isTerminal() {
			return a.fleetOnScreen(ctx, e)
		}
		f.headless = true
	}
	if err := a.ready(ctx, e, "reach"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	ctx, over := signalled(ctx)
	p := &reachPrinter{app: a, json: f.json, width: widest(e.Devices())}
	p.sweep(ctx, e, nil)
	if fresh := p.newKeys(e); len(fresh) > 0 && !f.json && e.Person != nil {
		fmt.Fprintf(a.err, "\n%s shown for the first time:\n", report.Count(len(fresh), "host key"))
		switch again, err := e.Accept(ctx, fresh); {
		case err != nil:
			fmt.Fprintln(a.err, "metabasis:", err)
		case len(again) == 0:
			fmt.Fprintln(a.err, "Refused.")
		default:
			p.sweep(ctx, e, again)
		}
	}
	p.summary()
	if interrupted := over(); interrupted || p.lost == nil {
		return ended(interrupted, p.failed())
	}
	return fmt.Errorf("what was found could not all be written: %w", p.lost)
}

func widest(devices []fleet.Device) int {
	n := 0
	for _, d := range devices {
		n = max(n, len(d.Name))
	}
	return n
}

// reachPrinter prints results as they come.
type reachPrinter struct {
	app     *app
	json    bool
	width   int
	mu      sync.Mutex
	results map[string]reach.Result
	order   []string
	lost    error // why nothing more can be printed
}

func (p *reachPrinter) sweep(ctx context.Context, e *acts.Evening, names []string) {
	if p.results == nil {
		p.results = map[string]reach.Result{}
	}
	e.Reach(ctx, names, func(ev reach.Event) {
		if ev.Result != nil {
			p.took(*ev.Result)
		}
	})
}

func (p *reachPrinter) took(r reach.Result) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if _, again := p.results[r.Device]; !again {
		p.order = append(p.order, r.Device)
	}
	p.results[r.Device] = r
	if p.lost != nil {
		return
	}
	text := time.Now().Format("15:04:05") + "  " + report.Reached(r, p.width)
	if p.json {
		b, err := json.Marshal(r)
		if err != nil {
			return
		}
		text = string(b)
	}
	_, p.lost = fmt.Fprintln(p.app.out, text)
}

func (p *reachPrinter) failed() int {
	n := 0
	for _, r := range p.results {
		if !r.OK() {
			n++
		}
	}
	return n
}

// summary groups those that failed by their cause.
func (p *reachPrinter) summary() {
	if p.json || p.lost != nil {
		return
	}
	b := reach.NewBoard(p.order)
	for _, name := range p.order {
		r := p.results[name]
		b = b.Fold(reach.Event{Device: name, At: time.Now(), Result: &r})
	}
	_, p.lost = fmt.Fprintln(p.app.out, strings.Join(append([]string{""}, report.Reach(&b)...), "\n"))
}

// newKeys are the results of devices that showed a key for the first time.
func (p *reachPrinter) newKeys(e *acts.Evening) (out []*reach.Result) {
	for _, d := range e.Devices() {
		if r, ok := p.results[d.Name]; ok && acts.NewKey(&r) != nil {
			out = append(out, &r)
		}
	}
	return out
}
