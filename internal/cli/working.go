package cli

import (
	"fmt"
	"io"
	"os"
	"sync"
	"time"

	"golang.org/x/term"
)

// working says on a terminal what is worked out, and for how long already, once that takes
// longer than a second; done takes the line away. What goes elsewhere gets no such line.
func (a *app) working(what string) (done func()) {
	if f, is := a.stderr.(*os.File); !is || !term.IsTerminal(int(f.Fd())) {
		return func() {}
	}
	return tellWorking(a.err, what)
}

// tellWorking writes the line, each second anew.
func tellWorking(w io.Writer, what string) (done func()) {
	over := make(chan struct{})
	var line sync.WaitGroup
	line.Go(func() {
		began, each := time.Now(), time.NewTicker(time.Second)
		defer each.Stop()
		for said := false; ; said = true {
			select {
			case <-each.C:
				fmt.Fprintf(w, "\r\x1b[K%s: %d s", what, int(time.Since(began).Seconds()))
			case <-over:
				if said {
					fmt.Fprint(w, "\r\x1b[K")
				}
				return
			}
		}
	})
	return sync.OnceFunc(func() { close(over); line.Wait() })
}
