package device

import (
	"context"
	"errors"
	"fmt"
	"io"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/freight"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/files"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
)

// Far is where the files of a device are, until it is closed.
type Far interface {
	freight.Far
	io.Closer
}

// Files are the files of a device, and the device, which tells of them. It was seen to be the one that is
// meant.
type Files struct {
	Far
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
	if s, is := f.Far.(*files.SFTP); is {
		return s.Free(ctx, f.room)
	}
	return 0, false, nil
}

// Sum implements [freight.Teller].
func (f *Files) Sum(ctx context.Context, path string) (sum string, known bool, err error) {
	return f.Told.Sum(ctx, path)
}

// Close ends both sessions.
func (f *Files) Close() error {
	_ = f.Far.Close()
	return f.Told.Close()
}

// Files opens the files of a device, as its profile says.
func (c *Connector) Files(ctx context.Context, d fleet.Device) (*Files, error) {
	p := c.Profiles[d.Platform]
	if p == nil || p.Files.Way == "" {
		return nil, fmt.Errorf("the profile of %s does not say how files get to a device: files: way: sftp", d.Platform)
	}
	if p.Files.Fetched() {
		return nil, fmt.Errorf("files come from a device over SFTP and SCP only, and those of %s fetch theirs over %s", d.Platform, p.Files.Way)
	}
	told, err := c.told(ctx, d)
	if err != nil {
		return nil, err
	}
	far, err := c.far(ctx, d, p.Files.Way)
	if err != nil {
		_ = told.Close()
		return nil, err
	}
	room := p.Files.Into
	if room == "" {
		room = "."
	}
	return &Files{Far: far, Told: told, Rule: p.Files, room: room}, nil
}

// told opens a session with a device that tells of its files.
func (c *Connector) told(ctx context.Context, d fleet.Device) (*lines.Session, error) {
	s, err := c.Open(ctx, d, nil)
	if err != nil {
		return nil, err
	}
	told, ok := s.(*lines.Session)
	if !ok {
		_ = s.Close()
		return nil, errors.New("files get to a device that is worked over a terminal only")
	}
	return told, nil
}

// far opens connections of their own for its files.
func (c *Connector) far(ctx context.Context, d fleet.Device, by string) (Far, error) {
	watch := func(reach.Stage) {}
	w, err := c.way(ctx, d, watch)
	if err != nil {
		return nil, err
	}
	if w.Protocol != profile.SSH {
		return nil, fmt.Errorf("files get to a device over SSH only, and it is reached by %s", w.Protocol)
	}
	if by == profile.SCP {
		return &files.SCP{Open: func(ctx context.Context, command string) (io.ReadWriteCloser, error) {
			rw, err := ssh.OpenCommand(ctx, w.dial, w.hop, watch, command)
			w.judge(err)
			return rw, err
		}}, nil
	}
	rw, err := ssh.OpenSubsystem(ctx, w.dial, w.hop, watch, "sftp")
	w.judge(err)
	if err != nil {
		return nil, err
	}
	return files.Open(ctx, rw)
}
