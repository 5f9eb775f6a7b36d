package store

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Keep says which backups of a device stay when the shelf is cleared: its newest, and of
// older ones one a day, and one a month.
type Keep struct {
	Last   int // the newest
	Days   int // one a day, for that many days
	Months int // one a month, for that many months
}

// UsualKeep is the rule where nobody gives another.
const UsualKeep = "10 last, 31 daily, 12 monthly"

// ParseKeep reads a rule such as "10 last, 31 daily, 12 monthly".
func ParseKeep(text string) (k Keep, err error) {
	for _, part := range strings.Split(text, ",") {
		words := strings.Fields(part)
		if len(words) != 2 {
			return Keep{}, fmt.Errorf("%q is no rule of what to keep; write %q", strings.TrimSpace(part), UsualKeep)
		}
		n, err := strconv.Atoi(words[0])
		to := map[string]*int{"last": &k.Last, "daily": &k.Days, "monthly": &k.Months}[words[1]]
		if err != nil || n < 0 || n > 10_000 || to == nil {
			return Keep{}, fmt.Errorf("%q is no rule of what to keep; write %q", strings.TrimSpace(part), UsualKeep)
		}
		*to = n
	}
	if k.Last < 1 {
		return Keep{}, fmt.Errorf("%q would keep no newest backup; write at least 1 last", text)
	}
	return k, nil
}

// Superfluous lists the backups of one device that the rule does not keep. Shelf has the
// newest first, as [Backups.Shelf] gives it. Of a day and of a month the last one stays
// that the device was seen to have on it, by the local calendar.
func (k Keep) Superfluous(shelf []Shelved, now time.Time) (out []Shelved) {
	stays := map[string]bool{}
	for i, s := range shelf {
		if i < k.Last {
			stays[s.File] = true
		}
	}
	now = now.Local()
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, time.Local)
	month := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.Local)
	keepLast(shelf, stays, "2006-01-02", today.AddDate(0, 0, 1-k.Days), k.Days > 0)
	keepLast(shelf, stays, "2006-01", month.AddDate(0, 1-k.Months, 0), k.Months > 0)
	for _, s := range shelf {
		if !stays[s.File] {
			out = append(out, s)
		}
	}
	return out
}

// keepLast keeps the last that was seen in each period since a time.
func keepLast(shelf []Shelved, stays map[string]bool, period string, since time.Time, wanted bool) {
	if !wanted {
		return
	}
	type seen struct {
		at   time.Time
		file string
	}
	last := map[string]seen{}
	for _, s := range slices.Backward(shelf) {
		for _, one := range s.Seen {
			if p := one.At.Local().Format(period); !one.At.Before(since) && !one.At.Before(last[p].at) {
				last[p] = seen{one.At, s.File}
			}
		}
	}
	for _, l := range last {
		stays[l.file] = true
	}
}
