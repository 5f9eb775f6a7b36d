package acts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/freight"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/record"
	"metabasis/internal/document"
	"metabasis/internal/report"
	"metabasis/internal/store"
)

// All that is known of one device stands on one page, each thing with since when it is known:
// nothing connects for it, so it says what was read, and when.

// nightsTold is how many of the newest nights are looked through for a device.
const nightsTold = 24

// DevicePage is all that is known of a device. What cannot be read is said in its place.
func (d *Desk) DevicePage(ctx context.Context, name string) (*document.Document, error) {
	f, err := d.FleetOfAny("")
	if err != nil {
		return nil, err
	}
	dev, ok := f.Get(name)
	if !ok {
		if i := slices.IndexFunc(f.Retired, func(r fleet.Retired) bool { return r.Name == name }); i >= 0 {
			return nil, fmt.Errorf("%s is retired: %s", name, f.Retired[i].Why)
		}
		return nil, fmt.Errorf("there is no device %q in the fleet%s", name, f.Near(name))
	}
	p := &devicePage{desk: d, dev: dev, fleet: f}
	p.Add(document.Title(name))
	p.who()
	p.way()
	nights := p.nights(ctx)
	p.pending(ctx)
	p.files()
	p.tables()
	p.config(nights)
	return &p.Document, nil
}

type devicePage struct {
	document.Document
	desk   *Desk
	dev    fleet.Device
	fleet  *fleet.Fleet
	unread []store.Listed // nights that were not looked through, or cannot be
}

func (p *devicePage) table(head []string, rows [][]string) {
	if len(rows) > 0 {
		p.Add(document.Table{Head: head, Rows: rows})
	}
}

func (p *devicePage) say(format string, args ...any) {
	p.Add(document.Text(fmt.Sprintf(format, args...)))
}

// at is a time as it stands on the page, with how long ago that is.
func at(t time.Time) string {
	return t.Local().Format("Mon 2 Jan 2006 15:04:05")
}

func (p *devicePage) who() {
	p.Add(document.Section("Who it is"))
	d := p.dev
	rows := [][]string{{"platform", d.Platform}, {"site", d.Site}, {"role", d.Role}, {"address", d.Address}}
	if d.Pair != "" {
		member := d.Pair
		if d.Standby {
			member += ", the standby"
		}
		rows = append(rows, []string{"pair", member})
	}
	for _, c := range p.fleet.Columns {
		if v := d.Values[c]; v != "" {
			rows = append(rows, []string{c, v + ", from " + p.fleet.Source(d, c)})
		}
	}
	for _, t := range p.fleet.Tables {
		if n := len(t.Of(d)); n > 0 {
			rows = append(rows, []string{t.Name, report.Count(n, "row")})
		}
	}
	ids, err := p.desk.Identities()
	switch {
	case err != nil:
		rows = append(rows, []string{"last seen", "cannot be read: " + err.Error()})
	case ids.Last(d.Name).Nothing():
		rows = append(rows, []string{"last seen", "never"})
	default:
		last := ids.Last(d.Name)
		rows = append(rows, []string{"last seen", last.String() + "; first seen so " + at(last.At)})
	}
	p.table([]string{"", ""}, slices.DeleteFunc(rows, func(r []string) bool { return r[1] == "" }))
}

func (p *devicePage) way() {
	p.Add(document.Section("How it is reached"))
	d := p.dev
	login, from := p.desk.Workspace.LoginOf(d, nil)
	if login == "" {
		login, from = "none", "no rule covers it"
	}
	rows := [][]string{{"login", login + ", " + from}}
	if d.Port != 0 {
		rows = append(rows, []string{"port", fmt.Sprint(d.Port)})
	}
	if len(d.Jump) > 0 {
		rows = append(rows, []string{"jump hosts", strings.Join(d.Jump, ", ")})
	}
	if above := p.fleet.Above(d); len(above) > 0 {
		rows = append(rows, []string{"through", strings.Join(above, ", ")})
	}
	if prof := p.desk.Profiles[d.Platform]; prof == nil {
		rows = append(rows, []string{"profile", "there is none for " + d.Platform})
	}
	p.table([]string{"", ""}, rows)
}

