package runbook

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/identity"
)

// Restore says what of the past a step puts back on a device.
type Restore struct {
	At    time.Time // what it had at that time; zero where a night is named
	Night int64     // what it had before that night of the journal
	// From is a device whose configuration is carried over, in place of one's own.
	From string
	// Without says that only what the night did is taken back: what others changed since
	// stays.
	Without bool
	Line    int
}

// String is the restore as it stands in a runbook.
func (r Restore) String() string {
	switch {
	case r.From != "":
		return "carried from " + r.From
	case r.Without:
		return fmt.Sprintf("without night %d", r.Night)
	case r.Night > 0:
		return fmt.Sprintf("before night %d", r.Night)
	}
	at := r.At.Local()
	if at.Nanosecond() == endOfSecond {
		return strconv.Quote(at.Format(RestoreTime))
	}
	text := strings.TrimRight(at.Format(RestoreTime+".000000000"), "0")
	if strings.HasSuffix(text, ".") {
		text += "0"
	}
	return strconv.Quote(text)
}

// RestoreTime is how a time to go back to is written, by the local calendar.
const RestoreTime = "2006-01-02 15:04:05"

var restoreTimes = []string{RestoreTime, "2006-01-02 15:04", time.RFC3339}

// ParseRestoreTime reads a time to go back to. One to the minute or to the second is the end
// of that: what a device had "at 03:00" is what it had when that minute was over. With a
// fraction it is that moment: what was put on the shelf in one second stays apart.
func ParseRestoreTime(text string) (time.Time, error) {
	for i, layout := range restoreTimes {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			if i == 1 {
				t = t.Add(59 * time.Second)
			}
			if !strings.Contains(text, ".") {
				t = t.Add(endOfSecond)
			}
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time to go back to; write it as 2026-11-20 03:00", text)
}

// endOfSecond are the nanoseconds of the last moment of a second.
const endOfSecond = 999_999_999

// Was is what a device had, as it stands on the shelf.
type Was struct {
	Name   string    // of the backup
	At     time.Time // when the device was seen to have it
	Origin string    // on whose behalf it was seen then; "" where that is not noted
	SHA256 string
	Text   string
	// Who is who the device said it was then; empty where that is not noted.
	Who identity.Seen
	// Platform is what wrote it; "" where that is not known.
	Platform string
	// Left is what a night left on the device, where only what that night did is taken
	// back; "" where all of it is.
	Left string
	// Guessed says why Left is what the night predicted, where what it left was never read;
	// "" where it was.
	Guessed string
}

// NoPast says why there is nothing of a device to go back to: it is left out for that.
type NoPast struct {
	Why string
	// Open tells that the device may have what was to be taken back all the same.
	Open bool
}

func (e *NoPast) Error() string { return e.Why }

// restore reads "2026-11-20 03:00", before night 21, or without night 21.
func (p *parser) restore(n *node, c *cursor) *Restore {
	const hint = `restore  "2026-11-20 03:00", before night 21, or without night 21`
	r := &Restore{Line: n.n}
	w := c.next()
	switch {
	case w.quoted:
		at, err := ParseRestoreTime(w.text)
		if err != nil {
			c.fail(w.col, hint, "%v", err)
		}
		r.At = at
	case w.text == "carried":
		c.want("from")
		from := c.next()
		if r.From = from.text; r.From == "" {
			c.fail(from.col, "restore  carried from ald-quay-1", "expected the name of a device")
		}
	case w.text == "before", w.text == "without":
		r.Without = w.text == "without"
		c.want("night")
		r.Night = int64(c.number(1, 1<<30, hint))
	default:
		c.fail(w.col, hint, "%q does not say what to go back to", w.text)
	}
	c.end()
	return r
}

// checkRestore refuses what does not go with a step that puts the past back.
func (p *parser) checkRestore(n *node, s Step) {
	for _, key := range []string{"want", "gone", "no", "send", "undo", "put", "already", "for", "on"} {
		if at := n.find(key); at != nil {
			p.at(at, at.col(0), "a step of its own", "step %q puts back what was, which says all that shall be there: %s does not go with it", s.Title, key)
		}
	}
}

// Restores tells whether some step puts the past back.
func (rb *Runbook) Restores() bool {
	for _, s := range rb.Steps {
		if s.Restore != nil {
			return true
		}
	}
	return false
}
