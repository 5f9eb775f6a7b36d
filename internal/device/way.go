package device

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	gossh "golang.org/x/crypto/ssh"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
)

// way is how a device is reached. The fleet file says most of it; where it is
// silent, the person's SSH configuration; where that is silent, the profile.
type way struct {
	Protocol string
	Addr     string // host:port
	Warnings []string

	device  fleet.Device
	profile *profile.Profile
	entry   ssh.Entry
	jumps   []string
	login   Login
	hop     ssh.Hop
	dial    ssh.Dial
	shown   *shownKey         // the key that the device shows
	verdict func(ssh.Verdict) // tells what became of a login that is out
}

func (w *way) String() string {
	s := w.Addr + " over " + title(w.Protocol)
	if len(w.jumps) > 0 {
		s += " through " + strings.Join(w.jumps, ", ")
	}
	return s
}

func title(protocol string) string {
	spoken, _ := profile.ProtocolOf(protocol)
	return spoken.Title
}

// spoken is the protocol by which the device is reached.
func (w *way) spoken() profile.Protocol {
	spoken, _ := profile.ProtocolOf(w.Protocol)
	return spoken
}

// ClearText is the warning on a device that is reached without encryption.
const ClearText = "clear text: whoever stands between reads every word, the password too"

// plainWay works out the way to a device without its login.
func (c *Connector) plainWay(d fleet.Device) (*way, error) {
	p := c.Profiles[d.Platform]
	if p == nil {
		return nil, &reach.Failure{Stage: reach.Name, Cause: fmt.Sprintf("no profile for platform %q", d.Platform)}
	}
	w := &way{device: d, profile: p, Protocol: p.Connect.Protocol}
	switch {
	case d.Protocol == "":
	case p.Typed():
		w.Protocol = d.Protocol
	default:
		return nil, &reach.Failure{
			Stage: reach.Name,
			Cause: fmt.Sprintf(
				"the fleet says that it is reached over %s, and its profile speaks %s",
				title(d.Protocol),
				title(p.Connect.Protocol),
			),
			Remedy: "leave the protocol column empty, or give it another platform",
		}
	}
	host, port := d.Address, d.Port
	if profile.OverSSH(w.Protocol) {
		w.entry = c.Config.Host(d.Name, d.Address)
		w.Warnings = append(w.Warnings, w.entry.Warnings...)
		if _, err := netip.ParseAddr(host); err != nil && w.entry.HostName != "" {
			host = w.entry.HostName
		}
		if port == 0 && w.Protocol == profile.SSH { // it is that of its shell
			port = w.entry.Port
		}
		if w.jumps = d.Jump; len(w.jumps) == 0 {
			w.jumps = w.entry.Jump
		}
		w.entry.Algorithms.Old = d.Old
		w.Warnings = append(w.Warnings, weakWarning(w.entry.Algorithms)...)
	} else {
		w.jumps = d.Jump
		if p.ClearText(w.Protocol) {
			w.Warnings = append(w.Warnings, ClearText)
		}
	}
	w.jumps = c.Config.Chain(w.jumps)
	if port == 0 {
		port = p.Connect.Port
		if w.Protocol != p.Connect.Protocol {
			port = profile.UsualPort(w.Protocol)
		}
	}
	if w.Protocol == profile.Telnet && len(p.Connect.Login) == 0 {
		return nil, &reach.Failure{
			Stage:  reach.Login,
			Cause:  "the profile of " + p.Platform + " knows no login over Telnet",
			Remedy: "give it connect: login:",
		}
	}
	w.Addr = net.JoinHostPort(host, strconv.Itoa(port))
	return w, nil
}

func weakWarning(a ssh.Algorithms) []string {
	switch weak := a.Weak(); {
	case a.Old:
		return []string{"weak algorithms are allowed for it: what is said can be read or changed by a strong enough attacker"}
	case len(weak) > 0:
		return []string{"weak algorithms are allowed for it: " + strings.Join(weak, ", ")}
	}
	return nil
}

