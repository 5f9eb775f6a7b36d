package device

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	gossh "golang.org/x/crypto/ssh"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/work"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/ssh"
)

// Open reaches a device, sees that it is the one that is meant, and gets it ready to be
// worked on. Watch is told of each stage as it begins. The error is a [reach.Failure]; in
// that of another device than is meant is an [identity.Other].
func (c *Connector) Open(ctx context.Context, d fleet.Device, watch ssh.Watch) (Session, error) {
	s, _, err := c.OpenSeen(ctx, d, watch)
	return s, err
}

// OpenSeen is Open, and says who the device says it is, of another device, too.
func (c *Connector) OpenSeen(ctx context.Context, d fleet.Device, watch ssh.Watch) (Session, identity.Seen, error) {
	s, err := c.open(ctx, d, watch)
	if err != nil {
		return nil, identity.Seen{}, err
	}
	if watch != nil {
		watch(reach.Identity)
	}
	seen, err := c.identify(ctx, d, s)
	if err != nil {
		_ = s.Close()
		c.Transcript(d.Name).Note(err.Error())
		return nil, seen, err
	}
	return s, seen, nil
}

// identify holds who answers against what is meant.
func (c *Connector) identify(ctx context.Context, d fleet.Device, s Session) (identity.Seen, error) {
	seen, err := s.Who(ctx)
	if err != nil {
		return seen, &reach.Failure{Stage: reach.Identity, Cause: "it cannot be asked who it is: " + s.Mask(err.Error()), Err: err}
	}
	var last identity.Last
	if c.Who != nil {
		last = c.Who.Last(d.Name)
	}
	other := identity.Check(d.Meant(), last, seen)
	if c.Who != nil && !seen.Nothing() {
		if err := c.Who.Saw(d.Name, seen, time.Now(), other == nil); err != nil {
			return seen, &reach.Failure{Stage: reach.Identity, Cause: "who it is cannot be kept: " + err.Error(), Err: err}
		}
	}
	if other == nil {
		return seen, nil
	}
	return seen, &reach.Failure{
		Stage:  reach.Identity,
		Cause:  other.Error(),
		Kind:   "another device answers than the one that is meant",
		Remedy: otherRemedy,
		Err:    errors.Join(work.ErrOther, other),
	}
}

// otherRemedy is what to do about another device; it reads the same for all.
const otherRemedy = `see whether its address and port are right; if it is the right one, correct its columns "calls itself" and serial in the fleet, or, where it was replaced or has a new key: metabasis who --accept DEVICE`

// mayChange sees, before a profile is tried in a way that changes something, that the device
// is the one that is meant.
func (c *Connector) mayChange(ctx context.Context, d fleet.Device) error {
	s, err := c.Open(ctx, d, nil)
	if err == nil {
		return s.Close()
	}
	return fmt.Errorf("nothing is changed on a device that was not seen to be the one that is meant: %w", err)
}

// tryIdentity shows by what a device tells who it is, and whether it is the one that is meant.
func (c *Connector) tryIdentity(ctx context.Context, d fleet.Device, report func(lines.Finding)) (bad int) {
	s, seen, err := c.OpenSeen(ctx, d, nil)
	f := lines.Finding{Line: "identity", Got: []string{seen.String()}, Fits: "it is the one that is meant"}
	if seen.Nothing() {
		f.Fits = "nothing tells who it is"
	}
	if err != nil {
		f.Fits, f.Not = "", err.Error()
		report(f)
		return 1
	}
	report(f)
	_ = s.Close()
	return 0
}

// shownKey remembers the key that a device showed, and refuses another one in the same
// session: a protocol that opens connections anew may come to another device.
type shownKey struct {
	ssh.HostKeys
	mu  sync.Mutex
	key string
}

// Check implements [ssh.HostKeys].
func (k *shownKey) Check(host string, remote net.Addr, key gossh.PublicKey) error {
	if err := k.HostKeys.Check(host, remote, key); err != nil {
		return err
	}
	print := gossh.FingerprintSHA256(key)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.key != "" && k.key != print {
		return &reach.Failure{
			Stage: reach.HostKey,
			Cause: fmt.Sprintf("it shows the key %s, and showed %s when this session began", print, k.key),
			Err:   work.ErrOther,
		}
	}
	k.key = print
	return nil
}

func (k *shownKey) fingerprint() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.key
}
