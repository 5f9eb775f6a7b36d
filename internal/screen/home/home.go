// Package home is the view of the workspace: what needs a person first, then what
// runs, the fleet, the runbooks with their state, and the past nights by month.
package home

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"runtime/debug"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/freight"
	"metabasis/internal/core/problem"
	"metabasis/internal/screen"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/screen/open"
	"metabasis/internal/screen/page"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// View is the view of the workspace.
type View struct {
	desk *acts.Desk
	host *screen.Host

	fleet    *fleet.Fleet
	fleetErr error // what keeps it from being read; nil where there is none
	books    []book
	nights   []store.Listed
	convoys  []freight.Progress
	nightErr error // why not all nights can be listed
	loaded   bool
	loads    int // how often it was read

	rows []row
	list list.List
	top  int
	at   string // what the cursor stands on, to be found again
}

// book is a runbook and its state.
type book struct {
	file, title string
	checked     bool
	mistakes    problem.List
	wrong       error  // what is wrong with it that has no place in it
	open        string // what it depends on that is asked for
}

// New makes the view. What it shows is read once it is opened, and every time it is
// come back to.
func New(desk *acts.Desk) *View {
	v := &View{desk: desk}
	v.list = list.List{Len: func() int { return len(v.rows) }, Pick: func(i int) bool { return v.rows[i].id != "" },
		Text: func(i int) string { return v.rows[i].draw(false, 400).Text() }, Moved: func() { v.at = v.rows[v.list.Cursor].id }, Draw: v.row}
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "Workspace" }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) {
	v.host = h
	v.load()
	h.Go(v.watchConvoys)
}

// Returned implements [screen.Returner].
func (v *View) Returned() { v.load() }

// Click implements [screen.Pointed].
func (v *View) Click(_, y int) { v.list.Click(y - v.top) }

// Wheel implements [screen.Pointed].
func (v *View) Wheel(rows int) { v.list.Wheel(rows) }

// load reads what there is: the lists first, then the state of each runbook, then the
// nights that have no summary.
func (v *View) load() {
	h, desk := v.host, v.desk
	v.loads++
	this := v.loads
	then := func(do func()) {
		h.Then(func() {
			if this == v.loads { // else it is being read anew already
				do()
			}
		})
	}
	h.Go(func(ctx context.Context) {
		fl, err := desk.Fleet("")
		if errors.Is(err, workspace.ErrNoFleet) {
			err = nil
		}
		nights, nightErr := desk.Nights(ctx)
		files := desk.Runbooks()
		var unread []int64 // nights without a summary
		for _, n := range nights {
			if n.Summary == nil {
				unread = append(unread, n.ID)
			}
		}
		then(func() { v.take(fl, err, files, nights, nightErr) })
		for _, file := range files {
			if ctx.Err() != nil {
				return
			}
			b := checked(desk, file, fl)
			then(func() { v.check(b) })
		}
		for _, id := range unread {
			if ctx.Err() != nil {
				return
			}
			s := desk.Sum(ctx, id)
			then(func() { v.sum(id, s) })
		}
	})
}

