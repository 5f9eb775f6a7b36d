package screen

import (
	"os"
	"os/signal"
	"syscall"

	tea "charm.land/bubbletea/v2"
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
					if given || p.ReleaseTerminal() == nil {
						given = p.RestoreTerminal() != nil
					}
					continue
				case given:
					continue
				}
			}
			a.post(func() {
				stands := a.standing
				runs := stands != nil && stands.Running()
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
