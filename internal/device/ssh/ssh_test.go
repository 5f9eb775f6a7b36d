package ssh

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/sim/pipe"
)

// host is an SSH server in memory: it gives a shell that echoes, and passes
// connections on.
type host struct {
	cfg     *ssh.ServerConfig
	net     *network
	accepts atomic.Int32
	frozen  chan struct{} // closed: it hears nothing any more
}

// network connects hosts by their addresses.
type network struct {
	hosts map[string]*host
	wg    sync.WaitGroup
	mu    sync.Mutex
	conns []net.Conn
}

func newNetwork() *network { return &network{hosts: map[string]*host{}} }

func (n *network) add(addr string, cfg *ssh.ServerConfig) *host {
	_, key, _ := ed25519.GenerateKey(nil)
	signer, _ := ssh.NewSignerFromKey(key)
	cfg.AddHostKey(signer)
	h := &host{cfg: cfg, net: n, frozen: make(chan struct{})}
	n.hosts[addr] = h
	return h
}

func (n *network) dial(ctx context.Context, _, addr string) (net.Conn, error) {
	h, ok := n.hosts[addr]
	if !ok {
		return nil, &net.OpError{Op: "dial", Err: errors.New("no route to host")}
	}
	h.accepts.Add(1)
	c, theirs := pipe.New(256 << 10)
	n.wg.Go(func() { h.serve(theirs) })
	n.mu.Lock()
	n.conns = append(n.conns, c)
	n.mu.Unlock()
	return c, nil
}

// close ends everything that is still connected.
func (n *network) close() {
	n.mu.Lock()
	for _, c := range n.conns {
		c.Close()
	}
	n.mu.Unlock()
	n.wg.Wait()
}

// deaf is a connection that hears nothing once its host is frozen.
type deaf struct {
	net.Conn
	h    *host
	over chan struct{}
	once sync.Once
}

func (d *deaf) Read(b []byte) (int, error) {
	n, err := d.Conn.Read(b)
	select {
	case <-d.h.frozen:
		if err == nil {
			<-d.over
		}
		return 0, io.EOF
	default:
		return n, err
	}
}

func (d *deaf) Close() error { d.once.Do(func() { close(d.over) }); return d.Conn.Close() }

func (h *host) serve(raw net.Conn) {
	d := &deaf{Conn: raw, h: h, over: make(chan struct{})}
	defer d.Close()
	conn, channels, requests, err := ssh.NewServerConn(d, h.cfg)
	if err != nil {
		return
	}
	defer conn.Close()
	h.net.wg.Go(func() { // when the client hangs up, a frozen host ends, too
		select {
		case <-h.frozen:
			time.Sleep(10 * time.Minute)
			d.Close()
		case <-d.over:
		}
	})
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		switch ch.ChannelType() {
		case "session":
			h.net.wg.Go(func() { shell(ch) })
		case "direct-tcpip":
			h.net.wg.Go(func() { h.pass(ch) })
		}
	}
	d.Close()
}

func shell(ch ssh.NewChannel) {
	c, reqs, err := ch.Accept()
	if err != nil {
		return
	}
	go func() {
		for r := range reqs {
			_ = r.Reply(true, nil)
		}
	}()
	_, _ = io.Copy(c, c)
	c.Close()
}

