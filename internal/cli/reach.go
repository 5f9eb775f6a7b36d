package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/report"
	"metabasis/internal/store"
)

func (a *app) reachCommand() *cobra.Command {
	var f eveningFlags
	cmd := &cobra.Command{
		Use:   "reach [SCOPE]",
		Short: "Find out which devices can be reached, and why the others cannot",
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
	e, err := a.selected(f.fleet, words)
	if err != nil {
		return err
	}
	if !f.headless && !f.json {
		if a.isTerminal() {
			return a.roster(ctx, e)
		}
		f.headless = true
	}
	if err := a.ready(ctx, e, "reach"); err != nil {
		return err
	}
	defer e.close()
	a.say(e.scope)
	ctx, over := signalled(ctx)
	p := &reachPrinter{app: a, json: f.json, width: widest(e.scope.Devices)}
	p.sweep(ctx, e, e.scope.Devices)
	if fresh := p.newKeys(); len(fresh) > 0 && !f.json {
		if again := a.acceptKeys(e, fresh); len(again) > 0 {
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

func (p *reachPrinter) sweep(ctx context.Context, e *evening, devices []fleet.Device) {
	if p.results == nil {
		p.results = map[string]reach.Result{}
	}
	reach.Sweep(ctx, devices, e.together(),
		func(ctx context.Context, d fleet.Device) { p.took(e.connector.Reach(ctx, d, nil)) },
		func(_ context.Context, d fleet.Device) { p.took(unreached(d)) })
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

// newKeys are the keys that were shown for the first time, by device.
func (p *reachPrinter) newKeys() map[string]*store.NewKey {
	out := map[string]*store.NewKey{}
	for name, r := range p.results {
		var k *store.NewKey
		if r.Failure != nil && errors.As(r.Failure.Err, &k) {
			out[name] = k
		}
	}
	return out
}

// acceptKeys lets the person decide on new keys, and returns the devices to be
// reached again.
func (a *app) acceptKeys(e *evening, fresh map[string]*store.NewKey) []fleet.Device {
	keys, ok := e.access.HostKeys.(*store.HostKeys)
	if !ok || a.asker() == nil {
		return nil
	}
	var again []fleet.Device
	fmt.Fprintf(a.err, "\n%s shown for the first time:\n", count(len(fresh), "host key"))
	for _, d := range e.scope.Devices {
		if k := fresh[d.Name]; k != nil {
			again = append(again, d)
			fmt.Fprintf(a.err, "  %-20s %s %s\n", d.Name, k.Key.Type(), k.Fingerprint())
		}
	}
	fmt.Fprint(a.err, "Compare them. Accept them once, remember them, or refuse? (once/remember/refuse) ")
	answer, _ := bufio.NewReader(a.in).ReadString('\n')
	forGood := false
	switch strings.TrimSpace(answer) {
	case "once":
	case "remember":
		forGood = true
	default:
		fmt.Fprintln(a.err, "Refused.")
		return nil
	}
	for _, k := range fresh {
		if err := keys.Accept(k, forGood); err != nil {
			fmt.Fprintln(a.err, "metabasis:", err)
			return nil
		}
	}
	return again
}