// way works out the way to a device: its address, jump hosts and login.
func (c *Connector) way(ctx context.Context, d fleet.Device, watch ssh.Watch) (*way, error) {
	w, err := c.plainWay(d)
	if err != nil {
		return nil, err
	}
	watch(reach.Name)
	if len(w.jumps) == 0 { // else the last jump host resolves it
		if err := c.resolve(ctx, w); err != nil {
			return nil, err
		}
	}
	name := c.loginName(d)
	if w.login, err = c.Login(ctx, name); err != nil {
		return nil, &reach.Failure{Stage: reach.Login, Cause: "has no login: " + err.Error(), Err: err}
	}
	w.login.Name = name
	if p := w.profile; p.ClearText(w.Protocol) && !d.Shared && c.Encrypted != nil && c.Encrypted(name, w.login) {
		return nil, &reach.Failure{
			Stage:  reach.Login,
			Cause:  fmt.Sprintf("login %s, or its password, is used over SSH, too: in clear text it would be given away", name),
			Remedy: "give it a login of its own, or write shared in its clear_login column",
		}
	}
	if w.dial, err = c.dialer(ctx, w); err != nil {
		return nil, err
	}
	w.login.Try, w.login.Answer = c.try(name, d.Name), c.answer(d.Name)
	w.shown = &shownKey{HostKeys: c.HostKeys}
	w.hop = ssh.Hop{Name: d.Name, Addr: w.Addr, Login: c.withKeys(w.login, w.entry), Algorithms: w.entry.Algorithms,
		HostKeys: w.shown, Alive: c.alive(w.entry), Within: w.profile.Connect.Prompt}
	return w, nil
}

func (c *Connector) loginName(d fleet.Device) string {
	if c.LoginName != nil {
		return c.LoginName(d)
	}
	return d.Login
}

func (c *Connector) alive(e ssh.Entry) time.Duration {
	if e.Alive > 0 {
		return e.Alive
	}
	return c.Alive
}

func (c *Connector) try(login, device string) func(context.Context) (func(ssh.Verdict), error) {
	if c.Guard == nil {
		return nil
	}
	return func(ctx context.Context) (func(ssh.Verdict), error) { return c.Guard.Try(ctx, login, device) }
}

func (c *Connector) answer(host string) func(context.Context, string, bool) (string, error) {
	if c.Answer == nil {
		return nil
	}
	return func(ctx context.Context, question string, shown bool) (string, error) {
		return c.Answer(ctx, host, question, shown)
	}
}

// trySecret guards the other secrets of a login, such as that of the privileged
// mode: many devices ask the same server about it as about the password.
func (c *Connector) trySecret(w *way) func(context.Context, string) (func(error), error) {
	if c.Guard == nil {
		return nil
	}
	return func(ctx context.Context, secret string) (func(error), error) {
		done, err := c.Guard.Try(ctx, Account(w.login.Name, secret), w.device.Name)
		if err != nil {
			return nil, err
		}
		return func(err error) { done(verdict(err)) }, nil
	}
}

// withKeys gives a login the user and the keys that the configuration names. A
// login that has a password and no key of its own is not offered the agent's
// keys: each counts as a try, and many devices allow three.
func (c *Connector) withKeys(l Login, e ssh.Entry) ssh.Login {
	out := l.Login
	if e.User != "" && out.User == l.Name { // nobody has said who else
		out.User = e.User
	}
	if c.Keys == nil || out.Signers != nil {
		return out
	}
	files := append(append([]string(nil), l.Keys...), e.Identities...)
	if len(files) == 0 && l.Password != "" {
		return out
	}
	out.Signers = func() ([]gossh.Signer, error) {
		return c.Keys.Signers(files, e.IdentitiesOnly || len(l.Keys) > 0, e.Agent)
	}
	return out
}

// resolve finds the address of a device that is known by a name.
func (c *Connector) resolve(ctx context.Context, w *way) error {
	host, port, _ := net.SplitHostPort(w.Addr)
	if _, err := netip.ParseAddr(host); err == nil {
		return nil
	}
	find := c.Resolve
	if find == nil {
		find = lookup
	}
	ctx, cancel := context.WithTimeout(ctx, w.profile.Connect.Prompt)
	defer cancel()
	addrs, err := find(ctx, host)
	switch {
	case errors.Is(err, context.DeadlineExceeded) || err != nil && isTimeout(err):
		return &reach.Failure{
			Stage:  reach.Name,
			Cause:  "no name server answers for its name",
			Remedy: "write its address into the fleet file, or mend the name service",
			Err:    err,
		}
	case err != nil, len(addrs) == 0:
		return &reach.Failure{
			Stage:  reach.Name,
			Cause:  "its name " + host + " has no address",
			Remedy: "see whether the fleet file has it right, or write the address",
			Err:    err,
		}
	}
	w.dial = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return dialFirst(ctx, c.Dial, network, addrs, port)
	}
	return nil
}

