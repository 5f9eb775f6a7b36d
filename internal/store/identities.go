package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/work"
)

// Identities keeps who devices were seen to be, under their names in the fleet: a line each
// time that it is another than before, or one that says more. Lines are only ever added, by
// any number of processes, and the last of a device counts. It implements [work.Identities].
type Identities struct {
	file string

	mu   sync.Mutex
	size int64 // of the file, when it was read
	odd  []int // the lines of it that cannot be read
	last map[string]identity.Last
	met  map[string]identity.Seen // in this process, whoever it was
}

var _ work.Identities = (*Identities)(nil)

// Sighted is a line of the file.
type Sighted struct {
	Device string    `json:"device"`
	At     time.Time `json:"at"`
	identity.Seen
	// By says who took it for the right one, where it was another than before.
	By     string `json:"by,omitempty"`
	Reason string `json:"reason,omitempty"`
}

// OpenIdentities reads the file, which need not exist. A line that cannot be read says
// nothing, and [Identities.Damaged] tells of it: one may have been cut off.
func OpenIdentities(file string) (*Identities, error) {
	i := &Identities{file: file, last: map[string]identity.Last{}, met: map[string]identity.Seen{}}
	return i, i.Refresh()
}

// Refresh takes in what other processes have written since.
func (i *Identities) Refresh() error {
	i.mu.Lock()
	defer i.mu.Unlock()
	size := int64(0)
	if info, err := os.Stat(i.file); err == nil {
		size = info.Size()
	}
	if size == i.size {
		return nil
	}
	lines, odd, err := readIdentities(i.file)
	if err != nil {
		return err
	}
	i.size, i.odd = size, odd
	clear(i.last)
	for _, l := range lines {
		i.last[l.Device] = identity.Last{Seen: l.Seen, At: l.At}
	}
	return nil
}

// readIdentities reads the file, and says which lines of it cannot be read.
func readIdentities(file string) (out []Sighted, odd []int, err error) {
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, fmt.Errorf("who devices are: %w", err)
	}
	n := 0
	for line := range bytes.Lines(data) {
		n++
		var l Sighted
		switch line = bytes.TrimSpace(line); {
		case len(line) == 0:
		case json.Unmarshal(line, &l) == nil && l.Device != "":
			out = append(out, l)
		default:
			odd = append(odd, n)
		}
	}
	return out, odd, nil
}

// Damaged says which lines of the file cannot be read; "" where all can.
func (i *Identities) Damaged() string {
	i.mu.Lock()
	defer i.mu.Unlock()
	switch len(i.odd) {
	case 0:
		return ""
	case 1:
		return fmt.Sprintf("%s: line %d cannot be read, so whoever it tells of counts as not seen then", i.file, i.odd[0])
	}
	return fmt.Sprintf("%s: %d lines cannot be read, the first is line %d: whoever they tell of counts as not seen then", i.file, len(i.odd), i.odd[0])
}

// Last implements [work.Identities].
func (i *Identities) Last(device string) identity.Last {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.last[device]
}

// Met is who was seen under a name in this process, whether or not it was the one that is
// meant.
func (i *Identities) Met(device string) identity.Seen {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.met[device]
}

// Saw implements [work.Identities]. Another device than is meant is not taken down.
func (i *Identities) Saw(device string, s identity.Seen, at time.Time, meant bool) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.met[device] = s
	if !meant || i.last[device].With(s) == i.last[device].Seen {
		return nil
	}
	return i.write(Sighted{Device: device, At: at, Seen: i.last[device].With(s)})
}

// Accept takes down that this is the one that is meant from now on, whoever it was before.
func (i *Identities) Accept(device string, s identity.Seen, at time.Time, by, reason string) error {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.met[device] = s
	return i.write(Sighted{Device: device, At: at, Seen: s, By: by, Reason: reason})
}

func (i *Identities) write(l Sighted) error {
	l.At = l.At.UTC()
	line, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if err := appendLine(i.file, string(line)); err != nil {
		return fmt.Errorf("who %s is: %w", l.Device, err)
	}
	i.last[l.Device] = identity.Last{Seen: l.Seen, At: l.At}
	return nil
}
