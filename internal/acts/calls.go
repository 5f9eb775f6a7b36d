package acts

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/workspace"
)

// A night may call a person: by a program of theirs, which the setting call names, and which gets
// what there is to be known on its standard input. It is bounded, stands in nobody's way, and is
// not called again for what it was called for.

// Bounds on the program.
const (
	callWithin  = 30 * time.Second // a call
	callsWaited = 16               // calls that may wait for one that runs
	callsEnd    = 8 * time.Second  // for those that are left at the end of a night
)

// call is why a person is called, as the program gets it, in JSON.
type call struct {
	Why       string      `json:"why"` // held, stranded, or over
	Text      string      `json:"text"`
	Night     int64       `json:"night"`
	Title     string      `json:"title"`
	Change    string      `json:"change,omitempty"`
	Workspace string      `json:"workspace"`
	Device    string      `json:"device,omitempty"`
	At        time.Time   `json:"at"`
	Event     night.Event `json:"event"`
}

// calls calls a person for a night.
type calls struct {
	program string
	dir     string
	of      call // what is the same for all
	alone   bool // nobody decides at holds: the runbook says what is done
	remark  func(ctx context.Context, text string)
	within  time.Duration // a call
	last    time.Duration // for those that are left at the end

	queue   chan call
	done    chan struct{}
	stop    context.CancelFunc
	once    sync.Once
	said    map[string]bool // what was called for; of the goroutine that reads events
	dropped atomic.Int64    // calls that were not made, since too many waited
}

// newCalls makes what calls a person; nil where the settings name no program.
func newCalls(ctx context.Context, n *Tonight) *calls {
	program := n.desk.Settings.Get(settings.Call)
	if program == "" {
		return nil
	}
	ctx, stop := context.WithCancel(ctx)
	c := &calls{
		program: program, dir: n.desk.Dir, alone: n.request.Unattended, remark: n.remark, within: callWithin, last: callsEnd,
		of: call{Night: n.ID, Title: n.Plan.Title, Change: n.Plan.Change, Workspace: n.desk.Path()},
	}
	c.begin(ctx, stop)
	return c
}

func (c *calls) begin(ctx context.Context, stop context.CancelFunc) {
	c.stop, c.said = stop, map[string]bool{}
	c.queue, c.done = make(chan call, callsWaited), make(chan struct{})
	go c.run(ctx)
}

// on looks whether something that happened needs a person, and calls one.
func (c *calls) on(events []night.Event, told *night.Night) {
	if c == nil {
		return
	}
	for _, e := range events {
		why, text := c.needs(e, told)
		key := why + "\n" + text
		if why == "" || c.said[key] {
			continue
		}
		c.said[key] = true
		one := c.of
		one.Why, one.Text, one.Device, one.At, one.Event = why, text, e.Device, e.At, e
		select {
		case c.queue <- one:
		default: // one that hangs must not hold up the night
			c.dropped.Add(1)
		}
	}
}

// needs tells why an event needs a person; "" where it needs none.
func (c *calls) needs(e night.Event, told *night.Night) (why, text string) {
	switch {
	case e.Kind == night.HoldOpened && !c.alone:
		who := "the run"
		if e.Device != "" {
			who = e.Device
		}
		return "held", who + " is held: " + e.Note
	case e.Kind == night.Moved && e.State == night.Stranded:
		return "stranded", e.Device + " is stranded: " + e.Note
	case e.Kind == night.Ended && told.Outcome() == night.NeedsPerson:
		return "over", "the night is over: " + report.Summary(told)
	}
	return "", ""
}

// run calls for one thing after the other.
func (c *calls) run(ctx context.Context) {
	defer close(c.done)
	for one := range c.queue {
		if ctx.Err() != nil {
			return
		}
		if err := c.call(ctx, one); err != nil {
			c.remark(ctx, fmt.Sprintf("nobody was called: %v; it was for this: %s", err, one.Text))
		} else {
			c.remark(ctx, fmt.Sprintf("called %s: %s", c.program, one.Text))
		}
		if n := c.dropped.Swap(0); n > 0 {
			c.remark(ctx, fmt.Sprintf("%s more were not made: %d waited already", report.Count(int(n), "call"), callsWaited))
		}
	}
}

// call runs the program.
func (c *calls) call(ctx context.Context, one call) error {
	data, err := json.Marshal(one)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, c.within)
	defer cancel()
	cmd := exec.CommandContext(ctx, c.program)
	cmd.Dir = c.dir
	cmd.Env = workspace.ChildEnv(os.Environ())
	cmd.Stdin = bytes.NewReader(append(data, '\n'))
	var said head
	cmd.Stdout, cmd.Stderr = nil, &said
	// What it starts must not outlast it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	switch err := cmd.Run(); {
	case ctx.Err() != nil:
		return fmt.Errorf("%s did not end within %s", c.program, c.within)
	case err != nil && said.String() != "":
		return fmt.Errorf("%s: %w: %s", c.program, err, said.String())
	case err != nil:
		return fmt.Errorf("%s: %w", c.program, err)
	}
	return nil
}

// end ends it, once those calls are made that are left, or their time is over.
func (c *calls) end() {
	if c == nil {
		return
	}
	c.once.Do(func() { close(c.queue) })
	select {
	case <-c.done:
	case <-time.After(c.last):
		c.stop()
		<-c.done
	}
	c.stop()
}

// Ourselves is by whom a note is that Metabasis itself has written.
const Ourselves = "metabasis"

// remark writes into the journal what Metabasis itself did beside the night; once that is over,
// it is noted for the person.
func (n *Tonight) remark(ctx context.Context, text string) {
	text = n.Plan.Mask(text)
	ctx, cancel := context.WithTimeout(ctx, time.Second)
	defer cancel()
	if told := n.now.Load(); told != nil && told.Ended.IsZero() {
		if n.Run.Do(ctx, night.Command{Choice: night.Remark, By: Ourselves, Reason: text}) == nil {
			return
		}
	}
	n.Note(text)
}

// head keeps the first line of what is written to it, in so many characters as a message has room
// for.
type head struct{ b []byte }

func (h *head) Write(p []byte) (int, error) {
	if room := 200 - len(h.b); room > 0 {
		h.b = append(h.b, p[:min(room, len(p))]...)
	}
	return len(p), nil
}

func (h *head) String() string {
	first, _, _ := strings.Cut(strings.TrimSpace(strings.ToValidUTF8(string(h.b), "")), "\n")
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, first)
}