// devicesNight is what a night did with the device.
type devicesNight struct {
	store.Listed
	dev    *night.Device
	events []night.Event
}

// step is the title of the step in which a line, or the first of a text, was sent to the device;
// "" where none was.
func (n devicesNight) step(line string) string {
	first, _, _ := strings.Cut(line, "\n")
	for _, e := range n.events {
		if e.Kind == night.Sent && e.What == "" && len(e.Lines) > 0 &&
			strings.TrimSpace(e.Lines[0]) == first && e.Step >= 1 && e.Step <= len(n.dev.Steps) {
			return n.dev.Steps[e.Step-1]
		}
	}
	return ""
}

// nights tells what nights did with the device, the newest first.
func (p *devicePage) nights(ctx context.Context) (out []devicesNight) {
	p.Add(document.Section("Nights"))
	all, err := p.desk.Nights(ctx)
	if err != nil {
		p.say("The journal cannot be read in full: %v", err)
	}
	var rows [][]string
	p.unread = slices.Clone(all[min(len(all), nightsTold):])
	for _, l := range all[:min(len(all), nightsTold)] {
		events, err := p.events(ctx, l.ID)
		if err != nil {
			rows = append(rows, []string{fmt.Sprint(l.ID), at(l.Began), l.Title, "cannot be read", err.Error()})
			p.unread = append(p.unread, l)
			continue
		}
		n := night.Fold(night.Night{}, events...)
		dev := n.Get(p.dev.Name)
		if dev == nil {
			continue
		}
		state, note := string(dev.State), dev.Note
		switch {
		case l.Runs != "":
			state += ", the night runs now"
		case dev.CutOff():
			state, note = "cut off", dev.WasAt()
		case dev.State == night.Waiting:
			state = "not begun"
		}
		rows = append(rows, []string{fmt.Sprint(l.ID), at(l.Began), l.Title, state, note})
		out = append(out, devicesNight{l, dev, events})
	}
	switch looked := min(len(all), nightsTold); {
	case len(all) == 0 && err == nil:
		p.say("There was no night in this workspace.")
	case len(rows) == 0:
		p.say("It was in none of the newest %s.", report.Count(looked, "night"))
	case looked < len(all):
		p.say("Of the newest %d of %s:", looked, report.Count(len(all), "night"))
	}
	p.table([]string{"night", "began", "what", "ended", ""}, rows)
	return out
}

// events are those of the device in a night.
func (p *devicePage) events(ctx context.Context, id int64) ([]night.Event, error) {
	j, err := p.desk.ReadJournal()
	if err != nil {
		return nil, err
	}
	defer j.Close()
	return j.EventsOf(ctx, id, p.dev.Name)
}

func (p *devicePage) pending(ctx context.Context) {
	remnants := p.desk.Remnants(ctx)
	if remnants == nil {
		return
	}
	last := map[string]time.Time{} // by night: one timer may have been seen to be due at several times
	var armed []string
	for _, r := range remnants(p.dev.Name) {
		if _, known := last[r.Night]; !known {
			armed = append(armed, r.Night)
		}
		if r.Due.After(last[r.Night]) {
			last[r.Night] = r.Due
		}
	}
	var rows [][]string
	for _, by := range armed {
		when := "due " + at(last[by])
		if last[by].Before(time.Now()) {
			when = "was due " + at(last[by])
		}
		rows = append(rows, []string{by, when + "; nobody has looked since"})
	}
	if len(rows) > 0 {
		p.Add(document.Section("What may be pending on it"))
		p.table([]string{"armed by", ""}, rows)
	}
}

