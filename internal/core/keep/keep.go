// Package keep decides what of a thing that is kept again and again stays: the newest, one
// a day for a while, one a month for longer.
package keep

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Rule says what stays: the newest, and of older ones one a day, and one a month.
type Rule struct {
	Last   int // the newest
	Days   int // one a day, for that many days
	Months int // one a month, for that many months
}

// Usual is the rule where nobody gives another.
const Usual = "10 newest, 31 days, 12 months"

// Parse reads a rule such as "10 newest, 31 days, 12 months".
func Parse(text string) (k Rule, err error) {
	for _, part := range strings.Split(text, ",") {
		words := strings.Fields(part)
		if len(words) != 2 {
			return Rule{}, fmt.Errorf("%q is no rule of what to keep; write %q", strings.TrimSpace(part), Usual)
		}
		n, err := strconv.Atoi(words[0])
		to := map[string]*int{"newest": &k.Last, "days": &k.Days, "months": &k.Months}[words[1]]
		if err != nil || n < 0 || n > 10_000 || to == nil {
			return Rule{}, fmt.Errorf("%q is no rule of what to keep; write %q", strings.TrimSpace(part), Usual)
		}
		*to = n
	}
	if k.Last < 1 {
		return Rule{}, fmt.Errorf("%q would keep no newest; write at least 1 newest", text)
	}
	return k, nil
}

// String says in words what stays.
func (k Rule) String() string {
	out := fmt.Sprintf("the %d newest", k.Last)
	if k.Days > 0 {
		out += fmt.Sprintf(", the last of each of %d days", k.Days)
	}
	if k.Months > 0 {
		out += fmt.Sprintf(", the last of each of %d months", k.Months)
	}
	return out
}

// Item is something that is kept, by its name, with each time that it was seen.
type Item struct {
	Name string
	Seen []time.Time
}

// Superfluous names the items that the rule does not keep. They come with the newest
// first. Of a day and of a month the last one stays that was seen on it, by the local
// calendar.
func (k Rule) Superfluous(items []Item, now time.Time) (out []string) {
	stays := map[string]bool{}
	for i, s := range items {
		if i < k.Last {
			stays[s.Name] = true
		}
	}
	now = now.Local()
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, time.Local)
	month := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.Local)
	keepLast(items, stays, "2006-01-02", today.AddDate(0, 0, 1-k.Days), k.Days > 0)
	keepLast(items, stays, "2006-01", month.AddDate(0, 1-k.Months, 0), k.Months > 0)
	for _, s := range items {
		if !stays[s.Name] {
			out = append(out, s.Name)
		}
	}
	return out
}

// keepLast keeps the last that was seen in each period since a time.
func keepLast(items []Item, stays map[string]bool, period string, since time.Time, wanted bool) {
	if !wanted {
		return
	}
	type seen struct {
		at   time.Time
		file string
	}
	last := map[string]seen{}
	for _, s := range slices.Backward(items) {
		for _, at := range s.Seen {
			if p := at.Local().Format(period); !at.Before(since) && !at.Before(last[p].at) {
				last[p] = seen{at, s.Name}
			}
		}
	}
	for _, l := range last {
		stays[l.file] = true
	}
}