// checked holds a runbook against the fleet.
// A mistake of ours in one of them is told of that one alone.
func checked(desk *acts.Desk, file string, fl *fleet.Fleet) (b book) {
	b = book{file: file, checked: true}
	defer func() {
		if p := recover(); p != nil {
			b.wrong = fmt.Errorf("metabasis has made a mistake in checking it (%v); metabasis check %s tells more", p, filepath.Base(file))
			desk.Log.Info("checking a runbook", "file", file, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
		}
	}()
	rb, open, _, err := desk.Check(file, fl)
	b.open = open
	if rb != nil {
		b.title = rb.Title
	}
	if err != nil && !errors.As(err, &b.mistakes) {
		b.wrong = err
	}
	return b
}

func (v *View) take(fl *fleet.Fleet, err error, files []string, nights []store.Listed, nightErr error) {
	var books []book
	for _, file := range files { // what was known of them stays until it is known anew
		b := book{file: file}
		for _, old := range v.books {
			if old.file == file {
				b = old
			}
		}
		books = append(books, b)
	}
	for i, n := range nights {
		for _, old := range v.nights {
			if n.Summary == nil && old.ID == n.ID && old.Runs == "" {
				nights[i].Summary = old.Summary
			}
		}
	}
	v.fleet, v.fleetErr, v.books, v.nights, v.nightErr, v.loaded = fl, err, books, nights, nightErr, true
	v.lay()
}

func (v *View) check(b book) {
	for i := range v.books {
		if v.books[i].file == b.file {
			v.books[i] = b
		}
	}
	v.lay()
}

func (v *View) sum(id int64, s store.Summary) {
	for i := range v.nights {
		if v.nights[i].ID == id {
			v.nights[i].Summary = &s
		}
	}
	v.lay()
}

// Keys implements [screen.View].
func (v *View) Keys() []screen.Key {
	out := []screen.Key{screen.On(keys.Open, "open", v.open)}
	out = append(out, v.list.Keys(v.host, "")...)
	if b := v.current().book; b != nil {
		out = append(out, screen.On(keys.Edit, "write", func() { v.writeBook(*b) }))
	}
	if n := v.current().night; n != nil && needs(n) {
		out = append(out, screen.On(keys.Settle, "seen to it", func() { v.settle(n.ID) }))
	}
	return out
}

// current is the row under the cursor.
func (v *View) current() row {
	if i := v.list.Cursor; i < len(v.rows) {
		return v.rows[i]
	}
	return row{}
}

// open opens what is under the cursor.
func (v *View) open() {
	switch r := v.current(); {
	case r.standing:
		v.host.Show(v.host.Standing().View())
	case r.night != nil:
		v.openNight(r.night.ID)
	case r.book != nil:
		v.openBook(*r.book)
	case r.fleet:
		v.openFleet()
	case r.open != nil:
		r.open()
	case r.wrong != nil:
		v.wrong(r.wrong)
	}
}

// wrong says what is wrong: in a line, or where it is more, in full.
func (v *View) wrong(err error) {
	var full problem.List
	if errors.As(err, &full) {
		v.host.Open(page.Lines("What is wrong", strings.Split(full.String(), "\n")))
		return
	}
	v.host.Say(strings.ReplaceAll(err.Error(), "\n", " "))
}

func (v *View) openFleet() {
	if v.fleetErr != nil {
		v.wrong(v.fleetErr)
		return
	}
	e, err := v.desk.Select("", nil)
	if err != nil {
		v.wrong(err)
		return
	}
	open.Fleet(v.host, e, v.wrong)
}

func (v *View) openBook(b book) {
	change, err := v.desk.Change(b.file, "")
	if err != nil { // it is shown where it is wrong
		v.writeBook(b)
		return
	}
	open.Night(
		v.host,
		change.Runbook.Title,
		func(ctx context.Context) (*acts.Tonight, error) { return change.Plan(ctx, acts.Request{}) },
		false,
		v.wrong,
	)
}

// writeBook opens a runbook to be written.
func (v *View) writeBook(b book) {
	open.Book(v.host, v.desk, b.file, func(h *screen.Host) {
		change, err := v.desk.Change(b.file, "")
		if err != nil {
			v.wrong(err)
			return
		}
		open.Night(
			h,
			change.Runbook.Title,
			func(ctx context.Context) (*acts.Tonight, error) { return change.Plan(ctx, acts.Request{}) },
			false,
			v.wrong,
		)
	})
}

func (v *View) openNight(id int64) { open.Past(v.host, v.desk, id, v.wrong) }

func (v *View) settle(id int64) {
	v.host.Type(screen.Line{Label: "Seen to:", Hint: "what was found and done, for the journal", Done: func(why string) error {
		if err := v.desk.Settle(id, why); err != nil {
			return err
		}
		v.load()
		return nil
	}})
}
