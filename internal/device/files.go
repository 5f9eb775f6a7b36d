package device

import (
	"context"
	"fmt"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/files"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
)

// Files are the files of a device, and the device, which tells of them. It was seen to be the one that is
// meant.
type Files struct {
	*files.SFTP
	Told *lines.Session
	Rule profile.Files
	room string // where room is looked for
}

// Free implements [freight.Teller]: what the device tells counts, and what its file server says where it
// tells nothing.
func (f *Files) Free(ctx context.Context) (free int64, known bool, err error) {
	if free, known, err = f.Told.Free(ctx); known || err != nil {
		return free, known, err
	}
	return f.SFTP.Free(ctx, f.room)
}

// Sum implements [freight.Teller].
func (f *Files) Sum(ctx context.Context, path string) (sum string, known bool, err error) {
	return f.Told.Sum(ctx, path)
}

// Close ends both sessions.
func (f *Files) Close() error {
	_ = f.SFTP.Close()
	return f.Told.Close()
}

// Files opens the files of a device, as its profile says.
func (c *Connector) Files(ctx context.Context, d fleet.Device) (*Files, error) {
	p := c.Profiles[d.Platform]
	if p == nil || p.Files.Way == "" {
		return nil, fmt.Errorf("the profile of %s does not say how files get to a device: files: way: sftp", d.Platform)
	}
	if p.Files.Way != profile.SFTP {
		return nil, fmt.Errorf("files come from a device over SFTP only, and those of %s fetch theirs over %s", d.Platform, p.Files.Way)
	}
	s, err := c.Open(ctx, d, nil)
	if err != nil {
		return nil, err
	}
	told, ok := s.(*lines.Session)
	if !ok {
		_ = s.Close()
		return nil, fmt.Errorf("files get to a device that is worked over a terminal only")
	}
	far, err := c.sftp(ctx, d)
	if err != nil {
		_ = s.Close()
		return nil, err
	}
	room := p.Files.Into
	if room == "" {
		room = "."
	}
	return &Files{SFTP: far, Told: told, Rule: p.Files, room: room}, nil
}

// sftp opens a connection of its own for its files.
func (c *Connector) sftp(ctx context.Context, d fleet.Device) (*files.SFTP, error) {
	watch := func(reach.Stage) {}
	w, err := c.way(ctx, d, watch)
	if err != nil {
		return nil, err
	}
	if w.Protocol != profile.SSH {
		return nil, fmt.Errorf("files get to a device over SSH only, and it is reached by %s", w.Protocol)
	}
	rw, err := ssh.OpenSubsystem(ctx, w.dial, w.hop, watch, "sftp")
	w.judge(err)
	if err != nil {
		return nil, err
	}
	return files.Open(ctx, rw)
}
