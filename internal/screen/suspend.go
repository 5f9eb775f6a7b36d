package screen

import (
	"os"
	"os/signal"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/sys/unix"
)

// A program that draws on a terminal and is stopped must give the terminal back first, and
// take it again when it goes on: a shell sets it to lines and echo meanwhile, and Ctrl-C would
// be a signal then, not the key that asks. While a night runs we are not stopped by what can
// be ignored: devices in change would wait, and their timers would not.

// nightGoesOn is said in place of stopping.
const nightGoesOn = "not stopped: a night runs, and devices would wait in the midst of their change"

// suspends follows the signals that stop a program and have it go on, until stop is called.
func (a *App) suspends(p *tea.Program) (stop func()) {
	signals := make(chan os.Signal, 4)
	quit, gone := make(chan struct{}), make(chan struct{})
	signal.Notify(signals, syscall.SIGTSTP, syscall.SIGCONT)
	may := make(chan bool) // whether it may be stopped, as the loop of the program knows
	go func() {
		defer close(gone)
		given := false // the terminal is given back
		for {
			select {
			case <-quit:
				return
			case sig := <-signals:
				switch {
				case sig == syscall.SIGCONT: // also after what cannot be caught
					given = !a.retake(p, given, quit)
					continue
				case given:
					continue
				}
			}
			a.post(func() {
				stands := a.standing
				runs := stands != nil && stands.Running() && stands.EndsHere()
				if runs {
					a.root.Say(nightGoesOn)
				}
				select {
				case may <- !runs:
				case <-quit:
				}
			})
			select {
			case yes := <-may:
				if given = yes && p.ReleaseTerminal() == nil; given {
					_ = syscall.Kill(os.Getpid(), syscall.SIGSTOP)
				}
			case <-quit:
				return
			}
		}
	}()
	return func() { signal.Stop(signals); close(quit); <-gone }
}

// retakes is how often the terminal is taken again, each time for retakeWait.
const (
	retakes    = 5
	retakeWait = time.Second
)

// retake takes the terminal again and reports whether it has it. A renderer that was stopped
// may stop the clock of the one that was started after it, when the two follow closely: what
// then never draws is seen by that, and begun again.
func (a *App) retake(p *tea.Program, given bool, quit <-chan struct{}) bool {
	for range retakes {
		if !given && p.ReleaseTerminal() != nil {
			return true // it was never given
		}
		a.output.forget()
		if p.RestoreTerminal() != nil {
			return false
		}
		select {
		case <-a.output.wrote:
			return true
		case <-quit:
			return true
		case <-time.After(retakeWait):
			given = false
		}
	}
	return true
}

// output is the terminal that is drawn on; it tells that something was.
type output struct {
	*os.File
	wrote  chan struct{} // holds one
	parent int           // who has started us
}

func newOutput(f *os.File) *output { return &output{f, make(chan struct{}, 1), os.Getppid()} }

// Write implements [io.Writer]. Where the shell has the terminal, since another process of this job
// was stopped, this one stops as well, as it would if it read. Where that is gone, nobody would have
// it go on: nothing is drawn any more, and it is about to end.
func (o *output) Write(b []byte) (int, error) {
	if front, err := unix.IoctlGetInt(int(o.Fd()), unix.TIOCGPGRP); err == nil && front != unix.Getpgrp() {
		if os.Getppid() != o.parent {
			return len(b), nil
		}
		_ = syscall.Kill(os.Getpid(), syscall.SIGSTOP)
	}
	select {
	case o.wrote <- struct{}{}:
	default:
	}
	return o.File.Write(b)
}

// forget makes it wait for what is drawn from now on.
func (o *output) forget() {
	select {
	case <-o.wrote:
	default:
	}
}
