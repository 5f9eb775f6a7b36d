// Package device connects the run to devices: it finds the profile and the
// login for each, dials, logs in and starts a session.
package device

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"

	gossh "golang.org/x/crypto/ssh"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
)

// Login is a credential with the secrets a profile may ask for.
type Login struct {
	ssh.Login
	Secrets map[string]string // by the names profiles use, such as "operator"
}

// Connector implements [run.Connector].
type Connector struct {
	Profiles profile.Set
	// Dial opens a connection to an address; net.Dialer.DialContext fits.
	Dial func(ctx context.Context, network, addr string) (net.Conn, error)
	// Login looks up a credential by its name.
	Login func(ctx context.Context, name string) (Login, error)
	// HostKey checks the key a device shows.
	HostKey gossh.HostKeyCallback
	// Transcript is where what is said with a device is kept.
	Transcript func(device string) profile.Transcript
}

var _ run.Connector = (*Connector)(nil)

// Connect implements [run.Connector].
func (c *Connector) Connect(ctx context.Context, t *plan.Target) (run.Session, error) {
	d := t.Device
	p := c.Profiles[d.Platform]
	if p == nil {
		return nil, fmt.Errorf("no profile for platform %q", d.Platform)
	}
	login, err := c.Login(ctx, d.Login)
	if err != nil {
		return nil, err
	}
	port := d.Port
	if port == 0 {
		port = p.Connect.Port
	}
	addr := net.JoinHostPort(d.Address, strconv.Itoa(port))
	ctx, cancel := context.WithTimeout(ctx, p.Connect.Prompt)
	defer cancel()
	log := c.Transcript(d.Name)
	log.Note("connecting to " + addr)
	dial := func(ctx context.Context) (net.Conn, error) { return c.Dial(ctx, "tcp", addr) }
	rw, err := ssh.Open(ctx, dial, addr, login.Login, c.HostKey)
	if err != nil {
		log.Note(err.Error())
		var at *ssh.Error
		if errors.As(err, &at) && at.Stage == ssh.Auth && ctx.Err() == nil {
			return nil, fmt.Errorf("%w: check user, password and key", run.ErrDenied)
		}
		return nil, err
	}
	secrets := map[string]string{"password": login.Password}
	for k, v := range login.Secrets {
		secrets[k] = v
	}
	s, err := profile.Start(ctx, p, rw, secrets, log)
	if err != nil {
		return nil, err
	}
	return s, nil
}
