package sim

import (
	"fmt"
	"maps"
	"slices"
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

// probe answers whether an address can be reached from the device: that of a time source that
// answers, or of a device that is up and in reach, while its own links are there.
func (d *Device) probe(line, address string) string {
	d.mu.Lock()
	mute := d.fault(Ignores, line) != nil
	alone := time.Now().Before(d.renewed) || !d.linked()
	d.mu.Unlock()
	came := 0
	if !mute && !alone && (d.fleet.answers(address) || d.fleet.inReach(address)) {
		came = 4
	}
	return fmt.Sprintf("%d of 4 came back from %s.\n", came, address)
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
