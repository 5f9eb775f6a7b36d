package ssh

import (
	"context"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/reach"
)

// Hop is how to connect to one host.
type Hop struct {
	Name       string // as people call it
	Addr       string // host:port, under which its key is known
	Login      Login
	Algorithms Algorithms
	HostKeys   HostKeys
	Alive      time.Duration // between two signs of life; 0 means none are asked for
	Within     time.Duration // the longest a stage may take
}

// HostKeys knows the keys of hosts.
type HostKeys interface {
	// Check tells whether a key is that of a host; it is refused with an error,
	// which may be a [reach.Failure].
	Check(host string, remote net.Addr, key ssh.PublicKey) error
	// Algorithms lists the kinds of key known for a host, so that a host with
	// several keys shows one that we know.
	Algorithms(host string) []string
}

// Dial opens a connection to an address.
type Dial func(ctx context.Context, network, addr string) (net.Conn, error)

// Watch is told of each stage as it begins.
type Watch func(reach.Stage)

// missed is how many signs of life may be missing before a peer is dead.
const missed = 3

// connect dials a host and logs in to it. What it returns is alive until it is
// closed or the peer stops answering.
func connect(ctx context.Context, dial Dial, hop Hop, watch Watch) (*connection, error) {
	clock := newAllowance(ctx, hop.Within)
	defer clock.stop()
	stage := &atomic.Int32{}
	at := func(s reach.Stage) {
		stage.Store(int32(s))
		clock.reset()
		if watch != nil {
			watch(s)
		}
	}
	at(reach.Route)
	conn, err := dial(clock.ctx, "tcp", hop.Addr)
	if err != nil {
		return nil, explainDial(hop, clock.cause(err))
	}
	// Nothing in x/crypto/ssh takes a context: closing the connection is what
	// ends a handshake with a device that has gone silent.
	release := context.AfterFunc(clock.ctx, func() { conn.Close() })
	at(reach.Port) // an answer proves the route and the port at once
	at(reach.Handshake)
	auth := &auth{ctx: clock.ctx, login: hop.Login, pause: clock.pause, resume: clock.reset}
	c, channels, requests, err := ssh.NewClientConn(conn, hop.Addr, hop.config(auth, at))
	if !release() && err == nil {
		c.Close()
		err = context.Cause(clock.ctx)
	}
	auth.over(err)
	if err != nil {
		conn.Close()
		return nil, explain(hop, reach.Stage(stage.Load()), clock.cause(err), auth)
	}
	client := ssh.NewClient(c, channels, requests)
	return &connection{client, keepAlive(client, hop.Alive)}, nil
}

// connection is a client with its signs of life.
type connection struct {
	*ssh.Client
	still func() // no more signs of life
}

// Close ends the connection.
func (c *connection) Close() error {
	c.still()
	return c.Client.Close()
}

// config is the client's side of the handshake, which tells of its stages.
func (h Hop) config(a *auth, at func(reach.Stage)) *ssh.ClientConfig {
	cfg := &ssh.ClientConfig{
		User: h.Login.User, ClientVersion: "SSH-2.0-Metabasis", Auth: a.methods(),
		HostKeyCallback: func(host string, remote net.Addr, key ssh.PublicKey) error {
			at(reach.HostKey)
			if err := h.HostKeys.Check(host, remote, key); err != nil {
				return err
			}
			at(reach.Login)
			return nil
		},
	}
	h.Algorithms.apply(cfg, h.HostKeys.Algorithms(h.Addr))
	return cfg
}

