package night

import (
	"encoding/json"
	"fmt"
	"time"
)

// How a night stands after some of its events can be written down, so that whoever reads it does not
// have to take in all of them: a night of five thousand devices has a million. What is read of it is
// what [Fold] makes of the events up to there.

// standingVersion is counted up with every change of what a night or a device has, or of what [Fold]
// makes of an event: how a night stood is trusted only where it was written by the same.
const standingVersion = 2

// standing is a night as it is written down. Its outline is not: that is its first event.
type standing struct {
	Version int
	Night
	Devices []standingDevice
}

// standingDevice is a device with what nobody sees, by names that none of its own fields has: JSON
// would pass over those.
type standingDevice struct {
	Device
	FromMark    time.Time `json:",omitzero"`
	WasLined    bool      `json:",omitempty"`
	DeedsBefore int       `json:",omitempty"` // of its intention
}

// Standing writes down how a night stands.
func Standing(n *Night) ([]byte, error) {
	s := standing{Version: standingVersion, Night: *n}
	s.Outline, s.Night.Devices = nil, nil
	for _, d := range n.Devices {
		x := standingDevice{Device: *d, FromMark: d.mark, WasLined: d.lined, DeedsBefore: d.Intent.deeds}
		x.OutlineDevice = OutlineDevice{}
		s.Devices = append(s.Devices, x)
	}
	data, err := json.Marshal(s)
	if err != nil {
		return nil, fmt.Errorf("writing down how a night stands: %w", err)
	}
	return data, nil
}

// FromStanding reads how a night stood, whose first event that is.
func FromStanding(planned Event, data []byte) (Night, error) {
	var s standing
	if err := json.Unmarshal(data, &s); err != nil {
		return Night{}, fmt.Errorf("reading how a night stood: %w", err)
	}
	if s.Version != standingVersion {
		return Night{}, fmt.Errorf("reading how a night stood: another version of this program wrote it")
	}
	n := Fold(Night{}, planned)
	if n.Outline == nil || len(n.Devices) != len(s.Devices) {
		return Night{}, fmt.Errorf("reading how a night stood: it is of another plan")
	}
	fresh := s.Night
	fresh.Outline, fresh.index, fresh.Devices = n.Outline, n.index, n.Devices
	for i := range s.Devices {
		d := s.Devices[i].Device
		d.OutlineDevice = n.Devices[i].OutlineDevice
		d.mark, d.lined, d.Intent.deeds = s.Devices[i].FromMark, s.Devices[i].WasLined, s.Devices[i].DeedsBefore
		fresh.Devices[i] = &d
	}
	return fresh, nil
}
