package acts

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"metabasis/internal/core/runbook"
	"metabasis/internal/device/lines"
)

// A console with a guard is a night like any other, over a runbook of one step that a person does at
// the console: the device is backed up and its way back armed first, that is watched as long as the
// console is open, and what was done is told as a difference, and adopted or taken back.

// handName is what it is called where a runbook has the name of its file.
const handName = "byhand.runbook"

// UsualGuard is how long its way back is armed for where nobody says. It is put off while somebody
// works at the console.
const UsualGuard = 10 * time.Minute

// Guards bounds how long a way back is armed for.
const (
	shortestGuard = time.Minute
	longestGuard  = 2 * time.Hour
)

// ByHand makes the change that a person makes by hand on a device, with its way back armed for so
// long.
func (d *Desk) ByHand(fleetFile string, words []string, guard time.Duration) (*Change, error) {
	if guard < shortestGuard || guard > longestGuard {
		return nil, fmt.Errorf("a way back is armed for %s to %s, and put off while you work; %s is not between them",
			runbook.FormatDuration(shortestGuard), runbook.FormatDuration(longestGuard), runbook.FormatDuration(guard))
	}
	e, err := d.Select(fleetFile, words)
	if err != nil {
		return nil, err
	}
	if len(e.Devices()) != 1 {
		return nil, fmt.Errorf("a console is for one device, and %s are %d", strings.Join(words, " "), len(e.Devices()))
	}
	dev := e.Devices()[0]
	p := d.Profiles[dev.Platform]
	switch {
	case p != nil && !p.Typed():
		return nil, fmt.Errorf("%s is %s, which nobody types: it has no console to be guarded", dev.Name, dev.Platform)
	case p == nil || !p.Traits().Timer.Guards():
		return nil, fmt.Errorf("%s is %s, whose profile knows of no rollback timer: nothing can be armed on it, and nothing would take back what you do; metabasis console %s opens it all the same",
			dev.Name, dev.Platform, dev.Name)
	}
	text := strings.Join([]string{
		fmt.Sprintf("runbook %q", "By hand: "+dev.Name), "  window    none", "",
		scopeOf(e), "",
		"batches", "  sizes     100%", "",
		"timer       " + runbook.FormatDuration(guard), "",
		`step "At its console" by console`, "",
		"unattended  after 10m, take back the device", "",
	}, "\n")
	tidy, err := runbook.Format(handName, []byte(text))
	if err != nil {
		return nil, err
	}
	return d.ChangeOf(handName, string(tidy), fleetFile)
}

// consoles counts the consoles that are open, by device.
type consoles struct {
	mu   sync.Mutex
	open map[string]int
}

// at tells whether one of a device is open.
func (c *consoles) at(device string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open[device] > 0
}

func (c *consoles) add(device string, n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.open == nil {
		c.open = map[string]int{}
	}
	c.open[device] += n
}

// Hand is a device that is worked by hand in a night.
type Hand struct {
	*lines.Raw
	over func()
}

// Close ends it.
func (h *Hand) Close() error {
	h.over()
	return h.Raw.Close()
}
