package device

import (
	"context"
	"errors"
	"net"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
	"metabasis/internal/device/telnet"
)

// openTelnet connects over Telnet and gets ready for the login, which is a
// dialogue in the session. A try of the login is out until judge is told what
// became of it.
func (c *Connector) openTelnet(ctx context.Context, w *way, opt *profile.Options, cfg telnet.Config) (*telnet.Conn, error) {
	conn, err := c.dialTelnet(ctx, w, opt.Watch, cfg)
	if err != nil {
		return nil, err
	}
	if w.login.Try != nil {
		if w.verdict, err = w.login.Try(ctx); err != nil {
			conn.Close()
			return nil, &reach.Failure{Stage: reach.Login, Cause: err.Error(), Remedy: "mend the login, then begin anew", Err: err}
		}
	}
	watch := opt.Watch
	opt.Watch = func(s reach.Stage) {
		if s == reach.Prompt {
			w.judge(nil)
		}
		watch(s)
	}
	opt.Dialogue, opt.Translates, opt.Gently = true, true, true
	return conn, nil
}

// judge says what became of a login in the session.
func (w *way) judge(err error) {
	if w.verdict == nil {
		return
	}
	w.verdict(verdict(err))
	w.verdict = nil
}

// verdict is what an error says of a secret that was sent.
func verdict(err error) ssh.Verdict {
	switch {
	case err == nil:
		return ssh.Let
	case errors.Is(err, context.Canceled):
		return ssh.Unknown
	}
	var refused *driver.Refused
	if errors.Is(err, driver.ErrDenied) || errors.As(err, &refused) {
		return ssh.Denied
	}
	return ssh.Unanswered
}

// dialTelnet connects and starts the protocol. A device that takes connections
// says something before it is spoken to: negotiation, or its login.
func (c *Connector) dialTelnet(ctx context.Context, w *way, watch ssh.Watch, cfg telnet.Config) (*telnet.Conn, error) {
	watch(reach.Route)
	within := w.profile.Connect.Prompt
	limit, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	_, port, _ := net.SplitHostPort(w.Addr)
	raw, err := w.dial(limit, "tcp", w.Addr)
	if err != nil {
		return nil, ssh.ExplainDial(port, "Telnet", within.String(), err)
	}
	watch(reach.Port)
	watch(reach.Handshake)
	if e := w.profile.Connect.Enter; e == "cr" {
		cfg.Enter = "\r"
	}
	conn, err := telnet.New(raw, cfg)
	if err != nil {
		raw.Close()
		return nil, &reach.Failure{Stage: reach.Handshake, Cause: "takes the connection and closes it at once", Err: err}
	}
	first, err := firstByte(conn, within)
	if err != nil {
		raw.Close()
		f := &reach.Failure{Stage: reach.Handshake, Cause: "takes the connection and closes it at once", Remedy: "it may have a session left over from before, or an access list stands in the way", Err: err}
		if isTimeout(err) {
			f.Cause, f.Remedy = "connected, then silent for "+within.String(), "it may be overloaded or out of sessions"
		}
		return nil, f
	}
	conn.Unread(first)
	return conn, nil
}

func firstByte(conn *telnet.Conn, within time.Duration) (byte, error) {
	var b [1]byte
	// For writing, too: what is read may be an offer that must be answered.
	if err := conn.SetDeadline(time.Now().Add(within)); err != nil {
		return 0, err
	}
	_, err := conn.Read(b[:])
	return b[0], errors.Join(err, conn.SetDeadline(time.Time{}))
}