// keepAlive asks the peer for a sign of life now and then (RFC 4254, 4: any
// answer to a global request is one) and closes the connection when too many are
// missing. Nothing runs in between. Stop ends it; so does the connection's end.
func keepAlive(client *ssh.Client, every time.Duration) (stop func()) {
	if every <= 0 {
		return func() {}
	}
	var mu sync.Mutex
	var stopped bool
	var timer *time.Timer
	beat := func() {
		answered := make(chan error, 1)
		go func() {
			_, _, err := client.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		silent := time.NewTimer(missed * every)
		defer silent.Stop()
		select {
		case err := <-answered:
			mu.Lock()
			defer mu.Unlock()
			if err == nil && !stopped {
				timer.Reset(every)
			}
		case <-silent.C:
			client.Close()
		}
	}
	mu.Lock()
	defer mu.Unlock()
	timer = time.AfterFunc(every, beat)
	return func() {
		mu.Lock()
		defer mu.Unlock()
		stopped = true
		timer.Stop()
	}
}

// Open connects to a device and starts a shell on a terminal of 250 columns.
func Open(ctx context.Context, dial Dial, hop Hop, watch Watch) (*Shell, error) {
	return OpenSized(ctx, dial, hop, watch, "dumb", 250, 60)
}

// OpenSized does the same with a terminal of another kind and size.
func OpenSized(ctx context.Context, dial Dial, hop Hop, watch Watch, term string, columns, rows int) (*Shell, error) {
	return open(ctx, dial, hop, watch, func(s *ssh.Session) error { return startShell(s, term, columns, rows) },
		&reach.Failure{Stage: reach.Prompt, Cause: "it let us in and gives no shell", Remedy: "see whether the login may have one"})
}

// OpenSubsystem connects to a device and starts a subsystem (RFC 4254, section 6.5), such
// as netconf.
func OpenSubsystem(ctx context.Context, dial Dial, hop Hop, watch Watch, name string) (*Shell, error) {
	return open(
		ctx,
		dial,
		hop,
		watch,
		func(s *ssh.Session) error { return s.RequestSubsystem(name) },
		&reach.Failure{
			Stage:  reach.Prompt,
			Cause:  "it let us in and knows no subsystem " + name,
			Remedy: "see whether its " + name + " listens on this port",
		},
	)
}

// OpenCommand connects to a device and runs a command, without a terminal (RFC 4254, section 6.5).
func OpenCommand(ctx context.Context, dial Dial, hop Hop, watch Watch, command string) (*Shell, error) {
	return open(ctx, dial, hop, watch, func(s *ssh.Session) error { return s.Start(command) },
		&reach.Failure{Stage: reach.Prompt, Cause: "it let us in and runs no command", Remedy: "see whether the login may run commands"})
}

// open connects and has something started in a session; it is without it what it says.
func open(ctx context.Context, dial Dial, hop Hop, watch Watch, start func(*ssh.Session) error, without *reach.Failure) (*Shell, error) {
	client, err := connect(ctx, dial, hop, watch)
	if err != nil {
		return nil, err
	}
	clock := newAllowance(ctx, hop.Within)
	defer clock.stop()
	release := context.AfterFunc(clock.ctx, func() { client.Close() })
	sh, err := startIn(client, start)
	if !release() && err == nil {
		err = context.Cause(clock.ctx)
	}
	if err != nil {
		client.Close()
		without.Err = clock.cause(err)
		return nil, without
	}
	return sh, nil
}

func startIn(client *connection, start func(*ssh.Session) error) (*Shell, error) {
	session, err := client.NewSession()
	if err != nil {
		return nil, err
	}
	in, err := session.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := start(session); err != nil {
		return nil, err
	}
	return &Shell{Reader: out, Writer: in, client: client, session: session}, nil
}

func startShell(session *ssh.Session, term string, columns, rows int) error {
	modes := ssh.TerminalModes{ssh.ECHO: 1, ssh.TTY_OP_ISPEED: 115200, ssh.TTY_OP_OSPEED: 115200}
	if err := session.RequestPty(term, rows, columns, modes); err != nil {
		return fmt.Errorf("a terminal: %w", err)
	}
	if err := session.Shell(); err != nil {
		return fmt.Errorf("a shell: %w", err)
	}
	return nil
}

// Shell is the byte stream of a shell or a subsystem; closing it closes the connection.
type Shell struct {
	io.Reader
	io.Writer
	client  *connection
	session *ssh.Session
	once    sync.Once
}

// Resize tells the device that the terminal has another size now.
func (s *Shell) Resize(columns, rows int) error { return s.session.WindowChange(rows, columns) }

// Close ends the connection. That it has ended already is not an error.
func (s *Shell) Close() error {
	s.once.Do(func() { _ = s.client.Close() })
	return nil
}