// tables are those that the device told, each as it was read last.
func (p *devicePage) tables() {
	p.Add(document.Section("What it told, as it was read last"))
	told, wrong := p.desk.Told().Of(p.dev.Name)
	for _, err := range wrong {
		p.say("%v", err)
	}
	ids, err := p.desk.Identities()
	for _, t := range told {
		p.Add(document.Heading(fmt.Sprintf("%s, read %s (%s)", t.Table, at(t.At), cmp.Or(t.By, "by whom is not known"))))
		if err == nil {
			if other := identity.Differ(t.Who, ids.Last(p.dev.Name).Seen); other != "" {
				p.say("It was read of another device of this name: %s.", other)
			}
		}
		if t.Platform != p.dev.Platform {
			p.say("It was read of it as %s.", t.Platform)
		}
		p.told(t)
	}
	if len(told) == 0 {
		p.say("No table was read of it.")
	}
}

// rowsTold is how many rows of a table stand on the page.
const rowsTold = 24

func (p *devicePage) told(t store.ToldTable) {
	rows := t.Rows
	head := p.columns(t.Table, rows)
	var out [][]string
	for _, r := range rows[:min(len(rows), rowsTold)] {
		var line []string
		for _, c := range head {
			line = append(line, record.Text(r[c]))
		}
		out = append(out, line)
	}
	p.table(head, out)
	if n := len(rows) - rowsTold; n > 0 {
		p.say("And %s more.", report.Count(n, "row"))
	} else if len(rows) == 0 {
		p.say("It had no row.")
	}
}

// columns are those that rows have, as the profile lists them; others behind.
func (p *devicePage) columns(table string, rows []map[string]any) (out []string) {
	var all []string
	if prof := p.desk.Profiles[p.dev.Platform]; prof != nil {
		for _, c := range prof.Readers[table].TableColumns() {
			all = append(all, c.Name)
		}
	}
	has := map[string]bool{}
	for _, r := range rows {
		for c := range r {
			has[c] = true
		}
	}
	for _, c := range append(all, slices.Sorted(maps.Keys(has))...) {
		if has[c] {
			out, has[c] = append(out, c), false
		}
	}
	return out
}

// config is the newest backup, each line with where it came from.
func (p *devicePage) config(nights []devicesNight) {
	p.Add(document.Section("Configuration"))
	rows, err := p.desk.ShelfOf(p.dev.Name, p.dev.Platform)
	switch {
	case errors.Is(err, fs.ErrNotExist) || err == nil && len(rows) == 0:
		p.say("It was never backed up.")
		return
	case err != nil:
		p.say("The shelf cannot be read: %v", err)
		return
	}
	newest := rows[0]
	p.say("As it was backed up %s, last seen so %s. %s on the shelf, the oldest from %s.",
		at(newest.At()), at(newest.Last()), report.Count(len(rows), "backup"), at(rows[len(rows)-1].At()))
	p.say("A line with nothing behind it was there in the oldest backup that is on the shelf.")
	lines, err := p.origins(rows, nights)
	if err != nil {
		p.say("It cannot be read: %v", err)
		return
	}
	p.Add(document.Code(lines))
}

// origins are the lines of the newest backup, each with where it came from: the first backup
// that has it of those that have it without a gap.
func (p *devicePage) origins(rows []ShelfRow, nights []devicesNight) ([]string, error) {
	shelf, style := p.desk.Backups(""), p.desk.styleOf(p.dev.Platform)
	since := map[string]int{} // path to the number of the oldest backup that has it
	var paths []string
	for i, r := range rows {
		text, err := shelf.Read(r.Shelved)
		if err != nil {
			if i == 0 {
				return nil, err
			}
			p.say("What was before %s is not told: %v", at(rows[i-1].At()), err)
			rows = rows[:i]
			break
		}
		now := config.Parse(config.Alone(text), style)
		if i == 0 {
			paths = now.Listed()
			for _, path := range paths {
				since[path] = 0
			}
			continue
		}
		has := map[string]bool{}
		for _, path := range now.Paths() {
			has[path] = true
		}
		for path, at := range since {
			if at == i-1 && has[path] {
				since[path] = i
			}
		}
	}
	var out []string
	for _, path := range paths {
		shown := p.masked(path)
		depth := strings.Repeat("  ", strings.Count(shown, " > "))
		text := strings.Split(lastOf(shown), "\n") // a text of several lines is so many
		out = append(out, strings.TrimRight(fmt.Sprintf("%-44s  %s", depth+text[0], p.origin(rows, since[path], shown, nights)), " "))
		for _, body := range text[1:] {
			out = append(out, depth+body)
		}
	}
	return out, nil
}

