package console

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/muesli/cancelreader"
	"golang.org/x/term"
)

// Session is a device worked by hand.
type Session interface {
	io.ReadWriteCloser
	Resize(columns, rows int) error
	// Offer names the secret that the device asks for and that is known; "" for none. Give
	// sends it.
	Offer() string
	Give() error
	// Recorded is nil as long as what is said is kept, and says why it is not.
	Recorded() error
	// Note writes something into the record.
	Note(text string) error
}

// Keys that do not reach the device: Ctrl-G leaves the console, and so does
// Ctrl-C while it is not connected yet; Ctrl-P sends the secret that is offered, where one
// is.
const (
	leave     = 7
	interrupt = 3
	give      = 16
)

// Run opens a session and connects the terminal to it until the device ends it,
// the person leaves with Ctrl-G, or ctx ends. It closes the session.
func (c *Command) run(ctx context.Context, in *os.File, out io.Writer, open func(context.Context) (Session, error)) error {
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return fmt.Errorf("console: %w", err)
	}
	defer func() { _ = term.Restore(int(in.Fd()), before) }()
	keys, err := cancelreader.NewReader(in)
	if err != nil {
		return fmt.Errorf("console: %w", err)
	}
	defer keys.Close()
	typed := make(chan []byte)
	go read(keys, typed)
	g := &guard{never: c.Never, least: c.LeastReason}
	err = work(ctx, &bar{out: out, in: in, title: c.Title, needs: c.Needs, way: c.Guard, guard: g}, typed, open)
	keys.Cancel()
	for range typed { // until the reader has ended
	}
	if errors.Is(err, io.EOF) || errors.Is(err, errLeft) {
		return nil
	}
	return err
}

// read passes on what is typed, until reading is cancelled.
func read(keys io.Reader, typed chan<- []byte) {
	defer close(typed)
	for {
		buf := make([]byte, 1024)
		n, err := keys.Read(buf)
		if n > 0 {
			typed <- buf[:n]
		}
		if err != nil {
			return
		}
	}
}

// work connects and works the device.
func work(ctx context.Context, b *bar, typed <-chan []byte, open func(context.Context) (Session, error)) error {
	fmt.Fprint(b.out, "\x1b[0m\x1b[2J")
	b.draw()
	// From here on, places count from below the bar: nothing that the device
	// prints can be put over it (DECOM, ECMA-48's origin mode).
	fmt.Fprint(b.out, "\x1b[?6h\x1b[2;1Hconnecting …\r\n")
	stop := b.keep()
	defer fmt.Fprint(b.out, "\x1b[0m\x1b[?25h\x1b[?6l\x1b[r\x1b[2J\x1b[H")
	defer stop()
	s, err := connect(ctx, typed, open)
	if err != nil {
		return err
	}
	if err := s.Recorded(); err != nil {
		_ = s.Close()
		return fmt.Errorf("a console is recorded, and this one could not be: %w", err)
	}
	b.opened(s)
	ended := make(chan error, 1)
	shown := make(chan struct{})
	go func() {
		defer close(shown)
		ended <- show(b, s)
	}()
	err = typing(ctx, typed, ended, s, b)
	fmt.Fprint(b, "\x1b[0m\r\nleaving …\r\n")
	_ = s.Close()
	<-shown
	if lost := s.Recorded(); lost != nil {
		return fmt.Errorf("not all of what was done is recorded: %w", lost)
	}
	return err
}

var errLeft = errors.New("left")

// connect opens the session; the person need not wait for it.
func connect(ctx context.Context, typed <-chan []byte, open func(context.Context) (Session, error)) (Session, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type result struct {
		s   Session
		err error
	}
	opened := make(chan result, 1)
	go func() {
		s, err := open(ctx)
		opened <- result{s, err}
	}()
	for {
		select {
		case r := <-opened:
			return r.s, r.err
		case b, ok := <-typed:
			if ok && bytes.IndexByte(b, leave) < 0 && bytes.IndexByte(b, interrupt) < 0 {
				continue // nobody is there yet to read it
			}
			cancel()
			if r := <-opened; r.err == nil {
				_ = r.s.Close()
			}
			return nil, errLeft
		}
	}
}

