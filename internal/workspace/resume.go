package workspace

import (
	"fmt"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
)

// Resume has the night go on with one that was cut off: on what that had begun, it takes over its
// backups and its timers. With back it takes back what that has left.
func (n *OpenNight) Resume(past *Past, back bool) {
	of := n.w.resumable(past)
	n.resumed = func(device string) *work.Resumed {
		r := of(device)
		if r != nil {
			r.GoBack = back
		}
		return r
	}
}

// Resumed is what the night goes on with, by device; nil where it goes on with none.
func (n *OpenNight) Resumed() func(device string) *work.Resumed { return n.resumed }

// resumable is what a night that was cut off has left, by device.
func (w *Workspace) resumable(past *Past) func(device string) *work.Resumed {
	called := fmt.Sprintf("night %d", past.ID)
	return func(device string) *work.Resumed {
		d := past.Night.Get(device)
		if d == nil || !d.MayRun() {
			return nil
		}
		r := &work.Resumed{ID: past.ID, Night: called, Begun: true, Was: d.WasAt(), Did: done(d)}
		if d.Backup != "" {
			if _, text, err := w.Backups("").ReadNoted(d.Name, d.Backup, d.SHA256); err == nil {
				r.Had = text
			}
		}
		return r
	}
}

// done is how many commands of each step were done on a device, as far as is known for sure.
func done(d *night.Device) map[int]int {
	out := map[int]int{}
	for _, deed := range d.Given() {
		if deed.OK && !deed.Looks {
			out[deed.Step]++
		}
	}
	return out
}
