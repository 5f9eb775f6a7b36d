package console

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"syscall"

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
// leaves with Ctrl-G, or ctx ends. It closes the session.
func Run(ctx context.Context, in *os.File, out io.Writer, title string, s Session) error {
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
	bar := func() {
		w, h := Size(in)
		text := " " + title + " · what you type reaches it at once · recorded"
		text = ansi.Truncate(text, max(w-16, 0), "…")
		fmt.Fprintf(out, "\x1b7\x1b[r\x1b[H\x1b[0;7;1m%s%s\x1b[0m\x1b[2;%dr\x1b8", text, padded("Ctrl-G leaves ", w-ansi.StringWidth(text)), h)
		_ = s.Resize(w, h-1)
	}
	fmt.Fprint(out, "\x1b[0m\x1b[2J\x1b[3;1H")
	bar()
	stop := resizing(bar)
	defer stop()

	ended := make(chan error, 2)
	shown, typed := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(shown)
		ended <- show(out, s)
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
	fmt.Fprint(out, "\x1b[0m\x1b[?25h\x1b[r\x1b[2J\x1b[Hleaving …\r\n")
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

// padded puts text at the right end of so many cells.
func padded(text string, cells int) string {
	return strings.Repeat(" ", max(cells-len(text), 0)) + text
}

// resizing calls again whenever the terminal's size changes.
func resizing(again func()) (stop func()) {
	c := make(chan os.Signal, 1)
	signal.Notify(c, syscall.SIGWINCH)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for range c {
			again()
		}
	}()
	return func() { signal.Stop(c); close(c); <-done }
}

// Size is the terminal's size, the console's bar included, or a usual one.
func Size(in *os.File) (columns, rows int) {
	if w, h, err := term.GetSize(int(in.Fd())); err == nil {
		return w, h
	}
	return 80, 24
}
