package device

import (
	"context"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/snmp"
	"metabasis/internal/device/ssh"
)

// openSNMP begins to talk to a device that speaks SNMP.
func (c *Connector) openSNMP(ctx context.Context, d fleet.Device, watch ssh.Watch) (Session, error) {
	if watch == nil {
		watch = func(reach.Stage) {}
	}
	log := c.Transcript(d.Name)
	fail := func(err error) (Session, error) {
		log.Note(err.Error())
		return nil, err
	}
	w, err := c.way(ctx, d, watch)
	if err != nil {
		return fail(err)
	}
	if len(w.jumps) > 0 {
		return fail(&reach.Failure{Stage: reach.Route, Cause: "lies behind a jump host, and SNMP goes through none", Remedy: "work it from a station that reaches it"})
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
	s, err := snmp.Start(ctx, w.profile, snmp.Dial(w.dial), w.Addr, c.options(w, log, watch))
	w.judge(err)
	if err != nil {
		return nil, err
	}
	return s, nil
}
