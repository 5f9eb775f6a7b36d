package device

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"metabasis/internal/device/ssh"
)

// Lockout keeps accounts from being locked out across the fleet. A login that
// three devices in a row have denied is stopped: no further device is asked. One
// that never answers counts as a denial until the login is known to be right;
// after that it is a broken device, and must not keep us from the others. Other
// secrets of a login, such as that of the privileged mode, are guarded alike. Until a login has been let in, and again after a denial, only so many devices
// are asked at once that no more than three can deny it; each success widens
// that.
//
// A device that has denied a secret is not asked about it again by itself: not in the same
// sweep, not when it is connected to anew, not at the next rehearsal. It is once the secret
// was typed anew ([Lockout.Anew]), or, where other devices take it, once a person asks for that
// ([Lockout.Once]).
type Lockout struct {
	mu     sync.Mutex
	logins map[string]*account
}

// Account is what a secret of a login is guarded as; "password" is the login itself.
func Account(login, secret string) string {
	if secret == "password" {
		return login
	}
	return login + "'s " + secret
}

// Anew forgets what was denied of an account, because its secret is another now.
func (g *Lockout) Anew(account string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.logins, account)
}

// Once lets devices that denied a secret which others take be asked once more, since a
// person has asked for that. A secret that nobody has taken stays where it is.
func (g *Lockout) Once() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, a := range g.logins {
		if a.proven {
			a.denied = nil
		}
	}
}

// mostDenied is how many devices in a row may deny a login.
const mostDenied = 3

type account struct {
	inRow   []string // the devices that denied it, since one let it in
	denied  []string // the devices that denied it, and were not asked again since
	proven  bool     // a device has let it in
	out     int      // tries that are out
	width   int      // how many may be
	changed chan struct{}
}

// Try waits until the login may be tried on a device.
func (g *Lockout) Try(ctx context.Context, login, device string) (func(ssh.Verdict), error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.logins == nil {
		g.logins = map[string]*account{}
	}
	a := g.logins[login]
	if a == nil {
		a = &account{width: mostDenied, changed: make(chan struct{})}
		g.logins[login] = a
	}
	for {
		if slices.Contains(a.denied, device) {
			return nil, &ssh.Stopped{Why: fmt.Sprintf("not tried: it has refused login %s already, and what was refused is not sent again by itself", login)}
		}
		if len(a.inRow) >= mostDenied {
			return nil, &ssh.Stopped{Why: fmt.Sprintf("not tried: login %s was refused by three devices in a row (%s)", login, strings.Join(a.inRow, ", "))}
		}
		if a.out < a.width {
			break
		}
		changed := a.changed
		g.mu.Unlock()
		select {
		case <-changed:
			g.mu.Lock()
		case <-ctx.Done():
			g.mu.Lock()
			return nil, context.Cause(ctx)
		}
	}
	a.out++
	return func(v ssh.Verdict) { g.over(a, device, v) }, nil
}

func (g *Lockout) over(a *account, device string, v ssh.Verdict) {
	g.mu.Lock()
	defer g.mu.Unlock()
	a.out--
	switch v {
	case ssh.Let:
		a.inRow, a.proven = nil, true
		a.denied = slices.DeleteFunc(a.denied, func(d string) bool { return d == device })
		a.width = min(max(2*a.width, 2*mostDenied), 1<<20)
	case ssh.Denied, ssh.Unanswered:
		if v == ssh.Unanswered && a.proven {
			break
		}
		if !slices.Contains(a.inRow, device) {
			a.inRow = append(a.inRow, device)
		}
		if v == ssh.Denied && !slices.Contains(a.denied, device) {
			a.denied = append(a.denied, device)
		}
		a.width = max(mostDenied-len(a.inRow), 1)
	}
	close(a.changed)
	a.changed = make(chan struct{})
}