// typing sends what the person types, until the session is over or left.
func typing(ctx context.Context, typed <-chan []byte, ended <-chan error, s Session, bar *bar) error {
	for {
		select {
		case b, ok := <-typed:
			if !ok {
				return errLeft
			}
			i := bytes.IndexByte(b, leave)
			if i >= 0 {
				b = b[:i]
			}
			b, remark := bar.typed(b)
			if remark != "" {
				if err := s.Note(remark); err != nil {
					return err
				}
			}
			if at := bytes.IndexByte(b, give); at >= 0 && s.Offer() != "" {
				if err := s.Give(); err != nil {
					return err
				}
				b = slices.Delete(bytes.Clone(b), at, at+1)
			}
			if _, err := s.Write(b); err != nil {
				return err
			}
			if i >= 0 {
				return errLeft
			}
		case err := <-ended:
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// show shows what the device prints. It ends with the session.
func show(out io.Writer, s io.Reader) error {
	var f filter
	buf := make([]byte, 4096)
	for {
		n, err := s.Read(buf)
		if safe := f.pass(buf[:n]); len(safe) > 0 {
			if g, ok := out.(*bar); ok {
				g.guard.saw(safe)
			}
			if _, err := out.Write(safe); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
	}
}

// bar is the line at the top, which what the device prints never scrolls away.
type bar struct {
	in    *os.File
	title string
	needs func() string
	way   func() string // what takes back what is done, and when
	guard *guard

	mu  sync.Mutex // one writes to the terminal at a time
	out io.Writer
	s   Session // nil until it is open
}

// Write writes what the device prints.
func (b *bar) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.out.Write(p)
}

// typed takes in what a person types, and returns what of it goes to the device, and what is to be
// noted before.
func (b *bar) typed(p []byte) (send []byte, remark string) {
	b.mu.Lock()
	asked := b.guard.held != ""
	send, remark = b.guard.typing(p)
	asked = asked || b.guard.held != ""
	b.mu.Unlock()
	if asked { // or was
		b.draw()
	}
	return send, remark
}

// opened tells the bar of the session.
func (b *bar) opened(s Session) {
	b.mu.Lock()
	b.s = s
	b.mu.Unlock()
	b.tell()
	fmt.Fprint(b, "\x1b[2J\x1b[1;1H")
	b.draw()
}

// draw draws the bar and leaves the lines below to the device.
func (b *bar) draw() {
	needs, way := b.needs(), b.way()
	b.mu.Lock()
	defer b.mu.Unlock()
	w, h := Size(b.in)
	text, right := " "+b.title+" · what you type reaches it at once · recorded", "Ctrl-G leaves "
	if way != "" {
		text = " " + way + " · " + b.title + " · recorded"
	}
	if b.s != nil {
		if err := b.s.Recorded(); err != nil {
			text = " " + b.title + " · NOT RECORDED any more: " + err.Error() + " · what you type reaches it at once"
		}
	}
	switch {
	case b.s == nil:
		text, right = " "+b.title, "Ctrl-G gives up "
	case b.s.Offer() != "":
		right = "Ctrl-P sends the secret " + b.s.Offer() + "   " + right
	}
	if asks, keys := b.guard.asks(w); asks != "" {
		text, right, needs = asks, keys, ""
	}
	if needs != "" {
		right = needs + "   " + right
	}
	text = ansi.Truncate(text, max(w-ansi.StringWidth(right)-1, 0), "…")
	gap := strings.Repeat(" ", max(w-ansi.StringWidth(text)-ansi.StringWidth(right), 0))
	fmt.Fprintf(b.out, "\x1b7\x1b[?6l\x1b[r\x1b[H\x1b[0;7;1m%s%s%s\x1b[0m\x1b[2;%dr\x1b8", text, gap, right, h)
}

// keep draws the bar again and again: the terminal's size changes, something
// needs the person, or the device has cleared the whole screen.
func (b *bar) keep() (stop func()) {
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, syscall.SIGWINCH)
	tick := time.NewTicker(500 * time.Millisecond)
	quit, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		for {
			select {
			case <-resized:
				b.tell()
				b.draw()
			case <-tick.C:
				b.draw()
			case <-quit:
				return
			}
		}
	}()
	return func() { signal.Stop(resized); tick.Stop(); close(quit); <-done }
}

// tell tells the device the size of what is left to it.
func (b *bar) tell() {
	b.mu.Lock()
	s := b.s
	b.mu.Unlock()
	if s != nil {
		w, h := Size(b.in)
		_ = s.Resize(w, h-1)
	}
}

// Size is the terminal's size, the console's bar included, or a usual one.
func Size(in *os.File) (columns, rows int) {
	if w, h, err := term.GetSize(int(in.Fd())); err == nil {
		return w, h
	}
	return 80, 24
}
