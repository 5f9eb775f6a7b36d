package sim

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
)

// Some commands do something and have no line in the configuration. On a tern, "recount ports"
// counts the frames of each port from none again, and "renew links", after a question, has all
// its ports lose their neighbours for as long as the scenario says things take to settle; on
// an osier the same are "zero counts" and "refresh links", and on a plover "test lamps" lights
// them. Each is noted as [Done], so that it can be told how often it was.

// recount counts from none again.
func (d *Device) recount(line string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.fault(Ignores, line) == nil {
		d.counted = time.Now()
		d.note(Done, line)
	}
}

// renew loses the neighbours for a while.
func (d *Device) renew(line string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.fault(Ignores, line) == nil {
		d.renewed = time.Now().Add(d.fleet.scenario.Settle)
		d.note(Done, line)
	}
}

// A device can be asked whether an address answers it: on a tern by "probe ADDRESS", on an osier
// by "sound ADDRESS", on a plover by "call ADDRESS".

// probes is how often an address is asked.
const probes = 4

// came counts the answers that come back to the device from an address: from a time source that
// answers, or from a device that is up and in reach, while its own links are there.
func (d *Device) came(line, address string) int {
	d.mu.Lock()
	mute, lossy := d.fault(Ignores, line) != nil, d.fault(Lossy, line) != nil
	alone := time.Now().Before(d.renewed) || !d.linked()
	d.mu.Unlock()
	switch {
	case mute, alone, !d.fleet.answers(address) && !d.fleet.inReach(address):
		return 0
	case lossy:
		return probes / 2
	}
	return probes
}

// probe is what a tern says of it.
func (d *Device) probe(line, address string) string {
	return fmt.Sprintf("%d of %d came back from %s.\n", d.came(line, address), probes, address)
}

// sound is what an osier says: a line for each answer.
func (d *Device) sound(line, address string) string {
	n := d.came(line, address)
	if n == 0 {
		return "Nothing came back.\n"
	}
	var out strings.Builder
	for i := range n {
		fmt.Fprintf(&out, "answer from %s after %d.%d ms\n", address, 3+i, i)
	}
	return out.String()
}

// call is what a plover says.
func (d *Device) call(line, address string) string {
	return fmt.Sprintf("CALLED %d HEARD %d\n", probes, d.came(line, address))
}

// inReach tells whether a device that is up has the address.
func (f *Fleet) inReach(address string) bool {
	return slices.ContainsFunc(f.order, func(d *Device) bool {
		if d.spec.Address != address {
			return false
		}
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.up.Load() && d.linked() && !time.Now().Before(d.renewed)
	})
}

// renewing tells whether its links are being renewed.
func (d *Device) renewing() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return time.Now().Before(d.renewed)
}

// counts is the table of what was counted on each port. The caller holds d.mu.
func (d *Device) counts() string {
	out := "port  frames\n"
	for _, port := range slices.Sorted(maps.Keys(d.running.ports)) {
		frames := int(time.Since(d.counted).Seconds()) * 10
		if d.counted.IsZero() {
			frames = 100000 + port
		}
		out += fmt.Sprintf("%-5d %d\n", port, frames)
	}
	return out
}

// ArmForTest puts a restart on the clock that is nobody's of ours.
func (d *Device) ArmForTest(seconds int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.arm(time.Duration(seconds) * time.Second)
}
