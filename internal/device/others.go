package device

import (
	"context"
	"errors"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/restconf"
	"metabasis/internal/device/snmp"
	"metabasis/internal/device/ssh"
)

// openOther begins to talk to a device that is not worked over SSH or Telnet.
func (c *Connector) openOther(ctx context.Context, d fleet.Device, watch ssh.Watch) (Session, error) {
	log := c.Transcript(d.Name)
	fail := func(err error) (Session, error) {
		log.Note(err.Error())
		return nil, err
	}
	w, err := c.way(ctx, d, watch)
	if err != nil {
		return fail(err)
	}
	if w.spoken().Datagrams && len(w.jumps) > 0 {
		return fail(
			&reach.Failure{
				Stage:  reach.Route,
				Cause:  "lies behind a jump host, and " + w.spoken().Title + " goes through none",
				Remedy: "work it from a station that reaches it",
			},
		)
	}
	log.Note("connecting to " + w.String())
	for _, warning := range w.Warnings {
		log.Note("warning: " + warning)
	}
	if w.login.Try != nil {
		if w.verdict, err = w.login.Try(ctx); err != nil {
			return fail(&reach.Failure{Stage: reach.Login, Cause: err.Error(), Remedy: "mend the login, then begin anew", Err: err})
		}
	}
	s, err := others()[w.Protocol](ctx, w, c.options(w, log, watch))
	var f *reach.Failure
	if w.verdict != nil && errors.As(err, &f) && (f.Stage < reach.Login || !refusal(w, err)) {
		w.verdict(ssh.Unknown)
		w.verdict = nil
	}
	w.judge(err)
	return s, err
}

// refusal tells whether an error may be a login that was refused. Where datagrams are sent,
// silence is none: a device that is off says the same as one that was asked with a wrong
// secret. An answer that cannot be read is none either: who answers has let us in.
func refusal(w *way, err error) bool {
	var odd *driver.Unclear
	switch {
	case errors.Is(err, driver.ErrDenied):
		return true
	case errors.As(err, &odd):
		return false
	}
	return !w.spoken().Datagrams
}

// others begin a session with a device that is not worked over SSH or Telnet, by its protocol.
func others() map[string]func(context.Context, *way, profile.Options) (Session, error) {
	return map[string]func(context.Context, *way, profile.Options) (Session, error){
		profile.SNMP: func(ctx context.Context, w *way, opt profile.Options) (Session, error) {
			return begun(snmp.Start(ctx, w.profile, snmp.Dial(w.dial), w.Addr, opt))
		},
		profile.RESTCONF: func(ctx context.Context, w *way, opt profile.Options) (Session, error) {
			server := restconf.Server{Addr: w.Addr, Dial: w.dial, Keys: w.shown}
			if len(w.login.Keys) > 0 {
				server.Cert = w.login.Keys[0]
			}
			return begun(restconf.Start(ctx, w.profile, server, opt))
		},
	}
}

// begun is a session, and no Session that is a nil where there is none.
func begun[S Session](s S, err error) (Session, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}
