package home

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/nights"
	"metabasis/internal/store"
)

// row is a heading or something that can be opened.
type row struct {
	id       string // "" for a heading, or a line that only says something
	draw     func(here bool, cells int) ink.Row
	standing bool // the night of this process
	night    *store.Listed
	book     *book
	fleet    bool
	open     func() // what else opens
	wrong    error
}

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	if v.host.Standing() != nil { // it may have begun or ended since
		v.lay()
	}
	rows := []ink.Row{
		ink.Row{}.Add(ink.Foam, " ").
			Strong(ink.Foam, "Metabasis").
			Add(ink.Dim, "  "+v.desk.Path()).
			Right(ink.T(ink.Dim, "nothing is sent before you begin a night "), f.Cells),
		{},
	}
	v.top = len(rows)
	if !v.loaded {
		return append(rows, ink.T(ink.Dim, " reading …"))
	}
	return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
}

func (v *View) row(i int, here bool, cells int) ink.Row {
	r := v.rows[i].draw(here, cells)
	if here {
		r.Spans[0].Text, r.Spans[0].Ink = "▌ ", ink.Lamp
	}
	return ink.Cut(r, cells)
}

// needs tells whether a person must look at what a night left.
func needs(n *store.Listed) bool {
	s := n.Summary
	if n.Seen != nil || s == nil || n.Runs != "" {
		return false
	}
	return s.Ended.IsZero() || len(s.Needs) > 0 || n.Damage != nil
}

// lay lays out the rows, and leaves the cursor on what it stood on.
func (v *View) lay() {
	v.rows = v.rows[:0]
	v.layNeeds()
	v.layRuns()
	v.layConvoys()
	v.layFleet()
	v.layBooks()
	v.layMorning()
	v.layPast()
	for i, r := range v.rows {
		if r.id != "" && r.id == v.at {
			v.list.Cursor = i
			return
		}
	}
	at := v.at
	v.list.To(0)
	v.at = at // until the person has moved, the first row is where it stands
	if at == "" {
		return
	}
	v.at = v.current().id
}

func (v *View) heading(text string) {
	if len(v.rows) > 0 {
		v.say(ink.Row{})
	}
	v.say(ink.T(ink.Foam, " ").Strong(ink.Foam, text))
}

// say adds a line that cannot be opened.
func (v *View) say(r ink.Row) {
	v.rows = append(v.rows, row{draw: func(bool, int) ink.Row { return r }})
}

func (v *View) layNeeds() {
	first := true
	for i := range v.nights {
		n := &v.nights[i]
		if !needs(n) {
			continue
		}
		if first {
			v.heading("Needs you")
			first = false
		}
		v.add("needs", n)
	}
}

func (v *View) layRuns() {
	first := true
	head := func() {
		if first {
			v.heading("Runs now")
			first = false
		}
	}
	if s := v.host.Standing(); s != nil {
		head()
		word := "in this window"
		if !s.Running() {
			word = "over; open it to see its end"
		}
		v.rows = append(v.rows, row{id: "standing", standing: true, draw: func(bool, int) ink.Row {
			return ink.T(ink.Foam, "  ").Add(ink.Tide, "◧ ").Strong(ink.Foam, s.Title()).Add(ink.Dim, "  "+word)
		}})
		return // those of this process are its own
	}
	for i := range v.nights {
		if n := &v.nights[i]; n.Runs != "" {
			head()
			v.add("runs", n)
		}
	}
}

func (v *View) layFleet() {
	v.heading("Fleet")
	switch {
	case v.fleetErr != nil:
		v.rows = append(v.rows, row{id: "fleet", fleet: true, wrong: v.fleetErr, draw: func(bool, int) ink.Row {
			return ink.T(ink.Foam, "  ").Strong(ink.Lamp, "▪ "+firstLine(v.fleetErr))
		}})
	case v.fleet == nil:
		v.say(ink.T(ink.Dim, "  There is no fleet.csv, fleet.yaml or fleet.txt here."))
	default:
		text := report.Count(len(v.fleet.Devices), "device") + ": reach them, read them, work one by hand"
		v.rows = append(v.rows, row{id: "fleet", fleet: true, draw: func(bool, int) ink.Row { return ink.T(ink.Foam, "  ").Add(ink.Foam, text) }})
	}
}

func (v *View) layBooks() {
	v.heading("Runbooks")
	if len(v.books) == 0 {
		v.say(ink.T(ink.Dim, "  There is no *.runbook here."))
	}
	for i := range v.books {
		b := &v.books[i]
		v.rows = append(v.rows, row{id: "book " + b.file, book: b, draw: func(_ bool, cells int) ink.Row { return v.bookRow(b, cells) }})
	}
}