func (h *host) pass(ch ssh.NewChannel) {
	var to struct {
		Host  string
		Port  uint32
		From  string
		FPort uint32
	}
	_ = ssh.Unmarshal(ch.ExtraData(), &to)
	target, err := h.net.dial(context.Background(), "tcp", net.JoinHostPort(to.Host, fmt.Sprint(to.Port)))
	if err != nil {
		_ = ch.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	c, reqs, err := ch.Accept()
	if err != nil {
		target.Close()
		return
	}
	go ssh.DiscardRequests(reqs)
	h.net.wg.Go(func() { _, _ = io.Copy(c, target); c.Close() })
	_, _ = io.Copy(target, c)
	target.Close()
}

func withPassword(tries *atomic.Int32) *ssh.ServerConfig {
	return &ssh.ServerConfig{PasswordCallback: func(_ ssh.ConnMetadata, p []byte) (*ssh.Permissions, error) {
		tries.Add(1)
		if string(p) != "lamp" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
}

// anyKey takes whatever key a host shows.
type anyKey struct{}

func (anyKey) Check(string, net.Addr, ssh.PublicKey) error { return nil }
func (anyKey) Algorithms(string) []string                  { return nil }

func hop(addr, password string) Hop {
	return Hop{Name: "quay", Addr: addr, HostKeys: anyKey{}, Within: 10 * time.Second, Login: Login{Name: "crew", User: "crew", Password: password}}
}

func TestOneConnectionToAJumpHostServesAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := newNetwork()
		var tries atomic.Int32
		jump := n.add("198.51.100.1:22", withPassword(&tries))
		for i := range 20 {
			n.add(fmt.Sprintf("192.0.2.%d:22", i+1), withPassword(&tries))
		}
		j := NewJumps(n.dial)
		dial := j.Through([]Hop{hop("198.51.100.1:22", "lamp")})
		var wg sync.WaitGroup
		for i := range 20 {
			wg.Go(func() {
				sh, err := Open(context.Background(), dial, hop(fmt.Sprintf("192.0.2.%d:22", i+1), "lamp"), nil)
				if assert.NoError(t, err) {
					_, _ = sh.Write([]byte("hello"))
					b := make([]byte, 5)
					_, err = io.ReadFull(sh, b)
					assert.NoError(t, err)
					assert.Equal(t, "hello", string(b))
					sh.Close()
				}
			})
		}
		wg.Wait()
		assert.EqualValues(t, 1, jump.accepts.Load())
		_, err := Open(context.Background(), dial, hop("203.0.113.9:22", "lamp"), nil)
		var f *reach.Failure
		require.ErrorAs(t, err, &f)
		assert.Equal(t, "route: its jump host has no route to it", f.Stage.String()+": "+f.Error())
		j.Close()
		n.close()
	})
}

func TestALostJumpHostIsConnectedToAnewAndADeniedOneIsNot(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := newNetwork()
		var tries atomic.Int32
		jump := n.add("198.51.100.1:22", withPassword(&tries))
		n.add("192.0.2.1:22", withPassword(&tries))
		j := NewJumps(n.dial)
		dial := j.Through([]Hop{hop("198.51.100.1:22", "lamp")})
		open := func() error {
			sh, err := Open(context.Background(), dial, hop("192.0.2.1:22", "lamp"), nil)
			if err == nil {
				sh.Close()
			}
			return err
		}
		require.NoError(t, open())
		n.mu.Lock()
		for _, c := range n.conns { // the jump host goes away
			c.Close()
		}
		n.mu.Unlock()
		synctest.Wait()
		require.NoError(t, open())
		assert.EqualValues(t, 2, jump.accepts.Load())
		j.Close()

		tries.Store(0)
		j = NewJumps(n.dial)
		dial = j.Through([]Hop{hop("198.51.100.1:22", "wrong")})
		for range 5 {
			err := open()
			assert.ErrorIs(t, err, driver.ErrDenied)
			assert.Equal(t, reach.Route, reach.AsFailure(err).Stage)
		}
		assert.EqualValues(t, 1, tries.Load(), "a denied login is tried once for all the devices behind it")
		j.Close()
		n.close()
	})
}

func TestADeadPeerIsNoticed(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := newNetwork()
		var tries atomic.Int32
		h := n.add("192.0.2.1:22", withPassword(&tries))
		to := hop("192.0.2.1:22", "lamp")
		to.Alive = 15 * time.Second
		sh, err := Open(context.Background(), n.dial, to, nil)
		require.NoError(t, err)
		time.Sleep(10 * time.Minute) // it answers, so nothing happens
		_, err = sh.Write([]byte("x"))
		require.NoError(t, err)
		b := make([]byte, 8)
		_, err = sh.Read(b)
		require.NoError(t, err)
		close(h.frozen)
		began := time.Now()
		_, err = sh.Read(b)
		assert.Error(t, err)
		assert.LessOrEqual(t, time.Since(began), 61*time.Second)
		sh.Close()
		time.Sleep(11 * time.Minute)
		n.close()
	})
}

