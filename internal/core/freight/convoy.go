package freight

import (
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"
)

// Convoy is a file on its way to many devices: how far each is, how fast all of it goes, and when it will be
// there. Make one with [NewConvoy]; it may be used by many at once.
type Convoy struct {
	mu   sync.Mutex
	now  Progress
	pace Pace
}

// Progress is how far a convoy is.
type Progress struct {
	By      string    `json:"by"`
	File    string    `json:"file"`
	SHA256  string    `json:"sha256"`
	Size    int64     `json:"size"`
	Began   time.Time `json:"began"`
	At      time.Time `json:"at"`      // when this was so
	Devices int       `json:"devices"` // in all
	There   int       `json:"there"`   // they have it
	Failed  int       `json:"failed"`  // they do not, and nothing more is carried to them
	Sent    int64     `json:"sent"`    // bytes that were carried, to whomever
	ToCome  int64     `json:"to_come"` // bytes
	Pace    float64   `json:"pace"`    // bytes a second; 0 where nothing was seen yet
	// Likely is when all of it will be there, and Late when in nine cases of ten; zero where nobody knows.
	Likely time.Time `json:"likely,omitzero"`
	Late   time.Time `json:"late,omitzero"`
	// On is how many bytes are there on those that it is carried to now, and Waiting are those that it will be.
	On      map[string]int64 `json:"on,omitempty"`
	Waiting []string         `json:"waiting,omitempty"`
}

// NewConvoy is a file that is about to be carried to devices.
func NewConvoy(by string, f File, devices []string, now time.Time) *Convoy {
	return &Convoy{now: Progress{By: by, File: f.Name, SHA256: f.SHA256, Size: f.Size, Began: now, At: now, Devices: len(devices),
		On: map[string]int64{}, Waiting: slices.Clone(devices)}}
}

// Took takes in how many bytes of the file are there on a device.
func (c *Convoy) Took(device string, done int64, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if before, known := c.now.On[device]; known { // what was there before is not of this convoy
		c.now.Sent += max(done-before, 0)
	}
	c.now.On[device] = done
	c.now.Waiting = slices.DeleteFunc(c.now.Waiting, func(d string) bool { return d == device })
	c.pace.Saw(now, c.now.Sent)
}

// Over takes in that nothing more is carried to a device, and whether it has the file.
func (c *Convoy) Over(device string, there bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.now.On, device)
	c.now.Waiting = slices.DeleteFunc(c.now.Waiting, func(d string) bool { return d == device })
	if there {
		c.now.There++
	} else {
		c.now.Failed++
	}
}

// Stands is how far it is.
func (c *Convoy) Stands(now time.Time) Progress {
	c.mu.Lock()
	defer c.mu.Unlock()
	p := c.now
	p.On, p.Waiting, p.At = maps.Clone(p.On), slices.Clone(p.Waiting), now
	p.ToCome = p.Size * int64(p.Devices-p.There-p.Failed)
	for _, n := range p.On {
		p.ToCome -= n
	}
	p.ToCome = max(p.ToCome, 0)
	p.Pace = c.pace.Now()
	if likely, late, known := c.pace.Left(p.ToCome); known {
		p.Likely, p.Late = now.Add(likely), now.Add(late)
	}
	return p
}

// String says it in a line.
func (p Progress) String() string {
	text := fmt.Sprintf("%d of %d done with; %s carried, %s to come", p.There+p.Failed, p.Devices, Bytes(p.Sent), Bytes(p.ToCome))
	if p.Likely.IsZero() {
		return text
	}
	return fmt.Sprintf("%s, %s a second; %s", text, Bytes(int64(p.Pace)), p.by())
}

// by says when it will be there.
func (p Progress) by() string {
	if p.Likely.IsZero() {
		return "when it will be there is not known"
	}
	return fmt.Sprintf("there by %s, nine in ten by %s", p.Likely.Local().Format("15:04:05"), p.Late.Local().Format("15:04:05"))
}

// silentFor is for how long nothing may be heard of a convoy that goes on.
const silentFor = 15 * time.Second

// Said says it to somebody else than who carries it.
func (p Progress) Said(now time.Time) string {
	many := "devices"
	if p.Devices == 1 {
		many = "device"
	}
	text := fmt.Sprintf("%s to %d %s, by %s since %s: %d there", p.File, p.Devices, many, p.By, p.Began.Local().Format("15:04"), p.There)
	if p.Failed > 0 {
		text += fmt.Sprintf(", %d do not have it", p.Failed)
	}
	if !p.Alive(now) {
		return text + "; it was cut off, and was heard of last at " + p.At.Local().Format("15:04:05")
	}
	return fmt.Sprintf("%s, %d to come; %s", text, p.Devices-p.There-p.Failed, p.by())
}

// Alive tells whether it goes on.
func (p Progress) Alive(now time.Time) bool { return now.Sub(p.At) < silentFor }