// masked is a path without what is a secret in it, as nights write it down.
func (p *devicePage) masked(path string) string {
	prof := p.desk.Profiles[p.dev.Platform]
	if prof == nil {
		return path
	}
	parts := strings.Split(path, " > ")
	for i, part := range parts {
		parts[i] = prof.Mask(part)
	}
	return strings.Join(parts, " > ")
}

// origin says where a line came from that the backup of that number has and the one before it,
// in time, has not: "" where there is none before.
func (p *devicePage) origin(rows []ShelfRow, i int, path string, nights []devicesNight) string {
	if i == len(rows)-1 {
		return ""
	}
	from, to := rows[i+1].Last(), rows[i].At()
	then := ""
	for _, n := range nights {
		if n.Began.After(to) || n.dev.Ended.Before(from) && !n.dev.Ended.IsZero() || !n.dev.Changes() {
			continue
		}
		if left := slices.IndexFunc(rows, func(r ShelfRow) bool { return filepath.Base(r.File) == filepath.Base(n.dev.Left) }); left > i {
			continue // what it left on the device was without the line
		}
		if !holds(n.dev.Diff, config.Marked("+", path)) {
			then += fmt.Sprintf("; night %d changed the device then, and has not written down that it made this", n.ID)
			continue
		}
		if step := n.step(lastOf(path)); step != "" {
			return fmt.Sprintf("night %d, step %q", n.ID, step)
		}
		return fmt.Sprintf("night %d", n.ID)
	}
	for _, n := range p.unread {
		if n.Began.Before(to) && n.Began.After(from.Add(-longestNight)) {
			then += fmt.Sprintf("; night %d was not looked through", n.ID)
		}
	}
	who := "by somebody else, "
	if then != "" {
		who = ""
	}
	const form = "2 Jan 15:04"
	return fmt.Sprintf("%sbetween %s and %s%s", who, from.Local().Format(form), to.Local().Format(form), then)
}

// holds tells whether lines stand among others, one behind the other.
func holds(all, lines []string) bool {
	for i := range all {
		if i+len(lines) <= len(all) && slices.Equal(all[i:i+len(lines)], lines) {
			return true
		}
	}
	return false
}

// longestNight is how long before a change a night may have begun that made it.
const longestNight = 48 * time.Hour

// lastOf is the line of a path, without the sections that it stands in.
func lastOf(path string) string {
	parts := strings.Split(path, " > ")
	return parts[len(parts)-1]
}

// files are those that were carried to the device, as it was noted when they arrived.
func (p *devicePage) files() {
	all, err := p.desk.arrivals().Last()
	var rows [][]string
	for key, a := range all {
		if key[0] == p.dev.Name {
			proof := "its checksum was right"
			if a.Proof != freight.BySum {
				proof = "not proven"
			}
			rows = append(rows, []string{a.Path, freight.Bytes(a.Size), at(a.At), a.By, proof, a.SHA256[:min(8, len(a.SHA256))]})
		}
	}
	if err == nil && len(rows) == 0 {
		return
	}
	p.Add(document.Section("Files that were carried to it"))
	if err != nil {
		p.say("What was carried cannot be read: %v", err)
		return
	}
	slices.SortFunc(rows, func(a, b []string) int { return cmp.Compare(a[0], b[0]) })
	p.table([]string{"file", "size", "arrived", "carried by", "", "SHA-256"}, rows)
}