func TestDialogues(t *testing.T) {
	for name, c := range map[string]struct {
		questions []string
		echo      []bool
		want      string // why it fails; "" when it does not
	}{
		"the password":   {[]string{"Password: "}, []bool{false}, ""},
		"nothing at all": {nil, nil, ""},
		"a code, too":    {[]string{"Password: ", "Code: "}, []bool{false, false}, `its login asks "Code: ", which we cannot answer`},
		"a shown answer": {[]string{"Your name: "}, []bool{true}, `its login asks "Your name: "`},
		"other words":    {[]string{"Losung: "}, []bool{false}, ""},
		"a second word":  {[]string{"Password: ", "Password: "}, []bool{false, false}, "login crew is denied"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				n := newNetwork()
				n.add("192.0.2.1:22", &ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
					answers, err := ask("", "", c.questions, c.echo)
					if err != nil || len(answers) > 0 && answers[0] != "lamp" {
						return nil, errors.New("no")
					}
					return nil, nil
				}})
				sh, err := Open(context.Background(), n.dial, hop("192.0.2.1:22", "lamp"), nil)
				if c.want == "" {
					require.NoError(t, err)
					sh.Close()
				} else {
					assert.ErrorContains(t, err, c.want)
					assert.Equal(t, reach.Login, reach.AsFailure(err).Stage)
				}
				n.close()
			})
		})
	}
}

// A jump host whose login takes a person minutes is connected to before the work;
// the devices behind it then take no longer than others.
func TestAJumpHostIsOpenedBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := newNetwork()
		var tries atomic.Int32
		jump := n.add("198.51.100.1:22", &ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			answers, err := ask("", "", []string{"Password: ", "Code: "}, []bool{false, true})
			if err != nil || answers[1] != "0421" {
				return nil, errors.New("no")
			}
			return nil, nil
		}})
		n.add("192.0.2.1:22", withPassword(&tries))
		to := hop("198.51.100.1:22", "lamp")
		to.Login.Answer = func(context.Context, string, bool) (string, error) { time.Sleep(3 * time.Minute); return "0421", nil }
		j := NewJumps(n.dial)
		require.NoError(t, j.Open(context.Background(), []Hop{to}))
		began := time.Now()
		sh, err := Open(context.Background(), j.Through([]Hop{to}), hop("192.0.2.1:22", "lamp"), nil)
		require.NoError(t, err)
		assert.Less(t, time.Since(began), 10*time.Second)
		assert.EqualValues(t, 1, jump.accepts.Load())
		sh.Close()
		j.Close()
		n.close()
	})
}

// What a login asks beyond the password, in whatever order and however many
// rounds, is answered by somebody else; the time they take is not the host's. A
// password that is asked for again was denied, and is nobody else's to answer.
func TestCodesAreAnsweredBySomebodyElse(t *testing.T) {
	for name, c := range map[string]struct {
		rounds [][]string
		shown  bool
		want   string
	}{
		"behind the password":      {[][]string{{"Password: ", "Code: "}}, false, ""},
		"in a round of its own":    {[][]string{{"Password: "}, {"Your answer: "}}, true, ""},
		"before the password":      {[][]string{{"One-time code: "}, {"Password: "}}, false, ""},
		"the password a last time": {[][]string{{"Password: "}, {"Enter it again, your password: "}}, false, "login crew is denied"},
		"nobody knows":             {[][]string{{"Password: "}, {"Riddle: "}}, true, `its login asks "Riddle: ", which we cannot answer: nobody is there`},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				n := newNetwork()
				n.add("192.0.2.1:22", &ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
					for _, questions := range c.rounds {
						answers, err := ask("", "", questions, slices.Repeat([]bool{c.shown && questions[0] != "Password: "}, len(questions)))
						if err != nil {
							return nil, err
						}
						for i, q := range questions {
							if want := map[bool]string{true: "lamp", false: "0421"}[q == "Password: "]; answers[i] != want {
								return nil, errors.New("no")
							}
						}
					}
					return nil, nil
				}})
				to := hop("192.0.2.1:22", "lamp")
				to.Login.Answer = func(_ context.Context, question string, shown bool) (string, error) {
					assert.Equal(t, c.shown, shown)
					time.Sleep(5 * time.Minute)
					if question == "Riddle: " {
						return "", errors.New("nobody is there")
					}
					return "0421", nil
				}
				sh, err := Open(context.Background(), n.dial, to, nil)
				if c.want == "" {
					require.NoError(t, err)
					sh.Close()
				} else {
					assert.ErrorContains(t, err, c.want)
				}
				n.close()
			})
		})
	}
}

