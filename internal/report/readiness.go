package report

import (
	"encoding/csv"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/freight"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/document"
	"metabasis/internal/store"
)

// Readiness says of the devices of a night that gives them other software what each runs, what it takes, and
// who cannot be done as it is now, as a rehearsal has found it.
func Readiness(r *store.Rehearsal) *document.Document {
	d := &document.Document{}
	d.Add(document.Title("Ready for other software: " + r.Title))
	d.Add(textf("Looked at %s to %s, by %s. Nothing was changed.", stamp(r.Began), hour(r.Ended), r.By))
	rows := readyRows(r)
	if len(rows) == 0 {
		d.Add(document.Text("This runbook gives no device other software."))
		return d
	}
	d.Add(document.Text(readySum(r)))
	table := document.Table{Head: []string{"device", "it is", "runs", "is given", "missing on it", "room", "away"}}
	for _, one := range rows {
		table.Rows = append(table.Rows, []string{one.device.Device, one.is, one.runs, one.given, one.missing, one.room, one.away})
	}
	d.Add(table)
	if missing := missingFiles(r); len(missing) > 0 {
		d.Add(document.Section("Files that are missing, or are others, and what carries them"))
		d.Items(missing...)
	}
	if why := whyNot(r); len(why) > 0 {
		d.Add(document.Section("What else keeps devices from being ready"))
		d.Items(why...)
	}
	return d
}

// What a device is ready for.
const (
	isReady   = "ready"
	isThere   = "there already"
	isBlocked = "NOT ready"
)

// readyRow is a device in words.
type readyRow struct {
	device                         work.Rehearsed
	is, runs, given, missing, room string
	away                           string
}

// readyRows are the devices that are given other software; those that are not ready first.
func readyRows(r *store.Rehearsal) (out []readyRow) {
	for _, dev := range r.Devices {
		s := dev.Software
		if s == nil && dev.Blocked == "" {
			continue
		}
		one := readyRow{device: dev, is: readyIs(dev), runs: "not known"}
		if s != nil {
			if s.Runs != "" {
				one.runs = s.Runs
			}
			one.given, one.missing = strings.Join(s.Way, ", then "), strings.Join(s.Missing, ", ")
			if s.Free > 0 {
				one.room = fmt.Sprintf("%s free", freight.Bytes(s.Free))
			}
			if s.Needs > 0 {
				one.room = strings.TrimPrefix(one.room+", needs "+freight.Bytes(s.Needs), ", ")
			}
			if s.Away > 0 {
				one.away = fmt.Sprintf("%s, at most %s", runbook.FormatDuration(s.Away), runbook.FormatDuration(s.Most))
			}
		}
		out = append(out, one)
	}
	slices.SortStableFunc(out, func(a, b readyRow) int { return order(a.is) - order(b.is) })
	if !slices.ContainsFunc(out, func(one readyRow) bool { return one.device.Software != nil }) {
		return nil
	}
	return out
}

func order(is string) int { return slices.Index([]string{isBlocked, isReady, isThere}, is) }

func readyIs(d work.Rehearsed) string {
	switch {
	case d.Blocked != "":
		return isBlocked
	case d.Software != nil && d.Software.Runs == d.Software.Wanted && len(d.Software.Way) == 0:
		return isThere
	}
	return isReady
}

// readySum sums it up: how many are ready, and for how long they are away in all.
func readySum(r *store.Rehearsal) string {
	n, away := map[string]int{}, time.Duration(0)
	for _, one := range readyRows(r) {
		n[one.is]++
		if one.is == isReady {
			away += one.device.Software.Away
		}
	}
	text := fmt.Sprintf("%s: %d ready, %d there already, %d NOT ready.",
		Count(n[isReady]+n[isThere]+n[isBlocked], "device"), n[isReady], n[isThere], n[isBlocked])
	if away > 0 {
		text += fmt.Sprintf(" Those that are ready are away for some %s in all.", runbook.FormatDuration(away))
	}
	return text
}

// WriteReadiness writes the same as CSV, a line a device, with times in seconds and sizes in bytes.
func WriteReadiness(w io.Writer, r *store.Rehearsal) error {
	c := csv.NewWriter(w)
	rows := [][]string{{"device", "platform", "batch", "is", "why", "runs", "wanted", "way",
		"missing", "needs", "free", "away", "away_at_most"}}
	for _, one := range readyRows(r) {
		s := one.device.Software
		if s == nil {
			s = &work.Readiness{}
		}
		d := one.device
		rows = append(rows, []string{d.Device, d.Platform, strconv.Itoa(d.Batch), one.is, d.Blocked, s.Runs, s.Wanted,
			strings.Join(s.Way, " "), strings.Join(s.Missing, " "), strconv.FormatInt(s.Needs, 10), strconv.FormatInt(s.Free, 10),
			strconv.Itoa(int(s.Away.Seconds())), strconv.Itoa(int(s.Most.Seconds()))})
	}
	return c.WriteAll(tame(rows))
}

// missingFiles says of each file on which devices it is missing, and with which command it gets there.
func missingFiles(r *store.Rehearsal) (out []string) {
	on := map[string][]string{}
	for _, one := range readyRows(r) {
		if one.device.Software != nil {
			for _, f := range one.device.Software.Missing {
				on[f] = append(on[f], one.device.Device)
			}
		}
	}
	for _, f := range slices.Sorted(maps.Keys(on)) {
		slices.Sort(on[f])
		out = append(out, fmt.Sprintf("%s, %s: metabasis carry %s to %s", f, Count(len(on[f]), "device"), f, strings.Join(on[f], " ")))
	}
	return out
}

// whyNot says why devices are not ready beside what is missing on them, those for the same reason together.
func whyNot(r *store.Rehearsal) (out []string) {
	by := map[string][]string{}
	for _, one := range readyRows(r) {
		if one.is != isBlocked {
			continue
		}
		var parts []string
		for _, p := range strings.Split(one.device.Blocked, "; ") {
			if !strings.HasPrefix(p, "image: ") && !strings.HasPrefix(p, "write: metabasis carry ") {
				parts = append(parts, p)
			}
		}
		if len(parts) > 0 {
			why := strings.Join(parts, "; ")
			by[why] = append(by[why], one.device.Device)
		}
	}
	for _, why := range slices.SortedFunc(maps.Keys(by), func(a, b string) int { return len(by[b]) - len(by[a]) }) {
		out = append(out, fmt.Sprintf("%s, %s: %s", Count(len(by[why]), "device"), Some(by[why], 24), why))
	}
	return out
}

// NotReady are the devices that are not, each with why.
func NotReady(r *store.Rehearsal) (out []string) {
	for _, one := range readyRows(r) {
		if one.is == isBlocked {
			out = append(out, one.device.Device+": "+one.device.Blocked)
		}
	}
	return out
}
