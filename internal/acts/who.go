package acts

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/identity"
)

// Whose is a device of the fleet and who was last seen under its name.
type Whose struct {
	Device string        `json:"device"`
	Calls  string        `json:"calls_itself,omitempty"` // as the fleet says
	Serial string        `json:"serial,omitempty"`       // as the fleet says
	Seen   identity.Seen `json:"seen,omitzero"`
	At     time.Time     `json:"at,omitzero"` // when that was taken down
	// Twins are other devices of the fleet that are the same one.
	Twins []string `json:"same_as,omitempty"`
}

// Known lists who the devices in scope were last seen to be. Nothing connects.
// Unread says what of that cannot be read; "" where all can.
func (e *Evening) Known() (out []Whose, unread string, err error) {
	ids, err := e.Identities()
	if err != nil {
		return nil, "", err
	}
	seen := make([]identity.Seen, len(e.Fleet.Devices))
	for i, d := range e.Fleet.Devices {
		seen[i] = ids.Last(d.Name).Seen
	}
	same, twins := map[string]int{}, map[int][]string{}
	for i, first := range identity.Same(seen) {
		name := e.Fleet.Devices[i].Name
		same[name], twins[first] = first, append(twins[first], name)
	}
	for _, d := range e.Scope.Devices {
		last := ids.Last(d.Name)
		one := Whose{Device: d.Name, Calls: d.Calls, Serial: d.Serial, Seen: last.Seen, At: last.At}
		for _, other := range twins[same[d.Name]] {
			if other != d.Name {
				one.Twins = append(one.Twins, other)
			}
		}
		out = append(out, one)
	}
	return out, ids.Damaged(), nil
}

// ErrSame says that a device is who it was last seen to be.
var ErrSame = errors.New("it is who it was last seen to be: there is nothing to accept")

// AcceptOther connects to a device that is another one than was last seen, has that looked
// at, for a reason, and takes it for the one that is meant from then on. What the fleet says of it is not
// changed by that: a name or a serial number that differs from it is to be written there.
func (e *Evening) AcceptOther(
	ctx context.Context,
	d fleet.Device,
	sure func(was identity.Last, is identity.Seen) (reason string, err error),
) (identity.Seen, error) {
	ids, err := e.Identities()
	if err != nil {
		return identity.Seen{}, err
	}
	last := ids.Last(d.Name)
	s, seen, err := e.Connector.OpenSeen(ctx, d, nil)
	if err == nil {
		_ = s.Close()
		return seen, ErrSame
	}
	var other *identity.Other
	if !errors.As(err, &other) {
		return seen, err
	}
	if err := identity.Check(d.Meant(), identity.Last{}, seen); err != nil {
		return seen, fmt.Errorf(
			"%s: %w; the fleet says who is meant: see whether its address is right, or correct the columns %q and %q there",
			d.Name,
			err,
			fleet.CallsColumn,
			fleet.SerialColumn,
		)
	}
	reason, err := sure(last, seen)
	if err != nil {
		return seen, err
	}
	if reason = strings.TrimSpace(reason); reason == "" {
		return seen, errors.New("it must be given a reason, which is kept beside it")
	}
	return seen, ids.Accept(d.Name, seen, time.Now(), Who(), reason)
}
