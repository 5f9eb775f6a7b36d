package console

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
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
}

// leave is the key that leaves the console: Ctrl-G.
const leave = 7

// Run connects the terminal to a session until the device ends it, the person
// leaves with Ctrl-G, or ctx ends. It closes the session. Needs tells what needs
// the person meanwhile, "" for nothing; the bar shows it.
func Run(ctx context.Context, in *os.File, out io.Writer, title string, needs func() string, s Session) error {
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
	b := &bar{out: out, in: in, title: title, s: s}
	fmt.Fprint(out, "\x1b[0m\x1b[2J")
	b.draw(needs())
	// From here on, places count from below the bar: nothing that the device
	// prints can be put over it (DECOM, ECMA-48's origin mode).
	fmt.Fprint(out, "\x1b[?6h\x1b[2;1H")
	stop := b.keep(needs)
	ended := make(chan error, 2)
	shown, typed := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(shown)
		ended <- show(b, s)
	}()
	go func() {
		defer close(typed)
		ended <- typing(keys, s)
	}()
	select {
	case err = <-ended:
	case <-ctx.Done():
		err = ctx.Err()
	}
	keys.Cancel()
	<-typed
	stop()
	fmt.Fprint(out, "\x1b[0m\x1b[?25h\x1b[?6l\x1b[r\x1b[2J\x1b[Hleaving …\r\n")
	_ = s.Close()
	<-shown
	if errors.Is(err, io.EOF) || errors.Is(err, errLeft) {
		return nil
	}
	return err
}

var errLeft = errors.New("left")

// show shows what the device prints. It ends with the session.
func show(out io.Writer, s io.Reader) error {
	var f filter
	buf := make([]byte, 4096)
	for {
		n, err := s.Read(buf)
		if safe := f.pass(buf[:n]); len(safe) > 0 {
			if _, err := out.Write(safe); err != nil {
				return err
			}
		}
		if err != nil {
			return err
		}
	}
}

// typing sends what the person types.
func typing(keys io.Reader, s io.Writer) error {
	buf := make([]byte, 1024)
	for {
		n, err := keys.Read(buf)
		for i, c := range buf[:n] {
			if c == leave {
				_, _ = s.Write(buf[:i])
				return errLeft
			}
		}
		if n > 0 {
			if _, err := s.Write(buf[:n]); err != nil {
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
	s     Session
	mu    sync.Mutex // one writes to the terminal at a time
	out   io.Writer
}

// Write writes what the device prints.
func (b *bar) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.out.Write(p)
}

// draw draws the bar and leaves the lines below to the device.
func (b *bar) draw(needs string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	w, h := Size(b.in)
	text := " " + b.title + " · what you type reaches it at once · recorded"
	right := "Ctrl-G leaves "
	if needs != "" {
		right = needs + "   " + right
	}
	text = ansi.Truncate(text, max(w-ansi.StringWidth(right)-1, 0), "…")
	gap := strings.Repeat(" ", max(w-ansi.StringWidth(text)-ansi.StringWidth(right), 0))
	fmt.Fprintf(b.out, "\x1b7\x1b[?6l\x1b[r\x1b[H\x1b[0;7;1m%s%s%s\x1b[0m\x1b[2;%dr\x1b8", text, gap, right, h)
}

// keep draws the bar now and again: the terminal's size changes, something needs
// the person, or the device has cleared the whole screen.
func (b *bar) keep(needs func() string) (stop func()) {
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, syscall.SIGWINCH)
	tick := time.NewTicker(500 * time.Millisecond)
	quit, done := make(chan struct{}), make(chan struct{})
	b.tell()
	go func() {
		defer close(done)
		for {
			select {
			case <-resized:
				b.tell()
				b.draw(needs())
			case <-tick.C:
				b.draw(needs())
			case <-quit:
				return
			}
		}
	}()
	return func() { signal.Stop(resized); tick.Stop(); close(quit); <-done }
}

// tell tells the device the size of what is left to it.
func (b *bar) tell() {
	w, h := Size(b.in)
	_ = b.s.Resize(w, h-1)
}

// Size is the terminal's size, the console's bar included, or a usual one.
func Size(in *os.File) (columns, rows int) {
	if w, h, err := term.GetSize(int(in.Fd())); err == nil {
		return w, h
	}
	return 80, 24
}