// layMorning adds what is looked for on the morning after. It stands behind the
// runbooks: what a window needs keeps its place.
func (v *View) layMorning() {
	v.heading("The morning after")
	v.door("shelf", "Backups: what each device had, and when; take devices back to a date", v.openShelf)
	v.door("records", "Records: compare what was read before with what was read after, or with now", v.openRecords)
	if len(v.nights) > 1 {
		v.door("all nights", "All nights: look for one by a device, a change number, a person or an outcome", v.openNights)
	}
}

func (v *View) door(id, text string, open func()) {
	v.rows = append(v.rows, row{id: id, open: open, draw: func(bool, int) ink.Row { return ink.T(ink.Foam, "  ").Add(ink.Foam, text) }})
}

// Widths of columns, in cells.
const (
	fileCells  = 26
	titleCells = 50
	stateCells = 12
)

func (v *View) bookRow(b *book, cells int) ink.Row {
	r := ink.T(ink.Foam, "  ").Col(ink.Foam, filepath.Base(b.file), fileCells)
	title := titleCells
	if cells < ink.SideBySide {
		title = max(cells-fileCells-stateCells-30, 10)
	}
	switch {
	case !b.checked:
		return r.Add(ink.Dim, "◦ being checked")
	case len(b.mistakes) > 0:
		return r.Strong(ink.Lamp, "▪ "+report.Count(len(b.mistakes), "mistake")).Add(ink.Foam, "  "+b.mistakes[0].Msg)
	case b.wrong != nil:
		return r.Strong(ink.Lamp, "▪ "+firstLine(b.wrong))
	case v.fleet == nil:
		r = r.Add(ink.Dim, "◌ no fleet  ")
	case b.open != "":
		r = r.Col(ink.Dim, "◌ asks", stateCells)
	default:
		r = r.Col(ink.Buoy, "● fits", stateCells)
	}
	r = r.Col(ink.Foam, b.title, title).Add(ink.Foam, "  ")
	for _, n := range v.nights {
		if filepath.Base(n.File) == filepath.Base(b.file) {
			return r.Add(ink.Dim, "last "+n.Began.Local().Format("Mon 2 Jan 2006"))
		}
	}
	return r.Add(ink.Dim, "never run")
}

func (v *View) layPast() {
	month := ""
	for i := range v.nights {
		n := &v.nights[i]
		if n.Runs != "" {
			continue
		}
		if m := n.Began.Local().Format("January 2006"); m != month {
			month = m
			if n.Began.IsZero() {
				m = "At an unknown time"
			}
			v.heading("Nights of " + m)
		}
		v.add("night", n)
	}
	if v.nightErr != nil {
		v.heading("The journal")
		text := v.nightErr.Error() + "; metabasis journal check says what is whole, and a new night can be run all the same"
		v.rows = append(
			v.rows,
			row{id: "journal", wrong: v.nightErr, draw: func(bool, int) ink.Row { return ink.T(ink.Foam, "  ").Strong(ink.Lamp, "▪ "+text) }},
		)
	}
	if len(v.nights) == 0 && v.nightErr == nil {
		v.heading("Nights")
		v.say(ink.T(ink.Dim, "  There is no night in the journal yet."))
	}
}

// add adds a night, under an id that tells where it stands.
func (v *View) add(where string, n *store.Listed) {
	v.rows = append(
		v.rows,
		row{id: fmt.Sprintf("%s %d", where, n.ID), night: n, draw: func(_ bool, cells int) ink.Row { return nightRow(n, cells) }},
	)
}

func nightRow(n *store.Listed, cells int) ink.Row {
	title := n.Title
	if n.Change != "" {
		title += " · " + n.Change
	}
	shape, in, text := "◦", ink.Dim, "being read"
	if s := n.Summary; s != nil {
		shape, in = nights.Sign(s.Outcome)
		text = s.Text
		if len(s.Needs) > 0 && n.Seen == nil {
			text = report.Some(s.Needs, 3) + "; " + text
		}
	}
	if n.Seen != nil {
		shape, in, text = "▫", ink.Dim, "seen to by "+n.Seen.By+": "+n.Seen.Why+"; "+text
	}
	if n.Damage != nil {
		shape, in, text = "▪", ink.Lamp, n.Damage.Error()
	}
	began := "?"
	if !n.Began.IsZero() {
		began = when(n.Began)
	}
	width := titleCells
	if cells < ink.SideBySide {
		width = max(cells-62, 18)
	}
	return ink.T(ink.Foam, "  ").Col(ink.Foam, began, 18).Strong(in, shape+" ").Col(ink.Foam, title, width).Add(ink.Dim, "  "+text)
}

func when(t time.Time) string { return t.Local().Format("Mon 2 Jan 15:04") }

func firstLine(err error) string {
	s, _, _ := strings.Cut(err.Error(), "\n")
	return s
}
