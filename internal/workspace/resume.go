package workspace

import (
	"fmt"
	"sync"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
)

// Resume has the night go on with one that was cut off: on what that had begun, it takes over its
// backups and its timers. With back it takes back what that has left.
func (n *OpenNight) Resume(past *Past, back bool) {
	n.resumed = n.w.resumable(past, back)
}

// Resumed is what the night goes on with, by device; nil where it goes on with none.
func (n *OpenNight) Resumed() func(device string) *work.Resumed { return n.resumed }

// resumable is what a night that was cut off has left, by device.
func (w *Workspace) resumable(past *Past, back bool) func(device string) *work.Resumed {
	called := fmt.Sprintf("night %d", past.ID)
	var mu sync.Mutex
	known := map[string]*work.Resumed{} // its backup is read once
	return func(device string) *work.Resumed {
		mu.Lock()
		defer mu.Unlock()
		if r, is := known[device]; is {
			return r
		}
		d := past.Night.Get(device)
		if d == nil || !d.MayRun() {
			return nil
		}
		r := &work.Resumed{ID: past.ID, Night: called, Begun: true, Was: d.WasAt(), Steps: d.Steps, GoBack: back}
		var doubt night.Deed
		r.Did, doubt = done(d)
		r.InDoubt, r.DoubtStep, r.DoubtAt = doubt.Command, doubt.Step, doubt.At
		r.Worked, r.Software = len(d.Works) > 0, d.Ran
		if d.Backup != "" {
			if _, text, err := w.Backups("").ReadNoted(d.Name, d.Backup, d.SHA256); err == nil {
				r.Had = text
			}
		}
		known[device] = r
		return r
	}
}

// done is how many commands of each step were done on a device, and the one of which that is not known.
func done(d *night.Device) (did map[int]int, inDoubt night.Deed) {
	did = map[int]int{}
	for _, deed := range d.Given() {
		switch {
		case deed.Looks:
		case deed.OK:
			did[deed.Step]++
			inDoubt = night.Deed{}
		default:
			inDoubt = deed
		}
	}
	return did, inDoubt
}
