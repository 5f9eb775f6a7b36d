package device

import (
	"context"
	"errors"
	"io"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/work"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
	"metabasis/internal/device/telnet"
)

// Console opens a session for a person to work by hand, on a terminal of that
// size: through the same login and jump hosts as any other, and recorded. It is seen first
// that the device is the one that is meant, as far as that can be told; anyway opens it all
// the same.
func (c *Connector) Console(ctx context.Context, d fleet.Device, columns, rows int, anyway bool) (*lines.Raw, error) {
	if p := c.Profiles[d.Platform]; p != nil && !p.Typed() {
		return nil, &reach.Failure{
			Stage:  reach.Prompt,
			Cause:  "it speaks " + title(p.Connect.Protocol) + ", which nobody types",
			Remedy: "use its own console, or ask: get PATH",
		}
	}
	if !anyway {
		s, err := c.Open(ctx, d, nil)
		if errors.Is(err, work.ErrOther) {
			return nil, err
		}
		if err == nil { // else a person may still want to see what is wrong
			_ = s.Close()
		}
	}
	log := c.Transcript(d.Name)
	w, err := c.way(ctx, d, func(reach.Stage) {})
	if err != nil {
		return nil, err
	}
	log.Note("connecting a console to " + w.String())
	opt := c.options(w, log, func(reach.Stage) {})
	var rw io.ReadWriteCloser
	if w.Protocol == profile.Telnet {
		rw, err = c.openTelnet(ctx, w, &opt, telnet.Client(columns, rows))
	} else {
		rw, err = ssh.OpenSized(ctx, w.dial, w.hop, nil, "vt100", columns, rows)
	}
	if err != nil {
		log.Note(err.Error())
		return nil, err
	}
	raw, err := lines.StartRaw(ctx, w.profile, rw, opt)
	w.judge(err)
	if err != nil {
		return nil, err
	}
	return raw, nil
}