// A denied password is not sent again in a dialogue: one try a device.
func TestAPasswordIsSentOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := newNetwork()
		var tries atomic.Int32
		cfg := withPassword(&tries)
		cfg.KeyboardInteractiveCallback = func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			if answers, err := ask("", "", []string{"Password: "}, []bool{false}); err == nil && len(answers) > 0 {
				tries.Add(1)
			}
			return nil, errors.New("no")
		}
		n.add("192.0.2.1:22", cfg)
		_, err := Open(context.Background(), n.dial, hop("192.0.2.1:22", "wrong"), nil)
		assert.ErrorIs(t, err, driver.ErrDenied)
		assert.EqualValues(t, 1, tries.Load())
		n.close()
	})
}

// The time we wait for our own guard is not the device's.
func TestWaitingForTheGuardCostsNoAllowance(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		n := newNetwork()
		var tries atomic.Int32
		n.add("192.0.2.1:22", withPassword(&tries))
		to := hop("192.0.2.1:22", "lamp")
		var verdict Verdict
		to.Login.Try = func(context.Context) (func(Verdict), error) {
			time.Sleep(5 * time.Minute)
			return func(v Verdict) { verdict = v }, nil
		}
		sh, err := Open(context.Background(), n.dial, to, nil)
		require.NoError(t, err)
		assert.Equal(t, Let, verdict)
		sh.Close()
		n.close()
	})
}

func TestUserConfig(t *testing.T) {
	file := t.TempDir() + "/config"
	require.NoError(t, writeFile(file, `# mine
Host ald-*
  User ada
  Port 2222
  KexAlgorithms +diffie-hellman-group14-sha1,unheard-of
  ProxyJump crew@bastion:2200,inner
  ServerAliveInterval 7
  IdentityFile /k/one
  IdentityFile /k/two
Match user nobody
  Port 1
Match host brm-*
  Port 2201
Match host inner exec "true"
  Port 1
Host bastion
  ProxyJump door
Host door
  ProxyJump ada@bastion
Host core
  HostName 192.0.2.200
  Ciphers unheard-of
  ProxyCommand nc %h %p
Host *
  User everybody
`))
	u, err := ReadUserConfig(file)
	require.NoError(t, err)
	assert.Equal(t, []string{file + ":10: this Match block is not followed", file + ":14: this Match block is not followed"}, u.Warnings)
	assert.Equal(t, 2201, u.Host("brm-quay-1").Port)
	e := u.Host("ald-quay-1", "192.0.2.1")
	assert.Equal(t, "ada", e.User)
	assert.Equal(t, 2222, e.Port)
	assert.Equal(t, 7*time.Second, e.Alive)
	assert.Equal(t, []string{"crew@bastion:2200", "inner"}, e.Jump)
	assert.Equal(t, []string{"ada@bastion", "door", "crew@bastion:2200", "inner"}, u.Chain(e.Jump), "a bastion behind a door, and no further round")
	assert.Equal(t, []string{"/k/one", "/k/two"}, e.Identities)
	assert.Equal(t, []string{"diffie-hellman-group14-sha1"}, e.Algorithms.Weak())
	assert.Greater(t, len(e.Algorithms.KeyExchanges), 2, "added behind the usual ones")
	e = u.Host("core")
	assert.Equal(t, "192.0.2.200", e.HostName)
	assert.Len(t, e.Warnings, 2, "unknown ciphers and a ProxyCommand: %v", e.Warnings)
	assert.Equal(t, "everybody", e.User)
	none, err := ReadUserConfig("/nowhere/config")
	require.NoError(t, err)
	assert.Equal(t, Entry{}, none.Host("x"))
}

func TestLists(t *testing.T) {
	usual, weak := []string{"a", "b", "c"}, []string{"w"}
	for text, want := range map[string][]string{
		"": nil, "b": {"b"}, "+w": {"a", "b", "c", "w"}, "-b": {"a", "c"}, "^c,w": {"c", "w", "a", "b"}, "x,a": {"a"},
	} {
		got, unknown := List(text, usual, weak)
		assert.Equal(t, want, got, text)
		assert.Equal(t, text == "x,a", len(unknown) == 1, text)
	}
}

func writeFile(path, text string) error { return os.WriteFile(path, []byte(text), 0o600) }