func isTimeout(err error) bool {
	var t interface{ Timeout() bool }
	return errors.As(err, &t) && t.Timeout()
}

// dialFirst dials the addresses of a name in order until one answers.
func dialFirst(ctx context.Context, dial ssh.Dial, network string, addrs []string, port string) (conn net.Conn, err error) {
	for _, a := range addrs {
		if conn, err = dial(ctx, network, net.JoinHostPort(a, port)); err == nil || ctx.Err() != nil {
			break
		}
	}
	return conn, err
}

// dialer is how the connection to the device itself is opened.
func (c *Connector) dialer(ctx context.Context, w *way) (ssh.Dial, error) {
	if len(w.jumps) == 0 {
		if w.dial != nil {
			return w.dial, nil
		}
		return c.Dial, nil
	}
	if c.Jumps == nil {
		return nil, &reach.Failure{Stage: reach.Route, Cause: "lies behind a jump host, and none can be used here"}
	}
	chain, err := c.chain(ctx, w)
	if err != nil {
		return nil, err
	}
	return c.Jumps.Through(chain), nil
}

// chain makes hops of the jump hosts on the way to a device.
func (c *Connector) chain(ctx context.Context, w *way) ([]ssh.Hop, error) {
	var out []ssh.Hop
	for _, spec := range w.jumps {
		user, host, port := ssh.SplitJump(spec)
		e := c.Config.Host(host)
		name := "jump"
		if c.JumpLogin != nil {
			name = c.JumpLogin(host)
		}
		login, err := c.Login(ctx, name)
		if err != nil {
			return nil, &reach.Failure{Stage: reach.Route, Cause: "its jump host " + host + " has no login: " + err.Error(), Err: err}
		}
		login.Name = name
		l := c.withKeys(login, e)
		if user != "" {
			l.User = user
		}
		l.Try, l.Answer = c.try(name, host), c.answer(host)
		addr := host
		if e.HostName != "" {
			addr = e.HostName
		}
		if port == "" {
			port = "22"
			if e.Port > 0 {
				port = strconv.Itoa(e.Port)
			}
		}
		out = append(out, ssh.Hop{Name: host, Addr: net.JoinHostPort(addr, port), Login: l, Algorithms: e.Algorithms,
			HostKeys: c.HostKeys, Alive: c.alive(e), Within: w.profile.Connect.Prompt})
	}
	return out, nil
}

// serverWithin is the longest that a stage may take with a server that is no device.
const serverWithin = 20 * time.Second

// Server is how to connect to a server that is no device, such as one that takes backups.
// User is empty where nobody has named one.
func (c *Connector) Server(ctx context.Context, host, user, addr, login string) (ssh.Hop, error) {
	l, err := c.Login(ctx, login)
	if err != nil {
		return ssh.Hop{}, fmt.Errorf("%s has no login: %w", host, err)
	}
	l.Name = login
	e := c.Config.Host(host)
	with := c.withKeys(l, e)
	if user != "" {
		with.User = user
	}
	with.Try, with.Answer = c.try(login, host), c.answer(host)
	return ssh.Hop{
		Name:       host,
		Addr:       addr,
		Login:      with,
		Algorithms: e.Algorithms,
		HostKeys:   c.HostKeys,
		Alive:      c.alive(e),
		Within:     serverWithin,
	}, nil
}

// options are what a session over this way needs.
func (c *Connector) options(w *way, log profile.Transcript, watch ssh.Watch) profile.Options {
	secrets := map[string]string{"password": w.login.Password}
	for k, v := range w.login.Secrets {
		secrets[k] = v
	}
	return profile.Options{User: w.hop.Login.User, Secrets: secrets, Log: log, Watch: watch, Try: c.trySecret(w), Key: w.shown.fingerprint}
}
