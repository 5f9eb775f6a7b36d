package device

import (
	"context"
	"errors"
	"fmt"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/device/depot"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
)

// Pulled is a device that fetches files from us. It was seen to be the one that is meant. It implements
// [freight.Puller] once it knows where its file is offered.
type Pulled struct {
	*lines.Session
	Rule profile.Files
	From *depot.Place
}

// Pulls opens a device that fetches its files.
func (c *Connector) Pulls(ctx context.Context, d fleet.Device) (*Pulled, error) {
	p := c.Profiles[d.Platform]
	if p == nil || !p.Files.Fetched() {
		return nil, fmt.Errorf("the profile of %s does not say how a device fetches files", d.Platform)
	}
	told, err := c.told(ctx, d)
	if err != nil {
		return nil, err
	}
	return &Pulled{Session: told, Rule: p.Files}, nil
}

// Missing implements [freight.Puller].
func (p *Pulled) Missing(err error) bool {
	var refused *driver.Refused
	return errors.As(err, &refused)
}

// Renames implements [freight.Puller].
func (p *Pulled) Renames() bool { return p.Rule.Rename.Send != "" }

// Fetch implements [freight.Puller].
func (p *Pulled) Fetch(ctx context.Context, path string) error {
	from := map[string]string{"url": p.From.URL, "host": p.From.Host, "port": p.From.Port, "file": p.From.File}
	if err := p.Session.Fetch(ctx, from, path); err != nil {
		return err
	}
	if n, of := p.From.Handed(); n < of {
		return &driver.Unclear{Asked: "fetching it", Got: fmt.Sprintf("it says that it has, and it asked for %d of %d bytes", n, of)}
	}
	return nil
}
