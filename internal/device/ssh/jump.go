package ssh

import (
	"context"
	"errors"
	"net"
	"strings"
	"sync"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
)

// Jumps keeps connections to jump hosts: one to each, shared by all the devices
// behind it. A jump host that is lost is connected to anew when it is next
// needed; one that denied the login is not tried again.
type Jumps struct {
	dial Dial
	mu   sync.Mutex
	open map[string]*jump
	wg   sync.WaitGroup
	done context.Context
	stop context.CancelFunc
}

// jump is a connection to a jump host, or the attempt at one.
type jump struct {
	ready  chan struct{} // closed when client or err is set
	client *connection
	err    error
}

// NewJumps makes an empty set. Dial opens the connections to the nearest hosts.
func NewJumps(dial Dial) *Jumps {
	j := &Jumps{dial: dial, open: map[string]*jump{}}
	j.done, j.stop = context.WithCancel(context.Background())
	return j
}

// Close ends all connections and waits for them.
func (j *Jumps) Close() {
	j.stop()
	j.wg.Wait()
}

// Through dials by way of jump hosts, nearest first; with none, directly.
func (j *Jumps) Through(chain []Hop) Dial {
	if len(chain) == 0 {
		return j.dial
	}
	return func(ctx context.Context, network, addr string) (net.Conn, error) {
		client, err := j.client(ctx, chain)
		if err != nil {
			return nil, err
		}
		return client.DialContext(ctx, network, addr)
	}
}

// Open connects to a chain of jump hosts now, before anything behind them is
// needed. One that fails is connected to anew when it is.
func (j *Jumps) Open(ctx context.Context, chain []Hop) error {
	_, err := j.client(ctx, chain)
	return err
}

// client is the connection to the last of a chain. The first to need it makes
// it; others wait for that one.
func (j *Jumps) client(ctx context.Context, chain []Hop) (*connection, error) {
	key := chainKey(chain)
	j.mu.Lock()
	o := j.open[key]
	if o == nil {
		o = &jump{ready: make(chan struct{})}
		j.open[key] = o
		j.wg.Go(func() { j.keep(key, chain, o) })
	}
	j.mu.Unlock()
	select {
	case <-o.ready:
		return o.client, o.err
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

func chainKey(chain []Hop) string {
	var parts []string
	for _, h := range chain {
		parts = append(parts, h.Login.User+"@"+h.Addr)
	}
	return strings.Join(parts, ",")
}

// keep connects to a jump host and holds the connection until it ends.
func (j *Jumps) keep(key string, chain []Hop, o *jump) {
	last := chain[len(chain)-1]
	o.client, o.err = connect(j.done, j.Through(chain[:len(chain)-1]), last, nil)
	if o.err != nil {
		o.err = throughHost(last, o.err)
	}
	close(o.ready)
	if errors.Is(o.err, driver.ErrDenied) {
		return // kept: it is not tried again
	}
	if o.client != nil {
		release := context.AfterFunc(j.done, func() { o.client.Close() })
		_ = o.client.Wait()
		release()
		o.client.still()
	}
	j.mu.Lock()
	delete(j.open, key)
	j.mu.Unlock()
}

// throughHost makes a jump host's failure one of the device behind it: the
// route to it is broken. That its login is denied says nothing of the device's.
func throughHost(h Hop, err error) error {
	f := &reach.Failure{Stage: reach.Route, Cause: "its jump host " + h.Name + ": " + err.Error(), Err: err}
	var at *reach.Failure
	if errors.As(err, &at) {
		f.Cause, f.Remedy = "its jump host "+h.Name+" "+phrase(at), at.Remedy
	}
	return f
}

func phrase(f *reach.Failure) string {
	if f.Stage == reach.Login || f.Stage == reach.HostKey {
		return "is not passed: " + f.Cause
	}
	return "is not reached: " + f.Cause
}
