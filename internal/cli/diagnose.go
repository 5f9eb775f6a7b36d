package cli

import (
	"cmp"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"

	"metabasis/internal/diag"
)

// log opens the diagnostic log, once. Where it cannot be written, nothing is lost but
// the log.
func (a *app) log() *diag.Log {
	if a.logged == nil {
		var err error
		if a.logged, err = diag.Open(diag.File(os.Getenv), a.debug); err != nil {
			a.logged = diag.None()
		} else {
			a.logFile = diag.File(os.Getenv)
			crashes(filepath.Join(filepath.Dir(a.logFile), "crash.log"))
		}
		if a.debug {
			a.dumpTo.Store(a.logged)
		}
		a.logged.Info("start", "version", diag.Version(), "commit", diag.Commit(), "words", strings.Join(a.words, " "))
	}
	return a.logged
}

// crashes has what the runtime says at a crash written into a file, too: on the screen it
// could not be read.
func crashes(file string) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	_ = debug.SetCrashOutput(f, debug.CrashOptions{}) // it keeps a copy of its own
}

// dumps writes what every goroutine does into the log when SIGQUIT asks for it, where the
// log says more: the signal itself ends what runs as SIGTERM does.
func (a *app) dumps() (stop func()) {
	signals, quit, gone := make(chan os.Signal, 1), make(chan struct{}), make(chan struct{})
	signal.Notify(signals, syscall.SIGQUIT)
	go func() {
		defer close(gone)
		for {
			select {
			case <-quit:
				return
			case <-signals:
				if log := a.dumpTo.Load(); log != nil {
					text := make([]byte, 1<<20)
					log.Info("quit", "goroutines", string(text[:runtime.Stack(text, true)]))
				}
			}
		}
	}()
	return func() { signal.Stop(signals); close(quit); <-gone }
}

// caught tells of a mistake of ours, and where all that is known of it stands.
func (a *app) caught(r any) {
	a.log().Error("mistake", "what", fmt.Sprint(r), "stack", string(debug.Stack()))
	where := ""
	if a.logFile != "" {
		where = "; what led to it is in " + a.logFile
	}
	fmt.Fprintf(a.err, "metabasis: Metabasis has made a mistake: %v%s; metabasis --version says what a report of it needs\n", r, where)
}

// about is what a report of a mistake needs.
func about() string {
	or := func(name string) string {
		if v := os.Getenv(name); v != "" {
			return v
		}
		return "not set"
	}
	return fmt.Sprintf(`metabasis %s
commit    %s
built by  %s for %s/%s
terminal  TERM %s, COLORTERM %s, NO_COLOR %s, language %s
log       %s
`, diag.Version(), diag.Commit(), runtime.Version(), runtime.GOOS, runtime.GOARCH, or("TERM"), or("COLORTERM"), or("NO_COLOR"), or("LANG"), cmp.Or(diag.File(os.Getenv), "none: HOME is not a directory, and XDG_STATE_HOME is not set"))
}
